"""Memoryless curves at eight times the rate, antiderivative antialiased.

Antiderivatives after Parker, Zavalishin & Le Bivic, "Reducing the Aliasing of Nonlinear Waveshaping Using
Continuous-Time Convolution", DAFx 2016; interpolation and decimation by one linear-phase filter, 40 frames late.
"""

from functools import lru_cache

import numpy as np

from . import kernel
from .simd import fma, lane, load8, put, splat8

TIMES = 8
ROWS = 41  # of the interpolator, a row a frame
DELAY = 60  # frames, of both filters
HELD = 648  # fast frames the decimator looks back on
TUBE, TAPE, HARD, ROUND = 0, 1, 2, 3
_TUBE_BIAS = 0.35
_TUBE_AT_REST = _TUBE_BIAS / (1.0 + _TUBE_BIAS**2) ** 0.5
_TUBE_SCALE = (1.0 + _TUBE_BIAS**2) ** 1.5


@lru_cache(maxsize=1)
def oversampler() -> tuple[np.ndarray, np.ndarray]:
    """Interpolator (ROWS, 8), eight phases side by side, and decimator (HELD,), the last first.

    Kaiser-windowed sincs, 105 dB down: the interpolator from 0.58 of the original rate on, the decimator from its half.
    The decimator stands half a tap early, for the antiderivative comes half a tap late.
    """
    up = np.zeros((ROWS, TIMES))
    up.ravel()[:321] = TIMES * _low_pass(321, 160.0, 0.985)
    down = np.zeros(HELD)
    down[7:] = _low_pass(641, 319.5, 0.915)[::-1]
    return up, down


def _low_pass(count: int, centre: float, cutoff: float) -> np.ndarray:
    n = np.arange(count) - centre
    taps = np.sinc(n / TIMES * cutoff) * np.kaiser(count, 10.5)
    return taps / taps.sum()


@kernel
def shaped(kind, u):
    """The curve itself: unit slope at rest."""
    if kind == HARD:
        return min(max(u, -1.0), 1.0)
    if kind == TAPE:
        return u / np.sqrt(1.0 + u * u)
    if kind == ROUND:
        return np.tanh(u)
    v = u + _TUBE_BIAS
    return _TUBE_SCALE * (v / np.sqrt(1.0 + v * v) - _TUBE_AT_REST)


@kernel
def bend(x, kind, out):
    """x (channels, n) through a curve into out, a value a frame: with aliases, for what is measured and not heard."""
    for c in range(x.shape[0]):
        for i in range(x.shape[1]):
            out[c, i] = shaped(kind, x[c, i])


@kernel
def antiderivative(kind, u):
    """Of the curve; any constant will do."""
    if kind == HARD:
        a = abs(u)
        return 0.5 * u * u if a < 1.0 else a - 0.5
    if kind == TAPE:
        return np.sqrt(1.0 + u * u)
    if kind == ROUND:
        return abs(u) + np.log1p(np.exp(-2.0 * abs(u)))
    v = u + _TUBE_BIAS
    return _TUBE_SCALE * (np.sqrt(1.0 + v * v) - u * _TUBE_AT_REST)


@kernel
def drive(x, kind, up, down, history, fast, last, out):
    """x (channels, n) through a curve into out, DELAY frames late.

    history (channels, ROWS - 1), fast (channels, HELD) and last (channels, 2) are carried on.
    """
    channels, n = x.shape
    line = np.empty(n + ROWS - 1)
    high = np.empty(8 * n + HELD)
    for c in range(channels):
        line[: ROWS - 1] = history[c]
        line[ROWS - 1 :] = x[c]
        history[c] = line[n:]
        high[:HELD] = fast[c]
        u0, f0 = last[c, 0], last[c, 1]
        for i in range(n):
            total = splat8(0.0)
            for t in range(ROWS):
                total = fma(splat8(line[i + ROWS - 1 - t]), load8(up[t], 0), total)
            put(high, HELD + 8 * i, total)
            for k in range(HELD + 8 * i, HELD + 8 + 8 * i):
                u = high[k]
                f = antiderivative(kind, u)
                step = u - u0
                high[k] = (f - f0) / step if abs(step) > 1e-5 else shaped(kind, 0.5 * (u + u0))
                u0, f0 = u, f
        last[c, 0], last[c, 1] = u0, f0
        for i in range(n):
            total = splat8(0.0)
            for t in range(0, HELD, 8):
                total = fma(load8(high, 8 * i + 1 + t), load8(down, t), total)
            near = lane(total, 0) + lane(total, 1) + lane(total, 2) + lane(total, 3)
            out[c, i] = near + lane(total, 4) + lane(total, 5) + lane(total, 6) + lane(total, 7)
        fast[c] = high[8 * n :]
