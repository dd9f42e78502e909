"""Cascades of second-order sections, transposed direct form II, one section a lane.

In a cascade section k needs what section k-1 made in the same frame. Taken askew, section k working on frame t-k while
section 0 works on frame t, all sections are independent of each other and run side by side in one vector register.
The frames at either end, where some lanes have nothing to do, leave the state of those lanes as it is, so the result
does not depend on how the sound is cut into blocks.

Up to four sections wait for each other less: in direct form I, and three frames askew (`_four`).
"""

import numpy as np

from . import kernel, kernel_within
from .simd import fma, lane, last, load4, load8, plus, put, shifted, shifted_halves, splat4, splat8, times, within

_TINY = 1e-30


@kernel
def lanes_of(sections, first, count, lane, table):
    """Write `count` sections into the lanes of table (5, 8) [b0 b1 b2 -a1 -a2] from `lane` on."""
    for k in range(count):
        for j in range(3):
            table[j, lane + k] = sections[first + k, j]
        table[3, lane + k] = -sections[first + k, 4]
        table[4, lane + k] = -sections[first + k, 5]


@kernel
def neutral():
    """A table (5, 8) of sections that let everything through."""
    table = np.zeros((5, 8))
    table[0, :] = 1.0
    return table


@kernel
def keep_lanes(lanes, lane, state, first, count):
    """Write the states in the lanes (2, 8) back, what is next to nothing as nothing."""
    for k in range(count):
        for j in range(2):
            value = lanes[j, lane + k]
            state[first + k, j] = value if abs(value) > _TINY else 0.0


@kernel
def lanes_in(table):
    """The rows of a table as five vectors: b0, b1, b2, -a1, -a2."""
    return (load8(table[0], 0), load8(table[1], 0), load8(table[2], 0), load8(table[3], 0), load8(table[4], 0))


@kernel_within
def direct(u, u1, u2, v1, v2, rows):
    """What comes out of sections in direct form I, from what goes in and what was before; rows as by `lanes_in`."""
    b0, b1, b2, a1, a2 = rows
    return fma(a1, v1, fma(a2, v2, fma(b0, u, fma(b1, u1, times(b2, u2)))))  # the latest last


@kernel_within
def transposed(u, u1, v, v1, rows):
    """The state of the transposed form after a frame, from what went in and came out in it and in the one before."""
    _, b1, b2, a1, a2 = rows
    return fma(b1, u, fma(b2, u1, fma(a1, v, times(a2, v1)))), fma(b2, u, times(a2, v))


@kernel
def enter(held, lanes, begin):
    """Lay a state (2, 8) of the transposed form out by steps, begin (12, lanes): into each section's first two frames.

    Of eight lanes the upper four begin as the lower four do.
    """
    for k in range(lanes):
        for j in range(2):
            begin[3 * (k % 4) + j, k] = held[j, k]


