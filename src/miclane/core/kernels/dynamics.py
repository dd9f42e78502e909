"""Level detection, gain computers and their ballistics."""

import numpy as np

from . import kernel

_DB = 8.685889638065037  # 20 / ln 10
_FLOOR = 1e-10


_LN2 = 0.6931471805599453
_PER_DB = 0.16609640474436813  # log2(10) / 20
_DB_PER_OCTAVE = 6.020599913279624  # 20 log10 2
_MANTISSA = 0x000FFFFFFFFFFFFF
_ONE = 0x3FF0000000000000


@kernel
def amplitudes(gain_db, bits, out):
    """out = 10^(gain/20) to 1e-10, exactly 1 at 0 dB; gains are held to ±380 dB. `bits` is out's memory as int64."""
    n = gain_db.shape[0]
    for i in range(n):
        e = min(max(gain_db[i] * _PER_DB, -63.0), 63.0)
        bits[i] = (np.int64(np.floor(e + 0.5)) + 1023) << 52
    for i in range(n):
        e = min(max(gain_db[i] * _PER_DB, -63.0), 63.0)
        t = (e - np.floor(e + 0.5)) * _LN2
        p = 1.0 + t * 0.1
        p = 1.0 + t * (1.0 / 9.0) * p
        p = 1.0 + t * 0.125 * p
        p = 1.0 + t * (1.0 / 7.0) * p
        p = 1.0 + t * (1.0 / 6.0) * p
        p = 1.0 + t * 0.2 * p
        p = 1.0 + t * 0.25 * p
        p = 1.0 + t * (1.0 / 3.0) * p
        p = 1.0 + t * 0.5 * p
        p = 1.0 + t * p
        out[i] *= p


@kernel
def decibels(level, level_bits, mantissa, mantissa_bits, out):
    """out = 20 log10(level) to 1e-6 dB, -200 at the least; the bits are the same memory as int64, mantissa scratch."""
    n = level.shape[0]
    for i in range(n):
        mantissa_bits[i] = (level_bits[i] & _MANTISSA) | _ONE
    for i in range(n):
        exponent = float((level_bits[i] >> 52) - 1023)
        m = mantissa[i] * 0.7071067811865476
        s = (m - 1.0) / (m + 1.0)
        z = s * s
        p = 1.0 / 11.0 + z * (1.0 / 13.0)
        p = 1.0 / 9.0 + z * p
        p = 1.0 / 7.0 + z * p
        p = 1.0 / 5.0 + z * p
        p = 1.0 / 3.0 + z * p
        p = 1.0 + z * p
        value = _DB_PER_OCTAVE * (exponent + 0.5) + _DB * 2.0 * s * p
        out[i] = max(value, -200.0)


@kernel
def held_peak_db(x, ring, places, levels, out):
    """Level in dB of the greatest |x| over channels in the last blocks, into out (n,).

    ring holds the maxima of the last whole blocks. places: [frames in this block, next ring slot, block length];
    levels: [maximum of this block, of the ring, last level, its dB]; all carried on.
    """
    channels, n = x.shape
    inside, slot, length = places[0], places[1], places[2]
    current, held, last, last_db = levels[0], levels[1], levels[2], levels[3]
    for i in range(n):
        v = abs(x[0, i])
        for c in range(1, channels):
            v = max(v, abs(x[c, i]))
        current = max(current, v)
        top = max(current, held)
        if top != last:
            last = top
            last_db = _DB * np.log(max(top, _FLOOR))
        out[i] = last_db
        inside += 1
        if inside == length:
            inside = 0
            ring[slot] = current
            slot = slot + 1 if slot + 1 < ring.shape[0] else 0
            current = 0.0
            held = 0.0
            for k in range(ring.shape[0]):
                held = max(held, ring[k])
    places[0], places[1] = inside, slot
    levels[0], levels[1], levels[2], levels[3] = current, held, last, last_db


@kernel
def mean_square(x, coefficient, state, y):
    """Exponentially weighted mean square of x (channels, n), of the loudest channel, into y."""
    for c in range(x.shape[0]):
        held = state[c]
        for i in range(x.shape[1]):
            held += coefficient * (x[c, i] * x[c, i] - held)
            y[i] = held if c == 0 else max(y[i], held)
        state[c] = held


@kernel
def three_mean_squares(band, voice, fast, middle, slow, state, band_out, voice_out, slow_out):
    """Mean squares of the loudest channel: the band at coefficient `fast`, the voice at `middle` and at `slow`."""
    for c in range(band.shape[0]):
        p, q, r = state[c, 0], state[c, 1], state[c, 2]
        for i in range(band.shape[1]):
            u, v = band[c, i] * band[c, i], voice[c, i] * voice[c, i]
            p += fast * (u - p)
            q += middle * (v - q)
            r += slow * (v - r)
            if c == 0:
                band_out[i], voice_out[i], slow_out[i] = p, q, r
            else:
                band_out[i], voice_out[i], slow_out[i] = max(band_out[i], p), max(voice_out[i], q), max(slow_out[i], r)
        state[c, 0], state[c, 1], state[c, 2] = p, q, r


