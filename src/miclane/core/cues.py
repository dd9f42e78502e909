"""Where the phrases are, told by the sound files themselves.

WAV files carry cue points with a label and a length each (`cue `, `LIST adtl` of `labl` and `ltxt`: Multimedia
Programming Interface and Data Specifications 1.0, IBM and Microsoft, 1991; labels in UTF-8). Beside others stands a
WebVTT file.
"""

import struct
from dataclasses import dataclass
from pathlib import Path

from .errors import UnusableDataError
from .mix.document import Lane, Session
from .print_targets import find_target

_MOST_RIFF = (1 << 32) - 9


@dataclass(frozen=True)
class Span:
    """A phrase in frames, with its words and section."""

    start: int
    end: int
    words: str
    section: str


def phrases_of(session: Session, target: str) -> list[Span]:
    """The phrases that a printed target has: a lane's own, of all else those of the lead."""
    member = find_target(session, target).member
    own = member if isinstance(member, Lane) and member.phrases else None
    lane = own or next((x for x in session.lanes if x.role == "lead"), None)
    return [Span(p.start, p.end, p.words, p.section) for p in lane.phrases] if lane else []


def label_of(span: Span, number: int) -> str:
    """What a phrase is called: its section and its words, else its number."""
    return ", ".join(x for x in (span.section, span.words or f"phrase {number}") if x)


def mark(path: Path, spans: list[Span]) -> None:
    """Put cue points into a WAV file that has none, after its sound. One of over 4 GB is left as it is."""
    if not spans:
        return
    points = [struct.pack("<II4sIII", k, s.start, b"data", 0, 0, s.start) for k, s in enumerate(spans, 1)]
    chunks = _chunk(b"cue ", struct.pack("<I", len(points)) + b"".join(points))
    notes = b"adtl"  # all labels first: there are readers that stop at the first length
    for k, span in enumerate(spans, 1):
        notes += _chunk(b"labl", struct.pack("<I", k) + label_of(span, k).encode() + b"\0")
    for k, span in enumerate(spans, 1):
        notes += _chunk(b"ltxt", struct.pack("<II4sHHHH", k, span.end - span.start, b"rgn ", 0, 0, 0, 65001))
    chunks += _chunk(b"LIST", notes)
    try:
        with path.open("r+b") as file:
            kind, _, form = struct.unpack("<4sI4s", file.read(12))
            size = file.seek(0, 2)
            if kind != b"RIFF" or form != b"WAVE" or size + len(chunks) + 1 > _MOST_RIFF:
                return
            file.write(b"\0" * (size % 2) + chunks)
            end = file.tell()
            file.seek(4)
            file.write(struct.pack("<I", end - 8))
    except OSError as error:
        raise UnusableDataError(f"{path.name}: could not be written; the disk is full, or gone") from error


def _chunk(name: bytes, data: bytes) -> bytes:
    return name + struct.pack("<I", len(data)) + data + b"\0" * (len(data) % 2)


def write_vtt(path: Path, spans: list[Span], rate: int) -> None:
    """A WebVTT file with a cue a phrase."""
    lines = ["WEBVTT", ""]
    for k, span in enumerate(spans, 1):
        text = label_of(span, k).replace("&", "&amp;").replace("<", "&lt;").replace("-->", "→")
        lines += [str(k), f"{_clock(span.start / rate)} --> {_clock(span.end / rate)}", text, ""]
    path.write_text("\n".join(lines), "utf-8")


def _clock(seconds: float) -> str:
    whole = round(1000 * seconds)
    return f"{whole // 3_600_000:02d}:{whole // 60_000 % 60:02d}:{whole // 1000 % 60:02d}.{whole % 1000:03d}"
