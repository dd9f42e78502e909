"""Fundamental frequency by the cumulative mean normalised difference (YIN; de Cheveigné & Kawahara, JASA 2002)."""

import numpy as np

from .levels import middle_of

LOW_HZ, HIGH_HZ, HOP_S = 65.0, 1000.0, 0.01
_ENOUGH, _OCTAVE_ABOVE = 0.1, 0.02  # a dip this deep is a period, unless twice the lag is far deeper


def track_pitch(audio: np.ndarray, rate: int) -> tuple[np.ndarray, np.ndarray]:
    """(f0 in Hz, confidence 0 to 1) every 10 ms of (channels, frames); f0 is 0 where there is no voice.

    The k-th is of what begins at k · 10 ms to the nearest frame, at any rate and after any time.
    """
    mono = middle_of(audio)
    step = max(1, rate // 16000)
    x = mono[: len(mono) // step * step].reshape(-1, step).mean(axis=1)
    fs = rate / step
    longest, window = int(fs / LOW_HZ) + 2, int(0.03 * fs)
    size = window + longest
    if len(x) < size:
        return np.zeros(0), np.zeros(0)
    frames = np.lib.stride_tricks.sliding_window_view(x, size)
    starts = np.rint(np.arange(int((len(frames) - 1) / (fs * HOP_S)) + 1) * (fs * HOP_S)).astype(np.int64)
    found, trust = np.zeros(len(starts)), np.zeros(len(starts))
    power = np.concatenate([(frames[starts[k : k + 512]] ** 2).mean(axis=1) for k in range(0, len(starts), 512)])
    level = 10 * np.log10(np.maximum(power, 1e-20))
    loud = level > max(level.max() - 45, -80)
    for first in range(0, len(starts), 512):
        pick = np.flatnonzero(loud[first : first + 512]) + first
        if len(pick):
            found[pick], trust[pick] = _yin(frames[starts[pick]], window, longest, fs)
    return np.where(trust > 0.8, found, 0.0), trust


def _yin(frames: np.ndarray, window: int, longest: int, fs: float) -> tuple[np.ndarray, np.ndarray]:
    n = 1 << (frames.shape[1] + window).bit_length()
    spectrum = np.fft.rfft(frames, n, axis=1)
    head = np.fft.rfft(frames[:, :window], n, axis=1)
    cross = np.fft.irfft(spectrum * head.conj(), n, axis=1)[:, :longest]
    square = np.cumsum(np.pad(frames**2, ((0, 0), (1, 0))), axis=1)
    energy = square[:, window : window + longest] - square[:, :longest]
    difference = np.maximum(energy[:, :1] + energy - 2 * cross, 0)
    lags = np.arange(1, longest)
    normal = np.ones_like(difference)
    normal[:, 1:] = difference[:, 1:] * lags / np.maximum(np.cumsum(difference[:, 1:], axis=1), 1e-20)
    first = int(fs / HIGH_HZ)
    f0, trust = np.zeros(len(frames)), np.zeros(len(frames))
    for row, d in enumerate(normal):
        below = np.flatnonzero(d[first:-1] < _ENOUGH)
        lag = first + (int(below[0]) if len(below) else int(np.argmin(d[first:-1])))
        lag = _down(d, lag)
        if 2 * lag + 2 < longest and d[lag] > _OCTAVE_ABOVE:
            double = _down(d, max(2 * lag - 2, 1))
            lag = double if d[double] < 0.5 * d[lag] else lag
        a, b, c = d[lag - 1], d[lag], d[lag + 1]
        bend = a - 2 * b + c
        f0[row] = fs / (lag + (0.5 * (a - c) / bend if bend > 0 else 0.0))
        trust[row] = 1 - min(1.0, b)
    return f0, trust


def _down(d: np.ndarray, lag: int) -> int:
    """The bottom of the dip that lag stands on."""
    while lag + 1 < len(d) - 1 and d[lag + 1] < d[lag]:
        lag += 1
    return lag


def pitch_range_hz(f0: np.ndarray) -> tuple[float, float] | None:
    """Lowest and highest steadily sung fundamental (2nd and 98th percentile), None without voice."""
    voiced = f0[f0 > 0]
    return None if len(voiced) < 10 else (float(np.percentile(voiced, 2)), float(np.percentile(voiced, 98)))
