"""What of a stereo sound a stage works on."""

from typing import Literal

import numpy as np

Target = Literal["stereo", "middle", "side", "left", "right"]


def taken(y: np.ndarray, target: Target) -> np.ndarray:
    """The part of y (channels, n) a target means: a view for stereo, left and right, a copy for middle and side."""
    if target == "stereo" or y.shape[0] == 1:
        return y
    if target in ("left", "right"):
        return y[:1] if target == "left" else y[1:]
    return (y[:1] + y[1:]) / 2 if target == "middle" else (y[:1] - y[1:]) / 2


def given_back(y: np.ndarray, part: np.ndarray, target: Target) -> np.ndarray:
    """y with its part replaced by what became of it."""
    if target not in ("middle", "side") or y.shape[0] == 1:
        return y
    middle = part if target == "middle" else (y[:1] + y[1:]) / 2
    side = part if target == "side" else (y[:1] - y[1:]) / 2
    return np.concatenate([middle + side, middle - side])
