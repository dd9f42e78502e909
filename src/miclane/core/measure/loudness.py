"""Loudness and true peak: ITU-R BS.1770-5, EBU R 128, EBU Tech 3341 and 3342."""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import soxr

from ..engine.giving_way import breathe
from ..kernels.biquad import cascade, new_state
from ..kernels.levels import padded
from ..kernels.limiter import TAPS, interpolator, true_peaks

_OFFSET = -0.691
SILENCE_LUFS = -120.0
_FINE_S = 0.005
_PIECE = 1 << 17  # frames that are weighted in one go, so that a long take needs little memory
_MARGIN = 256  # frames around a piece of which the true peak is looked for
_LOOKED_AT, _AT_ONCE = 256, 1000  # frames of such a piece at the least, and so many of those at the most
_MAY_BE_MORE = 10 ** (-4 / 20)


@lru_cache(maxsize=8)
def k_weighting(rate: int) -> np.ndarray:
    """The two sections of BS.1770 (2, 6) at any rate, from the analogue parameters of its 48 kHz coefficients."""
    gain, q, f = 3.999843853973347, 0.7071752369554196, 1681.974450955533
    k = np.tan(np.pi * f / rate)
    high, middle = 10 ** (gain / 20), (10 ** (gain / 20)) ** 0.4996667741545416
    a0 = 1 + k / q + k * k
    shelf = [
        (high + middle * k / q + k * k) / a0,
        2 * (k * k - high) / a0,
        (high - middle * k / q + k * k) / a0,
        1.0,
        2 * (k * k - 1) / a0,
        (1 - k / q + k * k) / a0,
    ]
    q, f = 0.5003270373238773, 38.13547087602444
    k = np.tan(np.pi * f / rate)
    a0 = 1 + k / q + k * k
    return np.array([shelf, [1.0, -2.0, 1.0, 1.0, 2 * (k * k - 1) / a0, (1 - k / q + k * k) / a0]])


