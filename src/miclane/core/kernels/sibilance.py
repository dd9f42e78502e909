"""Sibilants against the voice around them, and the cut that brings them back."""

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

_LISTENED = 4096  # frames in one go: either end of them costs about as much as fifty between


@kernel
def _listen(x, filters, states, smoothing, levels, band, voice, slow):
    """One channel x (n,) through two filters at once: the band and the voice.

    filters: band and voice of up to four sections (k, 6). band, voice, slow (n,) become the mean squares of the band,
    the voice, and the voice more slowly, by the one-pole coefficients in smoothing (4,). levels (4,) is carried on.
    """
    n, table, lanes, begin = x.shape[0], neutral(), np.zeros((2, 8)), np.zeros((12, 8))
    set_up(filters, states, table, lanes, begin)
    rows = lanes_in(table)
    fed, m = load4(smoothing, 0), load4(levels, 0)
    stay = minus(splat4(1.0), fed)
    u1 = u2 = v1 = v2 = v3 = p = q = splat8(0.0)
    s = 0
    while s < n + 9:
        while 12 <= s < n - 1:  # all in full swing
            u = shifted_halves(splat8(x[s]), v3)
            v = direct(u, u1, u2, v1, v2, rows)
            both = low_high_high(v)
            m = fma(stay, m, times(fed, times(both, both)))
            band[s - 9], voice[s - 9], slow[s - 9] = lane(m, 0), lane(m, 1), lane(m, 2)
            u1, u2, v1, v2, v3 = u, u1, v, v1, v2
            s += 1
        u, v, p, q = end_step(x[s] if s < n else 0.0, n, s, u1, u2, v1, v2, v3, rows, begin, p, q)
        if s >= 9:
            both = low_high_high(v)
            m = fma(stay, m, times(fed, times(both, both)))
            band[s - 9], voice[s - 9], slow[s - 9] = lane(m, 0), lane(m, 1), lane(m, 2)
        u1, u2, v1, v2, v3 = u, u1, v, v1, v2
        s += 1
    put_by(p, q, n, filters, states, lanes)
    put(levels, 0, larger(m, splat4(1e-30)))


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
def _cut(band, voice, around, count, limits, times_to, state, found, start, gain_db):
    """Powers (padded count) become the cut, smoothed, in gain_db (padded count); found as in `deess_gain`."""
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
            put(found[0], start + i, excess)
            put(found[1], start + i, balance)
            put(found[2], start + i, level)
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
def deess_gain(x, filters, states, smoothing, levels, line, place, hold_at, limits, times_to, state, found, gain_db):
    """Gain in dB (padded n) of the sibilant band of x (channels, n).

    filters, states (channels first), smoothing and levels (channels, 4) as for `_listen`; line (2, frames) holds
    band and voice back until the voice around them is known, place (1,) where; hold_at: (ring, places, levels) of
    the held level of the voice; limits: [threshold_db, max_cut_db, floor_db]; times_to: [attack, release]; state as
    in `follow`. Written is found (3, padded n) too, where it is not empty: the excess over the threshold, the band over
    the voice at the moment, the level of the voice around, in dB.
    """
    n = x.shape[1]
    scratch, other = np.empty((3, _LISTENED)), np.empty((3 if x.shape[0] > 1 else 0, _LISTENED))
    for start in range(0, n, _LISTENED):
        count = min(_LISTENED, n - start)
        stop, width = start + count, (count + 7) // 8 * 8
        band, voice, around = scratch[0, :width], scratch[1, :width], scratch[2, :width]
        for c in range(x.shape[0]):
            held, part = (states[0][c], states[1][c]), x[c, start:stop]
            if c == 0:
                _listen(part, filters, held, smoothing, levels[c], band, voice, around)
            else:
                _listen(part, filters, held, smoothing, levels[c], other[0], other[1], other[2])
                np.maximum(band, other[0, :width], band)
                np.maximum(voice, other[1, :width], voice)
                np.maximum(around, other[2, :width], around)
        hold(hold_at[0], hold_at[1], hold_at[2], around[:count])
        exchange(line[0], place[0], band[:count])
        place[0] = exchange(line[1], place[0], voice[:count])
        for first in range(0, count, CHUNK):
            some = min(CHUNK, count - first)
            end = first + (some + 7) // 8 * 8
            powers, most = band[first:end], around[first:end]
            want = gain_db[start + first : start + end]
            if (
                found.shape[0] == 0
                and state[0] == 0.0
                and not _any_over(powers[:some], most[:some], limits[0], limits[2])
            ):
                want[:] = 0.0
                continue
            _cut(powers, voice[first:end], most, some, limits, times_to, state, found, start + first, want)
