"""Cascades of second-order sections, transposed direct form II."""

import numpy as np

from . import kernel

_TINY = 1e-30


@kernel
def _section_1(x, table, state, y):
    """One section over one channel; their state stays in registers."""
    b00, b10, b20, a10, a20 = table[0, 0], table[0, 1], table[0, 2], table[0, 4], table[0, 5]
    p0, q0 = state[0, 0], state[0, 1]
    for i in range(x.shape[0]):
        v0 = x[i]
        v1 = b00 * v0 + p0
        p0 = b10 * v0 - a10 * v1 + q0
        q0 = b20 * v0 - a20 * v1
        y[i] = v1
    state[0, 0] = p0 if abs(p0) > _TINY else 0.0
    state[0, 1] = q0 if abs(q0) > _TINY else 0.0


@kernel
def _section_2(x, table, state, y):
    """2 sections at once over one channel; their state stays in registers."""
    b00, b10, b20, a10, a20 = table[0, 0], table[0, 1], table[0, 2], table[0, 4], table[0, 5]
    p0, q0 = state[0, 0], state[0, 1]
    b01, b11, b21, a11, a21 = table[1, 0], table[1, 1], table[1, 2], table[1, 4], table[1, 5]
    p1, q1 = state[1, 0], state[1, 1]
    for i in range(x.shape[0]):
        v0 = x[i]
        v1 = b00 * v0 + p0
        p0 = b10 * v0 - a10 * v1 + q0
        q0 = b20 * v0 - a20 * v1
        v2 = b01 * v1 + p1
        p1 = b11 * v1 - a11 * v2 + q1
        q1 = b21 * v1 - a21 * v2
        y[i] = v2
    state[0, 0] = p0 if abs(p0) > _TINY else 0.0
    state[0, 1] = q0 if abs(q0) > _TINY else 0.0
    state[1, 0] = p1 if abs(p1) > _TINY else 0.0
    state[1, 1] = q1 if abs(q1) > _TINY else 0.0


@kernel
def _section_4(x, table, state, y):
    """4 sections at once over one channel; their state stays in registers."""
    b00, b10, b20, a10, a20 = table[0, 0], table[0, 1], table[0, 2], table[0, 4], table[0, 5]
    p0, q0 = state[0, 0], state[0, 1]
    b01, b11, b21, a11, a21 = table[1, 0], table[1, 1], table[1, 2], table[1, 4], table[1, 5]
    p1, q1 = state[1, 0], state[1, 1]
    b02, b12, b22, a12, a22 = table[2, 0], table[2, 1], table[2, 2], table[2, 4], table[2, 5]
    p2, q2 = state[2, 0], state[2, 1]
    b03, b13, b23, a13, a23 = table[3, 0], table[3, 1], table[3, 2], table[3, 4], table[3, 5]
    p3, q3 = state[3, 0], state[3, 1]
    for i in range(x.shape[0]):
        v0 = x[i]
        v1 = b00 * v0 + p0
        p0 = b10 * v0 - a10 * v1 + q0
        q0 = b20 * v0 - a20 * v1
        v2 = b01 * v1 + p1
        p1 = b11 * v1 - a11 * v2 + q1
        q1 = b21 * v1 - a21 * v2
        v3 = b02 * v2 + p2
        p2 = b12 * v2 - a12 * v3 + q2
        q2 = b22 * v2 - a22 * v3
        v4 = b03 * v3 + p3
        p3 = b13 * v3 - a13 * v4 + q3
        q3 = b23 * v3 - a23 * v4
        y[i] = v4
    state[0, 0] = p0 if abs(p0) > _TINY else 0.0
    state[0, 1] = q0 if abs(q0) > _TINY else 0.0
    state[1, 0] = p1 if abs(p1) > _TINY else 0.0
    state[1, 1] = q1 if abs(q1) > _TINY else 0.0
    state[2, 0] = p2 if abs(p2) > _TINY else 0.0
    state[2, 1] = q2 if abs(q2) > _TINY else 0.0
    state[3, 0] = p3 if abs(p3) > _TINY else 0.0
    state[3, 1] = q3 if abs(q3) > _TINY else 0.0


@kernel
def cascade(x, sections, state, y):
    """Filter x into y (both (channels, n), may be the same); sections (k, 6) normalised, state (channels, k, 2)."""
    k = sections.shape[0]
    for c in range(x.shape[0]):
        source = x[c]
        j = 0
        while j < k:
            if k - j >= 4:
                _section_4(source, sections[j:], state[c, j:], y[c])
                j += 4
            elif k - j >= 2:
                _section_2(source, sections[j:], state[c, j:], y[c])
                j += 2
            else:
                _section_1(source, sections[j:], state[c, j:], y[c])
                j += 1
            source = y[c]


@kernel
def delay_line(x, line, position, y):
    """Delay x (channels, n) by line.shape[1] frames into y; returns the new write position."""
    channels, n = x.shape
    length = line.shape[1]
    for c in range(channels):
        at = position
        for i in range(n):
            y[c, i] = line[c, at]
            line[c, at] = x[c, i]
            at = at + 1 if at + 1 < length else 0
    return (position + n) % length


def new_state(channels: int, sections: np.ndarray) -> np.ndarray:
    """Zero state for `cascade`."""
    return np.zeros((channels, len(sections), 2))
