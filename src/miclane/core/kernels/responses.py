"""Gain of compressors that do not behave as their settings alone say: FET, optical, variable-mu.

State (4,): reduction in dB in its fast and its slow part, how long and deep it has worked of late (0 to 1), and frames
until that is looked at again.
"""

import numpy as np

from . import kernel

FET, OPTICAL, VARIABLE_MU, CLEAN = 0, 1, 2, 3
MU_SPAN_DB = 12.0  # over this the slope of variable-mu comes to 63 % of its greatest
OPTICAL_FAST_S, OPTICAL_SHARE = 0.02, 0.51
_DEEP_DB = 12.0  # reduction that counts as deep
_LOOKED = 16  # frames from one look at what it remembers to the next: it remembers for seconds


@kernel
def soft_over(over, knee_db):
    """How far a level is over the threshold, with a quadratic knee (Giannoulis, Massberg & Reiss 2012)."""
    if knee_db > 0.0 and over > -0.5 * knee_db:
        if over < 0.5 * knee_db:
            return (over + 0.5 * knee_db) ** 2 / (2.0 * knee_db)
        return over
    return max(over, 0.0)


@kernel
def wanted_db(kind, over, ratio, knee_db):
    """Reduction in dB, positive, of a level `over` the threshold; of FET that of the level after it, fed back."""
    o = soft_over(over, knee_db)
    if kind == FET:
        return (ratio - 1.0) * o
    slope = 1.0 - 1.0 / ratio
    if kind == VARIABLE_MU:
        return slope * (o - MU_SPAN_DB * (1.0 - np.exp(-o / MU_SPAN_DB)))
    return slope * o


@kernel
def _fed_back(level_db, n, curve, attack, release, state, gain_db):
    """FET without self-adjustment: nothing but its one state to wait for."""
    threshold, by, knee = curve[0], curve[1] - 1.0, curve[2]
    now, half = state[0] + state[1], 0.5 * knee
    bend = 0.5 * by / knee if knee > 0.0 else 0.0
    for i in range(n):
        over = level_db[i] - threshold - now
        straight = by * over if over > 0.0 else 0.0
        inside = over + half
        target = bend * inside * inside if abs(over) < half else straight
        rising, falling = now + attack * (target - now), now + release * (target - now)
        now = rising if target > now else falling
        gain_db[i] = -now
    state[0], state[1] = now, 0.0


@kernel
def _lit(level_db, n, curve, attack, quick, scale, rate, state, gain_db):
    """Optical: what it remembers, and the release that follows from that, are looked at every sixteen frames."""
    threshold, slope, knee = curve[0], 1.0 - 1.0 / curve[1], curve[2]
    half = 0.5 * knee
    bend = 0.5 * slope / knee if knee > 0.0 else 0.0
    fast, slow, memory, since = state[0], state[1], state[2], int(state[3])
    learn, forget = 1.0 - np.exp(-_LOOKED / (1.2 * rate)), 1.0 - np.exp(-_LOOKED / (3.0 * rate))
    rest = 1.0 - OPTICAL_SHARE
    late = scale / ((0.5 + 4.5 * memory) * rate)
    for i in range(n):
        if since == 0:
            deep = min((fast + slow) / _DEEP_DB, 1.0)
            memory += (learn if deep > memory else forget) * (deep - memory)
            late = scale / ((0.5 + 4.5 * memory) * rate)
            since = _LOOKED
        since -= 1
        over = level_db[i] - threshold
        straight = slope * over if over > 0.0 else 0.0
        inside = over + half
        target = bend * inside * inside if abs(over) < half else straight
        to_fast, to_slow = OPTICAL_SHARE * target - fast, rest * target - slow
        if target > fast + slow:
            fast += attack * to_fast
            slow += attack * to_slow
        else:
            fast += quick * min(to_fast, 0.0)
            slow += late * min(to_slow, 0.0)
        gain_db[i] = -(fast + slow)
    state[0], state[1], state[2], state[3] = fast, slow, memory, since


@kernel
def respond(level_db, n, kind, curve, times, adjusting, rate, state, gain_db):
    """Gain (padded n) of a response to levels (padded n) in dB at the detector.

    curve: [threshold_db, ratio, knee_db]; times: one-pole coefficients of attack and release and hold in frames.
    FET listens to its own output, and its attack is divided by the gain of that loop, so that it takes the time that
    is set. Optical lets go of half within 60 ms and of the rest the more slowly the longer and deeper it has worked,
    from 0.5 s to 5 s at a release of 80 ms. `adjusting` does the same to any release, from half to four times of it.
    """
    threshold, ratio, knee = curve[0], curve[1], curve[2]
    attack, release = times[0], times[1]
    fast, slow, memory = state[0], state[1], state[2]
    learn, forget = 1.0 / (1.2 * rate), 1.0 / (3.0 * rate)
    quick = 1.0 - np.exp(-1.0 / (OPTICAL_FAST_S * rate))
    scale = release * 0.08 * rate  # 1 at a release of 80 ms
    loop = attack / ratio if kind == FET else attack
    if kind == OPTICAL:
        return _lit(level_db, n, curve, attack, quick * min(scale, 1.0), scale, rate, state, gain_db)
    if kind == FET and not adjusting:
        return _fed_back(level_db, n, curve, loop, release, state, gain_db)
    for i in range(n):
        now = fast + slow
        over = level_db[i] - threshold - (now if kind == FET else 0.0)
        target = wanted_db(kind, over, ratio, knee)
        deep = min(now / _DEEP_DB, 1.0)
        memory += (learn if deep > memory else forget) * (deep - memory)
        if target > now:
            fast += loop * (target - now)
        else:
            back = release / (0.5 + 3.5 * memory) if adjusting else release
            fast += back * (target - now)
        gain_db[i] = -(fast + slow)
    state[0], state[1], state[2] = fast, slow, memory
