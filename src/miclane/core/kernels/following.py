"""Gains that follow what is wanted: a one-pole whose coefficient depends on the way it goes.

As long as the way stays the same this is a plain one-pole, and eight frames go through it together (a prefix sum after
Hillis & Steele, "Data Parallel Algorithms", CACM 29, 1986); eight in which it turns are worked out one by one.
"""

import numpy as np

from . import kernel, kernel_within
from .simd import any_above, fma, fused, last, later, load8, put, shifted, splat8, times

NOTHING_DB = 1e-9  # let go of at the end of a block: far under what another size of block may change


@kernel
def powers_of(pole, out):
    """Powers 1 to 8 of a pole into out (8,)."""
    power = 1.0
    for i in range(8):
        power *= pole
        out[i] = power


@kernel_within
def _fed(fed, pole):
    """Eight frames of y = pole · y + fed, from nothing."""
    second = pole * pole
    u = fma(splat8(pole), later(fed, 1), fed)
    u = fma(splat8(second), later(u, 2), u)
    return fma(splat8(second * second), later(u, 4), u)


@kernel_within
def one_pole(fed, before, pole, powers):
    """Eight frames of y = pole · y + fed, from the value before them; powers: the lanes of `powers_of`."""
    return fma(powers, splat8(before), _fed(fed, pole))


@kernel_within
def follow_one(goal, gain, down, up):
    """One frame: `down` is the coefficient of the way towards a goal below the gain, `up` that towards one above."""
    return fused(1.0 - down, gain, down * goal) if goal < gain else fused(1.0 - up, gain, up * goal)


@kernel_within
def follow_eight(goal, gain, sinks, down, up, downs, ups, room):
    """Eight gains on their way to eight goals, from the gain before them.

    `sinks`: which way it went last, tried first; downs and ups: lanes of `powers_of` of 1 - down and 1 - up; room (8,)
    is scratch. Returns the gains, the last of them, and which way it went last.
    """
    if sinks:
        u = _fed(times(splat8(down), goal), 1.0 - down)
        found = fma(downs, splat8(gain), u)
        if not any_above(goal, shifted(splat8(gain), found)):
            return found, fused(last(downs), gain, last(u)), True  # the last of them, and waits for no other lane
    u = _fed(times(splat8(up), goal), 1.0 - up)
    found = fma(ups, splat8(gain), u)
    if not any_above(shifted(splat8(gain), found), goal):
        return found, fused(last(ups), gain, last(u)), False
    if not sinks:
        u = _fed(times(splat8(down), goal), 1.0 - down)
        found = fma(downs, splat8(gain), u)
        if not any_above(goal, shifted(splat8(gain), found)):
            return found, fused(last(downs), gain, last(u)), True
    put(room, 0, goal)
    for k in range(8):
        sinks = room[k] < gain
        gain = follow_one(room[k], gain, down, up)
        room[k] = gain
    return load8(room, 0), gain, sinks


@kernel_within
def approach(goal, gain, powers):
    """Eight gains on their way to one goal, and the last; powers: lanes of `powers_of`, how much of the way is left."""
    return fma(powers, splat8(gain - goal), splat8(goal)), fused(last(powers), gain - goal, goal)


@kernel
def follow(target, attack, release, hold, state):
    """Targets in dB become the smoothed gain: a branching one-pole, so that 63 % of a step takes the set time.

    The attack is the way down, the release the way up. state: [gain in dB, frames held].
    """
    gain, held = state[0], state[1]
    n = target.shape[0]
    if hold > 0.0:
        for i in range(n):
            goal = target[i]
            if goal < gain:
                gain += attack * (goal - gain)
                held = 0.0
            elif held < hold:
                held += 1.0
            else:
                gain += release * (goal - gain)
            target[i] = gain
    else:
        tables = np.empty((3, 8))
        powers_of(1.0 - attack, tables[0])
        powers_of(1.0 - release, tables[1])
        downs, ups, sinks, wide = load8(tables[0], 0), load8(tables[1], 0), False, n // 8 * 8
        for i in range(0, wide, 8):
            found, gain, sinks = follow_eight(load8(target, i), gain, sinks, attack, release, downs, ups, tables[2])
            put(target, i, found)
        for i in range(wide, n):
            gain = follow_one(target[i], gain, attack, release)
            target[i] = gain
    state[0], state[1] = gain if abs(gain) > NOTHING_DB else 0.0, held
