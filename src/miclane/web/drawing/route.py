"""The line of a lane: stations, forks, and the places where something can be inserted."""

from dataclasses import dataclass, field
from typing import Any

from ...core.mix.document import Session
from ...core.mix.paths import Path
from ...core.stages.base import Stage
from ...core.stages.split import Split
from .paths import shorten


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


def lay_route(session: Session, path: Path, width: float = 1044) -> Route:
    """Places of everything on a path's route."""
    lane, sends = path.member, path.lane.sends if path.is_lane else ()
    slots = 0.0
    for stage in lane.stages:
        slots += max([1.0, *(len(b.stages) * 1.0 + 0.9 for b in stage.branches)]) if isinstance(stage, Split) else 1.0
    left, right = 84.0, width - 168
    pitch = min(96.0, max(58.0, (right - left) / max(slots, 1)))
    width = max(width, left + slots * pitch + 168)
    right = width - 168
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
