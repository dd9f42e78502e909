"""Level detection, gain computers and their ballistics.

Arrays of levels and gains are as long as the next multiple of eight (`padded`), so that whole vectors can be read and
written; what lies past frame n means nothing. Work goes in chunks that stay in the nearest cache.
"""

import numpy as np

from . import kernel, kernel_in_any_order
from .simd import (
    exponent,
    fma,
    fused,
    larger,
    largest,
    load8,
    mantissa,
    minus,
    plus,
    put,
    rounded,
    smaller,
    splat8,
    times,
    two_to,
    where_above,
)

CHUNK = 512
_DB = 8.685889638065037  # 20 / ln 10
_FLOOR = 1e-10
_NOTHING_DB = -1e-9  # let go of at the end of a block: far under what another size of block may change
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


def padded(n: int) -> np.ndarray:
    """Room for n values and what is needed to the next multiple of eight."""
    return np.empty(-(-n // 8) * 8)


@kernel
def db_of(level):
    """20 log10 of eight levels to 1e-6 dB, -200 at the least: a polynomial in the mantissa, best near 1."""
    level = larger(level, splat8(_FLOOR))
    x = minus(times(mantissa(level), splat8(_HALF_ROOT)), splat8(1.0))
    p = splat8(_LOG2[8])
    for k in range(7, -1, -1):
        p = fma(p, x, splat8(_LOG2[k]))
    octaves = fma(p, x, plus(exponent(level), splat8(0.5)))
    return times(octaves, splat8(_DB_PER_OCTAVE))


@kernel
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


@kernel
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
def _magnitudes(x, fresh, out):
    """|x| into out where `fresh`, the larger of both elsewhere; all (n,)."""
    if fresh:
        for i in range(x.shape[0]):
            out[i] = abs(x[i])
    else:
        for i in range(x.shape[0]):
            v = abs(x[i])
            out[i] = v if v > out[i] else out[i]


@kernel
def _loudest(x, start, count, out):
    """Greatest magnitude over the channels of x from `start` on."""
    for c in range(x.shape[0]):
        _magnitudes(x[c, start : start + count], c == 0, out[start : start + count])


@kernel
def _product(x, weight, y):
    for i in range(x.shape[0]):
        y[i] = x[i] * weight[i]


@kernel
def hold(ring, places, levels, out):
    """Replace magnitudes by the greatest of the last blocks.

    ring holds the maxima of the last whole blocks. places: [frames in this block, next ring slot, block length];
    levels: [maximum of this block, of the ring]; all carried on.
    """
    inside, slot, length = places[0], places[1], places[2]
    current, held = levels[0], levels[1]
    i = 0
    while i < out.shape[0]:
        stop = min(out.shape[0], i + length - inside)
        inside += stop - i
        part = out[i:stop]
        for j in range(part.shape[0]):
            v = part[j]
            current = v if v > current else current
            part[j] = current if current > held else held
        i = stop
        if inside == length:
            inside = 0
            gone = ring[slot]
            ring[slot] = current
            slot = slot + 1 if slot + 1 < ring.shape[0] else 0
            if current >= held:
                held = current
            elif gone >= held:
                held = 0.0
                for k in range(ring.shape[0]):
                    held = ring[k] if ring[k] > held else held
            current = 0.0
    places[0], places[1] = inside, slot
    levels[0], levels[1] = current, held


@kernel
def held_peak(x, ring, places, levels, out):
    """Greatest |x| over channels in the last blocks, as amplitude, into out (n,)."""
    for start in range(0, x.shape[1], CHUNK):
        count = min(CHUNK, x.shape[1] - start)
        _loudest(x, start, count, out)
        hold(ring, places, levels, out[start : start + count])


@kernel
def held_peak_db(x, ring, places, levels, out):
    """As `held_peak`, in dB (padded n)."""
    for start in range(0, x.shape[1], CHUNK):
        count = min(CHUNK, x.shape[1] - start)
        _loudest(x, start, count, out)
        hold(ring, places, levels, out[start : start + count])
        for i in range(start, start + count, 8):
            put(out, i, db_of(load8(out, i)))


@kernel
def mean_square(x, coefficient, state, y):
    """Exponentially weighted mean square of x (channels, n), of the loudest channel, into y."""
    keep = 1.0 - coefficient
    for c in range(x.shape[0]):
        held = state[c]
        for i in range(x.shape[1]):
            fed = coefficient * (x[c, i] * x[c, i])
            held = fused(keep, held, fed)
            y[i] = held if c == 0 else max(y[i], held)
        state[c] = held if held > 1e-30 else 0.0


@kernel
def follow(target, attack, release, hold, state):
    """Targets in dB become the smoothed gain: a branching one-pole, so that 63 % of a step takes the set time.

    Of the two steps the branch could take, the right one is the lower where the attack is the faster, otherwise the
    higher: taking it so needs no branch. state: [gain in dB, frames held].
    """
    gain, held = state[0], state[1]
    stay, linger = 1.0 - attack, 1.0 - release
    if hold > 0.0:
        for i in range(target.shape[0]):
            goal = target[i]
            if goal < gain:
                gain += attack * (goal - gain)
                held = 0.0
            elif held < hold:
                held += 1.0
            else:
                gain += release * (goal - gain)
            target[i] = gain
    elif attack >= release:
        for i in range(target.shape[0]):
            down, up = attack * target[i], release * target[i]
            falling, rising = fused(stay, gain, down), fused(linger, gain, up)
            gain = falling if falling < rising else rising
            target[i] = gain
    else:
        for i in range(target.shape[0]):
            down, up = attack * target[i], release * target[i]
            falling, rising = fused(stay, gain, down), fused(linger, gain, up)
            gain = falling if falling > rising else rising
            target[i] = gain
    state[0], state[1] = gain if gain < _NOTHING_DB else 0.0, held


@kernel
def turn_down(x, start, count, gain_db, scale, mix, weight, y):
    """y = x · ((1 - mix) + mix · scale · 10^(gain/20)) from `start` on; weight is scratch for a chunk."""
    dry, wet = splat8(1.0 - mix), splat8(mix * scale)
    for i in range(0, count, 8):
        put(weight, i, fma(wet, amplitude_of(load8(gain_db, start + i)), dry))
    for c in range(x.shape[0]):
        _product(x[c, start : start + count], weight, y[c, start : start + count])


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


@kernel
def _level_to_gain(level, start, count, per_db, threshold_db, slope, knee_db):
    """Amplitudes (per_db 1) or powers (0.5) become targets in dB, in place."""
    by = splat8(per_db)
    for i in range(start, start + count, 8):
        put(level, i, static_gain(times(by, db_of(load8(level, i))), threshold_db, slope, knee_db))


@kernel
def _compress(x, per_db, curve, times_to, state, scale, mix, gain_db, y):
    """Levels in gain_db become gains and are applied to x. While nothing is over the knee there is little to do."""
    weight = np.empty(CHUNK)
    bottom = 10.0 ** ((curve[0] - 0.5 * curve[2]) / (20.0 * per_db))
    for start in range(0, x.shape[1], CHUNK):
        count = min(CHUNK, x.shape[1] - start)
        part = gain_db[start : start + count]
        if state[0] == 0.0 and top_of(part) <= bottom:
            part[:] = 0.0
            weight[:count] = 1.0 - mix + mix * scale
            for c in range(x.shape[0]):
                _product(x[c, start : start + count], weight, y[c, start : start + count])
            continue
        _level_to_gain(gain_db, start, count, per_db, curve[0], curve[1], curve[2])
        follow(part, times_to[0], times_to[1], times_to[2], state)
        turn_down(x, start, count, gain_db, scale, mix, weight, y)


@kernel
def compress_by_peak(key, x, ring, places, levels, curve, times_to, state, scale, mix, gain_db, y):
    """Peak detector on key (channels, n), gain computer, ballistics, gain on x, into y; gain_db (padded n) is written.

    curve: [threshold_db, slope, knee_db]; times_to: [attack, release as one-pole coefficients, hold in frames];
    the rest as in `hold` and `follow`.
    """
    held_peak(key, ring, places, levels, gain_db)
    _compress(x, 1.0, curve, times_to, state, scale, mix, gain_db, y)


@kernel
def compress_by_power(power, x, curve, times_to, state, scale, mix, gain_db, y):
    """As `compress_by_peak` from a mean square (padded n) that has been followed already."""
    gain_db[:] = power
    _compress(x, 0.5, curve, times_to, state, scale, mix, gain_db, y)


@kernel
def turn_all_down(x, gain_db, scale, mix, y):
    """`turn_down` over all frames of x."""
    weight = np.empty(CHUNK)
    for start in range(0, x.shape[1], CHUNK):
        turn_down(x, start, min(CHUNK, x.shape[1] - start), gain_db, scale, mix, weight, y)


@kernel
def _add_product(x, weight, y):
    for i in range(x.shape[0]):
        y[i] += x[i] * weight[i]


@kernel
def add_swelling(y, share, gain_db):
    """y += (10^(gain/20) - 1) · share, in place; y and share (channels, n), gain_db padded."""
    weight = np.empty(CHUNK)
    for start in range(0, y.shape[1], CHUNK):
        count = min(CHUNK, y.shape[1] - start)
        for i in range(0, count, 8):
            put(weight, i, minus(amplitude_of(load8(gain_db, start + i)), splat8(1.0)))
        for c in range(y.shape[0]):
            _add_product(share[c, start : start + count], weight, y[c, start : start + count])


@kernel
def band_gain(level_db, n, threshold_db, change_db, span_db, attack, release, state, gain_db):
    """Gain in dB of a dynamic band: from nothing at the threshold to `change_db` at `span_db` past it.

    state: [gain in dB], carried on; the attack is the way towards the change, the release the way back.
    """
    gain = state[0]
    for i in range(n):
        share = (level_db[i] - threshold_db) / span_db
        goal = change_db * min(1.0, max(0.0, share))
        gain += (attack if abs(goal) > abs(gain) else release) * (goal - gain)
        if abs(gain) < 1e-6:
            gain = 0.0
        gain_db[i] = gain
    state[0] = gain


@kernel
def _weigh(x, gain, fresh, y):
    if fresh:
        for i in range(y.shape[0]):
            y[i] = gain * x[i]
    else:
        for i in range(y.shape[0]):
            y[i] += gain * x[i]


@kernel
def weigh(x, left, right, fresh, y):
    """y = gain · x where `fresh`, else y += gain · x; both (channels, n), mono x serving both sides of y."""
    last = x.shape[0] - 1
    _weigh(x[0], left, fresh, y[0])
    if y.shape[0] > 1:
        _weigh(x[last], right, fresh, y[1])


@kernel_in_any_order
def power(x):
    """Sum of the squares of x (n,): NaN or infinite where a sample is. NumPy's own holds the interpreter's lock."""
    total = 0.0
    for i in range(x.shape[0]):
        total += x[i] * x[i]
    return total


@kernel
def trace(x, y, gain_db, hop, carry, gain_out, in_out, out_out, peak_out):
    """Reduce a block to one point a hop: least gain, mean square in and out, peak out.

    carry: [frames so far, least gain, sum in, sum out, peak], carried on. Returns the number of points written.
    """
    channels, n = y.shape
    count, least, sum_in, sum_out, peak = carry[0], carry[1], carry[2], carry[3], carry[4]
    points = 0
    for i in range(n):
        if gain_db.shape[0] > 0 and gain_db[i] < least:
            least = gain_db[i]
        for c in range(x.shape[0]):
            sum_in += x[c, i] * x[c, i]
        for c in range(channels):
            v = y[c, i]
            sum_out += v * v
            peak = max(peak, abs(v))
        count += 1.0
        if count >= hop:
            gain_out[points] = least if least < 1e8 else 0.0
            in_out[points] = sum_in / (hop * x.shape[0])
            out_out[points] = sum_out / (hop * channels)
            peak_out[points] = peak
            points += 1
            count, least, sum_in, sum_out, peak = 0.0, 1e9, 0.0, 0.0, 0.0
    carry[0], carry[1], carry[2], carry[3], carry[4] = count, least, sum_in, sum_out, peak
    return points
