"""A feedback delay network of sixteen lines mixed by a Hadamard matrix, eight frames at a time."""

import numpy as np

from . import kernel
from .simd import fma, last, later, load8, minus, plus, put, shifted, splat8, times, within

LINES = 16
GRID = 64
GUARD = 16
_RAMP = np.arange(8.0)


@kernel
def _read_moving(lines, row, mask, write, back, slope):
    """Cubic Hermite reads of a line for eight frames, `back + slope · i` frames behind the writing.

    The interval of the first frame serves all eight: the reading moves by less than a hundredth of a frame meanwhile.
    """
    whole = int(back)
    at = row + ((write - whole - 2) & mask)
    t = plus(splat8(back - whole), times(splat8(slope), load8(_RAMP, 0)))
    y3, y2, y1, y0 = load8(lines, at), load8(lines, at + 1), load8(lines, at + 2), load8(lines, at + 3)
    half = splat8(0.5)
    c1 = times(half, minus(y2, y0))
    c2 = minus(fma(splat8(2.0), y2, fma(splat8(-2.5), y1, y0)), times(half, y3))
    c3 = fma(splat8(1.5), minus(y1, y2), times(half, minus(y3, y0)))
    return fma(fma(fma(c3, t, c2), t, c1), t, y1)


@kernel
def _mix_four(v, a, b, c, d):
    """Four lines become their sums and differences: two stages of the Hadamard transform."""
    p, q, r, s = load8(v, 8 * a), load8(v, 8 * b), load8(v, 8 * c), load8(v, 8 * d)
    p, q, r, s = plus(p, q), minus(p, q), plus(r, s), minus(r, s)
    put(v, 8 * a, plus(p, r))
    put(v, 8 * b, plus(q, s))
    put(v, 8 * c, minus(p, r))
    put(v, 8 * d, minus(q, s))


@kernel
def _turn_two(v, a, b, s, c, slope_s, slope_c):
    """Two lines, eight frames of each, turned into one another by an angle that moves: sine s + slope_s · i."""
    i = load8(_RAMP, 0)
    sine, cosine = fma(splat8(slope_s), i, splat8(s)), fma(splat8(slope_c), i, splat8(c))
    x, y = load8(v, 8 * a), load8(v, 8 * b)
    put(v, 8 * a, minus(times(cosine, x), times(sine, y)))
    put(v, 8 * b, fma(sine, x, times(cosine, y)))


@kernel
def powers_of(shelf, out):
    """Powers 1 to 8 of the pole of every line's shelf into out (16, 8)."""
    for k in range(shelf.shape[0]):
        power = 1.0
        for i in range(8):
            power *= -shelf[k, 2]
            out[k, i] = power


