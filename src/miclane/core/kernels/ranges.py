"""Gain of compressors that work within a range: down from a threshold, or up to one, by so many dB at the most."""

import numpy as np

from . import kernel, kernel_within
from .following import NOTHING_DB, follow_eight, follow_one, powers_of
from .levels import static_gain
from .responses import soft_over
from .simd import larger, load8, minus, plus, put, smaller, splat8


@kernel
def down_db(level, threshold_db, slope, knee_db, most_db):
    """Gain in dB, none or negative, of a level by the soft-knee gain computer, no lower than -most."""
    return -min(most_db, slope * soft_over(level - threshold_db, knee_db))


@kernel
def up_db(level, threshold_db, slope, knee_db, most_db, noise_db, limit_db):
    """Gain in dB, none or positive, that brings a level towards a threshold over it.

    Noise, what lies at `noise_db` or under it, is never brought over `limit_db`; what lies over it is lifted by a
    decibel more for each decibel that it stands out, until `most_db` is reached.
    """
    want = min(most_db, slope * soft_over(threshold_db - level, knee_db))
    room = max(0.0, limit_db - noise_db) + max(0.0, level - noise_db)
    return min(want, room)


@kernel_within
def _eight_goals(level, lifts, threshold, slope, knee, most, noise, limit):
    """`up_db` where it lifts, else `down_db`, of eight levels."""
    nothing = splat8(0.0)
    if lifts:
        want = smaller(splat8(most), static_gain(minus(nothing, level), -threshold, slope, knee))
        room = plus(splat8(max(0.0, limit - noise)), larger(nothing, minus(level, splat8(noise))))
        return smaller(want, room)
    return larger(splat8(-most), static_gain(level, threshold, -slope, knee))


@kernel
def range_gain(level_db, n, lifts, curve, attack, release, state, gain_db):
    """Gains (padded n) of levels (padded n) in dB at the detector; state (1,): gain in dB, carried on.

    curve: [threshold_db, slope (1 - 1/ratio), knee_db, most_db, noise_db, limit_db]; the attack is the way down, the
    release the way up, each a one-pole coefficient in decibels.
    """
    threshold, slope, knee, most, noise, limit = curve[0], curve[1], curve[2], curve[3], curve[4], curve[5]
    tables = np.empty((3, 8))
    powers_of(1.0 - attack, tables[0])
    powers_of(1.0 - release, tables[1])
    downs, ups, gain, sinks = load8(tables[0], 0), load8(tables[1], 0), state[0], False
    wide = n // 8 * 8
    for i in range(0, wide, 8):
        goal = _eight_goals(load8(level_db, i), lifts, threshold, slope, knee, most, noise, limit)
        found, gain, sinks = follow_eight(goal, gain, sinks, attack, release, downs, ups, tables[2])
        put(gain_db, i, found)
    for i in range(wide, n):
        level = level_db[i]
        goal_here = (
            up_db(level, threshold, slope, knee, most, noise, limit)
            if lifts
            else down_db(level, threshold, slope, knee, most)
        )
        gain = follow_one(goal_here, gain, attack, release)
        gain_db[i] = gain
    state[0] = gain if abs(gain) > NOTHING_DB else 0.0


@kernel
def deepest(parts_db, n, out):
    """Of several gains (k, n) the one furthest from nothing, into out (n,)."""
    for i in range(n):
        found = 0.0
        for k in range(parts_db.shape[0]):
            v = parts_db[k, i]
            found = v if abs(v) > abs(found) else found
        out[i] = found
