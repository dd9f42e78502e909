"""The first and the last of every effect: two sides; how wide it is, and how much of it there is."""

import numpy as np


def both_sides(x: np.ndarray) -> np.ndarray:
    """x (1 or 2, n) as two channels that may be written to: itself where it has two."""
    return np.repeat(x, 2, axis=0) if x.shape[0] == 1 else np.ascontiguousarray(x)


def blended(wet: np.ndarray, dry: np.ndarray, width: float, mix: float) -> np.ndarray:
    """wet (2, n) with its side times `width`, and a share `mix` of it beside the dry sound (2, n), which is aligned."""
    if width != 1:
        middle, side = (wet[0] + wet[1]) / 2, (wet[0] - wet[1]) / 2 * width
        wet = np.stack([middle + side, middle - side])
    return wet if mix == 1 else (1 - mix) * dry + mix * wet
