"""True peaks by polyphase interpolation, and the gain of a look-ahead limiter."""

from functools import lru_cache

import numpy as np

from . import kernel
from .biquad import delay_line
from .levels import top_of
from .simd import (
    any_above,
    fma,
    fused,
    larger,
    load8,
    magnitude,
    minus,
    over,
    plus,
    put,
    shifted,
    splat8,
    times,
    where_above,
)

PHASES = 8
TAPS = 24
_AT_ONCE = 32


@lru_cache(maxsize=1)
def interpolator() -> tuple[np.ndarray, float]:
    """Polyphase windowed-sinc interpolator (PHASES-1, TAPS/2), folded, and the greatest sum of its magnitudes.

    The taps of two phases as far from the middle between two frames are each other's mirror image, so what both give
    is a half that is even and one that is odd, of pairs of frames equally far from that middle: the first three rows
    are the even halves, the next three the odd ones, the last row is the middle phase.
    """
    centre = TAPS // 2 - 1
    rows = []
    for phase in range(1, PHASES):
        t = np.arange(TAPS) - centre - phase / PHASES
        row = np.sinc(t) * np.kaiser(2049, 7.0)[np.round((t + TAPS / 2) / TAPS * 2048).astype(int).clip(0, 2048)]
        rows.append(row / row.sum())
    table = np.array(rows)
    near, far = table[: PHASES // 2, : TAPS // 2], table[: PHASES // 2, : TAPS // 2 - 1 : -1]
    folded = np.concatenate([(near + far)[:-1] / 2, (near - far)[:-1] / 2, near[-1:]])
    return np.ascontiguousarray(folded), float(np.abs(table).sum(axis=1).max())


@kernel
def _between(buffer, at, table):
    """The seven interpolated values after each of eight frames, as seven vectors."""
    zero = splat8(0.0)
    e1, e2, e3, o1, o2, o3, p4 = zero, zero, zero, zero, zero, zero, zero
    for t in range(TAPS // 2):
        x, z = load8(buffer, at + t), load8(buffer, at + TAPS - 1 - t)
        both, apart = plus(x, z), minus(x, z)
        e1, o1 = fma(splat8(table[0, t]), both, e1), fma(splat8(table[3, t]), apart, o1)
        e2, o2 = fma(splat8(table[1, t]), both, e2), fma(splat8(table[4, t]), apart, o2)
        e3, o3 = fma(splat8(table[2, t]), both, e3), fma(splat8(table[5, t]), apart, o3)
        p4 = fma(splat8(table[6, t]), both, p4)
    early = magnitude(plus(e1, o1)), magnitude(plus(e2, o2)), magnitude(plus(e3, o3))
    late = magnitude(minus(e3, o3)), magnitude(minus(e2, o2)), magnitude(minus(e1, o1))
    return (*early, magnitude(p4), *late)


@kernel
def _crest(a, b, d, floor):
    """Height of the parabola through three neighbours where the middle one is the highest and over `floor`, else b."""
    bend = minus(minus(plus(b, b), a), d)
    flat = splat8(1e-12)
    safe = larger(bend, flat)
    rise = minus(d, a)
    crest = plus(b, over(times(rise, rise), times(splat8(8.0), safe)))
    crest = where_above(bend, flat, crest, b)
    crest = where_above(a, b, b, crest)
    crest = where_above(d, b, b, crest)
    return where_above(b, splat8(floor), crest, b)


@kernel
def true_peaks(x, table, skip_below, refine_above, history, out):
    """Greatest of |x| and its interpolated values between a frame and the next, over channels, into out (padded n).

    out[i] belongs to the frame TAPS/2 before x[:, i]. history (channels, TAPS) is carried on. Where no sample nearby
    exceeds `skip_below` frames are given their own level, for nothing between them can exceed the ceiling. Maxima
    over `refine_above` are refined by the parabola through three interpolated values.
    """
    channels, n = x.shape
    own = TAPS // 2
    room = out.shape[0] + TAPS + 8
    buffer, bound = np.zeros(room), splat8(skip_below)
    for c in range(channels):
        buffer[:TAPS] = history[c]
        buffer[TAPS : TAPS + n] = x[c]
        history[c] = buffer[n : n + TAPS]
        after, skipped = splat8(0.0), True
        first, second, third = magnitude(load8(buffer, 0)), magnitude(load8(buffer, 8)), magnitude(load8(buffer, 16))
        for i in range(0, out.shape[0], 8):
            fourth = magnitude(load8(buffer, i + 24))
            loudest = larger(larger(first, second), larger(third, fourth))
            first, second, third = second, third, fourth
            here = magnitude(load8(buffer, i + own))
            if not any_above(loudest, bound):
                skipped = True
                top = here
            else:
                p1, p2, p3, p4, p5, p6, p7 = _between(buffer, i + 1, table)
                if skipped:
                    total = 0.0
                    for t in range(TAPS // 2):
                        one, other = buffer[i + t], buffer[i + TAPS - 1 - t]
                        total += table[0, t] * (one + other) - table[3, t] * (one - other)
                    after = splat8(abs(total))
                top = larger(larger(larger(p1, p2), larger(p3, p4)), larger(larger(p5, p6), larger(p7, here)))
                if any_above(top, splat8(refine_above)):
                    f = refine_above
                    top = larger(top, _crest(shifted(after, p7), here, p1, f))
                    top = larger(top, larger(_crest(here, p1, p2, f), _crest(p1, p2, p3, f)))
                    top = larger(top, larger(_crest(p2, p3, p4, f), _crest(p3, p4, p5, f)))
                    top = larger(top, larger(_crest(p4, p5, p6, f), _crest(p5, p6, p7, f)))
                    top = larger(top, _crest(p6, p7, magnitude(load8(buffer, i + own + 1)), f))
                after, skipped = p7, False
            put(out, i, larger(top, load8(out, i)) if c else top)


@kernel
def _average(x, box, place):
    """Mean of the last box.shape[0] values, in place. place: [sum, write position]; sum taken anew each lap."""
    length, n = box.shape[0], x.shape[0]
    total, position, share = place[0], int(place[1]), 1.0 / length
    i = 0
    while i < n:
        count = min(n - i, length - position)
        new, old = x[i : i + count], box[position : position + count]
        for k in range(count):
            value = new[k]
            total += value - old[k]
            old[k] = value
            new[k] = total * share
        i += count
        position += count
        if position == length:
            position = 0
            total = box.sum()
    place[0], place[1] = total, position


@kernel
def _hold_and_release(gain, release, block, later, place, held):
    """Least of the last block.shape[0] gains, rising again exponentially, in place; returns the last value.

    Minima over a sliding window by blocks (van Herk 1992; Gil & Werman 1993): the least of this block so far, and of
    the part of the block before that is still in the window, whose minima from each place to the end are in `later`.
    place: [frames of this block, its least], carried on.
    """
    window = block.shape[0]
    at, least, stay = int(place[0]), place[1], 1.0 - release
    for i in range(gain.shape[0]):
        v = gain[i]
        block[at] = v
        least = v if v < least else least
        old = later[at + 1]
        low = old if old < least else least
        risen = fused(stay, held, release * low)
        held = low if low < risen else risen
        gain[i] = held
        at += 1
        if at == window:
            at, least = 0, 1.0
            ending = 1.0
            for k in range(window - 1, -1, -1):
                ending = block[k] if block[k] < ending else ending
                later[k] = ending
    place[0], place[1] = at, least
    return held if held < 1.0 - 1e-10 else 1.0


@kernel
def limiter_gain(peaks, n, ceiling, release, block, later, place, quiet, first, second, places, carried):
    """Peaks (padded n) become the gain that keeps them under the ceiling: held, released, two moving averages.

    block (window,) and later (window + 1,) as for `_hold_and_release`, with place (2,); quiet: [frames for which
    nothing was over, frames for which nothing was held down]; places (2, 2) as in `_average`; carried: [last peak,
    held gain]. Where nothing has been over for longer than all memory, the gain is 1 and nothing is worked out.
    Returns whether any gain was not.
    """
    at_work = False
    window = block.shape[0]
    memory = 2 * window + first.shape[0] + second.shape[0]
    last_peak, held = carried[0], carried[1]
    for start in range(0, n, _AT_ONCE):
        part = peaks[start : min(start + _AT_ONCE, n)]
        count = part.shape[0]
        top = max(last_peak, top_of(part))
        if top <= ceiling and quiet[0] >= memory and quiet[1] >= memory:
            last_peak = part[count - 1]
            part[:] = 1.0
            continue
        at_work = True
        before, last_peak = last_peak, part[count - 1]
        for i in range(count - 1, 0, -1):
            part[i] = ceiling / max(max(part[i], part[i - 1]), ceiling)
        part[0] = ceiling / max(max(part[0], before), ceiling)
        quiet[0] += count
        if top > ceiling:
            for i in range(count):
                quiet[0] = count - 1 - i if part[i] < 1.0 else quiet[0]
        held = _hold_and_release(part, release, block, later, place, held)
        quiet[1] = quiet[1] + count if part[0] == 1.0 and held == 1.0 and quiet[0] >= count + window else 0
        _average(part, first, places[0])
        _average(part, second, places[1])
        for i in range(count):
            part[i] = min(part[i], 1.0)
    carried[0], carried[1] = last_peak, held
    return at_work


@kernel
def _times_gain(x, gain, scale, y):
    for i in range(y.shape[0]):
        y[i] = x[i] * (scale * gain[i])


@kernel
def apply_gain_late(x, line, position, gain, scale, y):
    """y = scale · gain · x, x (channels, n) late by line.shape[1] frames; `delay_line` in one go."""
    n, length, rest = x.shape[1], line.shape[1], line.shape[1] - position
    if n < length:
        after = delay_line(x, line, position, y)
        for c in range(x.shape[0]):
            _times_gain(y[c], gain, scale, y[c])
        return after
    for c in range(x.shape[0]):
        _times_gain(line[c, position:], gain[:rest], scale, y[c, :rest])
        _times_gain(line[c, :position], gain[rest:length], scale, y[c, rest:length])
        _times_gain(x[c, : n - length], gain[length:], scale, y[c, length:])
        line[c, :] = x[c, n - length :]
    return 0
