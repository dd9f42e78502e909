"""A band turned down by linear-phase filters, worked out only where something is done to it."""

import numpy as np

from . import kernel
from .dynamics import amplitude_of
from .simd import fma, lane, load8, minus, plus, put, splat8, times

GROUP = 32  # taps that are summed in one go
POINTS = 6  # of the interpolation between values of a band


@kernel
def _through(line, at, taps):
    """taps (a multiple of GROUP) times what stands in line from `at` on; the same bits wherever it stands."""
    a, b, c, d = splat8(0.0), splat8(0.0), splat8(0.0), splat8(0.0)
    for t in range(0, taps.shape[0], GROUP):
        a = fma(load8(line, at + t), load8(taps, t), a)
        b = fma(load8(line, at + t + 8), load8(taps, t + 8), b)
        c = fma(load8(line, at + t + 16), load8(taps, t + 16), c)
        d = fma(load8(line, at + t + 24), load8(taps, t + 24), d)
    total = plus(plus(a, b), plus(c, d))
    near = lane(total, 0) + lane(total, 1) + lane(total, 2) + lane(total, 3)
    return near + lane(total, 4) + lane(total, 5) + lane(total, 6) + lane(total, 7)


@kernel
def _blended(line, places, at, taps):
    """What of line about `at` the two bands next to the place there let through, the nearer the more."""
    low = min(int(places[at]), taps.shape[0] - 1)
    share, first = places[at] - low, at - taps.shape[1] // 2
    near = _through(line, first, taps[low])
    return near + share * (_through(line, first, taps[low + 1]) - near) if share > 0.0 else near


@kernel
def _between(line, places, at, taps, table, frame, kept, known):
    """As `_blended`, from values that lie table.shape[0] frames apart in the song: POINTS of them about `frame`.

    kept (8,) values and known (8,) which ones they are serve the frames that follow.
    """
    every = table.shape[0]
    first = frame // every
    phase, total = frame - first * every, 0.0
    for k in range(POINTS):
        m = first - POINTS // 2 + 1 + k
        if known[m & 7] != m:
            known[m & 7] = m
            kept[m & 7] = _blended(line, places, at + m * every - frame, taps)
        total += table[phase, k] * kept[m & 7]
    return total


@kernel
def cut_band(line, base, taps, table, frame, gain_db, mix, y, start, stop):
    """y (channels, n) = x - mix · (1 - 10^(gain/20)) · band from frame start to stop.

    line (channels + 1, any) holds x in rows, and in its last row the place among the bands of each frame; what goes
    to y[:, 0] stands at `base`. The band is what taps (bands, a multiple of GROUP) let through, linear in phase, two
    of them blended; table (every, POINTS) interpolates between values that lie `every` frames apart, frame (of the
    song) is that of y[:, 0]; gain_db (padded n) as it is to be at y. Frames whose gain is 0 dB are passed on.
    """
    channels, weight = y.shape[0], np.empty(8)
    kept, known = np.empty((channels, 8)), np.full((channels, 8), -(2**62))
    for group in range(start, stop, 8):
        to, busy = min(group + 8, stop), False
        for i in range(group, to):
            busy = busy or gain_db[i] != 0.0
        if busy:
            put(weight, 0, times(splat8(mix), minus(splat8(1.0), amplitude_of(load8(gain_db, group)))))
        for c in range(channels):
            for i in range(group, to):
                at = base + i
                y[c, i] = line[c, at]
                if busy and gain_db[i] != 0.0:
                    if table.shape[0] == 1:
                        band = _blended(line[c], line[channels], at, taps)
                    else:
                        band = _between(line[c], line[channels], at, taps, table, frame + i, kept[c], known[c])
                    y[c, i] -= weight[i - group] * band
