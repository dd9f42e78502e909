"""A session printed by the workers of a cluster, one target a task: the same bits as on one machine."""

import tempfile
import threading
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import soundfile

from ..core.errors import MicLaneError, UnusableChainError, UnusableDataError
from ..core.mix.chain import read_session
from ..core.mix.document import Session, sounds_of
from ..core.print_targets import nodes_of
from ..core.printing import Printed, PrintRequest, names_of_files, print_session
from ..store.files import write_whole
from .running import Call, connected, hand_out
from .tasks import own_studio

_sounds_come = threading.Lock()  # a process has one studio, and may have several threads


@dataclass(frozen=True)
class PrintTask:
    """One target of a print. `before` are the names of the files before its own, `least` frames it has at the least."""

    document: str
    request: str
    before: tuple[str, ...]
    least: int
    sounds: tuple[tuple[str, str], ...]  # hashes, and under what names they came


@dataclass(frozen=True)
class Made:
    """The files that a task made, by name, what is told of the first of them, and its frames."""

    files: tuple[tuple[str, bytes], ...]
    told: Printed
    frames: int


def run_print(task: PrintTask, *sounds: bytes) -> Made:
    """Print one target of a session whose sounds came as bytes. MicLaneError where it cannot be printed."""
    session, request = read_session(task.document), PrintRequest.model_validate_json(task.request)
    studio = own_studio()
    with tempfile.TemporaryDirectory() as name:
        for (digest, suffix), data in zip(task.sounds, sounds, strict=True):
            with _sounds_come:
                if not studio.sounds.knows(digest, session.rate):
                    path = Path(name) / f"sound{suffix}"
                    path.write_bytes(data)
                    studio.sounds.add(path, path.name, session.rate, take_short=True)
        out = Path(name) / "out"
        read = studio.sounds.reader(session.rate)
        (told,) = print_session(session, request, out, read, taken=task.before, least=task.least)
        files = tuple((p.name, p.read_bytes()) for p in sorted(out.iterdir()))
        return Made(files, replace(told, path=Path(told.name)), soundfile.info(told.path).frames)


@dataclass
class _PrintCall(Call):
    """A task on its way, with the files of the sounds that it needs."""

    task: PrintTask
    originals: dict[str, Path]
    tries: int = 0
    made: Made | None = field(default=None, repr=False)

    @property
    def name(self) -> str:
        return PrintRequest.model_validate_json(self.task.request).targets[0]

    @property
    def sounds(self) -> list[tuple[str, Path]]:
        return list(self.originals.items())

    @property
    def work(self) -> tuple[Callable[..., Any], Any]:
        return run_print, self.task

    def take(self, result: Any) -> None:
        self.made = result


def print_on_cluster(
    session: Session,
    request: PrintRequest,
    folder: Path,
    original: Callable[[str], Path],
    address: str,
    progress: Callable[[float], None] = lambda share: None,
) -> list[Printed]:
    """As `printing.print_session`, by the workers of a Dask scheduler; `original` gives the file of a sound.

    All files end together, as they do when they are made together: the target that may sound on longest goes first,
    the others are told how long it is. MicLaneError where a target could not be printed, and then no file is left.
    """
    if request.stems:
        raise UnusableChainError("stems are turned together, so they are printed on one machine")
    graph, keys = nodes_of(session, request.targets, False)
    files = names_of_files(session, request)
    originals = {digest: original(digest) for digest in sounds_of(session)}
    names = tuple((digest, path.suffix) for digest, path in originals.items())
    document = session.model_dump_json()
    calls = []
    for k, target in enumerate(request.targets):
        alone = request.model_copy(update={"targets": (target,)}).model_dump_json()
        calls.append(_PrintCall(PrintTask(document, alone, tuple(files[:k]), 0, names), originals))
    longest = max(range(len(calls)), key=lambda k: sum(graph.rings_on(keys[k])))
    problems: list[str] = []

    def made(_: Any, __: Any) -> None:
        progress(sum(call.made is not None for call in calls) / len(calls))

    with connected(address) as client:
        waiting, least = [calls[longest]], 0
        while waiting and not problems:
            for call in waiting:
                call.task, call.made, call.tries = replace(call.task, least=least), None, 0
            hand_out(client, deque(waiting), made, lambda _, why: problems.append(why))
            least = max([least, *(call.made.frames for call in calls if call.made is not None)])
            waiting = [call for call in calls if call.made is None or call.made.frames < least]
    if problems:
        raise MicLaneError(problems[0])
    found = []
    written: list[Path] = []
    try:
        for call in calls:
            assert call.made is not None
            for name, data in call.made.files:
                write_whole(folder / name, data)
                written.append(folder / name)
            found.append(replace(call.made.told, path=folder / call.made.told.name))
    except OSError as error:
        for path in written:
            path.unlink(missing_ok=True)
        raise UnusableDataError(f"{folder}: could not be written ({error.strerror})") from error
    return found
