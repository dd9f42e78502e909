"""Second-order sections in the lanes of a vector: their coefficients and their states, in and out."""

import numpy as np

from . import kernel
from .simd import load8

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


@kernel
def load_lanes(state, first, count, lane, lanes):
    for k in range(count):
        lanes[0, lane + k] = state[first + k, 0]
        lanes[1, lane + k] = state[first + k, 1]
