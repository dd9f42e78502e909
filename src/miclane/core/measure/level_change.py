"""What a path beside the voice, or a limiter, does to loud and quiet: words, peaks, loudness and its spread."""

from dataclasses import dataclass

import numpy as np

from .loudness import SILENCE_LUFS, integrated_lufs, momentary_lufs, true_peak_dbtp

_HOP_MS = 50.0
_SUNG = 10**-4.0


@dataclass(frozen=True)
class Lifted:
    """By how many dB the quiet quarter of the sung 50 ms, their loudest 2 % and the highest peak rose."""

    quiet_db: float
    loud_db: float
    peak_db: float


def lifted(before: np.ndarray, after: np.ndarray, rate: int) -> Lifted | None:
    """Of (channels, frames) before and after, the same frames of each compared; None in silence."""
    hop = round(rate * _HOP_MS / 1000)
    n = min(before.shape[1], after.shape[1]) // hop
    if not n:
        return None
    powers = [(x[:, : n * hop] ** 2).reshape(x.shape[0], n, hop).mean(axis=(0, 2)) for x in (before, after)]
    sung = powers[0] > max(powers[0].max() * _SUNG, 1e-12)
    if not sung.any():
        return None
    levels = [10 * np.log10(np.maximum(p[sung], 1e-20)) for p in powers]
    rise = levels[1] - levels[0]
    quiet, loud = np.percentile(levels[0], [25, 98])
    peaks = [20 * np.log10(max(float(np.abs(x).max()), 1e-10)) for x in (before, after)]
    return Lifted(
        float(np.median(rise[levels[0] <= quiet])), float(np.median(rise[levels[0] >= loud])), peaks[1] - peaks[0]
    )


@dataclass(frozen=True)
class LevelSummary:
    """Loudness in LUFS, spread of momentary loudness (10th to 95th percentile) in LU, and true peak in dBTP."""

    lufs: float
    spread_lu: float
    true_peak_dbtp: float


def summarise(audio: np.ndarray, rate: int) -> LevelSummary:
    """Of (channels, frames)."""
    moments = momentary_lufs(audio, rate)
    moments = moments[moments > -70]
    spread = float(np.subtract(*np.percentile(moments, [95, 10]))) if len(moments) else 0.0
    return LevelSummary(integrated_lufs(audio, rate), spread, true_peak_dbtp(audio, rate))


def normalised(audio: np.ndarray, rate: int, ceiling_dbtp: float) -> np.ndarray:
    """(channels, frames) turned, as a whole, until the highest true peak is at the ceiling; silence stays silence."""
    if integrated_lufs(audio, rate) <= SILENCE_LUFS:
        return audio
    return audio * 10 ** ((ceiling_dbtp - true_peak_dbtp(audio, rate)) / 20)