@kernel
def _four(x, sections, state, y):
    """Up to four sections (k, 6) over one channel x (n,) into y; state (k, 2) as of the transposed form, carried on.

    What that holds goes into the first two frames; it is worked out again where each section's last frame passes.
    """
    n, k = x.shape[0], sections.shape[0]
    table, held, begin = neutral(), np.zeros((2, 8)), np.zeros((12, 4))
    lanes_of(sections, 0, k, 0, table)
    load_lanes(state, 0, k, 0, held)
    enter(held, 4, begin)
    rows = (load4(table[0], 0), load4(table[1], 0), load4(table[2], 0), load4(table[3], 0), load4(table[4], 0))
    u1 = u2 = v1 = v2 = v3 = p = q = splat4(0.0)
    s = 0
    while s < n + 9:
        if s >= 12 and s + 6 < n:  # all in full swing
            ua = shifted(splat4(x[s]), v3)
            va = direct(ua, u1, u2, v1, v2, rows)
            ub = shifted(splat4(x[s + 1]), v2)
            vb = direct(ub, ua, u1, va, v1, rows)
            uc = shifted(splat4(x[s + 2]), v1)
            vc = direct(uc, ub, ua, vb, va, rows)
            ud = shifted(splat4(x[s + 3]), va)
            vd = direct(ud, uc, ub, vc, vb, rows)
            ue = shifted(splat4(x[s + 4]), vb)
            ve = direct(ue, ud, uc, vd, vc, rows)
            uf = shifted(splat4(x[s + 5]), vc)
            vf = direct(uf, ue, ud, ve, vd, rows)
            y[s - 9], y[s - 8], y[s - 7] = last(va), last(vb), last(vc)
            y[s - 6], y[s - 5], y[s - 4] = last(vd), last(ve), last(vf)
            u1, u2, v1, v2, v3 = uf, ue, vf, ve, vd
            s += 6
            continue
        u = shifted(splat4(x[s] if s < n else 0.0), v3)
        v = direct(u, u1, u2, v1, v2, rows)
        if s < 12:
            v = plus(v, load4(begin[s], 0))
        if s >= 9:
            y[s - 9] = last(v)
        ended = (s - n + 1) // 3
        if s >= n - 1 and s - n + 1 == 3 * ended:
            after = transposed(u, u1, v, v1, rows)
            p, q = within(ended, ended, after[0], p), within(ended, ended, after[1], q)
        u1, u2, v1, v2, v3 = u, u1, v, v1, v2
        s += 1
    if n == 1:
        p = plus(p, load4(held[1], 0))
    put(held[0], 0, p)
    put(held[1], 0, q)
    keep_lanes(held, 0, state, 0, k)


@kernel
def _eight(x, table, lanes, y):
    """Up to eight sections askew over one channel; table (5, 8), lanes (2, 8)."""
    n = x.shape[0]
    b0, b1, b2, a1, a2 = lanes_in(table)
    p, q = load8(lanes[0], 0), load8(lanes[1], 0)
    v = splat8(0.0)
    for t in range(n + 7):
        if 7 <= t < n:
            u = shifted(splat8(x[t]), v)
            v = fma(b0, u, p)
            p = fma(a1, v, fma(b1, u, q))
            q = fma(a2, v, times(b2, u))
            y[t - 7] = last(v)
        else:
            u = shifted(splat8(x[t] if t < n else 0.0), v)
            v = fma(b0, u, p)
            p = within(t - n + 1, t, fma(a1, v, fma(b1, u, q)), p)
            q = within(t - n + 1, t, fma(a2, v, times(b2, u)), q)
            if t >= 7:
                y[t - 7] = last(v)
    put(lanes[0], 0, p)
    put(lanes[1], 0, q)


@kernel
def _sixteen(x, table, lanes, more, more_lanes, y):
    """Up to sixteen sections askew over one channel: `table` feeds `more`."""
    n = x.shape[0]
    b0, b1, b2, a1, a2 = lanes_in(table)
    d0, d1, d2, e1, e2 = lanes_in(more)
    p, q, r, s = load8(lanes[0], 0), load8(lanes[1], 0), load8(more_lanes[0], 0), load8(more_lanes[1], 0)
    v, w = splat8(0.0), splat8(0.0)
    for t in range(n + 15):
        z = shifted(v, w)
        if 15 <= t < n:
            u = shifted(splat8(x[t]), v)
            v = fma(b0, u, p)
            w = fma(d0, z, r)
            p = fma(a1, v, fma(b1, u, q))
            q = fma(a2, v, times(b2, u))
            r = fma(e1, w, fma(d1, z, s))
            s = fma(e2, w, times(d2, z))
            y[t - 15] = last(w)
        else:
            u = shifted(splat8(x[t] if t < n else 0.0), v)
            v = fma(b0, u, p)
            w = fma(d0, z, r)
            p = within(t - n + 1, t, fma(a1, v, fma(b1, u, q)), p)
            q = within(t - n + 1, t, fma(a2, v, times(b2, u)), q)
            r = within(t - n - 7, t - 8, fma(e1, w, fma(d1, z, s)), r)
            s = within(t - n - 7, t - 8, fma(e2, w, times(d2, z)), s)
            if t >= 15:
                y[t - 15] = last(w)
    put(lanes[0], 0, p)
    put(lanes[1], 0, q)
    put(more_lanes[0], 0, r)
    put(more_lanes[1], 0, s)


