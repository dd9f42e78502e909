"""What comes after a piece that is wanted soon, as it was when all of it was rendered last.

A stage that looks far ahead waits for what only tells it how much to turn down. For a piece under the playhead it is
told by what stood there before: all that comes before it need not be run that much further.
"""

import numpy as np

from .cache import Place, Rendered, RenderStore
from .graph import Graph, Node

BLEND = 256  # frames in which the one goes over into the other
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

    def of(self, node: Node, start: int, stop: int) -> np.ndarray | None:
        """Frames [start, stop) of what came into a node (channels, n); None where they are not kept."""
        place = self._places.get(node.twin)
        found = self._store.get(*place) if place else None
        return found.cut(start, stop) if found and found.start <= start and stop <= found.stop else None


def waits_frames(node: Node, rate: int) -> int:
    """How far ahead of what is heard a node listens for no more than how much to turn down."""
    if node.stage is None or not node.twin or node.keyed_by == node.inputs[0]:
        return 0
    return max(0, node.latency - round(rate * node.stage.heard_ahead_s()))


def with_ahead(new: Rendered, start: int, from_: int, ahead: np.ndarray) -> np.ndarray:
    """Frames of `new` from `start` to `from_`, a short way on together with `ahead`, and then `ahead` (channels, n)."""
    both = max(0, min(BLEND, new.stop - from_, ahead.shape[1]))
    x = np.concatenate([new.cut(start, from_), ahead], axis=1)
    share = np.linspace(1.0, 0.0, both)
    x[:, from_ - start : from_ - start + both] += share * (new.cut(from_, from_ + both) - ahead[:, :both])
    return x
