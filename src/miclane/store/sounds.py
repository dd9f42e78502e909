"""Sound files, kept once by content, and their frames at a session's rate, ready to be mapped into memory."""

import hashlib
import json
import os
import secrets
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from ..core import audio, impulses
from ..core.errors import UnusableSoundError
from ..core.mix.document import Sound
from .database import Database
from .tables import SoundRow


def write_whole(path: Path, data: bytes) -> None:
    """Write a file that is either there whole or not at all."""
    path.parent.mkdir(parents=True, exist_ok=True)
    temporary = path.with_name(f".{path.name}.{secrets.token_hex(4)}.part")
    try:
        with temporary.open("wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        temporary.replace(path)
    finally:
        temporary.unlink(missing_ok=True)


class SoundStore:
    """Files below `folder`: originals by hash, and frames as float32 beside a note of their own hash."""

    def __init__(self, folder: Path, database: Database) -> None:
        self.folder = folder
        self.database = database
        self._open: dict[tuple[str, int], np.ndarray] = {}
        self._lock = threading.Lock()
        impulses.finders.append(self.find_impulse)
        for stale in folder.glob("**/.*.part"):
            stale.unlink(missing_ok=True)

    def add(self, path: Path, file_name: str, rate: int) -> Sound:
        """Take a file in; UnusableSoundError when it cannot be used, and then nothing of it is kept."""
        clip = audio.read_sound(path, file_name)
        digest = audio.content_hash(path)
        suffix = Path(file_name).suffix.lower()[:8] or ".wav"
        if not self._original(digest, suffix).exists():
            write_whole(self._original(digest, suffix), path.read_bytes())
        with self.database.writing() as db:
            if db.get(SoundRow, digest) is None:
                db.add(
                    SoundRow(
                        digest=digest,
                        file_name=file_name,
                        suffix=suffix,
                        rate=clip.rate,
                        channels=clip.audio.shape[0],
                        frames=clip.audio.shape[1],
                    )
                )
                db.commit()
        frames = self._keep_frames(digest, clip, rate)
        return Sound(digest=digest, file_name=file_name[:300], channels=clip.audio.shape[0], frames=frames.shape[1])

    def frames(self, digest: str, rate: int) -> np.ndarray:
        """All frames (channels, n) float32 at `rate`, mapped from disk; checked at first, made anew if damaged."""
        with self._lock:
            found = self._open.get((digest, rate))
            if found is None:
                found = self._checked(digest, rate)
                if found is None:
                    found = self._rebuild(digest, rate)
                self._open[(digest, rate)] = found
            return found

    def kept(self, digest: str, what: str, find: Callable[[], Any]) -> Any:
        """What `find` finds of a sound, plain JSON data: kept beside it under `what`, and read from there next time."""
        path = self.folder / "found" / digest[:2] / f"{digest}-{what}.json"
        try:
            return json.loads(path.read_bytes())
        except (OSError, ValueError):
            found = find()
            write_whole(path, json.dumps(found).encode())
            return found

    def find_impulse(self, digest: str, rate: int) -> np.ndarray | None:
        """A sound of the store as an impulse response; None where there is none of that hash."""
        try:
            return np.asarray(self.frames(digest, rate), dtype=np.float64)
        except UnusableSoundError:
            return None

    def reader(self, rate: int):
        """A function (digest, start, stop) → float64 (channels, n), zeros past the end and for no sound."""

        def read(digest: str, start: int, stop: int) -> np.ndarray:
            frames = self.frames(digest, rate)
            out = np.zeros((frames.shape[0], stop - start))
            part = frames[:, start : max(start, min(stop, frames.shape[1]))]
            out[:, : part.shape[1]] = part
            return out

        return read

    def _original(self, digest: str, suffix: str) -> Path:
        return self.folder / "originals" / digest[:2] / f"{digest}{suffix}"

    def _frames_path(self, digest: str, rate: int) -> Path:
        return self.folder / "frames" / digest[:2] / f"{digest}-{rate}.f32"

    def _keep_frames(self, digest: str, clip: audio.Clip, rate: int) -> np.ndarray:
        frames = np.ascontiguousarray(audio.resample(clip.audio, clip.rate, rate), dtype=np.float32)
        path = self._frames_path(digest, rate)
        data = frames.tobytes()
        write_whole(path, data)
        note = {"sha256": hashlib.sha256(data).hexdigest(), "channels": frames.shape[0], "frames": frames.shape[1]}
        write_whole(path.with_suffix(".json"), json.dumps(note).encode())
        with self._lock:
            self._open.pop((digest, rate), None)
        return frames

    def _checked(self, digest: str, rate: int) -> np.ndarray | None:
        path = self._frames_path(digest, rate)
        try:
            note = json.loads(path.with_suffix(".json").read_bytes())
            if audio.content_hash(path) != note["sha256"]:
                return None
            return np.memmap(path, np.float32, "r", shape=(note["channels"], note["frames"]))
        except (OSError, ValueError, KeyError):
            return None

    def _rebuild(self, digest: str, rate: int) -> np.ndarray:
        with self.database.reading() as db:
            row = db.get(SoundRow, digest)
        if row is None:
            raise UnusableSoundError(f"the sound {digest[:12]}… is not in the store")
        path = self._original(digest, row.suffix)
        if not path.exists() or audio.content_hash(path) != digest:
            raise UnusableSoundError(
                f"{row.file_name}: its file in the data folder is missing or damaged; import it again"
            )
        clip = audio.read_sound(path, row.file_name)
        frames = np.ascontiguousarray(audio.resample(clip.audio, clip.rate, rate), dtype=np.float32)
        data = frames.tobytes()
        target = self._frames_path(digest, rate)
        write_whole(target, data)
        note = {"sha256": hashlib.sha256(data).hexdigest(), "channels": frames.shape[0], "frames": frames.shape[1]}
        write_whole(target.with_suffix(".json"), json.dumps(note).encode())
        return np.memmap(target, np.float32, "r", shape=frames.shape)
