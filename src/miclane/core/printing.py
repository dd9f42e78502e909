"""Printing: chosen places of the graph rendered from the first frame to the last into sound files."""

from collections import deque
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import numpy as np
from pydantic import Field

from .audio import SoundWriter
from .engine.graph import Builder, flat_path
from .engine.render import Cancel, SoundReader
from .engine.stream import stream
from .errors import UnusableChainError
from .mix.document import Bus, Lane, Return, Session
from .stages.base import Settings

_AHEAD = 4
Format = Literal["wav-32", "wav-24", "wav-16", "flac-24", "flac-16", "ogg"]


class PrintRequest(Settings):
    """What to print: `mix`, `vocals`, `lane:ID`, `return:ID`, `bus:ID`; lanes after their fader."""

    targets: tuple[str, ...] = Field(("mix",), min_length=1, max_length=64)
    format: Format = "wav-24"


@dataclass(frozen=True)
class Printed:
    """A file that was made and the place in the graph it was taken from."""

    target: str
    name: str
    path: Path


def place_of(session: Session, target: str) -> str:
    """Graph place of a target; UnusableChainError when the session has none of that name."""
    kind, _, name = target.partition(":")
    if target in ("mix", "vocals"):
        kind, name = "bus", target
    if name not in {x.id for x in members(session, kind)}:
        raise UnusableChainError(f"there is nothing called “{target}” to print")
    return f"{kind}:{name}:out"


def members(session: Session, kind: str) -> tuple[Lane | Return | Bus, ...]:
    """All lanes, returns or buses; none for another kind."""
    return {"lane": session.lanes, "return": session.returns, "bus": session.buses}.get(kind, ())  # type: ignore[return-value]


def name_of(session: Session, target: str) -> str:
    """What a target is called."""
    kind, _, name = place_of(session, target).removesuffix(":out").partition(":")
    return next(x.name for x in members(session, kind) if x.id == name)


def print_length(session: Session) -> int:
    """Frames until the last tail has sounded."""
    tail = max((sum(s.tail_s() for s in p.stages if s.on) for p in session.paths), default=0.0)
    return session.frames + round(tail * session.rate)


def file_names(titles: list[str]) -> list[str]:
    """A file name for each title, all different, also where a system takes capitals and small letters for the same."""
    names: list[str] = []
    taken: set[str] = set()
    for title in titles:
        base = flat_path(title)
        name, number = base, 2
        while name.casefold() in taken:
            name, number = f"{base} {number}", number + 1
        taken.add(name.casefold())
        names.append(name)
    return names


def _write(writers: list[SoundWriter], blocks: list[np.ndarray]) -> None:
    for writer, block in zip(writers, blocks, strict=True):
        writer.write(block)


def print_session(
    session: Session,
    request: PrintRequest,
    folder: Path,
    read: SoundReader,
    progress: Callable[[float], None] = lambda share: None,
    cancel: Cancel | None = None,
) -> list[Printed]:
    """Print into `folder`; files are complete when this returns, and none is left when it raises."""
    graph = Builder(session).build()
    keys = [graph.places[place_of(session, t)] for t in request.targets]
    kind, _, bits = request.format.partition("-")
    folder.mkdir(parents=True, exist_ok=True)
    names = file_names([f"{session.name} - {name_of(session, t)}" for t in request.targets])
    files = [Printed(t, f"{n}.{kind}", folder / f"{n}.{kind}") for t, n in zip(request.targets, names, strict=True)]
    parts = [f.path.with_name(f".part-{f.path.name}") for f in files]
    writers = []
    try:
        for part, key in zip(parts, keys, strict=True):
            writers.append(SoundWriter(part, session.rate, graph.nodes[key].channels, int(bits or 32)))  # type: ignore[arg-type]
        total, done = print_length(session), 0
        with ThreadPoolExecutor(1) as scribe:
            writing: deque[Future[None]] = deque()
            for blocks in stream(graph, keys, total, read, cancel):
                writing.append(scribe.submit(_write, writers, blocks))
                while len(writing) > _AHEAD:
                    writing.popleft().result()
                done += blocks[0].shape[1]
                progress(done / total)
            for written in writing:
                written.result()
        for writer in writers:
            writer.close()
        for part, file in zip(parts, files, strict=True):
            part.replace(file.path)
    finally:
        for writer in writers:
            writer.abandon()
        for part in parts:
            part.unlink(missing_ok=True)
    return files
