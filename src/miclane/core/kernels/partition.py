"""A row of numbers cut into pieces that are each nearly the same throughout."""

import numpy as np

from . import kernel


@kernel
def partition(x, price, least):
    """Where x (n,) is best cut: indices of the first of every piece but the first.

    The sum over pieces of squared distances from their means, and `price` for every piece, is the least there is; no
    piece is shorter than `least`, unless x is.
    """
    n = len(x)
    total, square = np.zeros(n + 1), np.zeros(n + 1)
    for i in range(n):
        total[i + 1] = total[i] + x[i] - x[0]
        square[i + 1] = square[i] + (x[i] - x[0]) ** 2
    best, came = np.full(n + 1, np.inf), np.zeros(n + 1, np.int64)
    best[0] = 0.0
    for j in range(least, n + 1):
        for i in range(0, j - least + 1):
            if best[i] < np.inf:
                s = total[j] - total[i]
                cost = best[i] + price + square[j] - square[i] - s * s / (j - i)
                if cost < best[j]:
                    best[j] = cost
                    came[j] = i
    count = 0
    at = n
    while n >= least and came[at] > 0:
        at = came[at]
        count += 1
    cuts = np.zeros(count, np.int64)
    at = n
    for k in range(count - 1, -1, -1):
        at = came[at]
        cuts[k] = at
    return cuts
