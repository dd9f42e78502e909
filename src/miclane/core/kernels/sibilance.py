"""Sibilants against the voice around them, and the cut that brings them back.

Levels are mean squares of every few frames of the song (a group), smoothed; gains go from one group's to the next's.
"""

import numpy as np

from . import kernel, kernel_within
from .askew import direct, end_step, put_by, set_up
from .biquad import exchange
from .following import NOTHING_DB, approach, follow, follow_eight, powers_of
from .lanes import lanes_in, neutral
from .levels import CHUNK, db_of, hold
from .simd import (
    any_above,
    fma,
    fused,
    lane,
    larger,
    load4,
    load8,
    low_high_high,
    minus,
    plus,
    put,
    shifted_halves,
    smaller,
    splat4,
    splat8,
    times,
)

_LISTENED = 8192  # frames in one go: either end of them costs about as much as fifty between


@kernel
def _listen(x, filters, states, smoothing, every, already, sums, levels, band, voice, slow):
    """One channel x (n,) through two filters at once: the band and the voice; returns how many groups have ended.

    filters: band and voice of up to four sections (k, 6). A group is `every` frames, a multiple of four, of which so
    many have been `already`; sums (8,) are theirs. band, voice, slow (groups,) become the mean squares of the band, the
    voice, and the voice more slowly, by the one-pole coefficients, of a group, in smoothing (4,). levels (4,) and sums
    are carried on.
    """
    n, table, lanes, begin = x.shape[0], neutral(), np.zeros((2, 8)), np.zeros((12, 8))
    set_up(filters, states, table, lanes, begin)
    rows = lanes_in(table)
    stay, fed = minus(splat4(1.0), load4(smoothing, 0)), times(splat4(1.0 / every), load4(smoothing, 0))
    m, total = load4(levels, 0), load8(sums, 0)
    u1 = u2 = v1 = v2 = v3 = p = q = splat8(0.0)
    s, left, k = 0, every - already, 0
    while s < n + 9:
        while s >= 12 and left >= 4 and s + 4 < n:  # all in full swing
            ua = shifted_halves(splat8(x[s]), v3)
            va = direct(ua, u1, u2, v1, v2, rows)
            ub = shifted_halves(splat8(x[s + 1]), v2)
            vb = direct(ub, ua, u1, va, v1, rows)
            uc = shifted_halves(splat8(x[s + 2]), v1)
            vc = direct(uc, ub, ua, vb, va, rows)
            ud = shifted_halves(splat8(x[s + 3]), va)
            vd = direct(ud, uc, ub, vc, vb, rows)
            total = fma(vd, vd, fma(vc, vc, fma(vb, vb, fma(va, va, total))))
            u1, u2, v1, v2, v3 = ud, uc, vd, vc, vb
            s += 4
            left -= 4
            if left == 0:
                m = fma(stay, m, times(fed, low_high_high(total)))
                band[k], voice[k], slow[k] = lane(m, 0), lane(m, 1), lane(m, 2)
                k, left, total = k + 1, every, splat8(0.0)
        u, v, p, q = end_step(x[s] if s < n else 0.0, n, s, u1, u2, v1, v2, v3, rows, begin, p, q)
        if s >= 9:
            total = fma(v, v, total)
            left -= 1
            if left == 0:
                m = fma(stay, m, times(fed, low_high_high(total)))
                band[k], voice[k], slow[k] = lane(m, 0), lane(m, 1), lane(m, 2)
                k, left, total = k + 1, every, splat8(0.0)
        u1, u2, v1, v2, v3 = u, u1, v, v1, v2
        s += 1
    put_by(p, q, n, filters, states, lanes)
    put(levels, 0, larger(m, splat4(1e-30)))
    put(sums, 0, total)
    return k


@kernel_within
def _weighed(band, voice, around, limits):
    """Of eight powers the cut wanted in dB, the excess, the balance and the level around.

    A frame counts as sibilant where the band outweighs the voice at that moment; its cut is its excess over `around`
    plus the threshold, up to the greatest cut. limits: [threshold_db, max_cut_db, floor_db].
    """
    half, nothing, one = splat8(0.5), splat8(0.0), splat8(1.0)
    b, v = times(half, db_of(band)), times(half, db_of(voice))
    a = larger(times(half, db_of(around)), splat8(limits[2]))
    excess = minus(minus(b, a), splat8(limits[0]))
    hiss = times(plus(minus(b, v), splat8(3.0)), splat8(1.0 / 6.0))
    hiss = smaller(larger(hiss, nothing), one)
    cut = smaller(larger(excess, nothing), splat8(limits[1]))
    return minus(nothing, times(cut, hiss)), excess, minus(b, v), a


