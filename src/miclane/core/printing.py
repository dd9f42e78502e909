"""Printing: chosen places of the graph rendered from the first frame to the last into sound files."""

from collections import deque
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

import numpy as np
from pydantic import Field, model_validator

from .cues import mark, phrases_of, write_vtt
from .engine.giving_way import Cancel
from .engine.graph import Graph
from .engine.render import SoundReader
from .engine.stream import stream
from .mix.document import Session
from .print_levels import Level, level_of, turn
from .print_names import USUAL, check_naming, file_names, named
from .print_targets import find_target, nodes_of
from .sound_writer import SoundWriter
from .stages.base import Settings

_AHEAD = 4
_GRAIN = 8192  # a print ends that near to the last that is loud enough
_SILENT, _OPENS_S = 10 ** (-90 / 20), 3.0  # a ducker or a gate may open that long after what closed it
Format = Literal["wav-32", "wav-24", "wav-16", "flac-24", "flac-16", "ogg"]


class PrintRequest(Settings):
    """What to print (names as of `print_targets.find_target`); each after its fader.

    As `stems` they add up to the mix: each goes through the faders of the buses after it and through those of their
    stages that are linear; the others are left out (`left_out` names them). With a target loudness each file is turned
    by one gain until it has that, with a ceiling until its true peak is there, with both no higher than either;
    stems by the gain of their sum. Nothing is limited for it. `naming` as of `print_names`; with `markers` files tell
    where their phrases are.
    """

    targets: tuple[str, ...] = Field(("mix",), min_length=1, max_length=200)
    stems: bool = False
    format: Format = "wav-24"
    naming: str = Field(USUAL, min_length=1, max_length=200)
    loudness_lufs: float | None = Field(None, ge=-60, le=0, allow_inf_nan=False)
    ceiling_dbtp: float | None = Field(None, ge=-30, le=0, allow_inf_nan=False)
    markers: bool = True

    @model_validator(mode="after")
    def _can_be_named(self) -> "PrintRequest":
        check_naming(self.naming)
        return self

    @property
    def turned(self) -> bool:
        """Whether files are turned to a level of their own."""
        return self.loudness_lufs is not None or self.ceiling_dbtp is not None


@dataclass(frozen=True)
class Printed:
    """A file that was made and the place in the graph it was taken from.

    `clipped` samples were over full scale, by `over_db` at most, and the format could not hold them. `gain_db` is what
    it was turned by to its level, None where none was asked for; `short_lu` what it is short of the loudness asked for.
    """

    target: str
    name: str
    path: Path
    clipped: int = 0
    over_db: float = 0.0
    gain_db: float | None = None
    short_lu: float = 0.0


class _End:
    """Tells when all has sounded: what is under −90 dBFS is held back, and dropped where nothing louder follows."""

    def __init__(self, graph: Graph, keys: list[str], least: int = 0) -> None:
        rests = [graph.rings_on(key) for key in keys]
        self.frames = max(graph.frames, least)
        self.latest = self.frames + round((max(r[0] for r in rests) + _OPENS_S) * graph.rate)
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
    snapshot: str = "",
    taken: tuple[str, ...] = (),
    least: int = 0,
) -> list[Printed]:
    """Print into `folder`; files are complete when this returns, and none is left when it raises.

    `snapshot` names what the session is of, for names of files; `taken` are names that are others' already. Files have
    `least` frames at the least.
    """
    graph, keys = nodes_of(session, request.targets, request.stems)
    kind, _, bits = request.format.partition("-")
    folder.mkdir(parents=True, exist_ok=True)
    names = names_of_files(session, request, snapshot, taken)
    files = [Printed(t, f"{n}.{kind}", folder / f"{n}.{kind}") for t, n in zip(request.targets, names, strict=True)]
    parts = [f.path.with_name(f".part-{f.path.name}") for f in files]
    drafts = [p.with_name(f"{p.name}.float.wav") for p in parts] if request.turned else []
    share = 0.8 if request.turned else 1.0
    writers: list[SoundWriter] = []
    try:
        channels = [graph.nodes[key].channels for key in keys]
        for part, count in zip(drafts or parts, channels, strict=True):
            writers.append(SoundWriter(part, session.rate, count, 32 if drafts else int(bits or 32)))  # type: ignore[arg-type]
        _stream(_End(graph, keys, least), graph, keys, read, writers, lambda done: progress(done * share), cancel)
        levels = [Level()] * len(files)
        if drafts:
            levels = level_of(drafts, request.loudness_lufs, request.ceiling_dbtp, request.stems, cancel)
            for k, (draft, part, level) in enumerate(zip(drafts, parts, levels, strict=True)):
                writers[k] = turn(draft, part, level.gain_db, int(bits or 32), cancel)
                progress(share + (1 - share) * (k + 1) / len(files))
        spans = [phrases_of(session, file.target) if request.markers else [] for file in files]
        for part, phrases in zip(parts, spans, strict=True):
            if kind == "wav":
                mark(part, phrases)
        for part, file in zip(parts, files, strict=True):
            part.replace(file.path)
        for file, phrases in zip(files, spans, strict=True):
            if kind != "wav" and phrases:
                write_vtt(file.path.with_suffix(".vtt"), phrases, session.rate)
    finally:
        for writer in writers:
            writer.abandon()
        for part in (*parts, *drafts):
            part.unlink(missing_ok=True)
    return [_told(f, w, x, request.turned) for f, w, x in zip(files, writers, levels, strict=True)]


def names_of_files(
    session: Session, request: PrintRequest, snapshot: str = "", taken: tuple[str, ...] = ()
) -> list[str]:
    """What the files of a print are called, without their suffix; `snapshot` and `taken` as of `print_session`."""
    kind, _, bits = request.format.partition("-")
    found = [find_target(session, t) for t in request.targets]
    titles = [
        named(request.naming, session, t.kind, t.title, len(taken) + k, snapshot, f"{bits} bit" if bits else kind)
        for k, t in enumerate(found, 1)
    ]
    return file_names([*taken, *titles])[len(taken) :]


def _stream(
    end: _End,
    graph: Graph,
    keys: list[str],
    read: SoundReader,
    writers: list[SoundWriter],
    progress: Callable[[float], None],
    cancel: Cancel | None,
) -> None:
    """Render all at once into their files, to the end of the last tail."""
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


def sounds_of(session: Session, request: PrintRequest) -> tuple[str, ...]:
    """What names the sound of each target: the same name, the same samples."""
    return tuple(nodes_of(session, request.targets, request.stems)[1])


def peaks_dbfs(
    session: Session, request: PrintRequest, read: SoundReader, cancel: Cancel | None = None
) -> tuple[float, ...]:
    """The highest sample of each target in dB of full scale, −200 for silence, without writing anything."""
    graph, keys = nodes_of(session, request.targets, request.stems)
    end, peaks = _End(graph, keys), [1e-10] * len(keys)
    for blocks in stream(graph, keys, end.latest, read, cancel):
        for each in end.take(blocks):
            peaks = [max(peak, float(np.abs(b).max(initial=0.0))) for peak, b in zip(peaks, each, strict=True)]
        if end.is_over():
            break
    return tuple(20 * float(np.log10(peak)) for peak in peaks)


def _told(file: Printed, writer: SoundWriter, level: Level, turned: bool) -> Printed:
    if writer.clipped:
        file = replace(file, clipped=writer.clipped, over_db=20 * float(np.log10(writer.peak)))
    return replace(file, gain_db=level.gain_db, short_lu=level.short_lu) if turned else file
