"""Fundamental frequency by the cumulative mean normalised difference (YIN; de Cheveigné & Kawahara, JASA 2002)."""

import numpy as np

from ..kernels.likeness import dip_of_the_period, dips_of, normal_differences
from .levels import middle_of, runs

LOW_HZ, HIGH_HZ, HOP_S = 65.0, 1200.0, 0.01
_AT_ONCE = 128  # moments
_ENOUGH, _OCTAVE_ABOVE = 0.1, 0.02  # a dip this deep is a period, unless twice the lag is far deeper
_SHORT, _FINER, _REACH = 48, 8, 12  # lags up to which a dip is looked for between them; places a lag; lags of a sinc
_VOICED, _LIKELY = 0.8, 0.6  # confidence: a voice; a voice if there is one beside it
_STEADY, _SURELY, _GLIDE = 4, 3, 2 ** (2 / 12)  # frames that go on; of those surely voiced; from one to the next


def track_pitch(audio: np.ndarray, rate: int) -> tuple[np.ndarray, np.ndarray]:
    """(f0 in Hz, confidence 0 to 1) every 10 ms of (channels, frames); f0 is 0 where there is no voice.

    The k-th is of what begins at k · 10 ms to the nearest frame, at any rate and after any time.
    """
    mono = middle_of(audio)
    step = max(1, rate // 16000)
    x = mono[: len(mono) // step * step].reshape(-1, step).mean(axis=1, dtype=np.float64)
    fs = rate / step
    longest, window = int(fs / LOW_HZ) + 2, int(0.03 * fs)
    size = window + longest
    if len(x) < size:
        return np.zeros(0), np.zeros(0)
    frames = np.lib.stride_tricks.sliding_window_view(x, size)
    starts = np.rint(np.arange(int((len(frames) - 1) / (fs * HOP_S)) + 1) * (fs * HOP_S)).astype(np.int64)
    found, trust = np.zeros(len(starts)), np.zeros(len(starts))
    groups = [starts[k : k + _AT_ONCE] for k in range(0, len(starts), _AT_ONCE)]
    power = np.concatenate([(frames[group] ** 2).mean(axis=1) for group in groups])
    level = 10 * np.log10(np.maximum(power, 1e-20))
    loud = level > max(level.max() - 45, -80)
    for first in range(0, len(starts), _AT_ONCE):
        pick = np.flatnonzero(loud[first : first + _AT_ONCE]) + first
        if len(pick):
            found[pick], trust[pick] = _yin(x, starts[pick], window, longest, fs)
    return _steady(found, trust), trust


def _steady(f0: np.ndarray, trust: np.ndarray) -> np.ndarray:
    """f0 where it goes on for 40 ms and more, surely heard in three frames of that: noise has a period now and then."""
    f0 = np.where(trust > _LIKELY, f0, 0.0)
    ratio = np.maximum(f0[1:], 1e-9) / np.maximum(f0[:-1], 1e-9)
    joined = (f0[1:] > 0) & (f0[:-1] > 0) & (np.abs(np.log(ratio)) < np.log(_GLIDE))
    kept = np.zeros(len(f0), bool)
    for a, b in runs(joined):
        kept[a : b + 1] = b + 1 - a >= _STEADY and np.count_nonzero(trust[a : b + 1] > _VOICED) >= _SURELY
    return np.where(kept, f0, 0.0)


def _yin(x: np.ndarray, starts: np.ndarray, window: int, longest: int, fs: float) -> tuple[np.ndarray, np.ndarray]:
    normal = np.empty((len(starts), longest))
    normal_differences(x, starts, window, normal)
    dips = np.empty((len(starts), longest - 2), np.bool_)
    off, depth = np.empty((2, *dips.shape))
    dips_of(normal, int(fs / HIGH_HZ), dips, off, depth)
    _look_between(normal, dips, off, depth)
    lags = np.empty(len(starts), np.int64)
    dip_of_the_period(depth, _ENOUGH, _OCTAVE_ABOVE, lags)
    rows = np.arange(len(starts))
    dip = depth[rows, lags]
    return np.where(dip < 1, fs / (lags + 1 + off[rows, lags]), 0.0), np.where(dip < 1, 1 - dip, 0.0)


def _look_between(normal: np.ndarray, dips: np.ndarray, off: np.ndarray, depth: np.ndarray) -> None:
    """Put right where the dips of short periods are, and how deep: to a bent line through three lags they seem shallow.

    The difference is as band-limited in the lag as the sound is in time, so a sinc tells what is between.
    """
    count = min(_SHORT, dips.shape[1] - _REACH - 1)
    rows, lags = np.nonzero(dips[:, :count])
    if not len(rows):
        return
    places = np.arange(-_FINER, _FINER + 1) / _FINER
    at = np.arange(-_REACH, _REACH + 1)
    away = places[:, None] - at[None]
    sinc = np.sinc(away) * np.cos(np.pi * np.clip(away / (_REACH + 1.5), -1, 1) / 2) ** 2
    padded = np.pad(normal[:, : count + 2 * _REACH + 2], ((0, 0), (_REACH, 0)), "reflect")
    around = padded[rows[:, None], lags[:, None] + 1 + np.arange(2 * _REACH + 1)]
    between = around @ sinc.T
    best = np.clip(np.argmin(between, axis=1), 1, 2 * _FINER - 1)
    a, b, c = (between[np.arange(len(rows)), best + k] for k in (-1, 0, 1))
    bend = np.maximum(a - 2 * b + c, 1e-9)
    beside = np.clip(0.5 * (a - c) / bend, -1, 1)
    off[rows, lags] = places[best] + beside / _FINER
    depth[rows, lags] = np.maximum(b - 0.25 * (a - c) * beside, 0.0)


def pitch_range_hz(f0: np.ndarray) -> tuple[float, float] | None:
    """Lowest and highest steadily sung fundamental (2nd and 98th percentile), None without voice."""
    voiced = f0[f0 > 0]
    return None if len(voiced) < 10 else (float(np.percentile(voiced, 2)), float(np.percentile(voiced, 98)))
