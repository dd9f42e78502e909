"""Up to four sections, or twice four, three frames askew in direct form I: none waits for what another has just made.

States are those of the transposed form, as elsewhere: what they hold goes into a section's first two frames, and they
are worked out again where its last frame passes.
"""

import numpy as np

from . import kernel, kernel_within
from .lanes import keep_lanes, lanes_in, lanes_of, load_lanes, neutral
from .simd import fma, lane, last, load4, load8, plus, put, shifted, shifted_halves, splat4, splat8, times, within


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
def four(x, sections, state, y):
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


@kernel_within
def end_step(fed, n, s, u1, u2, v1, v2, v3, rows, begin, p, q):
    """A step s at either end of n frames of twice four sections, given what goes in: that, what comes out, states p, q.

    begin as by `enter`. Where this is the last frame of a section, its state is worked out.
    """
    u = shifted_halves(splat8(fed), v3)
    v = direct(u, u1, u2, v1, v2, rows)
    if s < 12:
        v = plus(v, load8(begin[s], 0))
    past = s - n + 1
    if past >= 0 and past % 3 == 0:
        after = transposed(u, u1, v, v1, rows)
        for k in (past // 3, past // 3 + 4):
            p, q = within(k, k, after[0], p), within(k, k, after[1], q)
    return u, v, p, q


@kernel
def set_up(filters, states, table, lanes, begin):
    """Lay two filters of up to four sections (k, 6) and their states (k, 2) out in table, lanes and begin."""
    for h in range(2):
        lanes_of(filters[h], 0, filters[h].shape[0], 4 * h, table)
        load_lanes(states[h], 0, filters[h].shape[0], 4 * h, lanes)
    enter(lanes, 8, begin)


@kernel_within
def put_by(p, q, n, filters, states, lanes):
    """Write the states p, q after n frames back."""
    put(lanes[0], 0, plus(p, load8(lanes[1], 0)) if n == 1 else p)
    put(lanes[1], 0, q)
    for h in range(2):
        keep_lanes(lanes, 4 * h, states[h], 0, filters[h].shape[0])


@kernel
def fork(x, filters, states, low, high):
    """x (n,) through two cascades of up to four sections (k, 6) at once, into low and high (n,); states (k, 2) each."""
    n, table, lanes, begin = x.shape[0], neutral(), np.zeros((2, 8)), np.zeros((12, 8))
    set_up(filters, states, table, lanes, begin)
    rows = lanes_in(table)
    u1 = u2 = v1 = v2 = v3 = p = q = splat8(0.0)
    s = 0
    while s < n + 9:
        while 12 <= s < n - 1:  # all in full swing
            u = shifted_halves(splat8(x[s]), v3)
            v = direct(u, u1, u2, v1, v2, rows)
            low[s - 9], high[s - 9] = lane(v, 3), lane(v, 7)
            u1, u2, v1, v2, v3 = u, u1, v, v1, v2
            s += 1
        u, v, p, q = end_step(x[s] if s < n else 0.0, n, s, u1, u2, v1, v2, v3, rows, begin, p, q)
        if s >= 9:
            low[s - 9], high[s - 9] = lane(v, 3), lane(v, 7)
        u1, u2, v1, v2, v3 = u, u1, v, v1, v2
        s += 1
    put_by(p, q, n, filters, states, lanes)
