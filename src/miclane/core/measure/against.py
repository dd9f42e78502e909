"""A backing beside the lead, note by note: how much later it begins, and how far apart they are sung."""

from collections.abc import Sequence
from dataclasses import dataclass

from ..stages.tune import SungNote

_LEAST_S, _COMMON, _MOST_LATE_S = 0.1, 0.4, 0.3


@dataclass(frozen=True)
class Beside:
    """A note of a backing: where it begins, by how many ms later than the lead's (None where that began elsewhere),
    the interval to it in semitones, and by how many cents it is off that."""

    start_s: float
    end_s: float
    late_ms: float | None
    interval: int
    cents: float


def against(lead: Sequence[SungNote], own: Sequence[SungNote]) -> list[Beside]:
    """Every surely told note of a backing that is sung together with one of the lead's, beside that."""
    found = []
    known = [n for n in lead if not n.unsure and n.end_s - n.start_s >= _LEAST_S]
    for note in own:
        if note.unsure or note.end_s - note.start_s < _LEAST_S:
            continue
        other = max(known, key=lambda n: _common(n, note), default=None)
        if other is None:
            continue
        shorter = min(note.end_s - note.start_s, other.end_s - other.start_s)
        if _common(other, note) < _COMMON * shorter:
            continue
        apart = note.pitch - other.pitch
        late = note.start_s - other.start_s
        found.append(
            Beside(
                note.start_s,
                note.end_s,
                round(1000 * late, 1) if abs(late) <= _MOST_LATE_S else None,
                round(apart),
                round(100 * (apart - round(apart)), 1),
            )
        )
    return found


def _common(a: SungNote, b: SungNote) -> float:
    """Seconds in which both are sung."""
    return min(a.end_s, b.end_s) - max(a.start_s, b.start_s)
