"""What is looked at of a path over a loop, taken from what is heard wherever that holds it."""

from typing import Any

import numpy as np

from ..core.engine.range import Range
from ..core.measure.phrases import Span
from ..core.measure.reduction import Share, share_of_work
from ..core.measure.stages import read_stage
from ..core.mix.paths import Path, find_path, place_of
from ..core.stages.base import Stage
from ..core.stages.flat import flat_stages
from ..core.stages.multiband import Multiband
from ..store.state import State
from .graphs import Hear
from .studio import Studio


def path_range(studio: Studio, state: State, hear: Hear, name: str, start: int, stop: int) -> tuple[Range, str]:
    """The range in which the stages of the path of that name were rendered, and the key of its end.

    Taken from what is heard where that contains the path, so that nothing is rendered twice.
    """
    graph = studio.graph(state)
    end = graph.places[f"{place_of(name)}:treated"]
    heard = studio.target(graph, hear, name)
    if graph.holds(heard, end, start, stop):
        return studio.renderer(graph.rate).loop(graph, heard, start, stop, studio.newest(state)), end
    return studio.range(state, "lane", name, start, stop), end


def sound_of(found: Range, key: str, first: int, last: int) -> np.ndarray:
    """Frames [first, last) of a node of a rendered range."""
    return found.cut(key, first, last)


def stations(
    studio: Studio, state: State, hear: Hear, lane: str, start: int, stop: int, first: int, last: int
) -> dict[str, Any]:
    """Reading of every stage of a path that is on, by id."""
    return read_in(studio, state, path_range(studio, state, hear, lane, start, stop)[0], lane, first, last)


def read_in(studio: Studio, state: State, found: Range, lane: str, first: int, last: int) -> dict[str, Any]:
    """As `stations`, in a range in which the path was rendered."""
    part, graph = find_path(state.session, lane), studio.graph(state)
    told: dict[str, Any] = {}
    for stage in flat_stages(part.member.stages):
        trace = found.trace(graph.places[f"{part.place}:stage:{stage.id}"]) if stage.on else None
        if trace is None or stage.splits:
            continue
        r = read_stage(trace, first, last)
        here = stage.in_song(state.session.tempo_bpm, state.session.key)
        told[stage.id] = {
            "figure": here.figure(r),
            "says": here.says(r),
            "change_db": round(r.change_db, 2),
            "median_db": round(r.reduction_median_db, 2),
            "p95_db": round(r.reduction_p95_db, 2),
            "max_db": round(r.reduction_max_db, 2),
            "in_db": round(r.level_in_db, 2),
            "out_db": round(r.level_out_db, 2),
        }
    return told


def share_of(studio: Studio, state: State, path: Path, hear: Hear, first: int, last: int) -> Share:
    """Share of the work of the stages in a row on a path over a loop."""
    found, _ = path_range(studio, state, hear, path.name, first, last)
    places = studio.graph(state).places
    stages = []
    for s in path.member.stages:
        trace = found.trace(places[f"{path.place}:stage:{s.id}"]) if s.on and s.levels else None
        if trace is not None:
            stages.append((s.id, s.label, trace, isinstance(s, Multiband)))
    phrases = [Span(p.start, p.end) for p in (path.timed_by.phrases if path.timed_by else ())]
    return share_of_work(stages, phrases, first, last)


def in_and_out(
    studio: Studio, state: State, path: Path, stage: Stage, hear: Hear, first: int, last: int
) -> tuple[np.ndarray, np.ndarray]:
    """What comes into a stage and what comes out over the loop."""
    found, _ = path_range(studio, state, hear, path.name, first, last)
    places = studio.graph(state).places
    keys = [places[f"{path.place}:{where}:{stage.id}"] for where in ("before", "stage")]
    return sound_of(found, keys[0], first, last), sound_of(found, keys[1], first, last)


def reduction_row(gain_db: np.ndarray, origin: int, hop: int, start: int, stop: int, columns: int) -> np.ndarray:
    """Least gain in each column of frames [start, stop)."""
    edges = (np.linspace(start, stop, columns + 1)[:-1] - origin) / hop
    at = np.clip(edges.astype(int), 0, len(gain_db) - 1)
    return np.minimum.reduceat(gain_db, at)[: len(at)] if np.all(np.diff(at) > 0) else gain_db[at]
