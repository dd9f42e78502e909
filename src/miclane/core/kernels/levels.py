"""Levels: magnitudes held, mean squares, decibels and back, and the gain computer.

Arrays of levels and gains are as long as the next multiple of eight (`padded`), so that whole vectors can be read and
written; what lies past frame n means nothing. Work goes in chunks that stay in the nearest cache.
"""

import numpy as np

from . import kernel, kernel_in_any_order, kernel_within
from .following import one_pole, powers_of
from .simd import (
    exponent,
    fma,
    fused,
    larger,
    largest,
    last,
    last8,
    later,
    load8,
    magnitude,
    mantissa,
    minus,
    plus,
    put,
    rounded,
    same,
    shifted,
    smaller,
    splat8,
    times,
    two_to,
    where_above,
    within,
)

CHUNK = 512
_DB = 8.685889638065037  # 20 / ln 10
_FLOOR = 1e-10
_LN2 = 0.6931471805599453
_PER_DB = 0.16609640474436813  # log2(10) / 20
_DB_PER_OCTAVE = 6.020599913279624  # 20 log10 2
_HALF_ROOT = 0.7071067811865476


def _log2_over_x() -> tuple[float, ...]:
    """Coefficients of log2(1 + x) / x for 1 + x from the half root of 2 to the root, by Chebyshev interpolation."""
    nodes = np.polynomial.chebyshev.Chebyshev.interpolate(
        lambda x: np.log1p(x) / np.log(2.0) / x, 8, [_HALF_ROOT - 1.0, 2.0 * _HALF_ROOT - 1.0]
    )
    return tuple(float(c) for c in nodes.convert(kind=np.polynomial.Polynomial).coef)


_LOG2 = _log2_over_x()


def aligned(*shape: int) -> np.ndarray:
    """Zeros of a shape that begin where a line of the cache does: eight of them are never in two."""
    room = np.zeros(int(np.prod(shape)) + 8)
    begin = -room.ctypes.data % 64 // 8
    return room[begin : begin + len(room) - 8].reshape(shape)


