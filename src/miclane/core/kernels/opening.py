"""Gains that open and close: ducker and gate, and where the words begin that a ducker waits for."""

import numpy as np

from . import kernel, kernel_within
from .biquad import exchange
from .following import NOTHING_DB, approach, follow_eight, follow_one, one_pole, powers_of
from .levels import db_of, top_of
from .simd import all_above, any_above, fused, larger, largest, last, load8, minus, put, smaller, splat8, times

_FLOOR_DB = -100.0  # no mean square is read as less
_STEP = 64  # frames that are looked at together


@kernel
def duck_gain(level_db, n, threshold_db, depth_db, attack, release, hold, state, gain_db):
    """Gain in dB that goes to -depth while the key is over a threshold; 3 dB of hysteresis, hold, exponential in dB.

    state: [gain in dB, open (1) or not, frames since the key was last over].
    """
    gain, down, since = state[0], state[1], state[2]
    leave, i = threshold_db - 3.0, 0
    while i < n:
        stop = i
        if down > 0.0:
            while stop < n:
                loud = _first_under(level_db, stop, n, leave)
                since, stop = 0.0 if loud > stop else since, loud
                while stop < n and level_db[stop] <= leave and since <= hold:
                    since += 1.0
                    stop += 1 if since <= hold else 0
                if since > hold:
                    down = 0.0
                    break
            gain = _approach(gain, -depth_db, attack, gain_db[i:stop])
        else:
            stop = _first_over(level_db, stop, n, threshold_db)
            gain = _approach(gain, 0.0, release, gain_db[i:stop])
            gain = gain if gain < -1e-9 else 0.0
            if stop < n:
                down, since = 1.0, 0.0
        i = stop
    state[0], state[1], state[2] = gain, down, since


@kernel
def _first_under(x, start, stop, bound):
    """Place of the first of x (n,) that is not over the bound, `stop` where none is."""
    while start + _STEP <= stop and _bottom_of(x[start : start + _STEP]) > bound:
        start += _STEP
    while start < stop and x[start] > bound:
        start += 1
    return start


@kernel
def _first_over(x, start, stop, bound):
    """Place of the first of x (n,) that is over the bound, `stop` where none is."""
    while start + _STEP <= stop and top_of(x[start : start + _STEP]) <= bound:
        start += _STEP
    while start < stop and x[start] <= bound:
        start += 1
    return start


@kernel
def _approach(gain, goal, coefficient, out):
    """One pole from a gain towards a goal, into out; the gain it ends with."""
    stay, fed, powers = 1.0 - coefficient, coefficient * goal, np.empty(8)
    powers_of(stay, powers)
    wide, rising, all_fed = out.shape[0] // 8 * 8, load8(powers, 0), splat8(fed)
    for k in range(0, wide, 8):
        found = one_pole(all_fed, gain, stay, rising)
        put(out, k, found)
        gain = last(found)
    for k in range(wide, out.shape[0]):
        gain = fused(stay, gain, fed)
        out[k] = gain
    return gain


@kernel
def _bottom_of(x):
    """Least of x (n,)."""
    bottom, wide = splat8(1e300), x.shape[0] // 8 * 8
    for i in range(0, wide, 8):
        bottom = smaller(load8(x, i), bottom)
    found = -largest(minus(splat8(0.0), bottom))
    for i in range(wide, x.shape[0]):
        found = x[i] if x[i] < found else found
    return found


@kernel
def word_starts(level_db, n, threshold_db, faint_db, rise_db, before, ring, floors, state):
    """Delay levels (n,) in place by as many frames as ring has; a word that passes the threshold stands there whole.

    What leads up to it, from where the level rose past the faint one (`faint_db`, or `rise_db` over its own floor) and
    `before` frames more, is put just over the threshold, as far back as the ring goes. The floor is the least of the
    last floors (k,), each of a block of frames. state: [place in the ring, frames since the faint rise, frames left in
    the block, its least level, place in the floors, frames of a block, the floor].
    """
    size = ring.shape[0]
    at, since, left, least, place, floor = (
        int(state[0]),
        int(state[1]),
        int(state[2]),
        state[3],
        int(state[4]),
        state[6],
    )
    i = 0
    while i < n:
        count = min(left - 1, n - i)
        if count > 0:
            part = level_db[i : i + count]
            least = min(least, _bottom_of(part))
            left -= count
        else:  # a block ends with this frame
            count, part = 1, level_db[i : i + 1]
            floors[place] = min(least, part[0])
            place = place + 1 if place + 1 < floors.shape[0] else 0
            floor, least, left = floors.min(), 1e9, int(state[5])
        bound, start = max(faint_db, floor + rise_db), 0
        while start < count:
            over, stop = part[start] > threshold_db, start + 1
            if over:
                risen = since + 1 if part[start] > bound else 0
                _stand(ring, at, min(risen + before, size - 1), threshold_db)
            if over:
                stop = _first_under(part, stop, count, threshold_db)
            else:
                stop = _first_over(part, stop, count, threshold_db)
            k = stop - 1
            while k >= start and part[k] > bound:
                k -= 1
            since = since + stop - start if k < start else stop - 1 - k
            at = exchange(ring, at, part[start:stop])
            start = stop
        i += count
    state[0], state[1], state[2], state[3], state[4], state[6] = at, since, left, least, place, floor


