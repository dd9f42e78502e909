"""The picture of an EQ: its curve, its pins, spectra before and after."""

from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np

from ...core.axes import AXIS_HZ
from ...core.stages.eq import Band, Eq
from .paths import path_of

# name, from, to, the trade's words for too much and too little
ZONES = (
    ("rumble", 20, 80, "booms", "lighter"),
    ("body", 80, 200, "boomy", "thin"),
    ("box & mud", 200, 800, "muddy, boxy", "hollow"),
    ("middle", 800, 2000, "nasal, honky", "distant"),
    ("presence", 2000, 5000, "hard, harsh", "buried"),
    ("edge", 5000, 9000, "sharp", "dull"),
    ("air", 9000, 20000, "hissy", "closed"),
)


@dataclass(frozen=True)
class Plot:
    """A frequency plot: the rectangle of its axes in the drawing, dB from `low` to `high`."""

    left: float = 40
    right: float = 700
    top: float = 26
    bottom: float = 274
    low: float = -18
    high: float = 15

    def x(self, frequency_hz: Any) -> Any:
        """Horizontal place of a frequency."""
        share = np.log(np.asarray(frequency_hz, float) / 20) / np.log(1000)
        return self.left + share * (self.right - self.left)

    def y(self, level_db: Any) -> Any:
        """Vertical place of a level; outside the axes it is held at the edge."""
        share = (np.clip(level_db, self.low, self.high) - self.low) / (self.high - self.low)
        return self.bottom - share * (self.bottom - self.top)


PLOT = Plot()


def eq_paths(stage: Eq, rate: int, plot: Plot = PLOT) -> dict[str, Any]:
    """Curve of an EQ, the area it takes away, and a pin a band: place, bracket ends, number."""
    axis = AXIS_HZ[::2]
    response = stage.curve_db(rate)[::2]
    x, y = plot.x(axis), plot.y(response)
    zero = float(plot.y(0.0))
    taken = np.maximum(y, zero)
    area = path_of(x, taken) + f"L{plot.right:.1f} {zero:.1f}L{plot.left:.1f} {zero:.1f}Z"
    pins = [_pin(band, rate, plot) | {"index": i, "number": i + 1} for i, band in enumerate(stage.bands)]
    return {"curve": path_of(x, y), "taken": area, "pins": pins}


@lru_cache(maxsize=256)
def _pin(band: Band, rate: int, plot: Plot) -> dict[str, Any]:
    height = band.gain_db
    if band.shape not in ("bell", "low_shelf", "high_shelf"):
        own = band.model_copy(update={"on": True, "dynamic": None})
        height = max(float(Eq(bands=(own,)).response_db(np.array([band.frequency_hz]), rate)[0]), -12.0)
    half = _bracket(band.shape, band.q)
    return {
        "shape": band.shape,
        "on": band.on,
        "x": round(float(plot.x(band.frequency_hz)), 1),
        "y": round(float(plot.y(height)), 1),
        "zero": round(float(plot.y(0.0)), 1),
        "half_y": round(float(plot.y(height / 2)), 1),
        "from": round(float(plot.x(max(20, band.frequency_hz / half))), 1) if half else None,
        "to": round(float(plot.x(min(20000, band.frequency_hz * half))), 1) if half else None,
        "change_y": round(float(plot.y(height + band.dynamic.change_db)), 1) if band.dynamic else None,
    }


def _bracket(shape: str, q: float) -> float:
    """Ratio of the upper band edge to the centre, of a bell at half its gain in dB; 0 for other shapes."""
    if shape not in ("bell", "notch"):
        return 0.0
    half = 1 / (2 * q)
    return float(np.sqrt(1 + half * half) + half)


def spectrum_paths(
    before: np.ndarray, after: np.ndarray, plot: Plot = PLOT, against: np.ndarray | None = None
) -> dict[str, Any]:
    """Spectra on AXIS_HZ as an area (before) and a line (after), tilted 4.5 dB an octave, 2.2 dB to a dB of the scale.

    `offset` is the tilted level drawn at +8 dB of the scale, the loudest of `against` (of `before` without it).
    """
    tilt = 4.5 * np.log2(AXIS_HZ / 1000)
    top = np.percentile((before if against is None else against) + tilt, 98)
    keep = AXIS_HZ <= 19500
    x = plot.x(AXIS_HZ[keep])

    def line(level: np.ndarray) -> str:
        return path_of(x, plot.y((level + tilt - top)[keep] / 2.2 + 8))

    area = line(before) + f"L{x[-1]:.1f} {plot.bottom}L{x[0]:.1f} {plot.bottom}Z"
    return {"before": area, "after": line(after), "offset": float(top)}
