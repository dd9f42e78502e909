"""Memoryless curves at eight times the rate, antiderivative antialiased.

Antiderivatives after Parker, Zavalishin & Le Bivic, "Reducing the Aliasing of Nonlinear Waveshaping Using
Continuous-Time Convolution", DAFx 2016; interpolation and decimation by one linear-phase filter, 40 frames late.
"""

from functools import lru_cache

import numpy as np

from . import kernel
from .simd import (
    fma,
    lane,
    larger,
    largest,
    load8,
    magnitude,
    minus,
    over,
    plus,
    put,
    root,
    shifted,
    smaller,
    splat8,
    spread8,
    times,
    where_above,
)
from .simd import last as last_of

TIMES = 8
ROWS = 41  # of the interpolator, a row a frame
DELAY = 60  # frames, of both filters
HELD = 648  # fast frames the decimator looks back on
TUBE, TAPE, HARD, ROUND = 0, 1, 2, 3
_PIECE = 256  # frames that stay in the nearest cache at eight times the rate
_NEAR = 1e-5  # over a shorter way than this the curve itself is taken
_TUBE_BIAS = 0.35
_TUBE_AT_REST = _TUBE_BIAS / (1.0 + _TUBE_BIAS**2) ** 0.5
_TUBE_SCALE = (1.0 + _TUBE_BIAS**2) ** 1.5


@lru_cache(maxsize=1)
def oversampler() -> tuple[np.ndarray, np.ndarray]:
    """Interpolator (ROWS · 8,), eight phases side by side, and decimator (HELD,), the last first.

    Kaiser-windowed sincs, 105 dB down: the interpolator from 0.58 of the original rate on, the decimator from its half.
    The decimator stands half a tap early, for the antiderivative comes half a tap late.
    """
    up = np.zeros((ROWS, TIMES))
    up.ravel()[:321] = TIMES * _low_pass(321, 160.0, 0.985)
    down = np.zeros(HELD)
    down[7:] = _low_pass(641, 319.5, 0.915)[::-1]
    return up.ravel(), down


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
def _eight_antiderivatives(kind, u):
    """`antiderivative` of eight, of any curve but the round one."""
    if kind == HARD:
        a, half = magnitude(u), splat8(0.5)
        return where_above(splat8(1.0), a, times(half, times(u, u)), minus(a, half))
    if kind == TAPE:
        return root(fma(u, u, splat8(1.0)))
    v = plus(u, splat8(_TUBE_BIAS))
    return times(splat8(_TUBE_SCALE), minus(root(fma(v, v, splat8(1.0))), times(u, splat8(_TUBE_AT_REST))))


@kernel
def _eight_shaped(kind, u):
    """`shaped` of eight, of any curve but the round one."""
    if kind == HARD:
        return smaller(larger(u, splat8(-1.0)), splat8(1.0))
    if kind == TAPE:
        return over(u, root(fma(u, u, splat8(1.0))))
    v = plus(u, splat8(_TUBE_BIAS))
    bent = over(v, root(fma(v, v, splat8(1.0))))
    return times(splat8(_TUBE_SCALE), minus(bent, splat8(_TUBE_AT_REST)))


@kernel
def _bend_fast(kind, high, start, last):
    """What stands in high from start on through a curve, in place, each over the way from the one before it.

    last: [the value before, its antiderivative], carried on.
    """
    if kind == ROUND:
        u0, f0 = last[0], last[1]
        for k in range(start, high.shape[0]):
            u = high[k]
            f = antiderivative(kind, u)
            step = u - u0
            high[k] = (f - f0) / step if abs(step) > _NEAR else shaped(kind, 0.5 * (u + u0))
            u0, f0 = u, f
        last[0], last[1] = u0, f0
        return
    u0, f0, near = splat8(last[0]), splat8(last[1]), splat8(_NEAR)
    for k in range(start, high.shape[0], TIMES):
        u = load8(high, k)
        f = _eight_antiderivatives(kind, u)
        before, step = shifted(u0, u), minus(u, shifted(u0, u))
        bent, way = over(minus(f, shifted(f0, f)), step), magnitude(step)
        if -largest(minus(splat8(0.0), way)) <= _NEAR:
            bent = where_above(way, near, bent, _eight_shaped(kind, times(splat8(0.5), plus(u, before))))
        put(high, k, bent)
        u0, f0 = u, f
    last[0], last[1] = last_of(u0), last_of(f0)


@kernel
def drive(x, kind, up, down, history, fast, last, out):
    """x (channels, n) through a curve into out, DELAY frames late.

    up (ROWS · 8,); history (channels, ROWS - 1), fast (channels, HELD) and last (channels, 2) are carried on.
    """
    channels, n = x.shape
    line, high = np.empty(n + ROWS - 1), np.empty(TIMES * _PIECE + HELD)
    for c in range(channels):
        line[: ROWS - 1] = history[c]
        line[ROWS - 1 :] = x[c]
        history[c] = line[n:]
        high[:HELD] = fast[c]
        for start in range(0, n, _PIECE):
            count = min(_PIECE, n - start)
            part = high[: HELD + TIMES * count]
            for i in range(0, count - 3, 4):
                _four_up(line, start + i, up, part, HELD + TIMES * i)
            for i in range(count // 4 * 4, count):
                total = splat8(0.0)
                for t in range(ROWS):
                    total = fma(spread8(line, start + i + ROWS - 1 - t), load8(up, TIMES * t), total)
                put(part, HELD + TIMES * i, total)
            _bend_fast(kind, part, HELD, last[c])
            for i in range(0, count - 3, 4):
                _four_down(part, TIMES * i + 1, down, out[c, start + i : start + i + 4])
            for i in range(count // 4 * 4, count):
                total = splat8(0.0)
                for t in range(0, HELD, TIMES):
                    total = fma(load8(part, TIMES * i + 1 + t), load8(down, t), total)
                out[c, start + i] = _sum_of(total)
            high[:HELD] = part[TIMES * count :].copy()
        fast[c] = high[:HELD]


@kernel
def _four_up(line, first, up, high, to):
    """Four frames from `first` on at eight times the rate, to high from `to` on."""
    a, b, c, d = splat8(0.0), splat8(0.0), splat8(0.0), splat8(0.0)
    for t in range(ROWS):
        at, row = first + ROWS - 1 - t, load8(up, TIMES * t)
        a, b = fma(spread8(line, at), row, a), fma(spread8(line, at + 1), row, b)
        c, d = fma(spread8(line, at + 2), row, c), fma(spread8(line, at + 3), row, d)
    put(high, to, a)
    put(high, to + 8, b)
    put(high, to + 16, c)
    put(high, to + 24, d)


@kernel
def _four_down(high, first, down, out):
    """Four frames back at the rate, the taps of the first of them from `first` on."""
    a, b, c, d = splat8(0.0), splat8(0.0), splat8(0.0), splat8(0.0)
    for t in range(0, HELD, TIMES):
        at, row = first + t, load8(down, t)
        a, b = fma(load8(high, at), row, a), fma(load8(high, at + 8), row, b)
        c, d = fma(load8(high, at + 16), row, c), fma(load8(high, at + 24), row, d)
    out[0], out[1], out[2], out[3] = _sum_of(a), _sum_of(b), _sum_of(c), _sum_of(d)


@kernel
def _sum_of(total):
    near = lane(total, 0) + lane(total, 1) + lane(total, 2) + lane(total, 3)
    return near + lane(total, 4) + lane(total, 5) + lane(total, 6) + lane(total, 7)
