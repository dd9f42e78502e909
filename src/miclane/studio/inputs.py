"""What comes into a stage, for measures that set it."""

import numpy as np

from ..core.errors import UnknownPlaceError
from ..core.measure.phrases import Span
from ..core.mix.paths import Path
from ..store.state import State
from .graphs import looked_at
from .studio import Studio


def phrases_in(path: Path, loop: tuple[int, int]) -> list[Span]:
    """Phrases that time a path, in frames of what `coming_in` gives."""
    phrases = path.timed_by.phrases if path.timed_by else ()
    if path.is_lane:
        return [Span(p.start, p.end) for p in phrases]
    inside = [p for p in phrases if p.start < loop[1] and p.end > loop[0]]
    return [Span(max(p.start - loop[0], 0), min(p.end, loop[1]) - loop[0]) for p in inside]


def coming_in(studio: Studio, state: State, path: Path, stage_id: str, loop: tuple[int, int]) -> np.ndarray:
    """What comes into a stage (channels, frames): over the whole take on a lane, over the loop elsewhere.

    Of a stage that looks at its key, the key.
    """
    graph = studio.graph(state)
    key = looked_at(graph, path.place, stage_id)
    if path.sound is not None:
        return studio.takes.whole(graph, key, path.sound.frames, studio.renderer(graph.rate))
    if path.is_lane or loop[1] <= loop[0]:
        raise UnknownPlaceError(f"there is nothing to hear on “{path.member.name}”")
    found = studio.range(state, "lane", path.name, *loop)
    return found.cut(key)
