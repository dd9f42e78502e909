"""A feedback delay network of sixteen lines mixed by a Hadamard matrix, eight frames at a time.

A grid of 64 frames that is there whole goes line by line: a line's frames lie together, and what it is worked out with
stays in registers. The two ways give the same bits.
"""

import numpy as np

from . import kernel, kernel_within
from .simd import fma, fused, last, load8, minus, plus, put, splat8, spread8, times, within

LINES = 16
GRID = 64
GUARD = 16
_APART = GRID + 8  # frames from a line to the next in a grid: no two lie at the same place of a page
_RAMP = np.arange(8.0)


@kernel_within
def _read_moving(lines, at, back, slope):
    """Cubic Hermite reads of a line for eight frames that lie `back + slope · i` frames before the frame at + 2 + back.

    The interval of the first frame serves all eight: the reading moves by less than a hundredth of a frame meanwhile.
    """
    t = fma(splat8(slope), load8(_RAMP, 0), splat8(back - int(back)))
    y3, y2, y1, y0 = load8(lines, at), load8(lines, at + 1), load8(lines, at + 2), load8(lines, at + 3)
    half = splat8(0.5)
    c1 = times(half, minus(y2, y0))
    c2 = fma(splat8(-0.5), y3, fma(splat8(2.0), y2, fma(splat8(-2.5), y1, y0)))
    c3 = fma(splat8(1.5), minus(y1, y2), times(half, minus(y3, y0)))
    return fma(fma(fma(c3, t, c2), t, c1), t, y1)


@kernel
def responses(shelf, columns, powers):
    """What eight frames through a line's shelf [b0 b1 a1] (16, 3) come to, as rows for `network`.

    columns (16, 64): for each of the eight its response from the first of them on; powers (16, 11): what the state
    before them comes to in each, then the state's share of the last input, of the last output, and of itself.
    """
    columns[:] = 0.0
    for k in range(shelf.shape[0]):
        pole, power, response = -shelf[k, 2], 1.0, shelf[k, 0]
        for i in range(8):
            powers[k, i] = power
            for j in range(8 - i):
                columns[k, 8 * j + i + j] = response
            response = (shelf[k, 0] * pole + shelf[k, 1]) * power
            power *= pole
        powers[k, 8], powers[k, 9], powers[k, 10] = shelf[k, 1], pole, power


@kernel_within
def _shelved(x, at, c0, c1, c2, c3, c4, c5, c6, c7):
    """Eight frames of x from `at` on through the shelf, as from a state of nothing."""
    u = fma(c1, spread8(x, at + 1), times(c0, spread8(x, at)))
    u = fma(c3, spread8(x, at + 3), fma(c2, spread8(x, at + 2), u))
    u = fma(c5, spread8(x, at + 5), fma(c4, spread8(x, at + 4), u))
    return fma(c7, spread8(x, at + 7), fma(c6, spread8(x, at + 6), u))


@kernel_within
def _columns(columns, k):
    """Those of line k."""
    a, b = 64 * k, 64 * k + 32
    first = load8(columns, a), load8(columns, a + 8), load8(columns, a + 16), load8(columns, a + 24)
    return (*first, load8(columns, b), load8(columns, b + 8), load8(columns, b + 16), load8(columns, b + 24))


@kernel_within
def _going_on(state, newest, u, powers, k):
    """The state of line k after eight frames that end with `newest`, u from a state of nothing."""
    by = fused(powers[11 * k + 9], last(u), powers[11 * k + 8] * newest)
    after = fused(powers[11 * k + 10], state, by)
    return after if abs(after) > 1e-30 else 0.0


@kernel_within
def _four(p, q, r, s):
    """Sums and differences of four: two stages of Hadamard's transform."""
    p, q, r, s = plus(p, q), minus(p, q), plus(r, s), minus(r, s)
    return plus(p, r), plus(q, s), minus(p, r), minus(q, s)


