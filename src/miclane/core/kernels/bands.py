"""A band turned down by linear-phase filters, worked out only where something is done to it."""

import numpy as np

from . import kernel
from .levels import amplitude_of
from .simd import fma, larger, largest, load8, magnitude, minus, plus, put, smaller, splat8, spread8, times, total

GROUP = 32  # taps that are summed in one go
POINTS = 6  # of the interpolation between values of a band
AT_ONCE = 128  # frames
_LOW_AT_ONCE = 64  # of a low band, of which no more than 64 values are held
_RUN = 256  # frames that are passed over at once where nothing is done
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
    return total(plus(plus(a, b), plus(c, d)))


@kernel
def _through_all(line, at, skewed, out):
    """What taps let through of AT_ONCE frames of line from `at` on, into out: every frame in the order of the taps.

    skewed ((taps + 7) · 8,): rows of eight, column i of which holds the taps i rows down, so that one row serves eight
    frames.
    """
    a, b, c, d = splat8(0.0), splat8(0.0), splat8(0.0), splat8(0.0)
    e, f, g, h = splat8(0.0), splat8(0.0), splat8(0.0), splat8(0.0)
    i, j, k, m = splat8(0.0), splat8(0.0), splat8(0.0), splat8(0.0)
    n, o, p, q = splat8(0.0), splat8(0.0), splat8(0.0), splat8(0.0)
    for t in range(skewed.shape[0] // 8):
        row, x = load8(skewed, 8 * t), at + t
        a, b = fma(spread8(line, x), row, a), fma(spread8(line, x + 8), row, b)
        c, d = fma(spread8(line, x + 16), row, c), fma(spread8(line, x + 24), row, d)
        e, f = fma(spread8(line, x + 32), row, e), fma(spread8(line, x + 40), row, f)
        g, h = fma(spread8(line, x + 48), row, g), fma(spread8(line, x + 56), row, h)
        i, j = fma(spread8(line, x + 64), row, i), fma(spread8(line, x + 72), row, j)
        k, m = fma(spread8(line, x + 80), row, k), fma(spread8(line, x + 88), row, m)
        n, o = fma(spread8(line, x + 96), row, n), fma(spread8(line, x + 104), row, o)
        p, q = fma(spread8(line, x + 112), row, p), fma(spread8(line, x + 120), row, q)
    put(out, 0, a)
    put(out, 8, b)
    put(out, 16, c)
    put(out, 24, d)
    put(out, 32, e)
    put(out, 40, f)
    put(out, 48, g)
    put(out, 56, h)
    put(out, 64, i)
    put(out, 72, j)
    put(out, 80, k)
    put(out, 88, m)
    put(out, 96, n)
    put(out, 104, o)
    put(out, 112, p)
    put(out, 120, q)


@kernel
def _about(place, row):
    """Share of a band at a place among the bands: all of it where it stands, none at its neighbours."""
    return max(0.0, 1.0 - abs(place - row))


@kernel
def _bands_of_all(line, places, skewed, band, one):
    """What the bands at their places (count,) let through of the frames in the middle of line, into band."""
    if skewed.shape[0] == 1:
        _through_all(line, 0, skewed[0], band)
        return
    first, last = places[0], places[0]
    for i in range(places.shape[0]):
        first, last = min(first, places[i]), max(last, places[i])
    band[:] = 0.0
    for row in range(int(first), min(int(last) + 2, skewed.shape[0])):
        _through_all(line, 0, skewed[row], one)
        for i in range(places.shape[0]):
            band[i] += _about(places[i], row) * one[i]


@kernel
def _quiet(gain_db, start, stop):
    """Whether all gains from start to stop are none."""
    most, wide = splat8(0.0), start + (stop - start) // 8 * 8
    for i in range(start, wide, 8):
        most = larger(magnitude(load8(gain_db, i)), most)
    found = largest(most)
    for i in range(wide, stop):
        found = max(found, abs(gain_db[i]))
    return found <= _NOTHING_DB


@kernel
def _copied(x, y):
    for i in range(y.shape[0]):
        y[i] = x[i]


@kernel
def _frames(before, x, at, out):
    """Frames of a sound from `at` on into out (n,): x from 0 on, what came before it, nothing after it."""
    n, keep = out.shape[0], before.shape[0]
    first = min(n, max(0, -at))
    last = max(first, min(n, x.shape[0] - at))
    _copied(before[keep + at : keep + at + first], out[:first])
    _copied(x[at + first : at + last], out[first:last])
    out[last:] = 0.0


@kernel
def _weights(gain_db, start, count, mix, weight):
    """mix · (1 - 10^(gain/20)) of `count` gains into weight, 0 where a gain is none."""
    nothing, one = splat8(0.0), splat8(1.0)
    for i in range(0, count, 8):
        gain = load8(gain_db, start + i)
        any_gain = times(minus(magnitude(gain), splat8(_NOTHING_DB)), splat8(1e300))
        any_gain = smaller(larger(any_gain, nothing), splat8(mix))  # 0 for none, else mix
        put(weight, i, times(any_gain, minus(one, amplitude_of(gain))))


@kernel
def cut_band(before, x, places, latency, skewed, gain_db, mix, y, start):
    """y (channels, n) = x - mix · (1 - 10^(gain/20)) · band from frame `start` on, x `latency` frames late.

    before (channels, any) is what came before x, of several bands with a row more, of the place among them of each
    frame; places (n,) is that of x. The band is what taps let through, an odd number, linear in phase, two of them
    blended: skewed (bands, ...) as for `_through_all`; gain_db (padded n) as it is to be at y. Frames whose gain is
    0 dB are passed on.
    """
    channels, stop, around = y.shape[0], y.shape[1], skewed.shape[1] // 8 - 8
    weight, band, one, at = np.empty(AT_ONCE), np.empty(AT_ONCE), np.empty(AT_ONCE), np.empty(AT_ONCE)
    line = np.empty(AT_ONCE + 8 + around)
    for run in range(start, stop, _RUN):
        end = min(run + _RUN, stop)
        for c in range(channels):
            _frames(before[c], x[c], run - latency, y[c, run:end])
        if _quiet(gain_db, run, end):
            continue
        for group in range(run, end, AT_ONCE):
            count = min(AT_ONCE, end - group)
            if _quiet(gain_db, group, group + count):
                continue
            _weights(gain_db, group, count, mix, weight)
            if skewed.shape[0] > 1:
                _frames(before[channels], places, group - latency, at[:count])
            for c in range(channels):
                _frames(before[c], x[c], group - latency - around // 2, line)
                _bands_of_all(line, at[:count], skewed, band, one)
                out = y[c, group : group + count]
                for i in range(count):
                    out[i] -= weight[i] * band[i]


@kernel
def _low_value(line, at, low, done, m, every, short, taps, place):
    """The band at value m of the song, whose frame stands at `at` in line, two of taps (bands, ...) blended.

    low (2 · k,) keeps every value twice, k apart, so that what is needed stands in a row; done (1,) is the first that
    has not been worked out yet.
    """
    half, ring = taps.shape[1] // 2, low.shape[0] // 2
    for k in range(max(done[0], m - half), m - half + taps.shape[1]):
        found = _through(line, at + (k - m) * every - short.shape[0] // 2, short)
        low[k & (ring - 1)] = low[(k & (ring - 1)) + ring] = found
    done[0] = max(done[0], m - half + taps.shape[1])
    value = 0.0
    for row in range(int(place), min(int(place) + 2, taps.shape[0])):
        share = _about(place, row)
        value += share * _through(low, (m - half) & (ring - 1), taps[row]) if share > 0.0 else 0.0
    return value


@kernel
def cut_low_band(line, base, low, done, values, known, short, taps, table, frame, gain_db, mix, y, start, stop):
    """As `cut_band` for a band far below half the rate, whose values are worked out every few frames of the song.

    line (channels + 1, any) holds x in rows, and in its last row the places; what goes to y[:, start] stands at `base`.
    Of what short (a multiple of GROUP) lets through of line, every k-th frame of the song, k the rows of table, goes
    through taps (bands, a multiple of GROUP); both have their middle at the half. table (k, POINTS) interpolates;
    `frame` of the song is y[:, start]. low (channels, a power of two, twice), done (channels, 1) as for `_low_value`,
    values and known (channels, 64), which values they are, are carried on.
    """
    channels, every = y.shape[0], table.shape[0]
    weight = np.empty(_LOW_AT_ONCE)
    for run in range(start, stop, _RUN):
        end = min(run + _RUN, stop)
        for c in range(channels):
            _copied(line[c, base + run - start : base + end - start], y[c, run:end])
        if _quiet(gain_db, run, end):
            continue
        for group in range(run, end, _LOW_AT_ONCE):
            count = min(_LOW_AT_ONCE, end - group)
            if _quiet(gain_db, group, group + count):
                continue
            _weights(gain_db, group, count, mix, weight)
            at = frame + group - start
            begin = at // every - POINTS // 2 + 1
            for c in range(channels):
                for m in range(begin, (at + count - 1) // every + POINTS // 2 + 1):
                    if known[c, m & 63] != m:
                        place = base + group - start + m * every - at
                        args = line[c], place, low[c], done[c], m, every, short, taps, line[channels, place]
                        known[c, m & 63], values[c, m & 63] = m, _low_value(*args)
                m, phase = begin, at % every
                held, out = values[c], y[c, group : group + count]
                for i in range(count):
                    found = 0.0
                    for p in range(POINTS):
                        found += table[phase, p] * held[(m + p) & 63]
                    out[i] -= weight[i] * found
                    phase += 1
                    if phase == every:
                        m, phase = m + 1, 0
