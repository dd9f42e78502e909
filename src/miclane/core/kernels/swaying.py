"""All-passes and delays whose places move; what moves them is given every HOP frames, straight lines in between."""

import numpy as np

from . import kernel

HOP = 16
TAPS, PHASES = 12, 128


@kernel
def phased(x, points, offset, state, last, feedback, y):
    """x (n,) through a row of first-order all-passes into y, with `feedback` of what left it a frame before.

    points (k,) are their coefficient at every HOP-th frame, the first frame standing `offset` frames after points[0];
    state (stages,) and last (1,) are kept from block to block. H(z) = (c + 1/z) / (1 + c/z).
    """
    stages = len(state)
    back = last[0]
    for i in range(len(x)):
        at = offset + i
        k = at // HOP
        share = (at - k * HOP) / HOP
        c = points[k] + share * (points[k + 1] - points[k])
        v = x[i] + feedback * back
        for s in range(stages):
            out = c * v + state[s]
            state[s] = v - c * out
            v = out
        if abs(v) < 1e-30:
            v = 0.0
        back = v
        y[i] = v
    for s in range(stages):
        if abs(state[s]) < 1e-30:
            state[s] = 0.0
    last[0] = back


@kernel
def delayed(x, points, offset, line, place, table, feedback, y):
    """x (n,) through a delay that moves into y, with `feedback` around it; returns the new place in the line.

    points (k,): its length in frames, as in `phased`, TAPS / 2 + 1 at the least and len(line) - TAPS at the most; the
    line is circular, its length a power of two. table (PHASES + 1, TAPS): fractions of a frame, straight in between.
    """
    mask = len(line) - 1
    for i in range(len(x)):
        at = offset + i
        k = at // HOP
        share = (at - k * HOP) / HOP
        back = points[k] + share * (points[k + 1] - points[k])
        whole = int(back)
        fraction = (back - whole) * PHASES
        row = int(fraction)
        fraction -= row
        first = place - whole + TAPS // 2 - 1
        total = 0.0
        for t in range(TAPS):
            tap = table[row, t] + fraction * (table[row + 1, t] - table[row, t])
            total += tap * line[(first - t) & mask]
        if abs(total) < 1e-30:
            total = 0.0
        line[place & mask] = min(max(x[i] + feedback * total, -8.0), 8.0)
        y[i] = total
        place += 1
    return place


@kernel
def swelled(x, points, offset, y, gain):
    """x (n,) times a gain into y; the gain itself into gain (n,). points (k,) as in `phased`, factors."""
    for i in range(len(x)):
        at = offset + i
        k = at // HOP
        share = (at - k * HOP) / HOP
        g = points[k] + share * (points[k + 1] - points[k])
        gain[i] = g
        y[i] = g * x[i]


def fractions() -> np.ndarray:
    """The table (PHASES + 1, TAPS) of `delayed`: sincs in a Kaiser window, gain 1 at 0 Hz."""
    at = np.arange(TAPS)[None] - (TAPS // 2 - 1) - np.arange(PHASES + 1)[:, None] / PHASES
    window = np.i0(6.0 * np.sqrt(np.clip(1 - (at / (TAPS / 2)) ** 2, 0, 1))) / np.i0(6.0)
    taps = np.sinc(at) * window
    return taps / taps.sum(axis=1, keepdims=True)
