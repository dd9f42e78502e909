"""A band turned down by linear-phase filters, worked out only where something is done to it."""

import numpy as np

from . import kernel
from .dynamics import amplitude_of
from .simd import fma, lane, load8, minus, plus, put, splat8, times

GROUP = 32  # taps that are summed in one go
POINTS = 6  # of the interpolation between values of a band
_AT_ONCE = 16  # frames
_NOTHING_DB = 5e-4  # a gain nearer to 0 dB is none: what it would take away lies 84 dB under the band


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
def _through_all(line, at, taps, out):
    """What taps let through of _AT_ONCE frames of line from `at` on, into out; taps mirror about their middle."""
    middle, left, right = taps.shape[0] // 2, splat8(0.0), splat8(0.0)
    for k in range(1, middle):
        tap = splat8(taps[middle + k])
        left = fma(tap, plus(load8(line, at - k), load8(line, at + k)), left)
        right = fma(tap, plus(load8(line, at + 8 - k), load8(line, at + 8 + k)), right)
    tap = splat8(taps[middle])
    put(out, 0, fma(tap, load8(line, at), left))
    put(out, 8, fma(tap, load8(line, at + 8), right))


@kernel
def _about(place, row):
    """Share of a band at a place among the bands: all of it where it stands, none at its neighbours."""
    return max(0.0, 1.0 - abs(place - row))


@kernel
def _bands_of_all(line, places, at, count, taps, band):
    """Of `count` frames of line from `at` on what the bands at their places let through, into band."""
    if taps.shape[0] == 1:
        _through_all(line, at, taps[0], band)
        return
    first, last, one = places[at], places[at], np.empty(_AT_ONCE)
    for i in range(count):
        first, last = min(first, places[at + i]), max(last, places[at + i])
    band[:] = 0.0
    for row in range(int(first), min(int(last) + 2, taps.shape[0])):
        _through_all(line, at, taps[row], one)
        for i in range(count):
            band[i] += _about(places[at + i], row) * one[i]


@kernel
def _between(line, places, at, taps, table, frame, kept, known):
    """One frame of the band, from values of it that lie table.shape[0] frames apart in the song, POINTS of them.

    kept (8,) values and known (8,) which ones they are serve the frames that follow.
    """
    every, half = table.shape[0], taps.shape[1] // 2
    first = frame // every
    phase, total = frame - first * every, 0.0
    for k in range(POINTS):
        m = first - POINTS // 2 + 1 + k
        if known[m & 7] != m:
            middle, value = at + m * every - frame, 0.0
            for row in range(int(places[middle]), min(int(places[middle]) + 2, taps.shape[0])):
                share = _about(places[middle], row)
                value += share * _through(line, middle - half, taps[row]) if share > 0.0 else 0.0
            known[m & 7], kept[m & 7] = m, value
        total += table[phase, k] * kept[m & 7]
    return total


@kernel
def cut_band(line, base, taps, table, frame, gain_db, mix, y, start, stop):
    """y (channels, n) = x - mix · (1 - 10^(gain/20)) · band from frame start to stop.

    line (channels + 1, any) holds x in rows, and in its last row the place among the bands of each frame; what goes
    to y[:, start] stands at `base`, and what follows the last frame may be read up to _AT_ONCE frames on. The band is
    what taps (bands, a multiple of GROUP) let through, linear in phase, two of them blended; table (every, POINTS)
    interpolates between values that lie `every` frames apart, frame (of the song) is that of y[:, 0]; gain_db
    (padded n) as it is to be at y. Frames whose gain is 0 dB are passed on.
    """
    channels, weight, band = y.shape[0], np.empty(_AT_ONCE), np.empty(_AT_ONCE)
    kept, known = np.empty((channels, 8)), np.full((channels, 8), -(2**62))
    for group in range(start, stop, _AT_ONCE):
        count, busy = min(_AT_ONCE, stop - group), False
        for i in range(count):
            busy = busy or abs(gain_db[group + i]) > _NOTHING_DB
        at = base + group - start
        for c in range(channels):
            y[c, group : group + count] = line[c, at : at + count]
        if not busy:
            continue
        for i in range(0, count, 8):
            put(weight, i, times(splat8(mix), minus(splat8(1.0), amplitude_of(load8(gain_db, group + i)))))
        for c in range(channels):
            if table.shape[0] == 1:
                _bands_of_all(line[c], line[channels], at, count, taps, band)
            for i in range(count):
                if abs(gain_db[group + i]) > _NOTHING_DB:
                    if table.shape[0] > 1:
                        args = line[c], line[channels], at + i, taps, table, frame + group + i, kept[c], known[c]
                        band[i] = _between(*args)
                    y[c, group + i] -= weight[i] * band[i]
