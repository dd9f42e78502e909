"""Where sections and phrases lie in the song, and how a session is set in each of its parts.

A section is a run of phrases with its name, of the lead's or else of the first lane that has such; it lies wherever
such a run does. Its values hold from the gap before its first phrase to the gap after its last. In a gap one way of
setting gives way to the other shortly before what is sung next, breath included: what rings on of the words before it
rings on as it was.
"""

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

from .document import Lane, LocalValue, Phrase, Session

NEVER = 1 << 62  # a frame that no song comes to
RAMP_S = 0.1
LEAST_RAMP_S = 0.03  # where there is no gap


@dataclass(frozen=True)
class Where:
    """A section, or phrases of a lane; neither is the whole song."""

    section: str = ""
    lane: str = ""
    phrases: tuple[str, ...] = ()

    def __bool__(self) -> bool:
        return bool(self.section or self.phrases)

    def __str__(self) -> str:
        if self.section:
            return f"section:{self.section}"
        return f"phrases:{self.lane}:{','.join(self.phrases)}" if self.phrases else ""

    @classmethod
    def read(cls, text: str) -> "Where":
        """What `str` wrote; the whole song for anything else."""
        kind, _, rest = text.partition(":")
        lane, _, phrases = rest.partition(":")
        if kind == "section" and rest:
            return cls(section=rest[:60])
        if kind == "phrases" and lane and phrases:
            return cls(lane=lane, phrases=tuple(p for p in phrases.split(",") if p)[:200])
        return cls()


SONG = Where()


@dataclass(frozen=True)
class Stretch:
    """Where a local value holds, in frames: it comes over [begin), is there, and goes over [end)."""

    begin: tuple[int, int]
    end: tuple[int, int]


@dataclass(frozen=True)
class Timeline:
    """The ways in which a song is set, each by the ids of the local values that hold, the first by none; and when.

    `spans` (from, to, way) as of Picks.
    """

    ways: tuple[tuple[str, ...], ...]
    spans: tuple[tuple[int, int, int], ...]


def where_of(local: LocalValue) -> Where:
    """Where a local value holds."""
    return Where(local.section, local.lane, local.phrases)


def timing_lane(session: Session, where: Where) -> Lane | None:
    """The lane by whose phrases it is said where that is; None where there is no such place in the song."""
    if where.section:
        lanes = sorted(session.lanes, key=lambda x: x.role != "lead")
        return next((x for x in lanes if any(p.section == where.section for p in x.phrases)), None)
    lane = next((x for x in session.lanes if x.id == where.lane), None)
    return lane if lane and any(p.id in where.phrases for p in lane.phrases) else None


def section_names(session: Session) -> list[str]:
    """Names of all sections, in the order of the song."""
    lanes = sorted(session.lanes, key=lambda x: x.role != "lead")
    return list(dict.fromkeys(p.section for x in lanes for p in x.phrases if p.section))


def runs(session: Session, where: Where) -> list[tuple[int, int]]:
    """First and last of the phrases of the timing lane, by number, of each run of phrases that are meant."""
    lane = timing_lane(session, where)
    if lane is None:
        return []
    meant = [p.section == where.section if where.section else p.id in where.phrases for p in lane.phrases]
    found, at = [], 0
    for inside, group in itertools.groupby(meant):
        count = len(list(group))
        if inside:
            found.append((at, at + count - 1))
        at += count
    return found


def stretches(session: Session, local: LocalValue) -> list[Stretch]:
    """Where a local value holds; nowhere where its section or phrases are no longer there, or it ends before it
    begins."""
    where = where_of(local)
    lane = timing_lane(session, where)
    if lane is None:
        return []
    found = []
    for first, last in runs(session, where):
        begin = _moved(_before(lane, first, session), local.begins_ms, local.ramp_in_ms, session.rate)
        if last + 1 < len(lane.phrases) or local.ends_ms or local.ramp_out_ms:
            end = _moved(_before(lane, last + 1, session), local.ends_ms, local.ramp_out_ms, session.rate)
        else:
            end = NEVER, NEVER  # what rings on after the song's last words rings on as it was
        if sum(end) > sum(begin):
            found.append(Stretch(begin, end))
    return found


def timeline(session: Session) -> Timeline:
    """In which ways the song is set, and when."""
    starts: dict[int, list[tuple[str, int, int]]] = {}
    for local in session.local_values:
        for stretch in stretches(session, local):
            for (a, b), step in ((stretch.begin, 1), (stretch.end, -1)):
                if a < NEVER:
                    starts.setdefault((a + b) // 2, []).append((local.id, step, (b - a) // 2))
    order = sorted(
        session.local_values, key=lambda x: bool(x.phrases)
    )  # what is said of a phrase holds before its section's
    count = {local.id: 0 for local in order}
    ways: list[tuple[str, ...]] = [()]
    changes: list[tuple[int, int, int]] = []  # middle, half of the ramp, the way from there on
    for middle in sorted(starts):
        for identifier, step, _ in starts[middle]:
            count[identifier] += step
        way = tuple(x.id for x in order if count[x.id] > 0)
        if way not in ways:
            ways.append(way)
        if way != ways[changes[-1][2] if changes else 0]:
            changes.append((middle, max(half for _, _, half in starts[middle]), ways.index(way)))
    spans: list[tuple[int, int, int]] = []
    begin = now = 0
    for k, (middle, half, which) in enumerate(changes):
        room = [middle - changes[k - 1][0]] if k else [2 * middle]
        room += [changes[k + 1][0] - middle] if k + 1 < len(changes) else []
        half = max(0, min(half, *(r // 2 for r in room)))
        spans.append((begin, middle - half, now))
        begin, now = middle + half, which
    spans.append((begin, NEVER, now))
    return Timeline(tuple(ways), tuple(spans))


def _before(lane: Lane, number: int, session: Session) -> tuple[int, int]:
    """Frames of the ramp in the gap before a phrase of that number, or after the last."""
    phrases: Sequence[Phrase] = lane.phrases
    opens = phrases[number - 1].end if number else 0
    closes = phrases[number].start if number < len(phrases) else max(session.frames, opens)
    least, usual = round(LEAST_RAMP_S * session.rate), round(RAMP_S * session.rate)
    if closes - opens < least:
        middle = (opens + closes) // 2
        return max(0, middle - least // 2), max(0, middle - least // 2) + least
    breath = next((b for b in reversed(lane.breaths) if opens <= b.start < closes), None)
    until = breath.start if breath is not None and breath.start - opens >= least else closes
    return max(opens, until - usual), until


def _moved(ramp: tuple[int, int], by_ms: float, long_ms: float, rate: int) -> tuple[int, int]:
    first, last = (frame + round(by_ms * rate / 1000) for frame in ramp)
    if long_ms:
        middle, half = (first + last) // 2, round(long_ms * rate / 2000)
        first, last = middle - half, middle + half
    return max(0, first), max(0, last)
