"""A feedback delay network of sixteen lines mixed by a Hadamard matrix."""

import numpy as np

from . import kernel

LINES = 16
GRID = 64


@kernel
def _read_moving(line, write, first, back, slope, count, window, out):
    """Cubic Hermite reads of a circular line, `back + slope · i` frames behind the writing; window is scratch."""
    mask = line.shape[0] - 1
    base = int(back) + 4
    for i in range(count + 8):
        window[i] = line[(write - base + i) & mask]
    for i in range(count):
        d = back + slope * (first + i)
        whole = int(d)
        t = d - whole
        at = i + base - whole
        y0, y1, y2, y3 = window[at + 1], window[at], window[at - 1], window[at - 2]
        c1 = 0.5 * (y2 - y0)
        c2 = y0 - 2.5 * y1 + 2.0 * y2 - 0.5 * y3
        c3 = 0.5 * (y3 - y0) + 1.5 * (y1 - y2)
        out[i] = ((c3 * t + c2) * t + c1) * t + y1


@kernel
def _read_still(line, write, back, count, out):
    mask = line.shape[0] - 1
    for i in range(count):
        out[i] = line[(write + i - back) & mask]


@kernel
def network(left_right, lines, lengths, moving, write, shelf, shelf_state, depth, lfo, lfo_step, taps_in, taps_out, y):
    """Run the network over left_right (2, n) into y (2, n).

    lines (16, size) circular buffers, size a power of two; lengths (16,) frames; moving (16,) whether a line is
    modulated, by `depth` frames; shelf (16, 3) first-order [b0 b1 a1] absorption, its state (16, 2); lfo (16, 2)
    quadrature oscillators turned by lfo_step (16, 2) every GRID frames; taps_in, taps_out (16, 2) gains from and to
    left and right. Works in blocks of at most GRID frames, all lines being longer. Returns the new write position.
    """
    n = left_right.shape[1]
    size = lines.shape[1]
    mask = size - 1
    v = np.empty((16, GRID))
    window = np.empty(GRID + 16)
    at = 0
    while at < n:
        first = write & (GRID - 1)
        count = min(GRID - first, n - at)
        for i in range(count):
            y[0, at + i] = 0.0
            y[1, at + i] = 0.0
        for k in range(16):
            if moving[k]:
                s, c = lfo[k, 0], lfo[k, 1]
                after = s * lfo_step[k, 1] + c * lfo_step[k, 0]
                step_by = depth * (after - s) / GRID
                _read_moving(lines[k], write, first, lengths[k] + depth * s, step_by, count, window, v[k])
                if first + count == GRID:
                    lfo[k, 0] = after
                    lfo[k, 1] = c * lfo_step[k, 1] - s * lfo_step[k, 0]
            else:
                _read_still(lines[k], write, int(lengths[k]), count, v[k])
        for k in range(0, 16, 4):
            x0, x1, x2, x3 = shelf_state[k, 0], shelf_state[k + 1, 0], shelf_state[k + 2, 0], shelf_state[k + 3, 0]
            o0, o1, o2, o3 = shelf_state[k, 1], shelf_state[k + 1, 1], shelf_state[k + 2, 1], shelf_state[k + 3, 1]
            for i in range(count):
                r0, r1, r2, r3 = v[k, i], v[k + 1, i], v[k + 2, i], v[k + 3, i]
                o0 = shelf[k, 0] * r0 + shelf[k, 1] * x0 - shelf[k, 2] * o0
                o1 = shelf[k + 1, 0] * r1 + shelf[k + 1, 1] * x1 - shelf[k + 1, 2] * o1
                o2 = shelf[k + 2, 0] * r2 + shelf[k + 2, 1] * x2 - shelf[k + 2, 2] * o2
                o3 = shelf[k + 3, 0] * r3 + shelf[k + 3, 1] * x3 - shelf[k + 3, 2] * o3
                x0, x1, x2, x3 = r0, r1, r2, r3
                v[k, i], v[k + 1, i], v[k + 2, i], v[k + 3, i] = o0, o1, o2, o3
            shelf_state[k, 0], shelf_state[k + 1, 0], shelf_state[k + 2, 0], shelf_state[k + 3, 0] = x0, x1, x2, x3
            shelf_state[k, 1], shelf_state[k + 1, 1], shelf_state[k + 2, 1], shelf_state[k + 3, 1] = o0, o1, o2, o3
        for k in range(16):
            left, right = taps_out[k, 0], taps_out[k, 1]
            for i in range(count):
                y[0, at + i] += left * v[k, i]
                y[1, at + i] += right * v[k, i]
        step = 1
        while step < 16:
            k = 0
            while k < 16:
                for j in range(k, k + step):
                    for i in range(count):
                        a, b = v[j, i], v[j + step, i]
                        v[j, i] = a + b
                        v[j + step, i] = a - b
                k += 2 * step
            step *= 2
        for k in range(16):
            left, right = taps_in[k, 0], taps_in[k, 1]
            for i in range(count):
                fed = 0.25 * v[k, i] + left * left_right[0, at + i] + right * left_right[1, at + i]
                lines[k, (write + i) & mask] = fed
        write = (write + count) & mask
        at += count
    for k in range(16):
        if abs(shelf_state[k, 1]) < 1e-30:
            shelf_state[k, 1] = 0.0
    return write


@kernel
def diffuse(x, line, length, gain, position, y):
    """Schroeder allpass of `length` frames over one channel x (n,), into y; line is its buffer. Returns position."""
    for i in range(x.shape[0]):
        delayed = line[position]
        fed = x[i] - gain * delayed
        line[position] = fed
        y[i] = delayed + gain * fed
        position += 1
        if position == length:
            position = 0
    return position
