"""Gains at work: compressors from the level to the sound, dynamic bands, faders, and the trace of what was done."""

import numpy as np

from . import kernel, kernel_within
from .following import NOTHING_DB, approach, follow, follow_eight, powers_of
from .levels import CHUNK, amplitude_of, db_of, held_peak, static_gain, top_of
from .simd import fma, last, last8, load8, minus, put, same, splat8, times

_NEAR = 1024  # frames


@kernel
def _product(x, weight, y):
    for i in range(x.shape[0]):
        y[i] = x[i] * weight[i]


@kernel_within
def _weights(gain_db, start, count, scale, mix, weight):
    """(1 - mix) + mix · scale · 10^(gain/20) of `count` gains from `start` on into weight (padded)."""
    dry, wet, nothing = splat8(1.0 - mix), splat8(mix * scale), splat8(0.0)
    at_rest = fma(wet, splat8(1.0), dry)
    for i in range(0, count, 8):
        gain = load8(gain_db, start + i)
        put(weight, i, at_rest if same(gain, nothing) else fma(wet, amplitude_of(gain), dry))


@kernel
def turn_down(x, start, count, gain_db, scale, mix, weight, y):
    """y = x · ((1 - mix) + mix · scale · 10^(gain/20)) from `start` on; weight is scratch for a chunk."""
    _weights(gain_db, start, count, scale, mix, weight)
    for c in range(x.shape[0]):
        _product(x[c, start : start + count], weight, y[c, start : start + count])


@kernel
def _level_to_gain(level, start, count, per_db, threshold_db, slope, knee_db):
    """Amplitudes (per_db 1) or powers (0.5) become targets in dB, in place."""
    by = splat8(per_db)
    for i in range(start, start + count, 8):
        put(level, i, static_gain(times(by, db_of(load8(level, i))), threshold_db, slope, knee_db))


@kernel
def _ride(part, per_db, curve, times_to, state, scale, mix, weight):
    """Levels (n, a multiple of eight) become gains, and weight (n,) what these amount to, in one go.

    What is held stays the same for long: then so does the goal.
    """
    by, dry, wet = splat8(per_db), splat8(1.0 - mix), splat8(mix * scale)
    attack, release, tables = times_to[0], times_to[1], np.empty((3, 8))
    powers_of(1.0 - attack, tables[0])
    powers_of(1.0 - release, tables[1])
    downs, ups, gain, sinks = load8(tables[0], 0), load8(tables[1], 0), state[0], False
    before, goal_before = splat8(-1.0), 0.0
    for i in range(0, part.shape[0], 8):
        level = load8(part, i)
        if same(level, before):
            sinks = goal_before < gain
            found, gain = approach(goal_before, gain, downs if sinks else ups)
        else:
            goal = static_gain(times(by, db_of(level)), curve[0], curve[1], curve[2])
            found, gain, sinks = follow_eight(goal, gain, sinks, attack, release, downs, ups, tables[2])
            before, goal_before = last8(level), last(goal)
        put(part, i, found)
        put(weight, i, fma(wet, amplitude_of(found), dry))
    state[0] = gain if abs(gain) > NOTHING_DB else 0.0


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
        elif times_to[2] > 0.0 or count % 8:
            _level_to_gain(gain_db, start, count, per_db, curve[0], curve[1], curve[2])
            follow(part, times_to[0], times_to[1], times_to[2], state)
            turn_down(x, start, count, gain_db, scale, mix, weight, y)
            continue
        else:
            _ride(part, per_db, curve, times_to, state, scale, mix, weight)
        for c in range(x.shape[0]):
            _product(x[c, start : start + count], weight, y[c, start : start + count])


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
def add_turned_down(x, gain_db, scale, mix, y):
    """As `turn_all_down`, added to what is in y."""
    weight = np.empty(CHUNK)
    for start in range(0, x.shape[1], CHUNK):
        count = min(CHUNK, x.shape[1] - start)
        _weights(gain_db, start, count, scale, mix, weight)
        for c in range(x.shape[0]):
            _add_product(x[c, start : start + count], weight, y[c, start : start + count])


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
def weigh(a, b, c, d, gains, count, fresh, y):
    """The first `count` of four sounds (n,), each times its gain (4,), into y where `fresh`, else added to it.

    In chunks, so that y stays near.
    """
    n = y.shape[0]
    for start in range(0, n, _NEAR):
        stop = min(start + _NEAR, n)
        out = y[start:stop]
        _weigh(a[start:stop], gains[0], fresh, out)
        if count > 1:
            _weigh(b[start:stop], gains[1], False, out)
        if count > 2:
            _weigh(c[start:stop], gains[2], False, out)
        if count > 3:
            _weigh(d[start:stop], gains[3], False, out)