@kernel_within
def _turned(x, y, turning, pair, first):
    """Eight frames of two lines turned into one another by an angle that moves, `first` of their grid."""
    i = plus(splat8(first), load8(_RAMP, 0))
    sine = fma(spread8(turning, 4 * pair + 2), i, spread8(turning, 4 * pair))
    cosine = fma(spread8(turning, 4 * pair + 3), i, spread8(turning, 4 * pair + 1))
    return fma(cosine, x, times(splat8(-1.0), times(sine, y))), fma(sine, x, times(cosine, y))


@kernel_within
def _put_four(v, at, apart, p, q, r, s):
    """Four lines to their places."""
    put(v, at, p)
    put(v, at + apart, q)
    put(v, at + 2 * apart, r)
    put(v, at + 3 * apart, s)


@kernel
def _mix(v, at, apart, turning, first):
    """Eight frames of all lines, at `at` of v and every `apart` after it, mixed and turned; `first` of their grid."""
    v0, v1, v2, v3 = _four(load8(v, at), load8(v, at + apart), load8(v, at + 2 * apart), load8(v, at + 3 * apart))
    b = at + 4 * apart
    v4, v5, v6, v7 = _four(load8(v, b), load8(v, b + apart), load8(v, b + 2 * apart), load8(v, b + 3 * apart))
    b = at + 8 * apart
    v8, v9, va, vb = _four(load8(v, b), load8(v, b + apart), load8(v, b + 2 * apart), load8(v, b + 3 * apart))
    b = at + 12 * apart
    vc, vd, ve, vf = _four(load8(v, b), load8(v, b + apart), load8(v, b + 2 * apart), load8(v, b + 3 * apart))
    v0, v4, v8, vc = _four(v0, v4, v8, vc)
    v1, v5, v9, vd = _four(v1, v5, v9, vd)
    v2, v6, va, ve = _four(v2, v6, va, ve)
    v3, v7, vb, vf = _four(v3, v7, vb, vf)
    v0, vf = _turned(v0, vf, turning, 0, first)
    v1, ve = _turned(v1, ve, turning, 1, first)
    v2, vd = _turned(v2, vd, turning, 2, first)
    v3, vc = _turned(v3, vc, turning, 3, first)
    v4, vb = _turned(v4, vb, turning, 4, first)
    v5, va = _turned(v5, va, turning, 5, first)
    v6, v9 = _turned(v6, v9, turning, 6, first)
    v7, v8 = _turned(v7, v8, turning, 7, first)
    _put_four(v, at, apart, v0, v1, v2, v3)
    _put_four(v, at + 4 * apart, apart, v4, v5, v6, v7)
    _put_four(v, at + 8 * apart, apart, v8, v9, va, vb)
    _put_four(v, at + 12 * apart, apart, vc, vd, ve, vf)


@kernel_within
def _moved(lfo, lfo_step, depth, length, k, first):
    """How far back line k is read at a frame of its grid, and by how much more a frame."""
    s = lfo[2 * k]
    slope = depth * (fused(s, lfo_step[2 * k + 1], lfo[2 * k + 1] * lfo_step[2 * k]) - s) * (1.0 / GRID)
    return fused(slope, first, fused(depth, s, length)), slope


@kernel
def _step(angles, steps):
    """Quadrature oscillators (k · 2) go on by one GRID."""
    for k in range(0, angles.shape[0], 2):
        s, c = angles[k], angles[k + 1]
        angles[k] = s * steps[k + 1] + c * steps[k]
        angles[k + 1] = c * steps[k + 1] - s * steps[k]


@kernel
def _towards(turn, steps, turning):
    """Sine, cosine and how much more of them a frame, of each pair over a grid, into turning (8 · 4)."""
    for k in range(8):
        s, c, step_s, step_c = turn[2 * k], turn[2 * k + 1], steps[2 * k], steps[2 * k + 1]
        turning[4 * k], turning[4 * k + 1] = s, c
        turning[4 * k + 2] = (s * step_c + c * step_s - s) / GRID
        turning[4 * k + 3] = (c * step_c - s * step_s - c) / GRID


@kernel_within
def _heard(v, at, apart, taps):
    """Eight frames of all lines on one side, by gains at every other of taps."""
    y = times(spread8(taps, 0), load8(v, at))
    for k in range(1, 16):
        y = fma(spread8(taps, 2 * k), load8(v, at + apart * k), y)
    return y


