"""Where to begin: thresholds of compressors, lifts and bands from the sound that comes into them."""

from collections.abc import Sequence
from functools import singledispatch
from typing import Any, Literal

import numpy as np

from ..engine.giving_way import breathe
from ..errors import UnknownPlaceError
from ..stages.base import Stage
from ..stages.compressor import Compressor, CompressorProcessor, Follower
from ..stages.detector import Filter, PeakLevel, cut_sections
from ..stages.lift import Lift
from ..stages.multiband import Multiband
from ..stages.tame import Tame
from .loudness import SILENCE_LUFS, integrated_lufs
from .phrases import Span

Spread = Literal["natural", "forward", "intimate"]
SPREADS: dict[Spread, tuple[float, float]] = {"natural": (3.0, 5.0), "forward": (6.0, 10.0), "intimate": (10.0, 15.0)}
QUIET_DB, ROOM_DB = 2.5, 3.0
_STEP_MS = 5.0


def sung_points(level_db: np.ndarray, rate: int, phrases: Sequence[Span]) -> np.ndarray:
    """Frames, one every 5 ms, inside the phrases and within 25 dB of the loudest of them."""
    step = round(rate * _STEP_MS / 1000)
    at = np.arange(0, len(level_db), step)
    inside = np.zeros(len(at), bool)
    for p in phrases:
        inside |= (at >= p.start) & (at < p.end)
    at = at[inside] if inside.any() else at
    return at[level_db[at] > level_db[at].max(initial=-200.0) - 25]


