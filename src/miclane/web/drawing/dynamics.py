"""Pictures of what stages do to level: histograms, gain over the loop against the words, bands, harmonics."""

import itertools
from typing import Any

import numpy as np

from ...core.engine.node import Trace
from ...core.measure.level_change import lifted
from ...core.measure.stages import level_histogram
from ...core.measure.thresholds import SPREADS
from ...core.mix.paths import Path
from ...core.stages.base import Stage
from ...core.stages.compressor import Compressor
from ...core.stages.drive import Drive, harmonics_db
from ...core.stages.lift import Lift
from ...core.stages.multiband import Multiband
from .eq import PLOT
from .paths import hanging_path, shorten, steps_path

LOW_DB, LEFT, RIGHT = -66.0, 40.0, 618.0
BASE, TALL = 130.0, 104.0  # of the histogram
ZERO, PER_DB = 186.0, 3.2  # of the gain over the loop
POINTS = 480
_TICKS = (
    (50, "50"),
    (100, "100"),
    (200, "200"),
    (500, "500"),
    (1000, "1k"),
    (2000, "2k"),
    (5000, "5k"),
    (10000, "10k"),
)


def words_over(path: Path, first: int, last: int, left: float, right: float) -> list[dict[str, Any]]:
    """The phrases over a loop: where each lies in a drawing from left to right, and its words as far as they fit."""

    def x(frame: int) -> float:
        return left + (min(max(frame, first), last) - first) / (last - first) * (right - left)

    shown = []
    for p in path.timed_by.phrases if path.timed_by else ():
        if p.start < last and p.end > first:
            a, b = x(p.start), x(p.end)
            words = shorten(p.words, b - a) if p.words and b - a > 24 else ""
            shown.append({"x": round(a, 1), "width": round(max(b - a, 1.0), 1), "words": words})
    return shown


def drive_picture(stage: Drive, before: np.ndarray, rate: int) -> dict[str, Any]:
    """Harmonics that a tone as loud as the quiet and as the loud words of a loop would get, as bars."""
    hop = rate // 100
    n = before.shape[1] // hop
    peaks = np.abs(before[:, : n * hop]).reshape(before.shape[0], n, hop).max(axis=(0, 2)) if n else np.zeros(1)
    sung = peaks[peaks > max(peaks.max() * 0.05, 1e-5)]
    if not len(sung):
        return {"bars": []}
    levels = [20 * np.log10(float(np.quantile(sung, q))) for q in (0.3, 0.98)]
    quiet, loud = (harmonics_db(stage, round(v)) for v in levels)
    bars = [
        {"number": k, "quiet": 30 + 2.2 * min(-q, 90.0), "loud": 30 + 2.2 * min(-v, 90.0), "db": v}
        for k, (q, v) in enumerate(zip(quiet, loud, strict=True), 1)
    ]
    return {"bars": bars, "levels": levels}


def _x_of(level_db: float) -> float:
    return LEFT + (min(max(level_db, LOW_DB), 0.0) - LOW_DB) / -LOW_DB * (440 - LEFT)


def _histograms(levels: list[np.ndarray]) -> list[str]:
    counts = [level_histogram(x, LOW_DB, 0, 66) for x in levels]
    top = max(0.02, *(float(c.max()) for c in counts))
    return [steps_path(c / top, LEFT, 440, BASE, TALL) for c in counts]


def _over_the_loop(gain_db: np.ndarray | None, trace: Trace | None, first: int, last: int) -> np.ndarray:
    """Gain (n,) over the loop, the one furthest from nothing of each point drawn."""
    if trace is None or gain_db is None:
        return np.zeros(2)
    a, b = (first - trace.start) // trace.hop, (last - trace.start) // trace.hop
    gain = gain_db[a:b]
    if len(gain) <= POINTS:
        return gain if len(gain) else np.zeros(2)
    edges = np.linspace(0, len(gain), POINTS + 1).astype(int)[:-1]
    low, high = np.minimum.reduceat(gain, edges), np.maximum.reduceat(gain, edges)
    return np.where(-low > high, low, high)


