"""What comes after a piece that is wanted soon, as it was when all of it was rendered last.

A stage that looks far ahead waits for what only tells it how much to turn down. For a piece under the playhead it is
told by what stood there before: all that comes before it need not be run that much further.
"""

import numpy as np

from ..kernels.likeness import energy_of
from .cache import Place, Rendered, RenderStore
from .graph import Graph, Node

BLEND = 256  # frames in which the one goes over into the other
_MATCHED, _MOST_LOUDER = 8192, 8.0  # frames over which they are made alike
_MOST = 5_000


class Ahead:
    """Where the last render is of what came into each stage that looks ahead, by its twin."""

    def __init__(self, store: RenderStore) -> None:
        self._store = store
        self._places: dict[str, Place] = {}

    def note(self, graph: Graph, target: str, starts: dict[str, int], last: int) -> None:
        """All that a target needs has been rendered from `starts` to `last`."""
        if len(self._places) > _MOST:
            self._places.clear()
        for node in graph.needed(target):
            if waits_frames(node, graph.rate):
                self._places[node.twin] = node.inputs[0], starts[node.inputs[0]], last

    def of(self, node: Node, start: int, stop: int) -> Rendered | None:
        """What came into a node, from frame `start` to `stop` at the least; None where that is not kept."""
        place = self._places.get(node.twin)
        found = self._store.get(*place) if place else None
        return found if found and found.start <= start and stop <= found.stop else None


def waits_frames(node: Node, rate: int) -> int:
    """How far ahead of what is heard a node listens for no more than how much to turn down."""
    if node.stage is None or not node.twin or node.keyed_by == node.inputs[0]:
        return 0
    return max(0, node.latency - round(rate * node.stage.heard_ahead_s()))


def with_ahead(new: Rendered, start: int, from_: int, stop: int, old: Rendered) -> np.ndarray:
    """Frames of `new` from `start` to `from_`, a short way on blended with the old, and then the old up to `stop`.

    The old is as loud as the new is just before.
    """
    first = max(start, old.start, from_ - _MATCHED)
    was, now = (sum(energy_of(np.ascontiguousarray(row)) for row in each.cut(first, from_)) for each in (old, new))
    louder = np.clip(np.sqrt(now / was), 1 / _MOST_LOUDER, _MOST_LOUDER) if was > 0 else 1.0
    came = new.cut(start, from_)
    whole = np.empty((len(came), stop - start))
    whole[:, : from_ - start] = came
    later = np.multiply(old.cut(from_, stop), louder, out=whole[:, from_ - start :])
    both = max(0, min(BLEND, new.stop - from_, stop - from_))
    later[:, :both] += np.linspace(1.0, 0.0, both) * (new.cut(from_, from_ + both) - later[:, :both])
    return whole
