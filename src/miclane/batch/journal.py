"""What a batch has done, line by line in its folder, so that nothing is done twice."""

import hashlib
import json
import os
from pathlib import Path
from typing import Any

from ..core.audio import content_hash
from .tasks import Task

NAME = ".miclane-batch.jsonl"


class Journal:
    """The journal of a folder. A line is on the disk before it counts; one that was cut short does not."""

    def __init__(self, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self.folder, self.path = folder, folder / NAME
        self._done: dict[str, dict[str, Any]] = {}
        data = self.path.read_bytes() if self.path.is_file() else b""
        for line in data.split(b"\n"):
            try:
                told = json.loads(line)
                self._done[str(told["key"])] = told
            except (ValueError, KeyError, TypeError):
                continue
        if data and not data.endswith(b"\n"):
            with self.path.open("ab") as file:
                file.write(b"\n")

    def done(self, task: Task) -> dict[str, Any] | None:
        """The figures of a task that was done, whose file is there as it was made; else None."""
        told = self._done.get(key_of(task))
        if told is None:
            return None
        path = self.folder / task.output
        if not path.is_file() or content_hash(path) != told.get("made"):
            return None
        return dict(told["figures"])

    def add(self, task: Task, figures: dict[str, Any]) -> None:
        """Mark a task as done; its file is there whole."""
        made = content_hash(self.folder / task.output)
        key = key_of(task)
        told = {"key": key, "file": task.name, "made": made, "figures": figures}
        with self.path.open("ab") as file:
            file.write(json.dumps(told).encode() + b"\n")
            file.flush()
            os.fsync(file.fileno())
        self._done[key] = told


def key_of(task: Task) -> str:
    """What names a task: the file, the chain, the format."""
    parts = (task.name, task.digest, task.chain, str(task.measured), task.format, task.music)
    return hashlib.sha256("\0".join(parts).encode()).hexdigest()