@kernel
def _two_channels(x, table, left, right, y):
    """Up to eight sections askew over both channels of x (2, n) at once."""
    n = x.shape[1]
    b0, b1, b2, a1, a2 = lanes_in(table)
    p, q, r, s = load8(left[0], 0), load8(left[1], 0), load8(right[0], 0), load8(right[1], 0)
    v, w = splat8(0.0), splat8(0.0)
    for t in range(n + 7):
        if 7 <= t < n:
            u, z = shifted(splat8(x[0, t]), v), shifted(splat8(x[1, t]), w)
            v, w = fma(b0, u, p), fma(b0, z, r)
            p, r = fma(a1, v, fma(b1, u, q)), fma(a1, w, fma(b1, z, s))
            q, s = fma(a2, v, times(b2, u)), fma(a2, w, times(b2, z))
            y[0, t - 7] = last(v)
            y[1, t - 7] = last(w)
        else:
            u = shifted(splat8(x[0, t] if t < n else 0.0), v)
            z = shifted(splat8(x[1, t] if t < n else 0.0), w)
            v, w = fma(b0, u, p), fma(b0, z, r)
            p = within(t - n + 1, t, fma(a1, v, fma(b1, u, q)), p)
            q = within(t - n + 1, t, fma(a2, v, times(b2, u)), q)
            r = within(t - n + 1, t, fma(a1, w, fma(b1, z, s)), r)
            s = within(t - n + 1, t, fma(a2, w, times(b2, z)), s)
            if t >= 7:
                y[0, t - 7] = last(v)
                y[1, t - 7] = last(w)
    put(left[0], 0, p)
    put(left[1], 0, q)
    put(right[0], 0, r)
    put(right[1], 0, s)


@kernel
def load_lanes(state, first, count, lane, lanes):
    for k in range(count):
        lanes[0, lane + k] = state[first + k, 0]
        lanes[1, lane + k] = state[first + k, 1]


@kernel
def cascade(x, sections, state, y):
    """Filter x into y (both (channels, n), may be the same); sections (k, 6) normalised, state (channels, k, 2)."""
    k = sections.shape[0]
    channels = x.shape[0]
    if 0 < k <= 4 and x.shape[1] > 0:
        for c in range(channels):
            _four(x[c], sections, state[c], y[c])
        return
    if channels == 2 and 0 < k <= 8:
        table, left, right = neutral(), np.zeros((2, 8)), np.zeros((2, 8))
        lanes_of(sections, 0, k, 0, table)
        load_lanes(state[0], 0, k, 0, left)
        load_lanes(state[1], 0, k, 0, right)
        _two_channels(x, table, left, right, y)
        keep_lanes(left, 0, state[0], 0, k)
        keep_lanes(right, 0, state[1], 0, k)
        return
    for c in range(channels):
        source = x[c]
        j = 0
        while j < k:
            count = min(k - j, 16)
            table, lanes = neutral(), np.zeros((2, 8))
            head = min(count, 8)
            lanes_of(sections, j, head, 0, table)
            load_lanes(state[c], j, head, 0, lanes)
            if count <= 8:
                _eight(source, table, lanes, y[c])
            else:
                more, more_lanes = neutral(), np.zeros((2, 8))
                lanes_of(sections, j + 8, count - 8, 0, more)
                load_lanes(state[c], j + 8, count - 8, 0, more_lanes)
                _sixteen(source, table, lanes, more, more_lanes, y[c])
                keep_lanes(more_lanes, 0, state[c], j + 8, count - 8)
            keep_lanes(lanes, 0, state[c], j, head)
            j += count
            source = y[c]


