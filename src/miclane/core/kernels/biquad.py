"""Cascades of second-order sections, transposed direct form II, one section a lane.

In a cascade section k needs what section k-1 made in the same frame. Taken askew, section k working on frame t-k while
section 0 works on frame t, all sections are independent of each other and run side by side in one vector register.
The frames at either end, where some lanes have nothing to do, leave the state of those lanes as it is, so the result
does not depend on how the sound is cut into blocks.

Up to four sections wait for each other less: in direct form I, and three frames askew (`askew.py`).
"""

import numpy as np

from . import kernel
from .askew import four
from .lanes import keep_lanes, lanes_in, lanes_of, load_lanes, neutral
from .simd import fma, last, load8, put, shifted, splat8, times, within


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
def cascade(x, sections, state, y):
    """Filter x into y (both (channels, n), may be the same); sections (k, 6) normalised, state (channels, k, 2)."""
    k = sections.shape[0]
    channels = x.shape[0]
    if 0 < k <= 4 and x.shape[1] > 0:
        for c in range(channels):
            four(x[c], sections, state[c], y[c])
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