def _quiet_points(frames: int, rate: int, phrases: Sequence[Span]) -> np.ndarray:
    """Frames, one every 5 ms, at least 0.1 s from any phrase."""
    at = np.arange(0, frames, round(rate * _STEP_MS / 1000))
    out = np.ones(len(at), bool)
    for p in phrases:
        out &= (at < p.start - rate // 10) | (at >= p.end + rate // 10)
    return at[out]


def after(stage: Stage, audio: np.ndarray, rate: int, first: int = 0) -> np.ndarray:
    """(channels, frames) that begin at frame `first` of the song through a stage, aligned."""
    breathe()
    processor = stage.sketch(rate, audio.shape[0])
    processor.start_at(first)
    late = processor.latency
    padded = np.concatenate([audio, np.zeros((audio.shape[0], late))], axis=1) if late else audio
    return processor.process(np.ascontiguousarray(padded))[:, late:]


def makeup_db(stage: Stage, audio: np.ndarray, rate: int, lufs_in: float | None = None) -> float | None:
    """By how much the makeup must change for (channels, frames) to come out as loud as they go in; None in silence.

    `lufs_in` is how loud they go in, where that is known.
    """
    before = integrated_lufs(audio, rate) if lufs_in is None else lufs_in
    if before <= SILENCE_LUFS:
        return None
    later = integrated_lufs(after(stage, audio, rate), rate)
    return None if later <= SILENCE_LUFS else before - later


@singledispatch
def begin(stage: Stage, audio: np.ndarray, rate: int, phrases: Sequence[Span], spread: Spread) -> dict[str, Any]:
    """Where a stage begins, by place below it, from what comes into it (channels, frames); {} in silence.

    UnknownPlaceError for a kind that has no beginning of its own.
    """
    raise UnknownPlaceError(f"“{stage.label}” has no start of its own")


@begin.register
def _(stage: Compressor, audio: np.ndarray, rate: int, phrases: Sequence[Span], spread: Spread) -> dict[str, Any]:
    return compressor_start(stage, audio, rate, phrases, spread)


@begin.register
def _(stage: Lift, audio: np.ndarray, rate: int, phrases: Sequence[Span], spread: Spread) -> dict[str, Any]:
    return lift_start(stage, audio, rate, phrases)


@begin.register
def _(stage: Multiband, audio: np.ndarray, rate: int, phrases: Sequence[Span], spread: Spread) -> dict[str, Any]:
    several = multiband_start(stage, audio, rate, phrases)
    return {f"bands/{k}/{name}": value for k, each in several.items() for name, value in each.items()}


@begin.register
def _(stage: Tame, audio: np.ndarray, rate: int, phrases: Sequence[Span], spread: Spread) -> dict[str, Any]:
    from .taming import line_from  # which no other stage waits for

    line = line_from(audio, rate, stage)
    return {} if line is None else {"line": [p.model_dump() for p in line]}


def compressor_start(
    stage: Compressor, audio: np.ndarray, rate: int, phrases: Sequence[Span], spread: Spread = "natural"
) -> dict[str, Any]:
    """Threshold at which 95 % of the sung frames are turned down by no more than the top of a usual span, and makeup.

    (channels, frames) as they come into the stage; makeup is by loudness. {} in silence.
    """
    if not audio.size or float(np.abs(audio).max()) < 1e-5:
        return {}
    ears = CompressorProcessor(stage, rate, audio.shape[0])
    heard = ears.key_filter.process(audio if ears.whole else audio.mean(axis=0, keepdims=True))
    level = Follower(stage, rate, heard.shape[0]).level_db(np.ascontiguousarray(heard * ears.drive))
    at, n, most = sung_points(level[: audio.shape[1]], rate, phrases), audio.shape[1], SPREADS[spread][1]

    def worst(threshold: float) -> float:
        tried = stage.model_copy(update={"threshold_db": threshold})
        return float(np.percentile(-Follower(tried, rate, 1).gain_db(level, n)[at], 95))

    low, high = -60.0, 0.0
    while high - low > 0.1:
        middle = 0.5 * (low + high)
        low, high = (middle, high) if worst(middle) > most else (low, middle)
    found = {"threshold_db": round(high, 1), "makeup_db": 0.0}
    makeup = makeup_db(stage.model_copy(update=found), audio, rate)
    return {**found, "makeup_db": round(float(np.clip(makeup or 0.0, -24, 36)), 1)}


def lift_start(stage: Lift, audio: np.ndarray, rate: int, phrases: Sequence[Span]) -> dict[str, Any]:
    """Threshold at the median of the sung frames, noise just over the quietest quarter of what lies between phrases.

    (The louder part of that is breath.) The noise may rise by 3 dB. {} in silence.
    """
    if not audio.size or float(np.abs(audio).max()) < 1e-5:
        return {}
    heard = Filter(cut_sections(stage.key_low_cut_hz, 0, rate, 12), audio.shape[0]).process(audio)
    level = PeakLevel(12.0, rate).process_db(heard)[: audio.shape[1]]
    found = {"threshold_db": round(float(np.clip(np.median(level[sung_points(level, rate, phrases)]), -70, 0)), 1)}
    return found | _noise(level, rate, phrases, (-100.0, -20.0))


def multiband_start(stage: Multiband, audio: np.ndarray, rate: int, phrases: Sequence[Span]) -> dict[int, Any]:
    """Settings by number of each band: down from the 70th percentile of its sung level, up to the 40th."""
    if not audio.size or float(np.abs(audio).max()) < 1e-5:
        return {}
    found: dict[int, Any] = {}
    for k, band in enumerate(stage.bands):
        heard = after(_plain(stage.alone(k)), audio, rate)
        level = PeakLevel(10.0, rate).process_db(heard)[: audio.shape[1]]
        share = 70 if band.works == "down" else 40
        threshold = float(np.percentile(level[sung_points(level, rate, phrases)], share))
        found[k] = {"threshold_db": round(float(np.clip(threshold, -80, 0)), 1)}
        found[k] |= _noise(level, rate, phrases, (-110.0, -20.0))
    return found


def _plain(stage: Multiband) -> Multiband:
    bands = tuple(b.model_copy(update={"on": False}) for b in stage.bands)
    return stage.model_copy(update={"bands": bands, "lookahead_ms": 0.0})


def _noise(level: np.ndarray, rate: int, phrases: Sequence[Span], bounds: tuple[float, float]) -> dict[str, float]:
    """Where the noise lies between phrases, and 3 dB over it; {} where nothing lies between them."""
    at = _quiet_points(len(level), rate, phrases)
    if len(at) < 20:
        return {}
    noise = float(np.clip(np.percentile(level[at], 25) + QUIET_DB, bounds[0], bounds[1] - ROOM_DB))
    return {"noise_db": round(noise, 1), "limit_db": round(noise + ROOM_DB, 1)}
