"""Delays with feedback, and delays whose length moves."""

import numpy as np

from . import kernel

TAPS = 24


@kernel
def _read(lines, taps, side, at, mask):
    """One of lines through its row of taps (2, TAPS), the first at `at`; four sums, so that none waits for another."""
    a = b = c = d = 0.0
    for k in range(0, TAPS, 4):
        a += taps[side, k] * lines[side, (at - k) & mask]
        b += taps[side, k + 1] * lines[side, (at - k - 1) & mask]
        c += taps[side, k + 2] * lines[side, (at - k - 2) & mask]
        d += taps[side, k + 3] * lines[side, (at - k - 3) & mask]
    return (a + b) + (c + d)


@kernel
def echo(x, lines, taps, whole, place, crossed, feedback, poles, held, drive, y):
    """Repeats of x (2, n) into y (2, n); returns the new place.

    lines (2, size) circular, size a power of two, written at `place`; each side is read `whole[side]` frames back
    through taps (2, TAPS), a fraction of a frame as a windowed sinc. What is read goes through a high and a low pass
    of one pole (poles: share of each) with their memories held (2, 2), through a soft curve where `drive` is over 0,
    and back with `feedback`, to the other side where `crossed`. y is what was read and filtered.
    """
    n, mask = x.shape[1], lines.shape[1] - 1
    out = np.empty(2)
    for i in range(n):
        for side in range(2):
            total = _read(lines, taps, side, place - whole[side] + TAPS // 2, mask)
            held[side, 0] += poles[0] * (total - held[side, 0])
            high = total - held[side, 0]
            held[side, 1] += poles[1] * (high - held[side, 1])
            v = held[side, 1]
            if drive > 0.0:
                v = np.tanh(drive * v) / drive
            out[side] = v if abs(v) > 1e-30 else 0.0
        for side in range(2):
            back = out[1 - side] if crossed else out[side]
            fed = x[side, i] + feedback * back
            lines[side, place & mask] = min(max(fed, -8.0), 8.0)
            y[side, i] = out[side]
        place += 1
    return place


@kernel
def read_back(lines, taps, whole, place, poles, held, n, y):
    """What `echo` would read and filter for frames 0 to n of y (2, any), all of it written already."""
    mask = lines.shape[1] - 1
    for side in range(2):
        low, high = held[side, 0], held[side, 1]
        for i in range(n):
            total = _read(lines, taps, side, place + i - whole[side] + TAPS // 2, mask)
            low += poles[0] * (total - low)
            high += poles[1] * (total - low - high)
            y[side, i] = high if abs(high) > 1e-30 else 0.0
        held[side, 0], held[side, 1] = low, high


@kernel
def write_on(x, start, lines, place, crossed, feedback, heard):
    """Writes frames of x (2, any) from `start` on, and `feedback` of what is heard (2, n), to the lines at `place`."""
    mask = lines.shape[1] - 1
    for side in range(2):
        back = heard[1 - side] if crossed else heard[side]
        for i in range(heard.shape[1]):
            lines[side, (place + i) & mask] = min(max(x[side, start + i] + feedback * back[i], -8.0), 8.0)


@kernel
def moving(line, start, back, gain_left, gain_right, y):
    """Add a sound as it was back (n,) frames ago, cubic between frames, to both sides of y (2, n).

    The sound stands in line, its first frame at `start`; `back` is at least 2 frames and at most start - 2.
    """
    for i in range(y.shape[1]):
        whole = int(back[i])
        t = back[i] - whole
        at = start + i - whole
        y0, y1, y2, y3 = line[at + 1], line[at], line[at - 1], line[at - 2]
        c1 = 0.5 * (y2 - y0)
        c2 = y0 - 2.5 * y1 + 2.0 * y2 - 0.5 * y3
        c3 = 0.5 * (y3 - y0) + 1.5 * (y1 - y2)
        v = ((c3 * t + c2) * t + c1) * t + y1
        y[0, i] += gain_left * v
        y[1, i] += gain_right * v
