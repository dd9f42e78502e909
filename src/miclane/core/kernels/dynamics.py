"""Level detection, gain computers and their ballistics."""

import numpy as np

from . import kernel

_DB = 8.685889638065037  # 20 / ln 10
_FLOOR = 1e-10


def _exp2_table() -> np.ndarray:
    return 2.0 ** np.arange(-64.0, 65.0)


_EXP2 = _exp2_table()
_LN2 = 0.6931471805599453
_PER_DB = 0.16609640474436813  # log2(10) / 20
_DB_PER_OCTAVE = 6.020599913279624  # 20 log10 2


@kernel
def amplitudes(gain_db, out):
    """out = 10^(gain/20) to 1e-10, exactly 1 at 0 dB; gains are held to ±380 dB."""
    for i in range(gain_db.shape[0]):
        e = min(max(gain_db[i] * _PER_DB, -63.0), 63.0)
        whole = np.floor(e + 0.5)
        t = (e - whole) * _LN2
        p = 1.0 + t / 10.0
        p = 1.0 + t / 9.0 * p
        p = 1.0 + t / 8.0 * p
        p = 1.0 + t / 7.0 * p
        p = 1.0 + t / 6.0 * p
        p = 1.0 + t / 5.0 * p
        p = 1.0 + t / 4.0 * p
        p = 1.0 + t / 3.0 * p
        p = 1.0 + t / 2.0 * p
        p = 1.0 + t * p
        out[i] = p * _EXP2[int(whole) + 64]


@kernel
def decibels(level, bits, out):
    """out = 20 log10(level) to 1e-8 dB, -200 at the least; `bits` is the same memory as int64."""
    for i in range(level.shape[0]):
        if level[i] < _FLOOR:
            out[i] = -200.0
            continue
        exponent = (bits[i] >> 52) - 1023
        mantissa = level[i] / _EXP2[exponent + 64] if exponent < 64 else 1.0
        if mantissa > 1.4142135623730951:
            mantissa *= 0.5
            exponent += 1
        s = (mantissa - 1.0) / (mantissa + 1.0)
        z = s * s
        p = 1.0 / 15.0
        p = 1.0 / 13.0 + z * p
        p = 1.0 / 11.0 + z * p
        p = 1.0 / 9.0 + z * p
        p = 1.0 / 7.0 + z * p
        p = 1.0 / 5.0 + z * p
        p = 1.0 / 3.0 + z * p
        p = 1.0 + z * p
        out[i] = _DB_PER_OCTAVE * exponent + _DB * 2.0 * s * p


@kernel
def sliding_max(x, window, values, times, queue, y):
    """Greatest of the last `window` values of x, into y.

    A monotonic queue in rings whose length is a power of two over `window`; queue: [head, tail, now], carried on.
    """
    head, tail, now = queue[0], queue[1], queue[2]
    mask = values.shape[0] - 1
    for i in range(x.shape[0]):
        v = x[i]
        while tail > head and values[(tail - 1) & mask] <= v:
            tail -= 1
        values[tail & mask] = v
        times[tail & mask] = now
        tail += 1
        if times[head & mask] <= now - window:
            head += 1
        y[i] = values[head & mask]
        now += 1
    queue[0], queue[1], queue[2] = head, tail, now


@kernel
def mean_square(x, coefficient, state, y):
    """Root of the exponentially weighted mean square of x (channels, n), the loudest channel, into y."""
    channels, n = x.shape
    for i in range(n):
        top = 0.0
        for c in range(channels):
            state[c] += coefficient * (x[c, i] * x[c, i] - state[c])
            top = max(top, state[c])
        y[i] = np.sqrt(top)


@kernel
def static_gain(level_db, threshold_db, slope, knee_db, out):
    """Gains in dB of the soft-knee gain computer (Giannoulis, Massberg & Reiss 2012); slope = 1/ratio - 1."""
    half = 0.5 * knee_db
    bend = slope / (2.0 * knee_db) if knee_db > 0.0 else 0.0
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
def duck_gain(level, threshold, depth_db, attack, release, hold, state, gain_db):
    """Gain in dB that goes to -depth while the key is over a threshold; 3 dB of hysteresis, hold, exponential in dB.

    state: [gain in dB, open (1) or not, frames since the key was last over].
    """
    gain, down, since = state[0], state[1], state[2]
    leave = threshold * 0.7079457843841379
    for i in range(level.shape[0]):
        if level[i] > threshold or (down > 0.0 and level[i] > leave):
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