def weighted_power(audio: np.ndarray, rate: int, step_s: float = 0.1) -> np.ndarray:
    """Mean square of the K-weighted channels, summed over channels, of successive steps of `step_s`."""
    step, channels = round(rate * step_s), audio.shape[0]
    found = np.empty(audio.shape[1] // step)
    at_once, state = max(1, _PIECE // step), new_state(channels, k_weighting(rate))
    for k in range(0, len(found), at_once):
        breathe()
        part = np.ascontiguousarray(audio[:, k * step : (k + at_once) * step][:, : (len(found) - k) * step], np.float64)
        weighted = np.empty_like(part)
        cascade(part, k_weighting(rate), state, weighted)
        np.square(weighted, out=weighted)
        found[k : k + at_once] = weighted.reshape(channels, -1, step).mean(axis=2).sum(axis=0)
    return found


def _lufs(power: np.ndarray) -> np.ndarray:
    return _OFFSET + 10 * np.log10(np.maximum(power, 10 ** ((SILENCE_LUFS - _OFFSET) / 10)))


def _windows(steps: np.ndarray, length: int) -> np.ndarray:
    if len(steps) < length:
        return np.zeros(0)
    total = np.concatenate([[0.0], np.cumsum(steps)])
    return np.maximum(total[length:] - total[:-length], 0.0) / length


def momentary_lufs(audio: np.ndarray, rate: int) -> np.ndarray:
    """Loudness of each 400 ms window, every 100 ms."""
    return _lufs(_windows(weighted_power(audio, rate), 4))


def short_term_lufs(audio: np.ndarray, rate: int) -> np.ndarray:
    """Loudness of each 3 s window, every 100 ms."""
    return _lufs(_windows(weighted_power(audio, rate), 30))


def gated_lufs(steps: np.ndarray) -> float:
    """Integrated loudness from 100 ms powers: 400 ms blocks, gates at −70 LUFS and 10 LU under the mean."""
    blocks = _windows(steps, 4)
    blocks = blocks[_lufs(blocks) > -70.0]
    if not len(blocks):
        return SILENCE_LUFS
    blocks = blocks[_lufs(blocks) > _lufs(np.mean(blocks)) - 10.0]
    return float(_lufs(np.mean(blocks)))


def integrated_lufs(audio: np.ndarray, rate: int) -> float:
    """Integrated loudness of (channels, frames); a sound shorter than 400 ms is taken whole, ungated."""
    if audio.shape[1] < round(0.4 * rate):
        whole = weighted_power(audio, rate, audio.shape[1] / rate) if audio.shape[1] else np.zeros(0)
        return float(_lufs(whole)[0]) if len(whole) else SILENCE_LUFS
    return gated_lufs(weighted_power(audio, rate))


def loudness_range_lu(steps: np.ndarray) -> float:
    """Loudness range of EBU Tech 3342 from 100 ms powers: 10th to 95th percentile of gated short-term loudness."""
    power = _windows(steps, 30)
    power = power[_lufs(power) > -70.0]
    if not len(power):
        return 0.0
    power = power[_lufs(power) > _lufs(np.mean(power)) - 20.0]
    low, high = np.percentile(_lufs(power), [10, 95])
    return float(high - low)


def true_peak_dbtp(audio: np.ndarray, rate: int) -> float:
    """Greatest interpolated magnitude in dB: eight times oversampled, four times from 88.2 kHz on.

    Looked for only where it can be: by the limiter's short interpolation, which may tell 3 dB too little of what stands
    at half the rate.
    """
    times = 8 if rate < 80000 else 4
    if len(audio) == 2 and np.array_equal(audio[0], audio[1]):
        audio = audio[:1]
    top = float(max(audio.max(initial=0.0), -audio.min(initial=0.0)))
    about = _about(audio, top)
    near = np.flatnonzero(about >= about.max(initial=0.0) * _MAY_BE_MORE)
    if not len(near) or not top:
        return 20 * float(np.log10(max(top, 1e-10)))
    for group in np.split(near, np.flatnonzero(np.diff(near) > 2 * _MARGIN // _LOOKED_AT) + 1):
        for begin in range(group[0], group[-1] + 1, _AT_ONCE):
            breathe()
            at, to = begin * _LOOKED_AT, min(min(begin + _AT_ONCE, group[-1] + 1) * _LOOKED_AT, audio.shape[1])
            first, last = max(0, at - _MARGIN), min(to + _MARGIN, audio.shape[1])
            finer = soxr.resample(audio[:, first:last].T, rate, rate * times, quality="VHQ")
            start = (at - first) * times  # what rings where a piece begins and ends is no part of the sound
            end = start + (to - at) * times if last < audio.shape[1] else len(finer)
            top = max(top, float(np.abs(finer[start:end]).max(initial=0.0)))
    return 20 * float(np.log10(max(top, 1e-10)))


def _about(audio: np.ndarray, top: float) -> np.ndarray:
    """About the true peak of every `_LOOKED_AT` frames of (channels, frames) whose greatest sample is `top`."""
    (table, spread), n = interpolator(), audio.shape[1]
    found = []
    for at in range(0, n, _AT_ONCE * _LOOKED_AT):
        breathe()
        first, last = max(0, at - TAPS), min(n, at + _AT_ONCE * _LOOKED_AT)
        part = np.zeros((audio.shape[0], last - first + TAPS))
        part[:, : last - first] = audio[:, first:last]
        work = padded(part.shape[1])
        true_peaks(part, table, top / spread, np.inf, np.zeros((audio.shape[0], TAPS)), work)
        peaks = work[at - first + TAPS // 2 :][: last - at]
        whole = np.zeros(-(-len(peaks) // _LOOKED_AT) * _LOOKED_AT)
        whole[: len(peaks)] = peaks
        found.append(whole.reshape(-1, _LOOKED_AT).max(axis=1))
    return np.concatenate(found) if found else np.zeros(0)


@dataclass(frozen=True)
class Loudness:
    """The figures of EBU R 128 for one sound."""

    integrated_lufs: float
    range_lu: float
    momentary_max_lufs: float
    short_term_max_lufs: float
    true_peak_dbtp: float


def measure_loudness(audio: np.ndarray, rate: int) -> Loudness:
    """All figures of (channels, frames)."""
    fine = weighted_power(audio, rate, _FINE_S)  # the loudest window may begin anywhere
    momentary, short = (_lufs(_windows(fine, round(s / _FINE_S))) for s in (0.4, 3.0))
    steps = weighted_power(audio, rate)
    return Loudness(
        gated_lufs(steps) if audio.shape[1] >= round(0.4 * rate) else integrated_lufs(audio, rate),
        loudness_range_lu(steps),
        float(momentary.max(initial=SILENCE_LUFS)),
        float(short.max(initial=SILENCE_LUFS)),
        true_peak_dbtp(audio, rate),
    )