@kernel
def _cut(band, voice, around, count, limits, times_to, state, found, gain_db):
    """Powers (padded count) become the cut, smoothed, in gain_db (padded count); found (3, padded count) or none."""
    attack, release, tables = times_to[0], times_to[1], np.empty((3, 8))
    powers_of(1.0 - attack, tables[0])
    powers_of(1.0 - release, tables[1])
    downs, ups, gain, sinks = load8(tables[0], 0), load8(tables[1], 0), state[0], False
    wide = count // 8 * 8
    share, floor = splat8(10.0 ** (limits[0] / 10.0)), splat8(10.0 ** (limits[2] / 10.0))
    for i in range(0, gain_db.shape[0], 8):
        allowed = times(share, larger(load8(around, i), floor))
        if found.shape[0] == 0 and i < wide and not any_above(load8(band, i), allowed):
            sinks = False
            goal, gain = approach(0.0, gain, ups)
            put(gain_db, i, goal)
            continue
        goal, excess, balance, level = _weighed(load8(band, i), load8(voice, i), load8(around, i), limits)
        if found.shape[0]:
            put(found[0], i, excess)
            put(found[1], i, balance)
            put(found[2], i, level)
        if i < wide:
            goal, gain, sinks = follow_eight(goal, gain, sinks, attack, release, downs, ups, tables[2])
        put(gain_db, i, goal)
    state[0] = gain if abs(gain) > NOTHING_DB else 0.0
    if wide < count:
        follow(gain_db[wide:count], attack, release, 0.0, state)


@kernel
def _any_over(band, around, threshold_db, floor_db):
    """Whether any power is over the allowed share of the voice around it."""
    share, floor = 10.0 ** (threshold_db / 10.0), 10.0 ** (floor_db / 10.0)
    by, least = splat8(share), splat8(floor)
    wide = band.shape[0] // 8 * 8
    for i in range(0, wide, 8):
        if any_above(load8(band, i), times(by, larger(load8(around, i), least))):
            return True
    rest = False
    for i in range(wide, band.shape[0]):
        rest = rest or band[i] > share * max(around[i], floor)
    return rest


@kernel
def _lead(values, count, every, already, ends, out):
    """From the value of one group to that of the next, over the frames of the one that follows, into out (n,).

    So many values of groups that end in these n frames; ends (2,): the last two before them, carried on.
    """
    n, i, inside, shares = out.shape[0], 0, already, np.arange(1.0, every + 1) / every
    for k in range(count + 1):
        stop, begin, way = min(n, i + every - inside), ends[0], ends[1] - ends[0]
        if stop - i < every:
            for j in range(i, stop):
                out[j] = fused(way, shares[inside + j - i], begin)
        else:
            for j in range(0, every, 4):
                put(out, i + j, fma(splat4(way), load4(shares, j), splat4(begin)))
        i = stop
        if k < count:
            inside, ends[0], ends[1] = 0, ends[1], values[k]


@kernel
def _stay(values, count, every, already, before, out):
    """As `_lead`, each value as it is until the next; before (1,): the last before them, carried on."""
    left, k = every - already, 0
    for i in range(out.shape[0]):
        left -= 1
        if left == 0:
            before[0] = values[k]
            k, left = k + 1, every
        out[i] = before[0]


@kernel
def deess_gain(
    x,
    filters,
    states,
    smoothing,
    group,
    sums,
    levels,
    line,
    place,
    hold_at,
    limits,
    times_to,
    state,
    ends,
    found,
    gain_db,
):
    """Gain in dB (padded n) of the sibilant band of x (channels, n).

    filters, states (channels first), smoothing, sums (channels, 8) and levels (channels, 4) as for `_listen`; group:
    [frames in one, frames of this one that have been]; line (2, groups) holds band and voice back until the voice
    around them is known, place (1,) where; hold_at: (ring, places, levels) of the held level of the voice; limits:
    [threshold_db, max_cut_db, floor_db]; times_to: [attack, release] of a group; state as in `follow`; ends (4, 2): as
    for `_lead`, of the gain, and of what is found. Written is found (3, padded n) too, where it is not empty: the
    excess over the threshold, the band over the voice at the moment, the level of the voice around, in dB.
    """
    n, every, tells = x.shape[1], group[0], found.shape[0] > 0
    room = _LISTENED // every + 16
    scratch, other = np.empty((4, room)), np.empty((3 if x.shape[0] > 1 else 0, room))
    told = np.empty((3 if tells else 0, room))
    for start in range(0, n, _LISTENED):
        stop = min(start + _LISTENED, n)
        band, voice, around, gains = scratch[0], scratch[1], scratch[2], scratch[3]
        count = 0
        for c in range(x.shape[0]):
            held, part = (states[0][c], states[1][c]), x[c, start:stop]
            into = scratch if c == 0 else other
            count = _listen(
                part, filters, held, smoothing, every, group[1], sums[c], levels[c], into[0], into[1], into[2]
            )
            if c > 0:
                for k in range(3):
                    np.maximum(scratch[k, :count], other[k, :count], scratch[k, :count])
        hold(around[:count], hold_at[0], hold_at[1], hold_at[2], around[:count])
        exchange(line[0], place[0], band[:count])
        place[0] = exchange(line[1], place[0], voice[:count])
        for first in range(0, count, CHUNK):
            some = min(CHUNK, count - first)
            end = first + (some + 7) // 8 * 8
            powers, most, want = band[first:end], around[first:end], gains[first:end]
            if not tells and state[0] == 0.0 and not _any_over(powers[:some], most[:some], limits[0], limits[2]):
                want[:] = 0.0
                continue
            _cut(powers, voice[first:end], most, some, limits, times_to, state, told[:, first:end], want)
        _lead(gains, count, every, group[1], ends[0], gain_db[start:stop])
        for k in range(found.shape[0]):
            _stay(told[k], count, every, group[1], ends[k + 1], found[k, start:stop])
        group[1] = (group[1] + stop - start) % every