@kernel
def leave(past, u, u1, v, v1, rows, p, q):
    """The states p, q of twice four sections, with those of which this is the last frame, `past` frames late."""
    ended = past // 3
    if past != 3 * ended:
        return p, q
    after = transposed(u, u1, v, v1, rows)
    for k in (ended, ended + 4):
        p, q = within(k, k, after[0], p), within(k, k, after[1], q)
    return p, q


@kernel
def fork(x, below, above, below_state, above_state, low, high):
    """x (n,) through two cascades of up to four sections (k, 6) at once, into low and high (n,)."""
    n = x.shape[0]
    table, lanes = neutral(), np.zeros((2, 8))
    lanes_of(below, 0, below.shape[0], 0, table)
    lanes_of(above, 0, above.shape[0], 4, table)
    load_lanes(below_state, 0, below.shape[0], 0, lanes)
    load_lanes(above_state, 0, above.shape[0], 4, lanes)
    rows, begin = lanes_in(table), np.zeros((12, 8))
    enter(lanes, 8, begin)
    u1 = u2 = v1 = v2 = v3 = p = q = splat8(0.0)
    s = 0
    while s < n + 9:
        while 12 <= s < n - 1:  # all in full swing
            u = shifted_halves(splat8(x[s]), v3)
            v = direct(u, u1, u2, v1, v2, rows)
            low[s - 9], high[s - 9] = lane(v, 3), lane(v, 7)
            u1, u2, v1, v2, v3 = u, u1, v, v1, v2
            s += 1
        u = shifted_halves(splat8(x[s] if s < n else 0.0), v3)
        v = direct(u, u1, u2, v1, v2, rows)
        if s < 12:
            v = plus(v, load8(begin[s], 0))
        if s >= 9:
            low[s - 9], high[s - 9] = lane(v, 3), lane(v, 7)
        if s >= n - 1:
            p, q = leave(s - n + 1, u, u1, v, v1, rows, p, q)
        u1, u2, v1, v2, v3 = u, u1, v, v1, v2
        s += 1
    if n == 1:
        p = plus(p, load8(lanes[1], 0))
    put(lanes[0], 0, p)
    put(lanes[1], 0, q)
    keep_lanes(lanes, 0, below_state, 0, below.shape[0])
    keep_lanes(lanes, 4, above_state, 0, above.shape[0])


@kernel
def exchange(line, at, part):
    """Replace part (n,) by what went through here line.shape[0] frames ago; returns the new place in the line."""
    n, length = part.shape[0], line.shape[0]
    i = 0
    while i < n:
        count = min(n - i, length - at)
        held, passing = line[at : at + count], part[i : i + count]
        for k in range(count):
            value = held[k]
            held[k] = passing[k]
            passing[k] = value
        i += count
        at = at + count if at + count < length else 0
    return at


@kernel
def _copy(x, y):
    for k in range(x.shape[0]):
        y[k] = x[k]


@kernel
def _pass_through(held, x, y):
    for k in range(x.shape[0]):
        value = x[k]
        y[k] = held[k]
        held[k] = value


@kernel
def delay_line(x, line, position, y):
    """Delay x (channels, n) by line.shape[1] frames into y; returns the new write position."""
    n, length = x.shape[1], line.shape[1]
    if n >= length:
        rest = length - position
        for c in range(x.shape[0]):
            _copy(line[c, position:], y[c, :rest])
            _copy(line[c, :position], y[c, rest:length])
            _copy(x[c, : n - length], y[c, length:])
            _copy(x[c, n - length :], line[c])
        return 0
    i, at = 0, position
    while i < n:
        count = min(n - i, length - at)
        for c in range(x.shape[0]):
            _pass_through(line[c, at : at + count], x[c, i : i + count], y[c, i : i + count])
        i += count
        at = at + count if at + count < length else 0
    return at


def new_state(channels: int, sections: np.ndarray) -> np.ndarray:
    """Zero state for `cascade`."""
    return np.zeros((channels, len(sections), 2))
