"""What every stage does over the whole song: traces, of sound that is rendered in one go and not kept."""

from collections.abc import Callable

import numpy as np

from .cache import Rendered
from .giving_way import Cancel
from .graph import Graph
from .node import Watch
from .range import Range
from .render import SoundReader
from .stream import stream


def traced(
    graph: Graph, targets: list[str], frames: int, read: SoundReader, cancel: Cancel, between: Callable[[], None]
) -> Range:
    """The traces of all stages that these nodes need, from the first of so many frames on; a range without sound.

    One thread does it; `between` is called between pieces, and may wait.
    """
    targets = list(dict.fromkeys(targets))
    stages = {n.key for target in targets for n in graph.needed(target) if n.stage is not None}
    watches = {key: Watch(graph.rate) for key in stages}
    for _ in stream(graph, targets, frames, read, cancel, threads=1, watches=watches):
        between()
    nodes = {key: Rendered(0, np.zeros((1, 0)), watch.trace()) for key, watch in watches.items()}
    return Range(0, np.broadcast_to(np.zeros((1, 1)), (1, frames)), nodes, graph)