@kernel
def static_gain(level_db, threshold_db, slope, knee_db, out):
    """Gains in dB of the soft-knee gain computer (Giannoulis, Massberg & Reiss 2012); slope = 1/ratio - 1."""
    half = 0.5 * knee_db
    bend = slope / (2.0 * knee_db) if knee_db > 1e-6 else 0.0
    for i in range(level_db.shape[0]):
        over = level_db[i] - threshold_db
        inside = max(over + half, 0.0)
        out[i] = slope * over if over >= half else bend * inside * inside


@kernel
def compressor_gain(target_db, attack, release, hold, state, gain_db):
    """Gain smoothed in dB: a branching one-pole, so that 63 % of a step takes the set time, and a hold.

    attack and release are one-pole coefficients, hold frames. state: [gain in dB, frames held].
    """
    gain, held = state[0], state[1]
    for i in range(target_db.shape[0]):
        target = target_db[i]
        if target < gain:
            gain += attack * (target - gain)
            held = 0.0
        elif held < hold:
            held += 1.0
        else:
            gain += release * (target - gain)
        gain_db[i] = gain
    state[0], state[1] = gain, held


@kernel
def duck_gain(level_db, threshold_db, depth_db, attack, release, hold, state, gain_db):
    """Gain in dB that goes to -depth while the key is over a threshold; 3 dB of hysteresis, hold, exponential in dB.

    state: [gain in dB, open (1) or not, frames since the key was last over].
    """
    gain, down, since = state[0], state[1], state[2]
    leave = threshold_db - 3.0
    for i in range(level_db.shape[0]):
        if level_db[i] > threshold_db or (down > 0.0 and level_db[i] > leave):
            down = 1.0
            since = 0.0
        else:
            since += 1.0
            if since > hold:
                down = 0.0
        if down > 0.0:
            gain += attack * (-depth_db - gain)
        else:
            gain += release * (0.0 - gain)
            if gain > -1e-9:
                gain = 0.0
        gain_db[i] = gain
    state[0], state[1], state[2] = gain, down, since


@kernel
def scale_by(x, amplitude, scale, mix, y):
    """y = x · ((1 - mix) + mix · scale · amplitude); x and y (channels, n), amplitude (n,)."""
    dry, wet = 1.0 - mix, mix * scale
    for c in range(x.shape[0]):
        for i in range(x.shape[1]):
            y[c, i] = x[c, i] * (dry + wet * amplitude[i])


@kernel
def weigh(x, gain, fresh, y):
    """y = gain · x where `fresh`, else y += gain · x; both (n,)."""
    if fresh:
        for i in range(y.shape[0]):
            y[i] = gain * x[i]
    else:
        for i in range(y.shape[0]):
            y[i] += gain * x[i]


@kernel
def trace(x, y, gain_db, hop, carry, gain_out, in_out, out_out, peak_out):
    """Reduce a block to one point a hop: least gain, mean square in and out, peak out.

    carry: [frames so far, least gain, sum in, sum out, peak], carried on. Returns the number of points written.
    """
    channels, n = y.shape
    count, least, sum_in, sum_out, peak = carry[0], carry[1], carry[2], carry[3], carry[4]
    points = 0
    for i in range(n):
        if gain_db.shape[0] > 0 and gain_db[i] < least:
            least = gain_db[i]
        for c in range(x.shape[0]):
            sum_in += x[c, i] * x[c, i]
        for c in range(channels):
            v = y[c, i]
            sum_out += v * v
            peak = max(peak, abs(v))
        count += 1.0
        if count >= hop:
            gain_out[points] = least if least < 1e8 else 0.0
            in_out[points] = sum_in / (hop * x.shape[0])
            out_out[points] = sum_out / (hop * channels)
            peak_out[points] = peak
            points += 1
            count, least, sum_in, sum_out, peak = 0.0, 1e9, 0.0, 0.0, 0.0
    carry[0], carry[1], carry[2], carry[3], carry[4] = count, least, sum_in, sum_out, peak
    return points


@kernel
def deess_gain(band_db, voice_db, around_db, threshold_db, max_cut_db, attack, release, last, gain_db, excess):
    """Gain of the sibilant band from its level against the voice around it; returns the last gain.

    A frame counts as sibilant where the band outweighs the voice at that moment; its cut is its excess over
    `around_db` plus the threshold, up to the greatest cut.
    """
    for i in range(band_db.shape[0]):
        over = band_db[i] - around_db[i] - threshold_db
        excess[i] = over
        hiss = min(max((band_db[i] - voice_db[i] + 3.0) / 6.0, 0.0), 1.0)
        target = -min(max(over, 0.0), max_cut_db) * hiss
        last += (attack if target < last else release) * (target - last)
        if last > -1e-6:
            last = 0.0
        gain_db[i] = last
    return last


@kernel
def cut_band(x, band, amplitude, y):
    """y = x - (1 - amplitude) · band: a bell whose depth is the gain; x, band, y (channels, n), amplitude (n,)."""
    for c in range(x.shape[0]):
        for i in range(x.shape[1]):
            y[c, i] = x[c, i] - (1.0 - amplitude[i]) * band[c, i]
