"""A rendered range, with every node before it."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from .cache import Rendered
from .graph import Graph, Node
from .node import Trace, joined, put_together


@dataclass
class Range:
    """A rendered range: the sound of the target, and every node before it by its key; picks are made when asked for."""

    start: int
    audio: np.ndarray
    nodes: Mapping[str, Rendered]
    graph: Graph

    @property
    def stop(self) -> int:
        """Frame after the last."""
        return self.start + self.audio.shape[1]

    def has(self, key: str) -> bool:
        """Whether a node was rendered, or all that is heard of a pick."""
        return all(k in self.nodes for _, k in self._heard(key))

    def cut(self, key: str, start: int | None = None, stop: int | None = None) -> np.ndarray:
        """Sound of a node over the range, or over a part of it."""
        start, stop = self.start if start is None else start, self.stop if stop is None else stop
        node, heard = self.graph.nodes.get(key), self._heard(key)
        if node is not None and node.gains and key not in self.nodes:  # a sum that was made of less
            parts = [self.cut(k, start, stop) for k in node.inputs]
            return put_together(node, parts, start, stop - start)
        if len(heard) == 1:
            return self.nodes[heard[0][1]].cut(start, stop)
        assert node is not None and node.picks is not None
        picks = node.picks.only(tuple(k for k, _ in heard))
        return picks.mixed([self.nodes[k].cut(start, stop) for _, k in heard], start, node.channels)

    def trace(self, key: str) -> Trace | None:
        """Trace of a stage's node, None where there is none; of a pick what is heard of its inputs' traces."""
        node = self.graph.nodes.get(key)
        heard = self._heard(key) if node is None or node.picks is None else self._picked(node)
        found = [self.nodes[k].trace if k in self.nodes else None for _, k in heard]
        if len(heard) == 1 and key == heard[0][1]:
            return found[0]
        picks = self.graph.nodes[key].picks
        assert picks is not None
        there = [(picks.stretches(k), t) for (k, _), t in zip(heard, found, strict=True) if k not in picks.untraced]
        return joined([(where, trace) for where, trace in there if trace is not None])

    def _heard(self, key: str) -> list[tuple[int, str]]:
        """The node itself, or the inputs of a pick of which something is heard here, with their numbers."""
        node = self.graph.nodes.get(key)
        if key in self.nodes or node is None or node.picks is None:
            return [(0, key)]
        return self._picked(node)

    def _picked(self, node: Node) -> list[tuple[int, str]]:
        """The inputs of a pick of which something is heard here, with their numbers."""
        assert node.picks is not None
        return [(k, node.inputs[k]) for k in node.picks.over(self.start, self.stop)]
