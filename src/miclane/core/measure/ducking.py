"""Where to begin with a ducker: its four times and its threshold from the phrasing of the dry vocal."""

import itertools
from collections.abc import Sequence
from typing import Any

import numpy as np

from ..kernels.levels import padded
from ..kernels.opening import duck_gain
from ..stages.detector import Filter, PeakLevel, cut_sections
from ..stages.duck import KEY_WINDOW_MS, Duck, release_share
from ..stages.processor import one_pole
from .levels import HOP_MS, band_level_db, runs
from .phrases import Span

FILLED_S, HELD_SHARE, NEAR_DB = 0.3, 0.97, 0.5
_WITHIN_DB = 26.0


def key_level_db(stage: Duck, dry: np.ndarray, rate: int) -> np.ndarray:
    """Level in dB (n,) as the ducker hears the dry vocal (channels, n)."""
    heard = Filter(cut_sections(stage.key_low_cut_hz, 0, rate, 12), dry.shape[0]).process(np.ascontiguousarray(dry))
    return PeakLevel(KEY_WINDOW_MS, rate).process_db(heard)[: dry.shape[1]]


def gaps_s(phrases: Sequence[Span], rate: int) -> list[float]:
    """Lengths in seconds of the gaps between phrases."""
    return [(b.start - a.end) / rate for a, b in itertools.pairwise(phrases)]


def held_share(stage: Duck, level_db: np.ndarray, rate: int, phrases: Sequence[Span]) -> float:
    """Share of the sung frames, after the attack, at which the gain is down by the whole depth (to 0.5 dB)."""
    n = len(level_db)
    line = padded(n)
    line[:n] = level_db
    gain = padded(n)
    release = one_pole(stage.release_ms * release_share(stage.depth_db), rate)
    attack, hold = one_pole(stage.attack_ms, rate), stage.hold_ms * rate / 1000
    duck_gain(line, n, stage.threshold_db, stage.depth_db, attack, release, hold, np.zeros(3), gain)
    after = round((4 * stage.attack_ms + KEY_WINDOW_MS) * rate / 1000)
    down, count = 0, 0
    for p in phrases:
        part, loud = gain[p.start + after : p.end], level_db[p.start + after : p.end]
        if len(loud):
            sung = loud > level_db[p.start : p.end].max() - _WITHIN_DB
            down += int((part[sung] <= -stage.depth_db + NEAR_DB).sum())
            count += int(sung.sum())
    return down / count if count else 0.0


def duck_start(
    stage: Duck, dry: np.ndarray, rate: int, phrases: Sequence[Span], breaths: Sequence[Span], tempo_bpm: float
) -> dict[str, Any]:
    """Attack, hold, release and threshold for a dry vocal (channels, frames); {} where nothing is sung.

    Attack: less than half of what the first consonants take. Hold: over the dips inside phrases. Release: back within
    1 dB by the middle of the shortest gap of 0.3 s or more (of the longest where there is none such), and not longer
    than half a beat. Threshold: the highest at which 97 % of the sung frames are held, but over the breaths if that
    leaves 95 %.
    """
    inside = [p for p in phrases if p.end - p.start > rate // 10]
    if not inside or float(np.abs(dry).max(initial=0.0)) < 1e-5:
        return {}
    level = key_level_db(stage, dry, rate)
    consonants, dips = consonants_ms(dry, rate, inside), _dips_ms(level, rate, inside)
    attack = float(np.clip(0.4 * np.median(consonants), 4, 30))
    hold = float(np.clip(np.percentile(dips, 85) if dips else 40.0, 20, 120))
    gaps = gaps_s(inside, rate)
    filled = [g for g in gaps if g >= FILLED_S]
    gap_ms = 1000 * (min(filled) if filled else max(gaps, default=0.6))
    falls = max(np.log(max(stage.depth_db, 1.5)), 0.4) * release_share(stage.depth_db)
    half_beat = 30_000.0 / tempo_bpm
    hold = min(hold, 0.25 * gap_ms)
    release = float(np.clip((0.55 * gap_ms - hold) / falls, 20, half_beat))
    found = {"attack_ms": round(attack, 1), "hold_ms": round(hold, 1), "release_ms": round(release, 1)}
    timed = stage.model_copy(update=found)
    low, high = -70.0, 0.0
    while high - low > 0.2:
        middle = 0.5 * (low + high)
        held = held_share(timed.model_copy(update={"threshold_db": middle}), level, rate, inside)
        low, high = (middle, high) if held >= HELD_SHARE else (low, middle)
    threshold = low
    loud_breaths = [float(np.percentile(level[b.start : b.end], 90)) for b in breaths if b.end - b.start > rate // 50]
    if loud_breaths:
        over = float(np.percentile(loud_breaths, 80)) + 4.0  # 3 dB of it are hysteresis
        if (
            over > threshold
            and held_share(timed.model_copy(update={"threshold_db": over}), level, rate, inside) >= 0.95
        ):
            threshold = over
    return found | {"threshold_db": round(float(np.clip(threshold, -70, 0)), 1)}


def consonants_ms(dry: np.ndarray, rate: int, phrases: Sequence[Span]) -> list[float]:
    """Time from the start of each phrase until its first vowel is there."""
    voice, hop = band_level_db(dry, rate, 130, 700, 2), round(rate * HOP_MS / 1000)
    found = []
    for p in phrases:
        part = voice[p.start // hop : p.end // hop]
        if len(part):
            found.append(float(np.argmax(part > part.max() - 14)) * HOP_MS)
    return found or [25.0]


def _dips_ms(level: np.ndarray, rate: int, phrases: Sequence[Span]) -> list[float]:
    """Lengths of the dips inside phrases: 26 dB or more under their loudest, not longer than 0.25 s."""
    step, found = rate // 1000, []
    for p in phrases:
        part = level[p.start : p.end : step]
        found += [float(b - a) for a, b in runs(part < part.max() - _WITHIN_DB) if 5 < b - a < 250 and b < len(part)]
    return found
