"""Memoryless curves at eight times the rate, antiderivative antialiased.

Antiderivatives after Parker, Zavalishin & Le Bivic, "Reducing the Aliasing of Nonlinear Waveshaping Using
Continuous-Time Convolution", DAFx 2016. Those of tube and tape are lengths √(1 + u²), and the difference of two of
these over the way between them is the sum of what they are of over their own sum: exact however short the way.
"""

import numpy as np

from . import kernel, kernel_within
from .oversampling import BENT, HIGH, OUT, PAST, PIECE, TIMES, WIDTH, pass_on, put_by, take_up, weave
from .simd import (
    fma,
    larger,
    load8,
    magnitude,
    minus,
    over,
    plus,
    put,
    root,
    smaller,
    splat8,
    times,
    where_above,
)

TUBE, TAPE, HARD, ROUND = 0, 1, 2, 3
_NEAR = 1e-5  # over a shorter way than this the curve itself is taken
_TUBE_BIAS = 0.35
_TUBE_AT_REST = _TUBE_BIAS / (1.0 + _TUBE_BIAS**2) ** 0.5
_TUBE_SCALE = (1.0 + _TUBE_BIAS**2) ** 1.5


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


@kernel_within
def _length(u):
    """√(1 + u²) of eight."""
    return root(fma(u, u, splat8(1.0)))


@kernel_within
def _bent(kind, u0, u1, f0, f1):
    """The mean of the curve on the way from u0 to u1, f0 and f1 the lengths of both (not of the hard curve)."""
    mean = over(plus(u0, u1), plus(f0, f1))
    return times(splat8(_TUBE_SCALE), minus(mean, splat8(_TUBE_AT_REST))) if kind == TUBE else mean


@kernel_within
def _hard(u0, u1):
    """The same of the hard curve."""
    half, one = splat8(0.5), splat8(1.0)
    a0, a1, way = magnitude(u0), magnitude(u1), minus(u1, u0)
    f0 = where_above(one, a0, times(half, times(u0, u0)), minus(a0, half))
    f1 = where_above(one, a1, times(half, times(u1, u1)), minus(a1, half))
    bent, near = over(minus(f1, f0), way), splat8(_NEAR)
    middle = smaller(larger(times(half, plus(u0, u1)), splat8(-1.0)), one)
    return where_above(magnitude(way), near, bent, middle)


@kernel
def _bend_rows(bench, kind, count):
    """The rows at eight times the rate through a curve, each place over the way from the one before it."""
    bias = splat8(_TUBE_BIAS if kind == TUBE else 0.0)
    for i in range(PAST, PAST + count, 8):
        u0 = plus(load8(bench, (HIGH + TIMES - 1) * WIDTH + i - 1), bias)
        f0 = _length(u0)
        for p in range(TIMES):
            u1 = plus(load8(bench, (HIGH + p) * WIDTH + i), bias)
            if kind == HARD:
                put(bench, (BENT + p) * WIDTH + i, _hard(u0, u1))
            else:
                f1 = _length(u1)
                put(bench, (BENT + p) * WIDTH + i, _bent(kind, u0, u1, f0, f1))
                f0 = f1
            u0 = u1


@kernel
def _bend_rows_round(bench, count):
    """As `_bend_rows` for the round curve, place by place."""
    for i in range(PAST, PAST + count):
        u0 = bench[(HIGH + TIMES - 1) * WIDTH + i - 1]
        f0 = antiderivative(ROUND, u0)
        for p in range(TIMES):
            u1 = bench[(HIGH + p) * WIDTH + i]
            f1, way = antiderivative(ROUND, u1), u1 - u0
            bench[(BENT + p) * WIDTH + i] = (f1 - f0) / way if abs(way) > _NEAR else shaped(ROUND, 0.5 * (u0 + u1))
            u0, f0 = u1, f1


@kernel
def drive(x, gain, kind, starts, places, weights, keep, held, out):
    """x (channels, n), turned up by a gain, through a curve into out and down by it again, DELAY frames late.

    starts, places, weights, keep as by `oversampler`; held (channels, sum of keep) is carried on.
    """
    channels, n = x.shape
    bench, down = np.zeros((OUT + 1) * WIDTH), 1.0 / gain
    for c in range(channels):
        take_up(bench, keep, held[c])
        for start in range(0, n, PIECE):
            count = min(PIECE, n - start)
            for i in range(count):
                bench[PAST + i] = gain * x[c, start + i]
            for row in (1, 3, HIGH):
                weave(bench, starts, places, weights, row, 2 * row + 1, count)
            if kind == ROUND:
                _bend_rows_round(bench, count)
            else:
                _bend_rows(bench, kind, count)
            weave(bench, starts, places, weights, 23, 27, count)
            weave(bench, starts, places, weights, 27, OUT, count)
            weave(bench, starts, places, weights, OUT, OUT + 1, count)
            for i in range(count):
                out[c, start + i] = down * bench[OUT * WIDTH + PAST + i]
            pass_on(bench, keep, count)
        put_by(bench, keep, held[c])


@kernel
def beside(dry, scale, share, out):
    """A share of out (channels, n), scaled, and of what is dry the rest, in its place."""
    for c in range(out.shape[0]):
        a, b = dry[c], out[c]
        for i in range(b.shape[0]):
            b[i] = a[i] + share * (scale * b[i] - a[i])