@kernel
def network(
    left_right,
    lines,
    lengths,
    moving,
    write,
    shelf,
    powers,
    carry,
    depth,
    lfo,
    lfo_step,
    turn,
    turn_step,
    taps_in,
    taps_out,
    y,
):
    """Run the network over left_right (2, n) into y (2, n); returns the new write position.

    lines (16, size + GUARD) circular buffers, size a power of two, the first frames repeated in the guard; lengths
    (16,) frames, more than a grid; moving (16,) whether a line is modulated, by `depth` frames; shelf (16, 3)
    first-order [b0 b1 a1] absorption, powers (16, 8) those of its pole, carry (16, 2) its last input and output;
    lfo (16, 2) quadrature oscillators turned by lfo_step (16, 2) every GRID frames; turn and turn_step (8, 2) likewise,
    the angles by which line k and line 15 - k are turned into one another after they are mixed; taps_in, taps_out
    (16, 2) gains from and to left and right. Frames go in groups of eight that begin at multiples of eight; what the
    lines give in a group is known before any of it is fed, so a group that is only begun is worked out again when the
    rest comes.
    """
    n = left_right.shape[1]
    mask = lines.shape[1] - GUARD - 1
    width = lines.shape[1]
    flat, poles, v = lines.reshape(lines.size), powers.reshape(powers.size), np.empty(128)
    ends = np.empty((16, 2))
    fed, heard = np.zeros(16), np.empty(16)
    at = 0
    while at < n:
        inside = write & 7
        begun = write - inside
        count = min(8 - inside, n - at)
        first = begun & (GRID - 1)
        left, right = splat8(0.0), splat8(0.0)
        for k in range(16):
            if moving[k]:
                s, c = lfo[k, 0], lfo[k, 1]
                after = s * lfo_step[k, 1] + c * lfo_step[k, 0]
                slope = depth * (after - s) / GRID
                back = lengths[k] + depth * s + slope * first
                r = _read_moving(flat, k * width, mask, begun, back, slope)
            else:
                r = load8(flat, k * width + ((begun - int(lengths[k])) & mask))
            u = fma(splat8(shelf[k, 0]), r, times(splat8(shelf[k, 1]), shifted(splat8(carry[k, 0]), r)))
            u = fma(splat8(powers[k, 0]), later(u, 1), u)
            u = fma(splat8(powers[k, 1]), later(u, 2), u)
            u = fma(splat8(powers[k, 3]), later(u, 4), u)
            o = fma(load8(poles, 8 * k), splat8(carry[k, 1]), u)
            ends[k, 0], ends[k, 1] = last(r), last(o)
            put(v, 8 * k, o)
            left = fma(splat8(taps_out[k, 0]), o, left)
            right = fma(splat8(taps_out[k, 1]), o, right)
        put(heard, 0, left)
        put(heard, 8, right)
        for side in range(2):
            for i in range(count):
                y[side, at + i] = heard[8 * side + inside + i]
                fed[8 * side + inside + i] = left_right[side, at + i]
        for k in range(0, 16, 4):
            _mix_four(v, k, k + 1, k + 2, k + 3)
        for k in range(4):
            _mix_four(v, k, k + 4, k + 8, k + 12)
        for k in range(turn.shape[0]):
            s, c = turn[k, 0], turn[k, 1]
            slope_s = (s * turn_step[k, 1] + c * turn_step[k, 0] - s) / GRID
            slope_c = (c * turn_step[k, 1] - s * turn_step[k, 0] - c) / GRID
            _turn_two(v, k, 15 - k, s + slope_s * first, c + slope_c * first, slope_s, slope_c)
        left, right = load8(fed, 0), load8(fed, 8)
        place = begun & mask
        for k in range(16):
            new = fma(splat8(taps_in[k, 0]), left, times(splat8(taps_in[k, 1]), right))
            new = fma(splat8(0.25), load8(v, 8 * k), new)
            to = k * width + place
            new = within(inside, inside + count - 1, new, load8(flat, to))
            put(flat, to, new)
            if place < GUARD:
                put(flat, to + mask + 1, new)
        write += count
        at += count
        if inside + count == 8:
            for k in range(16):
                carry[k, 0] = ends[k, 0]
                carry[k, 1] = ends[k, 1] if abs(ends[k, 1]) > 1e-30 else 0.0
            if first + 8 == GRID:
                for k in range(16):
                    if moving[k]:
                        s, c = lfo[k, 0], lfo[k, 1]
                        lfo[k, 0] = s * lfo_step[k, 1] + c * lfo_step[k, 0]
                        lfo[k, 1] = c * lfo_step[k, 1] - s * lfo_step[k, 0]
                for k in range(turn.shape[0]):
                    s, c = turn[k, 0], turn[k, 1]
                    turn[k, 0] = s * turn_step[k, 1] + c * turn_step[k, 0]
                    turn[k, 1] = c * turn_step[k, 1] - s * turn_step[k, 0]
    return write & mask


@kernel
def _spread(held, x, gain):
    """held gets x - gain · held, x gets what was held + gain · that."""
    for i in range(x.shape[0]):
        delayed = held[i]
        fed = x[i] - gain * delayed
        held[i] = fed
        x[i] = delayed + gain * fed


@kernel
def diffuse(x, lines, lengths, places, gains):
    """Schroeder allpasses in a row over each channel of x (channels, n), in place.

    lines (channels, units, frames) their memories, lengths and places (channels, units) how much of each is in use and
    where it is; places are carried on. gains (channels, units).
    """
    n = x.shape[1]
    for c in range(x.shape[0]):
        for unit in range(lengths.shape[1]):
            length, position, i = lengths[c, unit], places[c, unit], 0
            while i < n:
                count = min(n - i, length - position)
                _spread(lines[c, unit, position : position + count], x[c, i : i + count], gains[c, unit])
                i += count
                position = position + count if position + count < length else 0
            places[c, unit] = position
