"""True peaks by polyphase interpolation, and the gain of a look-ahead limiter."""

import numpy as np

from . import kernel

PHASES = 8
TAPS = 24
_CHUNK = 256


def interpolator() -> tuple[np.ndarray, float]:
    """Polyphase windowed-sinc interpolator (PHASES-1, TAPS) and the greatest sum of its magnitudes."""
    centre = TAPS // 2 - 1
    rows = []
    for phase in range(1, PHASES):
        t = np.arange(TAPS) - centre - phase / PHASES
        row = np.sinc(t) * np.kaiser(2049, 7.0)[np.round((t + TAPS / 2) / TAPS * 2048).astype(int).clip(0, 2048)]
        rows.append(row / row.sum())
    table = np.ascontiguousarray(rows)
    return table, float(np.abs(table).sum(axis=1).max())


@kernel
def _add_four(a, b, c, d, g, out):
    """out += g[0] a + g[1] b + g[2] c + g[3] d; plain indices, so that it runs on the vector unit."""
    g0, g1, g2, g3 = g[0], g[1], g[2], g[3]
    for i in range(out.shape[0]):
        out[i] += g0 * a[i] + g1 * b[i] + g2 * c[i] + g3 * d[i]


@kernel
def _interpolate(x, row, out):
    """One phase of the interpolator over out.shape[0] frames of x."""
    for i in range(out.shape[0]):
        out[i] = 0.0
    for t in range(0, row.shape[0], 4):
        _add_four(x[t:], x[t + 1 :], x[t + 2 :], x[t + 3 :], row[t : t + 4], out)


@kernel
def _largest(values, out):
    for i in range(out.shape[0]):
        out[i] = max(out[i], abs(values[i]))


@kernel
def true_peaks(x, table, skip_below, refine_above, history, out):
    """Greatest of |x| and its interpolated values between a frame and the next, over channels, into out (n,).

    out[i] belongs to the frame TAPS/2 before x[:, i]. history (channels, TAPS) is carried on. Where no sample nearby
    exceeds `skip_below` frames are given their own level, for nothing between them can exceed the ceiling. Maxima
    over `refine_above` are refined by the parabola through three interpolated values.
    """
    channels, n = x.shape
    phases, taps = table.shape
    centre = taps // 2 - 1
    fine = np.zeros((phases + 3, _CHUNK))
    buffer = np.empty(taps + n)
    for i in range(n):
        out[i] = 0.0
    for c in range(channels):
        for t in range(taps):
            buffer[t] = history[c, t]
        for i in range(n):
            buffer[taps + i] = x[c, i]
        for t in range(taps):
            history[c, t] = buffer[n + t]
        for start in range(0, n, _CHUNK):
            count = min(_CHUNK, n - start)
            loudest = 0.0
            for v in buffer[start : start + count + taps]:
                loudest = max(loudest, abs(v))
            own = start + 1 + centre
            if loudest <= skip_below:
                _largest(buffer[own:], out[start : start + count])
                continue
            fine[1, :count] = buffer[own : own + count]
            fine[phases + 2, :count] = buffer[own + 1 : own + 1 + count]
            _interpolate(buffer[start:], table[phases - 1], fine[0, :count])
            for p in range(phases):
                _interpolate(buffer[start + 1 :], table[p], fine[p + 2, :count])
            here = out[start : start + count]
            for p in range(1, phases + 2):
                _largest(fine[p], here)
            for i in range(count):
                if out[start + i] > refine_above:
                    for p in range(1, phases + 2):
                        a, b, d = abs(fine[p - 1, i]), abs(fine[p, i]), abs(fine[p + 1, i])
                        bend = 2.0 * b - a - d
                        if b > refine_above and b >= a and b >= d and bend > 1e-12:
                            out[start + i] = max(out[start + i], b + (d - a) * (d - a) / (8.0 * bend))


@kernel
def required_gain(peaks, ceiling, last, out):
    """Gain that brings each peak, and the one before it, to the ceiling; returns the last peak."""
    for i in range(peaks.shape[0]):
        top = max(peaks[i], last)
        last = peaks[i]
        out[i] = ceiling / top if top > ceiling else 1.0
    return last


@kernel
def moving_average(x, box, place, y):
    """Mean of the last box.shape[0] values of x, into y. place: [sum, write position]; sum taken anew each lap."""
    length = box.shape[0]
    total, position = place[0], int(place[1])
    for i in range(x.shape[0]):
        total += x[i] - box[position]
        box[position] = x[i]
        position += 1
        if position == length:
            position = 0
            total = 0.0
            for k in range(length):
                total += box[k]
        y[i] = total / length
    place[0], place[1] = total, position


@kernel
def hold_and_release(need, window, release, values, times, queue, held, y):
    """Least of the last `window` gains, rising again exponentially, into y. Returns the last value."""
    head, tail, now = queue[0], queue[1], queue[2]
    mask = values.shape[0] - 1
    for i in range(need.shape[0]):
        v = need[i]
        while tail > head and values[(tail - 1) & mask] >= v:
            tail -= 1
        values[tail & mask] = v
        times[tail & mask] = now
        tail += 1
        if times[head & mask] <= now - window:
            head += 1
        now += 1
        least = values[head & mask]
        held = least if least < held else held + release * (least - held)
        y[i] = held
    queue[0], queue[1], queue[2] = head, tail, now
    return held
