"""True peaks by polyphase interpolation, and the gain of a look-ahead limiter."""

import numpy as np

from . import kernel, sum_kernel

PHASES = 8
TAPS = 24


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


@sum_kernel
def true_peaks(x, table, skip_below, refine_above, history, out):
    """Greatest of |x| and its interpolated values between a frame and the next, over channels, into out (n,).

    out[i] belongs to the frame TAPS/2 before x[:, i]. history (channels, TAPS) is carried on. Frames near which no
    sample exceeds `skip_below` are given their own sample's level, for nothing between them can exceed the ceiling.
    Maxima over `refine_above` are refined by the parabola through three interpolated values.
    """
    channels, n = x.shape
    phases, taps = table.shape
    centre = taps // 2 - 1
    loud = 0
    for c in range(channels):
        for t in range(taps):
            if abs(history[c, t]) > skip_below:
                loud = max(loud, t)
    buffer = np.empty((channels, taps + n))
    fine = np.zeros(phases + 2)
    for c in range(channels):
        for t in range(taps):
            buffer[c, t] = history[c, t]
        for i in range(n):
            buffer[c, taps + i] = x[c, i]
        for t in range(taps):
            history[c, t] = buffer[c, n + t]
    for i in range(n):
        top = 0.0
        for c in range(channels):
            if abs(buffer[c, taps + i]) > skip_below:
                loud = taps
            top = max(top, abs(buffer[c, i + 1 + centre]))
        if loud > 0:
            loud -= 1
            for c in range(channels):
                window = buffer[c, i + 1 : i + 1 + taps]
                for p in range(phases):
                    v = 0.0
                    for t in range(taps):
                        v += table[p, t] * window[t]
                    fine[p + 1] = abs(v)
                fine[0] = abs(window[centre])
                fine[phases + 1] = abs(window[centre + 1])
                for p in range(1, phases + 1):
                    b = fine[p]
                    top = max(top, b)
                    if b > refine_above and b >= fine[p - 1] and b >= fine[p + 1]:
                        bend = 2.0 * b - fine[p - 1] - fine[p + 1]
                        if bend > 1e-12:
                            slope = fine[p + 1] - fine[p - 1]
                            top = max(top, b + slope * slope / (8.0 * bend))
                if fine[0] > refine_above and fine[0] >= fine[1]:
                    before = 0.0
                    for t in range(taps):
                        before += table[phases - 1, t] * buffer[c, i + t]
                    a = abs(before)
                    bend = 2.0 * fine[0] - a - fine[1]
                    if a <= fine[0] and bend > 1e-12:
                        top = max(top, fine[0] + (fine[1] - a) * (fine[1] - a) / (8.0 * bend))
        out[i] = top


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
    """Mean of the last box.shape[0] values of x, into y. place: [sum, write position]; the sum is taken anew each lap."""
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
