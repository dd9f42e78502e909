"""All-passes and delays whose places move; what moves them is given every HOP frames, straight lines in between."""

from functools import cache

import numpy as np

from . import kernel
from .simd import fma, load8, minus, splat8, times, total

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

    points (k,): its length in frames, as in `phased`, TAPS / 2 + 1 at the least and len(line) / 2 - TAPS at the most;
    the line is circular, its length a power of two, and held twice, so that what is read stands in a row.
    table (PHASES + 1, 16) as of `turned_fractions`, straight in between.
    """
    count = len(line) // 2
    mask = count - 1
    for i in range(len(x)):
        at = offset + i
        k = at // HOP
        share = (at - k * HOP) / HOP
        back = points[k] + share * (points[k + 1] - points[k])
        whole = int(back)
        fraction = (back - whole) * PHASES
        row = int(fraction)
        fraction -= row
        first = (place - whole - TAPS // 2) & mask
        one, two = table[row], table[row + 1]
        share = splat8(fraction)
        taps = fma(share, minus(load8(two, 0), load8(one, 0)), load8(one, 0))
        others = fma(share, minus(load8(two, 8), load8(one, 8)), load8(one, 8))
        found = total(fma(others, load8(line, first + 8), times(taps, load8(line, first))))
        if abs(found) < 1e-30:
            found = 0.0
        fed = min(max(x[i] + feedback * found, -8.0), 8.0)
        line[place & mask] = line[(place & mask) + count] = fed
        y[i] = found
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


@cache
def turned_fractions() -> np.ndarray:
    """The table (PHASES + 1, 16) of `delayed`: `fractions` turned round, as a line runs, with zeros after them.

    Never written to.
    """
    table = np.zeros((PHASES + 1, 16))
    table[:, :TAPS] = fractions()[:, ::-1]
    return table


@cache
def fractions() -> np.ndarray:
    """Delays of fractions of a frame (PHASES + 1, TAPS): sincs in a Kaiser window, gain 1 at 0 Hz. Never written to."""
    at = np.arange(TAPS)[None] - (TAPS // 2 - 1) - np.arange(PHASES + 1)[:, None] / PHASES
    window = np.i0(6.0 * np.sqrt(np.clip(1 - (at / (TAPS / 2)) ** 2, 0, 1))) / np.i0(6.0)
    taps = np.sinc(at) * window
    return taps / taps.sum(axis=1, keepdims=True)
