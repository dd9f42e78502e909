"""Return clearance: how far the dry voice stands over its returns, and how soon they are back when it rests."""

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..engine.node import Trace
from .phrases import Span

BACK_DB = 1.0
LONGEST_GAP_S = 3.0


@dataclass(frozen=True)
class Clearance:
    """Dry over returns in dB over the phrases and over the gaps between them; the shortest gap. None: nothing there."""

    singing_db: float | None
    gaps_db: float | None
    shortest_gap_ms: float | None


@dataclass(frozen=True)
class Held:
    """Median time after a phrase until the gain is within 1 dB of open; median gain in dB singing and in gaps."""

    back_ms: float | None
    singing_db: float | None
    gaps_db: float | None


def clearance(dry: np.ndarray, wet: np.ndarray, phrases: Sequence[Span], first: int, rate: int) -> Clearance:
    """Of dry and wet power (n,) from frame `first` on; phrases in order, those outside count for nothing."""
    n = len(dry)
    inside = [p for p in phrases if p.start < first + n and p.end > first]
    sung, gaps = np.zeros(n, bool), np.zeros(n, bool)
    for p in inside:
        sung[max(0, p.start - first) : p.end - first] = True
    lengths = []
    for a, b in itertools.pairwise(inside):
        gaps[max(0, a.end - first) : max(0, b.start - first)] = True
        lengths.append((b.start - a.end) / rate * 1000)

    def over(mask: np.ndarray) -> float | None:
        if not mask.any() or wet[mask].mean() < 1e-14:
            return None
        return float(10 * np.log10(max(dry[mask].mean(), 1e-20) / wet[mask].mean()))

    return Clearance(over(sung), over(gaps), min(lengths, default=None))


def held(trace: Trace, phrases: Sequence[Span], first: int, last: int, rate: int) -> Held:
    """What a ducker's gain does over the frames [first, last): see `Held`."""
    if trace.gain_db is None:
        return Held(None, None, None)
    inside = [p for p in phrases if p.start < last and p.end > first]
    times, singing, gaps = [], [], []
    for k, p in enumerate(inside):
        a, b = ((frame - trace.start) // trace.hop for frame in (max(p.start, first), min(p.end, last)))
        singing.append(trace.gain_db[a:b])
        until = inside[k + 1].start if k + 1 < len(inside) else min(last, p.end + round(LONGEST_GAP_S * rate))
        after = trace.gain_db[b : max(b, (until - trace.start) // trace.hop)]
        gaps.append(after)
        back = np.flatnonzero(after > -BACK_DB)
        if len(back):
            times.append(back[0] * trace.hop / rate * 1000)
    middle = [float(np.median(np.concatenate(x))) if sum(map(len, x)) else None for x in (singing, gaps)]
    return Held(float(np.median(times)) if times else None, middle[0], middle[1])
