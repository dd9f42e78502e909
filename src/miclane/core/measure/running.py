"""Running medians and maxima of a row of numbers.

SciPy has them too, but takes a third of a second to be loaded for that.
"""

import numpy as np


def running_median(x: np.ndarray, size: int) -> np.ndarray:
    """Median of the `size` (odd) numbers about each of x (n,); beyond its ends those at the ends are meant."""
    if not len(x):
        return np.array(x)
    around = np.lib.stride_tricks.sliding_window_view(np.pad(x, size // 2, "edge"), size)
    return np.asarray(np.partition(around, size // 2, axis=1)[:, size // 2])


def running_max(x: np.ndarray, past: int, ahead: int, outside: float) -> np.ndarray:
    """Greatest of each of x (n,) with so many before and after it; `outside` is what lies beyond its ends.

    Widths are doubled until one more would be too wide: two of the last lie over the whole.
    """
    greatest, have, width = np.pad(x, (past, ahead), constant_values=outside), 1, past + 1 + ahead
    while 2 * have <= width:
        greatest = np.maximum(greatest[:-have], greatest[have:])
        have *= 2
    return np.maximum(greatest[: len(x)], greatest[width - have :][: len(x)])