@kernel
def _stand(ring, at, count, threshold_db):
    """Up to `count` levels before `at` that lie under the threshold are put just over it, back to one that is over."""
    k = at
    for _ in range(count):
        k = k - 1 if k > 0 else ring.shape[0] - 1
        if ring[k] > threshold_db:
            break
        ring[k] = threshold_db + 0.01


@kernel
def gate_gain(power, n, threshold_db, hysteresis_db, slope, range_db, attack, release, hold, state, gain_db):
    """Gain in dB of a gate: open over the threshold, closing `hold` frames after the level fell under the lower one.

    Closed, it goes down by `slope` dB for each dB under the threshold, to -range at the most. power (mean squares) and
    gain_db padded n. state: [gain in dB, open (1) or not, frames since the level was last over], carried on.
    """
    gain, open_, since = state[0], state[1] > 0.0, state[2]
    opens, leave = 10.0 ** (threshold_db / 10.0), 10.0 ** ((threshold_db - hysteresis_db) / 10.0)
    deep_db = threshold_db - range_db / slope  # from here down it can close no further
    deep = 10.0 ** (deep_db / 10.0) if deep_db > _FLOOR_DB else -1.0
    tables = np.empty((4, 8))
    powers_of(1.0 - release, tables[0])
    powers_of(1.0 - attack, tables[1])
    downs, ups, goals, sinks = load8(tables[0], 0), load8(tables[1], 0), tables[3], False
    for i in range(0, n, 8):
        level, count = load8(power, i), min(8, n - i)
        over = all_above(level, splat8(leave))
        if open_ and count == 8 and (over or (since + 8.0 <= hold and not any_above(level, splat8(leave)))):
            since = 0.0 if over else since + 8.0
            found, gain = approach(0.0, gain, ups)
            put(gain_db, i, found)
            sinks = False
        elif not open_ and count == 8 and not any_above(level, splat8(deep)):
            since += 8.0
            sinks = gain > -range_db
            found, gain = approach(-range_db, gain, downs if sinks else ups)
            put(gain_db, i, found)
        else:
            goal, open_, since = _eight_goals(
                level, count, threshold_db, opens, leave, slope, range_db, hold, open_, since, goals
            )
            if count == 8:
                found, gain, sinks = follow_eight(goal, gain, sinks, release, attack, downs, ups, tables[2])
                put(gain_db, i, found)
            else:
                put(goals, 0, goal)
                for k in range(count):
                    gain = follow_one(goals[k], gain, release, attack)
                    gain_db[i + k] = gain
        gain = gain if gain < -NOTHING_DB else 0.0
    state[0], state[1], state[2] = gain, 1.0 if open_ else 0.0, since


@kernel_within
def _eight_goals(level, count, threshold_db, opens, leave, slope, range_db, hold, open_, since, goals):
    """Where the gain of `count` frames is to go, whether the gate is open after them, and how long it was not over."""
    level_db = times(splat8(0.5), db_of(level))
    shut = times(splat8(slope), larger(splat8(0.0), minus(splat8(threshold_db), level_db)))
    goal = minus(splat8(0.0), smaller(splat8(range_db), shut))
    if not open_ and not any_above(level, splat8(opens)):
        return goal, False, since + count
    powers = np.empty(8)
    put(goals, 0, goal)
    put(powers, 0, level)
    for k in range(count):
        if powers[k] > opens or (open_ and powers[k] > leave):
            open_, since = True, 0.0
        else:
            since += 1.0
            open_ = open_ and since <= hold
        goals[k] = 0.0 if open_ else goals[k]
    return load8(goals, 0), open_, since
