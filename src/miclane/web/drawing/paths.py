"""Lines, outlines, steps and hanging areas as SVG paths; names cut to what fits."""

from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from ...core.engine.giving_way import breathe


def path_of(x: ArrayLike, y: ArrayLike) -> str:
    """SVG path through points."""
    breathe()
    points = np.stack([x, y], axis=1)
    told = ("L%.1f %.1f" * len(points)) % tuple(points.ravel().tolist())  # all at once: in half the time
    return f"M{told[1:]}"


def outline(low: Any, high: Any, x: Any, y: Any) -> str:
    """A waveform as a closed path: `y` gives the place of a sample, `low` and `high` are those of each of `x`."""
    up, down = path_of(x, y(np.asarray(high))), path_of(x[::-1], y(np.asarray(low))[::-1])
    return f"{up}L{down[1:]}Z"


def steps_path(values: np.ndarray, left: float, right: float, base: float, height: float) -> str:
    """A histogram as a closed stepped path standing on `base`, its tallest bin `height` high at 1.0."""
    edges = np.linspace(left, right, len(values) + 1)
    parts = [f"M{left:.1f} {base:.1f}"]
    for value, a, b in zip(values, edges[:-1], edges[1:], strict=True):
        y = base - value * height
        parts.append(f"L{a:.1f} {y:.1f}L{b:.1f} {y:.1f}")
    return "".join(parts) + f"L{right:.1f} {base:.1f}Z"


def hanging_path(row: np.ndarray, left: float, right: float, top: float, per_db: float) -> str:
    """Reduction (dB, negative) as an area that hangs from `top`."""
    x = np.linspace(left, right, len(row))
    return path_of(x, top + np.minimum(-row, 60) * per_db) + f"L{right:.1f} {top:.1f}L{left:.1f} {top:.1f}Z"


def shorten(name: str, width: float) -> str:
    """A name cut to what fits in `width` pixels at 11.5 px."""
    most = max(3, int(width / 6.3))
    return name if len(name) <= most else name[: most - 1].rstrip() + "…"
