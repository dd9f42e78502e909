"""The pictures of the Fit screen."""

from typing import Any

from .eq import Plot

PLOT = Plot(left=36, right=560, top=14, bottom=176, low=-26, high=12)
AXES = [(f, round(float(PLOT.x(f)), 1), name) for f, name in ((125, "125"), (250, "250"), (500, "500"), (1000, "1k"))]
AXES += [(f, round(float(PLOT.x(f)), 1), name) for f, name in ((2000, "2k"), (4000, "4k"), (8000, "8k"))]


def share_of(frame: Any, first: int, last: int) -> float:
    """Where a frame lies between two, 0 to 1, held at the ends."""
    return min(max((frame - first) / max(last - first, 1), 0.0), 1.0)
