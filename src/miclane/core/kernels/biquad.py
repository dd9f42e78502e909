"""Cascades of second-order sections, transposed direct form II."""

import numpy as np

from . import kernel

_TINY = 1e-30


@kernel
def cascade(x, sections, state, y):
    """Filter x into y (both (channels, n)); sections (k, 6) normalised, state (channels, k, 2) carried on."""
    channels, n = x.shape
    k = sections.shape[0]
    for c in range(channels):
        s = state[c]
        for i in range(n):
            v = x[c, i]
            for j in range(k):
                out = sections[j, 0] * v + s[j, 0]
                s[j, 0] = sections[j, 1] * v - sections[j, 4] * out + s[j, 1]
                s[j, 1] = sections[j, 2] * v - sections[j, 5] * out
                v = out
            y[c, i] = v
        for j in range(k):
            if abs(s[j, 0]) < _TINY:
                s[j, 0] = 0.0
            if abs(s[j, 1]) < _TINY:
                s[j, 1] = 0.0


@kernel
def peak_of_channels(x, out):
    """out[i] = max over channels of |x[:, i]|."""
    channels, n = x.shape
    for i in range(n):
        top = abs(x[0, i])
        for c in range(1, channels):
            top = max(top, abs(x[c, i]))
        out[i] = top


@kernel
def delay_line(x, line, position, y):
    """Delay x (channels, n) by line.shape[1] frames into y; returns the new write position."""
    channels, n = x.shape
    length = line.shape[1]
    for i in range(n):
        for c in range(channels):
            y[c, i] = line[c, position]
            line[c, position] = x[c, i]
        position += 1
        if position == length:
            position = 0
    return position


def new_state(channels: int, sections: np.ndarray) -> np.ndarray:
    """Zero state for `cascade`."""
    return np.zeros((channels, len(sections), 2))
