"""Gain of compressors that work within a range: down from a threshold, or up to one, by so many dB at the most."""

from . import kernel
from .responses import soft_over


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


@kernel
def range_gain(level_db, n, lifts, curve, attack, release, state, gain_db):
    """Gains (padded n) of levels (padded n) in dB at the detector; state (1,): gain in dB, carried on.

    curve: [threshold_db, slope (1 - 1/ratio), knee_db, most_db, noise_db, limit_db]; the attack is the way down, the
    release the way up, each a one-pole coefficient in decibels.
    """
    gain = state[0]
    threshold, slope, knee, most, noise, limit = curve[0], curve[1], curve[2], curve[3], curve[4], curve[5]
    for i in range(n):
        if lifts:
            goal = up_db(level_db[i], threshold, slope, knee, most, noise, limit)
        else:
            goal = down_db(level_db[i], threshold, slope, knee, most)
        gain += (attack if goal < gain else release) * (goal - gain)
        if abs(gain) < 1e-7:
            gain = 0.0
        gain_db[i] = gain
    state[0] = gain


@kernel
def deepest(parts_db, n, out):
    """Of several gains (k, n) the one furthest from nothing, into out (n,)."""
    for i in range(n):
        found = 0.0
        for k in range(parts_db.shape[0]):
            v = parts_db[k, i]
            found = v if abs(v) > abs(found) else found
        out[i] = found
