"""Gain of compressors that do not behave as their settings alone say: FET, optical, variable-mu.

State (4,): reduction in dB in its fast and its slow part, how long and deep it has worked of late (0 to 1), and frames
until that is looked at again.
"""

import numpy as np

from . import kernel
from .following import one_pole, powers_of
from .levels import static_gain
from .simd import all_above, any_above, fused, last, load8, minus, plus, put, shifted, splat8, times

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
    """FET without self-adjustment: nothing but its one state to wait for.

    Past the knee what is wanted is a straight line of the level and the state, beneath it nothing: while eight frames
    stay there and go the same way, they are a plain one-pole.
    """
    threshold, by, knee = curve[0], curve[1] - 1.0, curve[2]
    now, half = state[0] + state[1], 0.5 * knee
    bend = 0.5 * by / knee if knee > 0.0 else 0.0
    tables = np.empty((3, 8))
    poles = (1.0 - attack * (1.0 + by), 1.0 - release * (1.0 + by), 1.0 - release)
    for k in range(3):
        powers_of(poles[k], tables[k])
    rising, sinking, letting_go = load8(tables[0], 0), load8(tables[1], 0), load8(tables[2], 0)
    straight, nothing, bow = splat8(by), splat8(0.0), np.sqrt(bend)
    i = one_by_one = 0
    while i < n:
        past = level_db[i] - threshold - now
        if i >= one_by_one and i + 8 <= n and abs(past) >= half:
            over, done, found = minus(load8(level_db, i), splat8(threshold)), False, nothing
            if past < 0.0:
                found = one_pole(nothing, now, poles[2], letting_go)
                done = not any_above(minus(over, shifted(splat8(now), found)), splat8(-half))
            else:
                up = by * past > now
                found = (
                    one_pole(times(splat8(attack * by), over), now, poles[0], rising)
                    if up
                    else one_pole(times(splat8(release * by), over), now, poles[1], sinking)
                )
                before = shifted(splat8(now), found)
                past_all = minus(over, before)
                way = minus(times(straight, past_all), before)
                done = not (any_above(nothing, way) if up else any_above(way, nothing))
                done = done and not any_above(splat8(half), past_all)
            if done:
                put(gain_db, i, minus(nothing, found))
                now = last(found)
                i += 8
                continue
            one_by_one = i + 8
        bent = fused(-bow, now, bow * (level_db[i] - threshold + half))  # the knee: (bow · (past + half))²
        wanted = bent * bent
        if abs(past) >= half:
            wanted = by * past if past > 0.0 else 0.0
        fed = attack if wanted > now else release
        now = fused(1.0 - fed, now, fed * wanted)
        gain_db[i] = -now
        i += 1
    state[0], state[1] = now if now > 1e-12 else 0.0, 0.0


@kernel
def _looked(reduction_db, memory, learn, forget, scale, powers):
    """What an optical cell remembers after a look at its reduction, and its late coefficient, its powers written."""
    deep = min(reduction_db / _DEEP_DB, 1.0)
    memory += (learn if deep > memory else forget) * (deep - memory)
    late = scale / (0.5 + 4.5 * memory)
    powers_of(1.0 - late, powers)
    return memory, late


@kernel
def _lit(level_db, n, curve, attack, quick, scale, rate, state, gain_db):
    """Optical: what it remembers, and the release that follows from that, are looked at every sixteen frames."""
    threshold, slope, knee = curve[0], 1.0 - 1.0 / curve[1], curve[2]
    fast, slow, memory, since = state[0], state[1], state[2], int(state[3])
    learn, forget = 1.0 - np.exp(-_LOOKED / (1.2 * rate)), 1.0 - np.exp(-_LOOKED / (3.0 * rate))
    rest = 1.0 - OPTICAL_SHARE
    late = scale / ((0.5 + 4.5 * memory) * rate)
    tables = np.empty((4, 8))
    powers_of(1.0 - attack, tables[0])
    powers_of(1.0 - quick, tables[1])
    powers_of(1.0 - late, tables[2])
    coming, going, wanted = load8(tables[0], 0), load8(tables[1], 0), tables[3]
    wide = n // 8 * 8
    i = 0
    while i < n:
        count = min(8, n - i)
        target = static_gain(load8(level_db, i), threshold, slope, knee)
        if since == 0:
            memory, late = _looked(fast + slow, memory, learn, forget, scale / rate, tables[2])
            since = _LOOKED
        if i < wide and since >= 8:
            to_fast, to_slow = times(splat8(OPTICAL_SHARE), target), times(splat8(rest), target)
            put(wanted, 0, target)
            if wanted[0] > fast + slow:
                quicker = one_pole(times(splat8(attack), to_fast), fast, 1.0 - attack, coming)
                slower = one_pole(times(splat8(attack), to_slow), slow, 1.0 - attack, coming)
                both = plus(shifted(splat8(fast), quicker), shifted(splat8(slow), slower))
                done = all_above(target, both)
            else:
                quicker = one_pole(times(splat8(quick), to_fast), fast, 1.0 - quick, going)
                slower = one_pole(times(splat8(late), to_slow), slow, 1.0 - late, load8(tables[2], 0))
                done = not any_above(to_fast, shifted(splat8(fast), quicker))
                done = done and not any_above(to_slow, shifted(splat8(slow), slower))
            if done:
                put(gain_db, i, minus(splat8(0.0), plus(quicker, slower)))
                fast, slow = last(quicker), last(slower)
                since -= 8
                i += 8
                continue
        put(wanted, 0, target)
        for k in range(count):
            if since == 0:
                memory, late = _looked(fast + slow, memory, learn, forget, scale / rate, tables[2])
                since = _LOOKED
            since -= 1
            to_fast_one, to_slow_one = OPTICAL_SHARE * wanted[k] - fast, rest * wanted[k] - slow
            if wanted[k] > fast + slow:
                fast += attack * to_fast_one
                slow += attack * to_slow_one
            else:
                fast += quick * min(to_fast_one, 0.0)
                slow += late * min(to_slow_one, 0.0)
            gain_db[i + k] = -(fast + slow)
        i += 8
    fast, slow = fast if fast > 1e-12 else 0.0, slow if slow > 1e-12 else 0.0
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