def dynamics_picture(
    stage: Stage, before: np.ndarray, after: np.ndarray, trace: Trace | None, first: int, last: int, rate: int
) -> dict[str, Any]:
    """Histograms of level before and after, and the gain over the loop, as paths."""
    hop = rate // 200
    levels = []
    for audio in (before, after):
        n = audio.shape[1] // hop
        squares = audio[:, : n * hop].reshape(audio.shape[0], n, hop) ** 2
        levels.append(squares.max(axis=(0, 2)) if stage.by_peak else squares.mean(axis=(0, 2)))
    shapes = _histograms(levels)
    gain = _over_the_loop(trace.gain_db if trace else None, trace, first, last)
    threshold = getattr(stage, "threshold_db", getattr(stage, "ceiling_dbtp", None))
    lifts = stage.lifts
    zero = ZERO + 20 * PER_DB if lifts else ZERO
    return {
        "before": shapes[0],
        "after": shapes[1],
        "threshold": threshold,
        "threshold_x": _x_of(threshold) if threshold is not None else None,
        "lifts": lifts,
        "by_peak": stage.by_peak,
        "zero": zero,
        "gain": hanging_path(gain, LEFT, RIGHT, zero, PER_DB),
        "most": float(gain.max()) if len(gain) else 0.0,
        "curve": static_curve(stage) if isinstance(stage, Compressor | Lift) else None,
        "spreads": SPREADS if isinstance(stage, Compressor) else {},
        "risen": lifted(before, after, rate),
        "mono_db": mono_db(after) if stage.channels_out(1) == 2 else None,
    }


def bands_picture(
    stage: Multiband, band: int, alone: np.ndarray, trace: Trace | None, first: int, last: int, rate: int
) -> dict[str, Any]:
    """The bands along the frequency axis with what each does; level and gain over the loop of the chosen one."""
    edges = (20.0, *stage.edges_hz(rate), 20000.0)
    shown = []
    for k, (low, high) in enumerate(itertools.pairwise(edges)):
        gain = _over_the_loop(trace.parts_db[k] if trace and trace.parts_db is not None else None, trace, first, last)
        far = float(np.percentile(gain, 95 if stage.bands[k].works == "up" else 5))
        a, b = _band_x(low), _band_x(high)
        half = {"x": round(a, 1), "width": round(b - a, 1), "middle": round((a + b) / 2, 1)}
        shown.append(
            {**half, "gain_db": float(np.median(gain)), "far_db": far, "band": stage.bands[k], "number": k + 1}
        )
    hop = rate // 200
    n = alone.shape[1] // hop
    level = (alone[:, : n * hop].reshape(alone.shape[0], n, hop) ** 2).max(axis=(0, 2))
    mine = stage.bands[band]
    gain = _over_the_loop(trace.parts_db[band] if trace and trace.parts_db is not None else None, trace, first, last)
    zero = 262.0 if mine.works == "up" else 206.0
    count = level_histogram(level, LOW_DB - 24, 0, 90)
    return {
        "bands": shown,
        "ticks": [(round(_band_x(f), 1), name) for f, name in _TICKS],
        "band": band,
        "level": steps_path(count / max(0.02, float(count.max())), LEFT, RIGHT, 180, 58),
        "threshold_x": LEFT + (max(mine.threshold_db, LOW_DB - 24) - (LOW_DB - 24)) / (24 - LOW_DB) * (RIGHT - LEFT),
        "mine": mine,
        "zero": zero,
        "gain": hanging_path(gain, LEFT, RIGHT, zero, 3.6),
    }


def _band_x(frequency_hz: float) -> float:
    return LEFT + (float(PLOT.x(frequency_hz)) - PLOT.left) / (PLOT.right - PLOT.left) * (RIGHT - LEFT)


def mono_db(audio: np.ndarray) -> float | None:
    """What is lost in mono, in dB, of (2, frames); None of a mono sound or silence."""
    power = float((audio**2).mean())
    if audio.shape[0] < 2 or power < 1e-14:
        return None
    return float(10 * np.log10(max(float((audio.mean(axis=0) ** 2).mean()), 1e-16) / power))


def static_curve(stage: Compressor | Lift) -> str:
    """Static curve, level in to level out, as a path in a rectangle 168 by 104."""
    level = np.linspace(LOW_DB, 0, 67)
    out = np.minimum(level + np.array([stage.curve_db(float(v)) for v in level]), 0.0)
    points = zip(level, out, strict=True)
    return "M" + "L".join(
        f"{530 + (a - LOW_DB) / -LOW_DB * 168:.1f} {BASE - (b - LOW_DB) / -LOW_DB * TALL:.1f}" for a, b in points
    )