@kernel_within
def _fed(v, at, left, right, taps_in, k):
    """What line k takes in: its share of the input and of what has been mixed."""
    new = fma(spread8(taps_in, 2 * k), left, times(spread8(taps_in, 2 * k + 1), right))
    return fma(splat8(0.25), load8(v, at), new)


def rings_for(lengths: np.ndarray, depth: float) -> tuple[np.ndarray, int]:
    """Where rings for lines of such lengths (16,), read up to `depth` frames further back, begin and how long they are.

    As (16, 2), and the frames they all take: no more than is needed, for what is in them is to stay near the processor.
    """
    sizes = (np.ceil((lengths + depth + GUARD) / GRID).astype(np.int64) + 1) * GRID
    begins = np.concatenate([[0], np.cumsum(sizes + GUARD)])
    return np.stack([begins[:-1], sizes], axis=1), int(begins[-1])


@kernel_within
def _on(places, rings, frames):
    """Places in all rings go on by so many frames."""
    for k in range(16):
        place = places[k] + frames
        places[k] = place - rings[2 * k + 1] if place >= rings[2 * k + 1] else place


@kernel_within
def _ago(place, back, size):
    """Where in a ring that lies which is `back` frames before `place`."""
    at = place - back
    return at + size if at < 0 else at


@kernel
def _grid(
    fed, given, n, at, lines, rings, places, lengths, moving, columns, powers, carry, depth, lfo, lfo_step, turning,
    taps_in, taps_out, v,
):  # fmt: skip
    """A whole grid, line by line, at these places of its rings.

    All arrays are rows, those of two channels n frames a channel, here from `at` on.
    """
    spare = 16 * _APART
    for k in range(16):
        c0, c1, c2, c3, c4, c5, c6, c7 = _columns(columns, k)
        state, before, to = carry[k], load8(powers, 11 * k), _APART * k
        ring, size, place = rings[2 * k], rings[2 * k + 1], places[k]
        if moving[k]:
            for g in range(0, GRID, 8):
                back, slope = _moved(lfo, lfo_step, depth, lengths[k], k, g)
                put(v, spare + g, _read_moving(lines, ring + _ago(place + g, int(back) + 2, size), back, slope))
            for g in range(spare, spare + GRID, 8):
                u = _shelved(v, g, c0, c1, c2, c3, c4, c5, c6, c7)
                put(v, to, fma(before, splat8(state), u))
                state = _going_on(state, v[g + 7], u, powers, k)
                to += 8
        else:
            begin, end = ring + _ago(place, int(lengths[k]), size), ring + size
            for _ in range(0, GRID, 8):
                u = _shelved(lines, begin, c0, c1, c2, c3, c4, c5, c6, c7)
                put(v, to, fma(before, splat8(state), u))
                state = _going_on(state, lines[begin + 7], u, powers, k)
                to += 8
                begin = begin + 8 if begin + 8 < end else begin + 8 - size
        carry[k] = state
    for g in range(0, GRID, 8):
        put(given, at + g, _heard(v, g, _APART, taps_out))
        put(given, n + at + g, _heard(v, g, _APART, taps_out[1:]))
        _mix(v, g, _APART, turning, g)
    for k in range(16):
        ring, size = rings[2 * k], rings[2 * k + 1]
        to = ring + places[k]
        for g in range(0, GRID, 8):
            put(lines, to + g, _fed(v, _APART * k + g, load8(fed, at + g), load8(fed, n + at + g), taps_in, k))
        if to == ring:
            lines[ring + size : ring + size + GUARD] = lines[ring : ring + GUARD]


