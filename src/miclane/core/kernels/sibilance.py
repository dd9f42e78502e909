"""Sibilants against the voice around them, and the cut that brings them back."""

import numpy as np

from . import kernel
from .biquad import exchange, two_cascades
from .dynamics import CHUNK, amplitude_of, db_of, follow, hold
from .simd import larger, load8, minus, plus, put, smaller, splat8, times


@kernel
def _mean_squares(band, voice, first, smoothing, state, band_out, voice_out, slow_out):
    """Mean squares of one channel: of the band, the voice, and the voice more slowly, by three coefficients.

    With `first` false the outputs keep what is larger: the loudest channel counts. state (3,) is carried on.
    """
    fast, middle, slow = smoothing[0], smoothing[1], smoothing[2]
    p, q, r = state[0], state[1], state[2]
    keep_p, keep_q, keep_r = 1.0 - fast, 1.0 - middle, 1.0 - slow
    for i in range(band.shape[0]):
        u, v = band[i] * band[i], voice[i] * voice[i]
        fed_p, fed_q, fed_r = fast * u, middle * v, slow * v
        p = keep_p * p + fed_p
        q = keep_q * q + fed_q
        r = keep_r * r + fed_r
        if first:
            band_out[i], voice_out[i], slow_out[i] = p, q, r
        else:
            band_out[i], voice_out[i], slow_out[i] = max(band_out[i], p), max(voice_out[i], q), max(slow_out[i], r)
    state[0], state[1], state[2] = max(p, 1e-30), max(q, 1e-30), max(r, 1e-30)


@kernel
def _balance(band, voice, around, past, gain_db, threshold_db, max_cut_db, floor_db):
    """Powers (padded) become decibels; `past` how far the band is over what is allowed, gain_db the cut wanted.

    A frame counts as sibilant where the band outweighs the voice at that moment; its cut is its excess over `around`
    plus the threshold, up to the greatest cut.
    """
    half, nothing, one = splat8(0.5), splat8(0.0), splat8(1.0)
    for i in range(0, gain_db.shape[0], 8):
        b = times(half, db_of(load8(band, i)))
        v = times(half, db_of(load8(voice, i)))
        a = larger(times(half, db_of(load8(around, i))), splat8(floor_db))
        excess = minus(minus(b, a), splat8(threshold_db))
        hiss = times(plus(minus(b, v), splat8(3.0)), splat8(1.0 / 6.0))
        hiss = smaller(larger(hiss, nothing), one)
        cut = smaller(larger(excess, nothing), splat8(max_cut_db))
        put(voice, i, minus(b, v))
        put(around, i, a)
        put(past, i, excess)
        put(gain_db, i, minus(nothing, times(cut, hiss)))


@kernel
def deess_gain(x, filters, states, smoothing, levels, line, place, hold_at, limits, times_to, state, found, gain_db):
    """Gain in dB (padded n) of the sibilant band of x (channels, n).

    filters and states: of the band and of the voice, as for `two_cascades`; smoothing: three one-pole coefficients;
    levels (channels, 3); line (2, frames) holds band and voice back until the voice around them is known, place (1,)
    where; hold_at: (ring, places, levels) of the held level of the voice; limits: [threshold_db, max_cut_db,
    floor_db]; times_to: [attack, release]; state as in `follow`. found (3, padded n) is written: the excess over the
    threshold, the band over the voice at the moment, the level of the voice around it, in dB.
    """
    n = x.shape[1]
    low, high, scratch = np.empty(CHUNK), np.empty(CHUNK), np.empty((2, CHUNK))
    for start in range(0, n, CHUNK):
        count = min(CHUNK, n - start)
        stop, wide = start + count, start + (count + 7) // 8 * 8
        band, voice, around = scratch[0], scratch[1], found[2, start:wide]
        for c in range(x.shape[0]):
            two_cascades(x[c, start:stop], filters[0], filters[1], states[0][c], states[1][c], low, high)
            _mean_squares(low[:count], high[:count], c == 0, smoothing, levels[c], band, voice, around)
        hold(hold_at[0], hold_at[1], hold_at[2], around[:count])
        exchange(line[0], place[0], band[:count])
        place[0] = exchange(line[1], place[0], voice[:count])
        want = gain_db[start:wide]
        _balance(band, voice, around, found[0, start:wide], want, limits[0], limits[1], limits[2])
        found[1, start:stop] = voice[:count]
        follow(want[:count], times_to[0], times_to[1], 0.0, state)


@kernel
def _less_band(x, band, weight, y):
    for i in range(x.shape[0]):
        y[i] = x[i] - weight[i] * band[i]


@kernel
def cut_band(x, band, gain_db, mix, y):
    """y = x - mix · (1 - 10^(gain/20)) · band: a bell whose depth is the gain; x, band, y (channels, n)."""
    weight = np.empty(CHUNK)
    for start in range(0, x.shape[1], CHUNK):
        count = min(CHUNK, x.shape[1] - start)
        stop = start + count
        for i in range(0, count, 8):
            a = amplitude_of(load8(gain_db, start + i))
            put(weight, i, times(splat8(mix), minus(splat8(1.0), a)))
        for c in range(x.shape[0]):
            _less_band(x[c, start:stop], band[c, start:stop], weight, y[c, start:stop])
