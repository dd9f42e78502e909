"""Delays with feedback, and delays whose length moves."""

import numpy as np

from . import kernel
from .simd import fma, load8, plus, put, splat8, spread8

TAPS = 24
_PIECE = 512


@kernel
def _read(line, place, taps, count, window, out):
    """Frames of a circular line from `place` on, through taps (TAPS,), into out (count or more, in whole eights).

    Every one is worked out in the same way, wherever a piece begins: the bits do not depend on how long pieces are.
    """
    size, begin = line.shape[0], place - TAPS // 2 + 1 & line.shape[0] - 1
    wanted = count + TAPS - 1
    first = min(wanted, size - begin)
    window[:first] = line[begin : begin + first]
    window[first:wanted] = line[: wanted - first]
    window[wanted : wanted + 8] = 0.0
    for i in range(0, count, 8):
        one, other = splat8(0.0), splat8(0.0)
        for k in range(0, TAPS, 2):
            one = fma(load8(window, i + TAPS - 1 - k), spread8(taps, k), one)
            other = fma(load8(window, i + TAPS - 2 - k), spread8(taps, k + 1), other)
        put(out, i, plus(one, other))


@kernel
def _filtered(heard, count, poles, held):
    """Two sides heard (2, any) through a high and a low pass of one pole, in place."""
    low, high, other_low, other_high = held[0, 0], held[0, 1], held[1, 0], held[1, 1]
    for i in range(count):
        low += poles[0] * (heard[0, i] - low)
        other_low += poles[0] * (heard[1, i] - other_low)
        high += poles[1] * (heard[0, i] - low - high)
        other_high += poles[1] * (heard[1, i] - other_low - other_high)
        heard[0, i] = high if abs(high) > 1e-30 else 0.0
        heard[1, i] = other_high if abs(other_high) > 1e-30 else 0.0
    held[0, 0], held[0, 1], held[1, 0], held[1, 1] = low, high, other_low, other_high


@kernel
def _add(line, begin, x, back, feedback):
    """x and `feedback` of what comes back (n,) to a line from `begin` on, which does not end before that."""
    for i in range(x.shape[0]):
        line[begin + i] = min(max(x[i] + feedback * back[i], -8.0), 8.0)


@kernel
def echo(x, lines, taps, whole, place, crossed, feedback, poles, held, drive, y):
    """Repeats of x (2, n) into y (2, n); returns the new place.

    lines (2, size) circular, size a power of two, written at `place`; each side is read `whole[side]` frames back
    through taps (2, TAPS), a fraction of a frame as a windowed sinc. What is read goes through a high and a low pass
    of one pole (poles: share of each) with their memories held (2, 2), through a soft curve where `drive` is over 0,
    and back with `feedback`, to the other side where `crossed`. y is what was read and filtered.
    """
    n, at = x.shape[1], 0
    most = min(_PIECE, whole.min() - TAPS // 2)  # of these none is heard before the first of them is written
    window, heard = np.empty(_PIECE + TAPS + 8), np.empty((2, _PIECE + 8))
    while at < n:
        count = min(most, n - at)
        read_back(lines, taps, whole, place, poles, held, count, window, heard)
        if drive > 0.0:
            for side in range(2):
                for i in range(count):
                    heard[side, i] = np.tanh(drive * heard[side, i]) / drive
        write_on(x, at, lines, place, crossed, feedback, heard[:, :count])
        y[:, at : at + count] = heard[:, :count]
        place += count
        at += count
    return place


@kernel
def read_back(lines, taps, whole, place, poles, held, count, window, heard):
    """What `echo` reads and filters for so many frames, all of it written already, into heard (2, count + 7 or more).

    window (count + TAPS + 8 or more,) is written to.
    """
    for side in range(2):
        _read(lines[side], place - whole[side], taps[side], count, window, heard[side])
    _filtered(heard, count, poles, held)


@kernel
def write_on(x, start, lines, place, crossed, feedback, heard):
    """Writes frames of x (2, any) from `start` on, and `feedback` of what is heard (2, n), to the lines at `place`."""
    n, size = heard.shape[1], lines.shape[1]
    begin = place & size - 1
    first = min(n, size - begin)
    for side in range(2):
        back = heard[1 - side] if crossed else heard[side]
        _add(lines[side], begin, x[side, start : start + first], back[:first], feedback)
        _add(lines[side], 0, x[side, start + first : start + n], back[first:], feedback)


@kernel
def _add_some(x, gain, y):
    for i in range(y.shape[0]):
        y[i] += gain * x[i]


@kernel
def reflected(held, ago, gains, y):
    """Add held (before + n,) as it was ago (k,) frames ago, at most `before`, each times its gain (k,), to y (n,)."""
    before = held.shape[0] - y.shape[0]
    for at in range(0, y.shape[0], _PIECE):
        out = y[at : at + _PIECE]
        for k in range(ago.shape[0]):
            begin = before + at - ago[k]
            _add_some(held[begin : begin + out.shape[0]], gains[k], out)


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