def padded(n: int) -> np.ndarray:
    """Room for n values and what is needed to the next multiple of eight."""
    return np.empty(-(-n // 8) * 8)


@kernel_within
def db_of(level):
    """20 log10 of eight levels to 1e-6 dB, -200 at the least: a polynomial in the mantissa, best near 1."""
    level = larger(level, splat8(_FLOOR))
    x = minus(times(mantissa(level), splat8(_HALF_ROOT)), splat8(1.0))
    p = splat8(_LOG2[8])
    for k in range(7, -1, -1):
        p = fma(p, x, splat8(_LOG2[k]))
    octaves = fma(p, x, plus(exponent(level), splat8(0.5)))
    return times(octaves, splat8(_DB_PER_OCTAVE))


@kernel_within
def amplitude_of(gain_db):
    """10^(gain/20) of eight gains to 1e-8, exactly 1 at 0 dB; gains are held to ±380 dB."""
    e = smaller(larger(times(gain_db, splat8(_PER_DB)), splat8(-63.0)), splat8(63.0))
    whole = rounded(e)
    t = times(minus(e, whole), splat8(_LN2))
    p = fma(t, splat8(1.0 / 5040.0), splat8(1.0 / 720.0))
    p = fma(t, p, splat8(1.0 / 120.0))
    p = fma(t, p, splat8(1.0 / 24.0))
    p = fma(t, p, splat8(1.0 / 6.0))
    p = fma(t, p, splat8(0.5))
    p = fma(t, p, splat8(1.0))
    p = fma(t, p, splat8(1.0))
    return times(two_to(whole), p)


@kernel
def decibels(level, scale, out):
    """out = scale · 20 log10(level); both padded, may be the same."""
    by = splat8(scale)
    for i in range(0, out.shape[0], 8):
        put(out, i, times(by, db_of(load8(level, i))))


@kernel_within
def static_gain(level_db, threshold_db, slope, knee_db):
    """Gains in dB of eight levels by the soft-knee gain computer (Giannoulis, Massberg & Reiss 2012)."""
    half = 0.5 * knee_db
    bend = slope / (2.0 * knee_db) if knee_db > 1e-6 else 0.0
    past = minus(level_db, splat8(threshold_db))
    inside = larger(plus(past, splat8(half)), splat8(0.0))
    bent = times(splat8(bend), times(inside, inside))
    return where_above(splat8(half), past, bent, times(splat8(slope), past))


@kernel
def static_curve(level_db, threshold_db, slope, knee_db, out):
    """Gain computer over padded levels in dB; slope = 1/ratio - 1."""
    for i in range(0, out.shape[0], 8):
        put(out, i, static_gain(load8(level_db, i), threshold_db, slope, knee_db))


@kernel
def _larger_magnitudes(x, out):
    for i in range(x.shape[0]):
        v, w = abs(x[i]), abs(out[i])
        out[i] = v if v > w else w


@kernel_within
def _running_most(x, start, stop, current, held, out):
    """Into out the greatest magnitude of x so far, and of what is held; returns the greatest of them and `current`."""
    floor, most, i = splat8(held), splat8(current), start
    while i + 8 <= stop:
        m = magnitude(load8(x, i))
        m = larger(m, later(m, 1))
        m = larger(m, later(m, 2))
        m = larger(m, later(m, 4))
        put(out, i, larger(larger(m, most), floor))
        most = larger(most, last8(m))
        i += 8
    current = last(most)
    while i < stop:
        current = abs(x[i]) if abs(x[i]) > current else current
        out[i] = current if current > held else held
        i += 1
    return current


@kernel_within
def _most_of(newer, older):
    """The greatest of the last twelve blocks; of the `older` ones four lanes count."""
    return largest(larger(newer, within(0, 3, older, splat8(0.0))))


@kernel
def hold(x, ring, places, levels, out):
    """The greatest magnitude of x (n,) and of the last blocks into out (n,), which may be x.

    ring (16,) holds the maxima of the last twelve whole blocks, the newest first. places: [frames in this block, block
    length]; levels: [maximum of this block]; all carried on.
    """
    inside, length = places[0], places[1]
    newer, older, current = load8(ring, 0), load8(ring, 8), levels[0]
    held = _most_of(newer, older)
    i = 0
    while i < out.shape[0]:
        stop = min(out.shape[0], i + length - inside)
        inside += stop - i
        current = _running_most(x, i, stop, current, held, out)
        i = stop
        if inside == length:
            newer, older = shifted(splat8(current), newer), shifted(newer, older)
            held, inside, current = _most_of(newer, older), 0, 0.0
    places[0], levels[0] = inside, current
    put(ring, 0, newer)
    put(ring, 8, within(0, 3, older, splat8(0.0)))


@kernel
def held_peak(x, ring, places, levels, out):
    """Greatest |x| over channels in the last blocks, as amplitude, into out (n,)."""
    for start in range(0, x.shape[1], CHUNK):
        stop = min(start + CHUNK, x.shape[1])
        part = out[start:stop]
        if x.shape[0] == 1:
            hold(x[0, start:stop], ring, places, levels, part)
            continue
        part[:] = x[0, start:stop]
        for c in range(1, x.shape[0]):
            _larger_magnitudes(x[c, start:stop], part)
        hold(part, ring, places, levels, part)


@kernel
def held_peak_db(x, ring, places, levels, out):
    """As `held_peak`, in dB (padded n); what is held stays the same for long, and so do its decibels."""
    held_peak(x, ring, places, levels, out)
    before = before_db = splat8(-1.0)
    for i in range(0, out.shape[0], 8):
        level = load8(out, i)
        if same(level, before):
            put(out, i, before_db)
        else:
            found = db_of(level)
            put(out, i, found)
            before, before_db = last8(level), last8(found)


@kernel
def mean_square(x, coefficient, state, y):
    """Exponentially weighted mean square of x (channels, n), of the loudest channel, into y (padded n)."""
    stay, powers = 1.0 - coefficient, np.empty(8)
    powers_of(stay, powers)
    rising, fed = load8(powers, 0), splat8(coefficient)
    n = x.shape[1]
    wide = n // 8 * 8
    for c in range(x.shape[0]):
        held, one = state[c], x[c]
        for i in range(0, wide, 8):
            v = load8(one, i)
            found = one_pole(times(fed, times(v, v)), held, stay, rising)
            held = last(found)
            put(y, i, larger(found, load8(y, i)) if c else found)
        for i in range(wide, n):
            held = fused(stay, held, coefficient * (one[i] * one[i]))
            y[i] = max(y[i], held) if c else held
        state[c] = held if held > 1e-30 else 0.0


@kernel
def top_of(x):
    """Largest of x (n,)."""
    top, wide = splat8(-1e300), x.shape[0] // 8 * 8
    for i in range(0, wide, 8):
        top = larger(load8(x, i), top)
    found = largest(top)
    for i in range(wide, x.shape[0]):
        found = x[i] if x[i] > found else found
    return found


@kernel_in_any_order
def power(x):
    """Sum of the squares of x (n,): NaN or infinite where a sample is. NumPy's own holds the interpreter's lock."""
    total = 0.0
    for i in range(x.shape[0]):
        total += x[i] * x[i]
    return total


@kernel
def loudest(audio):
    """Greatest magnitude in audio (channels, n); infinite or NaN where a sample is."""
    most, odd = 0.0, 0.0
    for c in range(audio.shape[0]):
        row = audio[c]
        for i in range(row.shape[0]):
            v = abs(row[i])
            most = v if v > most else most
            odd += v * 0.0
    return most + odd
