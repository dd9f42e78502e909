"""Share of the work: how much a lane is turned down in all, phrase by phrase, and which stage does it."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..engine.node import Trace
from .phrases import Span

ALONE_DB, ALONE_SHARE, IDLE_DB, LITTLE_DB = 10.0, 0.7, 0.3, 3.0
_SUNG = 10**-2.5


@dataclass(frozen=True)
class Work:
    """What one stage turns down: mean in dB of each phrase's sung frames, of all of them, and the 95th percentile."""

    id: str
    name: str
    phrases_db: tuple[float, ...]
    mean_db: float
    p95_db: float
    max_db: float


@dataclass(frozen=True)
class Remark:
    """A stage that stands out: it does too much `alone`, the `most` of all, or is `idle`; with the figure that says so.

    The figure is in dB for alone and idle, a share from 0 to 1 for most.
    """

    id: str
    name: str
    what: str
    figure: float


@dataclass(frozen=True)
class Share:
    """All stages in order, the phrases' totals in dB, and what stands out."""

    works: tuple[Work, ...]
    totals_db: tuple[float, ...]
    remarks: tuple[Remark, ...]

    @property
    def total_db(self) -> float:
        """Mean reduction over all sung frames, all stages together."""
        return sum(w.mean_db for w in self.works)


def reduction_of(trace: Trace, several_bands: bool = False) -> np.ndarray:
    """Reduction in dB of each point of a trace, none where it lifts; of a stage of several bands by its levels."""
    if trace.gain_db is not None and not several_bands:
        return np.maximum(-trace.gain_db, 0.0)
    change = 10 * np.log10(np.maximum(trace.mean_square_out, 1e-20) / np.maximum(trace.mean_square_in, 1e-20))
    return np.maximum(-change, 0.0)


def share_of_work(
    stages: Sequence[tuple[str, str, Trace, bool]], phrases: Sequence[Span], first: int, last: int
) -> Share:
    """The share of each (id, name, trace, of several bands) in a row over the phrases within frames [first, last).

    Sung are the points within 25 dB of the loudest of their phrase, as they come into the first stage.
    """
    if not stages:
        return Share((), (), ())
    head = stages[0][2]
    spans = [(max(p.start, first), min(p.end, last)) for p in phrases if p.start < last and p.end > first]
    spans = spans or [(first, last)]
    masks, points = [], min(len(t.mean_square_in) for _, _, t, _ in stages)
    for a, b in spans:
        k = slice(max(0, (a - head.start) // head.hop), max(1, (b - head.start) // head.hop))
        power = head.mean_square_in[:points][k]
        mask = np.zeros(points, bool)
        mask[k] = power > max(power.max(initial=0.0) * _SUNG, 1e-12)
        masks.append(mask)
    sung = np.logical_or.reduce(masks)
    works = []
    for identifier, name, trace, several in stages:
        down = reduction_of(trace, several)[:points]
        each = tuple(float(down[m].mean()) if m.any() else 0.0 for m in masks)
        inside = down[sung] if sung.any() else np.zeros(1)
        worst = float(np.percentile(inside, 95))
        works.append(Work(identifier, name, each, float(inside.mean()), worst, float(inside.max())))
    totals = tuple(sum(w.phrases_db[k] for w in works) for k in range(len(spans)))
    return Share(tuple(works), totals, tuple(_remarks(works)) if sung.any() else ())


def _remarks(works: list[Work]) -> list[Remark]:
    total = sum(w.mean_db for w in works)
    found = []
    for w in works:
        if w.p95_db > ALONE_DB:
            found.append(Remark(w.id, w.name, "alone", w.p95_db))
        elif len(works) > 1 and total > LITTLE_DB and w.mean_db / total > ALONE_SHARE:
            found.append(Remark(w.id, w.name, "most", w.mean_db / total))
        elif w.max_db < IDLE_DB:
            found.append(Remark(w.id, w.name, "idle", w.max_db))
    return found