@kernel
def _some(
    fed, given, n, at, count, lines, rings, places, inside, first, lengths, moving, columns, powers, carry, depth, lfo,
    lfo_step, turning, taps_in, taps_out, v,
):  # fmt: skip
    """Frames `inside` to inside + count of a group of eight that begins at these places, the `first` of its grid."""
    ends, ways = np.empty(16), np.zeros(40)
    for k in range(16):
        c0, c1, c2, c3, c4, c5, c6, c7 = _columns(columns, k)
        ring, size, place = rings[2 * k], rings[2 * k + 1], places[k]
        if moving[k]:
            back, slope = _moved(lfo, lfo_step, depth, lengths[k], k, first)
            put(ways, 32, _read_moving(lines, ring + _ago(place, int(back) + 2, size), back, slope))
        else:
            put(ways, 32, load8(lines, ring + _ago(place, int(lengths[k]), size)))
        u = _shelved(ways, 32, c0, c1, c2, c3, c4, c5, c6, c7)
        put(v, 8 * k, fma(load8(powers, 11 * k), splat8(carry[k]), u))
        ends[k] = _going_on(carry[k], ways[39], u, powers, k)
    put(ways, 0, _heard(v, 0, 8, taps_out))
    put(ways, 8, _heard(v, 0, 8, taps_out[1:]))
    for side in range(2):
        for i in range(count):
            given[side * n + at + i] = ways[8 * side + inside + i]
            ways[16 + 8 * side + inside + i] = fed[side * n + at + i]
    _mix(v, 0, 8, turning, first)
    for k in range(16):
        ring, size, place = rings[2 * k], rings[2 * k + 1], places[k]
        new = _fed(v, 8 * k, load8(ways, 16), load8(ways, 24), taps_in, k)
        new = within(inside, inside + count - 1, new, load8(lines, ring + place))
        put(lines, ring + place, new)
        if place < GUARD:
            put(lines, ring + place + size, new)
    if inside + count == 8:
        carry[:] = ends


@kernel
def network(
    left_right,
    lines,
    rings,
    lengths,
    moving,
    frame,
    columns,
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
    """Run the network over left_right (2, n), which begins at `frame` of the song, into y (2, n).

    lines: what is in the lines, one ring after the other; rings (16, 2): where each begins and of how many frames it
    is, as from `rings_for`, a frame at its number modulo that, the first frames repeated in the guard behind; lengths
    (16,) frames; moving (16,) whether a line is modulated, by `depth` frames; columns (16, 64) and powers (16, 11)
    its absorption, from `responses`, carry (16,) the state of that; lfo (16, 2) quadrature oscillators turned by
    lfo_step (16, 2) every GRID frames; turn and turn_step (8, 2) likewise, the angles by which line k and line 15 - k
    are turned into one another after they are mixed; taps_in, taps_out (16, 2) gains from and to left and right.
    Frames go in grids, or in groups of eight that begin at multiples of eight; what the lines give in a group is known
    before any of it is fed, so a group that is only begun is worked out again when the rest comes.
    """
    n, fed, given = left_right.shape[1], left_right.ravel(), y.ravel()
    swing, swing_step, angles, angle_step = lfo.ravel(), lfo_step.ravel(), turn.ravel(), turn_step.ravel()
    responses_of, poles, come, go = columns.ravel(), powers.ravel(), taps_in.ravel(), taps_out.ravel()
    lie = rings.ravel()
    apart = lengths.min() > GRID + depth + 8.0  # nothing that is fed in a grid is heard in it
    v, turning, at = np.empty(17 * _APART), np.empty(32), 0
    places = (frame & ~7) % rings[:, 1]
    _towards(angles, angle_step, turning)
    while at < n:
        now = frame + at
        first = now & (GRID - 1)
        count = min(8 - (now & 7), n - at)
        if first or not apart or n - at < GRID:
            _some(
                *(fed, given, n, at, count, lines, lie, places, now & 7, first & ~7, lengths, moving),
                *(responses_of, poles, carry, depth, swing, swing_step, turning, come, go, v),
            )
        else:
            count = GRID
            _grid(
                *(fed, given, n, at, lines, lie, places, lengths, moving),
                *(responses_of, poles, carry, depth, swing, swing_step, turning, come, go, v),
            )
        at += count
        _on(places, lie, (now & 7) + count & ~7)
        if (frame + at) & (GRID - 1) == 0:
            _step(swing, swing_step)
            _step(angles, angle_step)
            _towards(angles, angle_step, turning)
