"""Drawings made on the server: EQ curves, histograms, the route. Numbers in, coordinates out; templates draw them."""

from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

import numpy as np

from ..core.measure.spectrum import AXIS_HZ
from ..core.mix.document import Session
from ..core.mix.paths import Path
from ..core.stages.base import Stage
from ..core.stages.eq import Band, Eq
from ..core.stages.split import Split

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


def path_of(x: Iterable[float], y: Iterable[float]) -> str:
    """SVG path through points."""
    return "M" + "L".join(f"{a:.1f} {b:.1f}" for a, b in zip(x, y, strict=True))


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
    own = band.model_copy(update={"on": True})
    alone = Eq(bands=(own,)).response_db(np.array([band.frequency_hz]), rate)[0]
    height = band.gain_db if band.shape in ("bell", "low_shelf", "high_shelf") else max(float(alone), -12.0)
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


@dataclass
class Station:
    """A stage on the line."""

    stage: Stage
    path: str
    x: float
    y: float
    short: str
    index: int
    branch: str = ""


@dataclass
class Route:
    """The line of a lane: stations, forks, and the places where something can be inserted."""

    width: float
    line_y: float
    height: float
    stations: list[Station] = field(default_factory=list)
    forks: list[dict[str, Any]] = field(default_factory=list)
    gaps: list[dict[str, Any]] = field(default_factory=list)
    sends: list[dict[str, Any]] = field(default_factory=list)


def shorten(name: str, width: float) -> str:
    """A name cut to what fits in `width` pixels at 11.5 px."""
    most = max(3, int(width / 6.3))
    return name if len(name) <= most else name[: most - 1].rstrip() + "…"


def lay_route(session: Session, path: Path, width: float = 1044) -> Route:
    """Places of everything on a path's route."""
    lane, sends = path.member, path.lane.sends if path.is_lane else ()
    slots = 0.0
    for stage in lane.stages:
        slots += max([1.0, *(len(b.stages) * 1.0 + 0.9 for b in stage.branches)]) if isinstance(stage, Split) else 1.0
    left, right = 84.0, width - 168
    pitch = min(96.0, (right - left) / max(slots, 1))
    branches = max((len(s.branches) for s in lane.stages if isinstance(s, Split)), default=0)
    route = Route(width, 38, max(74, 62 + bool(branches or sends) * 52 + max(branches - 1, 0) * 58))
    x = left
    for i, stage in enumerate(lane.stages):
        base = f"{path.base}/stages"
        route.gaps.append({"x": x - pitch / 2 + (4 if i == 0 else 0), "y": route.line_y, "index": i, "path": base})
        if isinstance(stage, Split):
            wide = max([1.0, *(len(b.stages) + 0.9 for b in stage.branches)]) * pitch
            _fork(route, stage, f"{base}/{stage.id}", x - pitch / 2, wide, pitch, i)
            x += wide
            continue
        route.stations.append(Station(stage, f"{base}/{stage.id}", x, route.line_y, shorten(stage.label, pitch - 4), i))
        x += pitch
    end = x - pitch / 2
    route.gaps.append(
        {"x": min(end, right + 20), "y": route.line_y, "index": len(lane.stages), "path": f"{path.base}/stages"}
    )
    names = {r.id: r.name for r in session.returns}
    route.sends = [{"name": names.get(s.id, s.id), "level_db": s.level_db, "id": s.id} for s in sends if s.on]
    return route


def _fork(route: Route, split: Split, path: str, x: float, wide: float, pitch: float, index: int) -> None:
    for k, branch in enumerate(split.branches):
        y = route.line_y + 50 + 58 * k
        inside = f"{path}/branches/{branch.id}"
        route.forks.append(
            {
                "from": x + 4,
                "to": x + wide - 4,
                "y": y,
                "line_y": route.line_y,
                "branch": branch,
                "path": inside,
                "split": split,
                "split_path": path,
                "index": index,
                "first": k == 0,
            }
        )
        at = x + 0.45 * pitch + pitch / 2
        for j, stage in enumerate(branch.stages):
            place = f"{inside}/stages/{stage.id}"
            short = shorten(stage.label, pitch - 6)
            route.stations.append(Station(stage, place, at, y, short, j, branch.id))
            at += pitch
        route.gaps.append({"x": at - pitch / 2 + 2, "y": y, "index": len(branch.stages), "path": f"{inside}/stages"})
    label = Station(split, path, x + wide / 2, route.line_y, shorten(split.label, wide), index)
    route.stations.append(label)
