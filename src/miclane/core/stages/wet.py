"""The last of every effect: how wide it is, and how much of it there is."""

import numpy as np


def blended(wet: np.ndarray, dry: np.ndarray, width: float, mix: float) -> np.ndarray:
    """wet (2, n) with its side times `width`, and a share `mix` of it beside the dry sound (2, n), which is aligned."""
    if width != 1:
        middle, side = (wet[0] + wet[1]) / 2, (wet[0] - wet[1]) / 2 * width
        wet = np.stack([middle + side, middle - side])
    return wet if mix == 1 else (1 - mix) * dry + mix * wet
