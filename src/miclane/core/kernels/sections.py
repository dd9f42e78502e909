"""Fitting the squared magnitude of a second-order section, by Levenberg and Marquardt.

Over p = sin²(w/2) the squared magnitude of b0 b1 b2 is B0 (1 - p) + B1 p + 4 B2 p (1 - p) (Vicanek, "Matched Second
Order Digital Filters", 2016), and there is a minimum-phase section of it where B0 and B1 are not negative and B2 is
over -(√B0 + √B1)² / 4. With B1 and what B2 is over that as logarithms, whatever is tried is such a section: its poles
and zeros lie inside the circle by construction.
"""

import numpy as np

from . import kernel

FREE, HIGH_PASS, NOTCH = 0, 1, 2
_MOST, _LONGEST_STEP = 80, 2.0
_DB = 10.0 / np.log(10.0)


@kernel
def _miss(numerator, dc, notch, theta, p, wanted, weight, miss, slopes):
    """By how much a section misses `wanted` (log of the squared magnitude), weighted, in dB, and the slopes of that.

    The sum of the squares. theta ends with the logarithms of A1 and of what A2 is over its least, A0 being 1; before
    them stand those of the numerator, where it is FREE (B0 is `dc`), or the one of its gain, where it is HIGH_PASS.
    """
    n = theta.shape[0] - 2
    a1, over_a = np.exp(theta[n]), np.exp(theta[n + 1])
    ra = np.sqrt(a1)
    a2, bent_a = over_a - 0.25 * (1.0 + ra) ** 2, 0.25 * (1.0 + ra) * ra
    b1, b2, over_b, bent_b = 0.0, 0.0, 0.0, 0.0
    if numerator == FREE:
        b1, over_b = np.exp(theta[0]), np.exp(theta[1])
        r0, rb = np.sqrt(dc), np.sqrt(b1)
        b2, bent_b = over_b - 0.25 * (r0 + rb) ** 2, 0.25 * (r0 + rb) * rb
    total = 0.0
    for i in range(p.shape[0]):
        here = p[i]
        other, both = 1.0 - here, 4.0 * here * (1.0 - here)
        w = weight[i] * _DB
        if numerator == FREE:
            above = dc * other + b1 * here + b2 * both
            slopes[i, 0] = w * (here * b1 - both * bent_b) / above
            slopes[i, 1] = w * both * over_b / above
        elif numerator == HIGH_PASS:
            above = np.exp(theta[0]) * here * here
            slopes[i, 0] = w
        else:
            above = max(((here - notch) / notch) ** 2, 1e-14)
        below = other + a1 * here + a2 * both
        slopes[i, n] = -w * (here * a1 - both * bent_a) / below
        slopes[i, n + 1] = -w * both * over_a / below
        miss[i] = w * (np.log(above / below) - wanted[i])
        total += miss[i] * miss[i]
    return total


@kernel
def _solved(matrix, right):
    """x of matrix x = right, by elimination; both are used up."""
    n = right.shape[0]
    for i in range(n):
        for j in range(i + 1, n):
            share = matrix[j, i] / matrix[i, i]
            for k in range(i, n):
                matrix[j, k] -= share * matrix[i, k]
            right[j] -= share * right[i]
    for i in range(n - 1, -1, -1):
        for k in range(i + 1, n):
            right[i] -= matrix[i, k] * right[k]
        right[i] /= matrix[i, i]
    return right


@kernel
def fitted(numerator, dc, notch, theta, p, wanted, weight):
    """theta (k,), moved to where the weighted misses over p (n,) are least, and the sum of their squares there."""
    n, k = p.shape[0], theta.shape[0]
    miss, slopes = np.empty(n), np.empty((n, k))
    tried, steeper = np.empty(n), np.empty((n, k))
    least = _miss(numerator, dc, notch, theta, p, wanted, weight, miss, slopes)
    damping = 1e-3
    for _ in range(_MOST):
        square, slope = np.zeros((k, k)), np.zeros(k)
        for i in range(n):
            for a in range(k):
                slope[a] -= slopes[i, a] * miss[i]
                for b in range(k):
                    square[a, b] += slopes[i, a] * slopes[i, b]
        for a in range(k):
            square[a, a] += damping * (square[a, a] + 1e-12)
        step = _solved(square, slope)
        moved = theta.copy()
        for a in range(k):
            moved[a] += min(max(step[a], -_LONGEST_STEP), _LONGEST_STEP)
        total = _miss(numerator, dc, notch, moved, p, wanted, weight, tried, steeper)
        if total < least:
            over = least - total < 1e-7 * least + 1e-12
            theta, least = moved, total
            miss, tried = tried, miss
            slopes, steeper = steeper, slopes
            damping = max(0.2 * damping, 1e-9)
            if over:
                break
        else:
            damping *= 6.0
            if not damping < 1e9:
                break
    return theta, least
