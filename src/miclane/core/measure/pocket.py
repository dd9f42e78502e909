"""A pocket: where in something that stands over the voice room is made for it, how deep, and when."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TypeVar

import numpy as np

from ..stages.base import Key
from ..stages.eq import Band, Dynamic, Eq
from ..stages.eq_working import MovingBand
from .ducking import consonants_ms, gaps_s
from .hearing import ERB_EDGES_HZ
from .masking import ERB_IMPORTANCE, Masked, rows_of
from .phrases import Span

T = TypeVar("T")
MOST_BANDS, DEEPEST_DB = 3, 6.0
POCKETS = (1, 3.0), (2, 2.0), (3, 2.0), (2, 3.0), (3, 3.0), (3, 4.5), (3, DEEPEST_DB)  # bands and depth, smallest first
COSTS_LITTLE_DB = 0.5  # of all that is not the voice, and of the loudness of the music over the song
WANTED = 0.5  # clarity: between poor (0.45) and good (0.75) of ANSI S3.5, where sung words are followed
_NARROWER, _LEAST_Q, _MOST_Q = 1.3, 1.0, 6.0  # than the need: the heart of it is what counts
_LEAST_OVER_DB, _BEYOND_DB = 0.5, 2.0  # a band of that is taken, and so much deeper than it stands over the voice
_SUNG_PERCENT, _ROOM_DB = 5, 2.0  # all but the softest twentieth of each phrase opens it, and so much below that

_NEAR_S, _OVER_BREATHS_DB, _MOST_PERCENT = 0.12, 1.0, 10


@dataclass(frozen=True)
class Need:
    """From low_hz to high_hz something stands over the voice by so many dB, weighed by what it takes of its clarity."""

    low_hz: float
    high_hz: float
    over_db: float
    weight: float


def needs(masked: Masked, name: str) -> list[Need]:
    """Where one thing stands over the voice, the heaviest first, over all that is sung."""
    if name not in masked.names:
        return []
    sung = np.isfinite(masked.over_db).any(axis=0)
    if not sung.any():
        return []
    mine = (masked.whose == masked.names.index(name))[:, sung]
    over = np.where(mine, masked.over_db[:, sung], -np.inf)
    stands = np.where(over > 0, over, 0.0).mean(axis=1)
    weight = ERB_IMPORTANCE * np.where(mine, np.clip((over + 15) / 30, 0, 1), 0.0).mean(axis=1)
    found = []
    for low, high in rows_of(stands >= _LEAST_OVER_DB):
        height = float(np.average(stands[low:high], weights=np.maximum(weight[low:high], 1e-9)))
        edges = float(ERB_EDGES_HZ[low]), float(ERB_EDGES_HZ[high])
        if (taken := float(weight[low:high].sum())) > 0:
            found.append(Need(*edges, height, taken))
    return sorted(found, key=lambda need: -need.weight)


def smallest(there: int, attempt: Callable[[int, float], tuple[T, float, float] | None]) -> T | None:
    """The smallest pocket that is enough where `there` bands call for one, else the deepest that costs little.

    `attempt(bands, deepest_db)` makes one and says what clarity it brings and by how many dB all else gets louder; None
    where none can be made.
    """
    best: T | None = None
    for bands, deepest in POCKETS:
        if bands > max(1, there):
            continue
        found = attempt(bands, deepest)
        if found is None:
            break
        made, clarity, cost = found
        if best is None or cost >= -COSTS_LITTLE_DB:
            best = made
        if clarity >= WANTED or cost < -COSTS_LITTLE_DB:
            break
    return best


def make_pocket(
    needed: Sequence[Need],
    dry: np.ndarray,
    rate: int,
    phrases: Sequence[Span],
    key: Key,
    deepest_db: float = DEEPEST_DB,
) -> Eq | None:
    """An EQ with a bell for each of the heaviest needs, in the middle alone, that opens while `key` sings.

    `dry` (channels, n) is what the key hears, `phrases` where it sings in that. Attack: less than half of what its
    consonants take; release: back within the middle gap. Each bell starts so far under its band of the voice that it is
    open all the way while that sings, so that it rests inside a held note. None where there is nothing to answer.
    """
    inside = [p for p in phrases if p.end - p.start > rate // 10 and p.start < dry.shape[1]]
    if not needed or not inside or float(np.abs(dry).max(initial=0.0)) < 1e-5:
        return None
    gaps = [g for g in gaps_s(inside, rate) if g > 0.1]
    attack = round(float(np.clip(0.4 * np.median(consonants_ms(dry, rate, inside)), 5, 20)), 1)
    release = round(float(np.clip(1000 * (np.median(gaps) if gaps else 0.5) / 4, 90, 250)))
    bands = []
    for need in needed[:MOST_BANDS]:
        depth = round(float(np.clip(need.over_db + _BEYOND_DB, 2.0, deepest_db)), 1)
        middle = float(np.sqrt(need.low_hz * need.high_hz))
        q = float(np.clip(_NARROWER * middle / (need.high_hz - need.low_hz), _LEAST_Q, _MOST_Q))
        moves = Dynamic(threshold_db=-40, change_db=-depth, attack_ms=attack, release_ms=release, keyed_by="key")
        band = Band(frequency_hz=round(middle), q=round(q, 2), target="middle", dynamic=moves)
        threshold = _opens_at_db(band, dry, rate, inside)
        bands.append(band.model_copy(update={"dynamic": moves.model_copy(update={"threshold_db": threshold})}))
    return Eq(name="Pocket", bands=tuple(bands), key=key, auto_makeup=False)


def _opens_at_db(band: Band, dry: np.ndarray, rate: int, phrases: Sequence[Span]) -> float:
    """Where its detector must start, so that the band is open all the way wherever it is sung.

    What comes between the phrases (breaths) does not open it, as long as nine tenths of each phrase still do.
    """
    assert band.dynamic is not None
    level, step = MovingBand(band, rate).level_db(dry)[: dry.shape[1]], rate // 1000
    sung = [_sung(level[p.start : p.end : step]) for p in phrases]
    soft, most = (min(float(np.percentile(x, percent)) for x in sung) for percent in (_SUNG_PERCENT, _MOST_PERCENT))
    starts = soft - band.dynamic.span_db - _ROOM_DB
    between = np.ones(len(level), bool)
    for p in phrases:
        between[max(0, p.start - round(_NEAR_S * rate)) : p.end + round(_NEAR_S * rate)] = False
    if (quiet := level[between][::step]).size:
        over = float(np.percentile(quiet, 95)) + _OVER_BREATHS_DB
        starts = max(starts, min(over, most - band.dynamic.span_db))
    return round(float(np.clip(starts, -80, 0)), 1)


def _sung(level_db: np.ndarray) -> np.ndarray:
    return level_db[level_db > level_db.max(initial=-200.0) - 30.0]
