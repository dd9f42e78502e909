"""Printing: chosen places of the graph rendered from the first frame to the last into sound files."""

from collections import deque
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

import numpy as np
from pydantic import Field

from .engine.builder import Builder
from .engine.graph import Graph
from .engine.render import Cancel, SoundReader
from .engine.stream import stream
from .errors import UnusableChainError
from .mix.document import Bus, Lane, Return, Session
from .sound_writer import SoundWriter
from .stages.base import Settings

_AHEAD = 4
_GRAIN = 8192  # a print ends that near to the last that is loud enough
_SILENT, _OPENS_S = 10 ** (-90 / 20), 3.0  # a ducker or a gate may open that long after what closed it
Format = Literal["wav-32", "wav-24", "wav-16", "flac-24", "flac-16", "ogg"]


class PrintRequest(Settings):
    """What to print: `mix`, `vocals`, `lane:ID`, `return:ID`, `bus:ID`; each after its fader.

    As `stems` they add up to the mix: each goes through the faders of the buses after it and through those of their
    stages that are linear; the others are left out (`left_out` names them).
    """

    targets: tuple[str, ...] = Field(("mix",), min_length=1, max_length=200)
    stems: bool = False
    format: Format = "wav-24"


@dataclass(frozen=True)
class Printed:
    """A file that was made and the place in the graph it was taken from.

    `clipped` samples were over full scale, by `over_db` at most, and the format could not hold them.
    """

    target: str
    name: str
    path: Path
    clipped: int = 0
    over_db: float = 0.0


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


def _after(session: Session, target: str) -> list[Bus]:
    """The buses that a target goes through on its way to the mix, in order."""
    kind, _, name = place_of(session, target).removesuffix(":out").partition(":")
    member = next(x for x in members(session, kind) if x.id == name)
    return session.buses_from(member.into if isinstance(member, Bus) else member.bus)


def left_out(session: Session, target: str) -> list[str]:
    """What a stem does not go through on its way to the mix, since it does not act on each part by itself."""
    return [
        f"{stage.label} of {bus.name}"
        for bus in _after(session, target)
        for stage in bus.stages
        if stage.on and not stage.linear
    ]


class _End:
    """Tells when all has sounded: what is under −90 dBFS is held back, and dropped where nothing louder follows."""

    def __init__(self, graph: Graph, keys: list[str]) -> None:
        rests = [graph.rings_on(key) for key in keys]
        self.frames = graph.frames
        self.latest = graph.frames + round((max(r[0] for r in rests) + _OPENS_S) * graph.rate)
        self.patience = round((max(r[1] for r in rests) + _OPENS_S) * graph.rate)
        self.done = 0
        self._held: list[list[np.ndarray]] = []

    def take(self, blocks: list[np.ndarray]) -> list[list[np.ndarray]]:
        """What is to be written now that these blocks have come."""
        inside = max(0, self.frames - self.done)
        self.done += blocks[0].shape[1]
        sung, rest = [b[:, :inside] for b in blocks], [b[:, inside:] for b in blocks]
        held = [sung] if inside else []
        for at in range(0, rest[0].shape[1], _GRAIN):
            piece = [b[:, at : at + _GRAIN] for b in rest]
            if any(np.abs(b).max() >= _SILENT for b in piece):
                held, self._held = [*held, *self._held, piece], []
            else:
                self._held.append(piece)
        return held

    def is_over(self) -> bool:
        """Whether nothing louder can follow any more."""
        return sum(each[0].shape[1] for each in self._held) > self.patience


def flat_path(name: str) -> str:
    """A name as a file name: letters, digits, spaces and dashes, at most 80 characters and 180 bytes."""
    kept = "".join(c if c.isalnum() or c in " -_" else "_" for c in name).strip()[:80]
    return kept.encode()[:180].decode(errors="ignore").strip() or "print"


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
    graph, keys = _wanted(session, request)
    kind, _, bits = request.format.partition("-")
    folder.mkdir(parents=True, exist_ok=True)
    names = file_names([f"{session.name} - {name_of(session, t)}" for t in request.targets])
    files = [Printed(t, f"{n}.{kind}", folder / f"{n}.{kind}") for t, n in zip(request.targets, names, strict=True)]
    parts = [f.path.with_name(f".part-{f.path.name}") for f in files]
    writers = []
    try:
        for part, key in zip(parts, keys, strict=True):
            writers.append(SoundWriter(part, session.rate, graph.nodes[key].channels, int(bits or 32)))  # type: ignore[arg-type]
        end = _End(graph, keys)
        with ThreadPoolExecutor(1) as scribe:
            writing: deque[Future[None]] = deque()
            for blocks in stream(graph, keys, end.latest, read, cancel):
                writing.extend(scribe.submit(_write, writers, each) for each in end.take(blocks))
                while len(writing) > _AHEAD:
                    writing.popleft().result()
                progress(min(end.done / (end.frames + end.patience), 1.0))
                if end.is_over():
                    break
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
    return [_with_clipping(file, writer) for file, writer in zip(files, writers, strict=True)]


def _wanted(session: Session, request: PrintRequest) -> tuple[Graph, list[str]]:
    """The graph of a session, and the node of each target."""
    builder = Builder(session)
    graph = builder.build()
    places = [place_of(session, t) for t in request.targets]
    keys = [graph.places[place] for place in places]
    if request.stems:
        after = [_after(session, t) for t in request.targets]
        keys = [builder.stem(p, way[0].id) if way else graph.places[p] for p, way in zip(places, after, strict=True)]
    return graph, keys


def sounds_of(session: Session, request: PrintRequest) -> tuple[str, ...]:
    """What names the sound of each target: the same name, the same samples."""
    return tuple(_wanted(session, request)[1])


def peaks_dbfs(
    session: Session, request: PrintRequest, read: SoundReader, cancel: Cancel | None = None
) -> tuple[float, ...]:
    """The highest sample of each target in dB of full scale, −200 for silence, without writing anything."""
    graph, keys = _wanted(session, request)
    end, peaks = _End(graph, keys), [1e-10] * len(keys)
    for blocks in stream(graph, keys, end.latest, read, cancel):
        for each in end.take(blocks):
            peaks = [max(peak, float(np.abs(b).max(initial=0.0))) for peak, b in zip(peaks, each, strict=True)]
        if end.is_over():
            break
    return tuple(20 * float(np.log10(peak)) for peak in peaks)


def _with_clipping(file: Printed, writer: SoundWriter) -> Printed:
    if not writer.clipped:
        return file
    return replace(file, clipped=writer.clipped, over_db=20 * float(np.log10(writer.peak)))
