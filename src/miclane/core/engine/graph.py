"""The session as a graph of sources, stages and sums, and of picks where it is set otherwise in some of its parts.

A node's key says all that its sound depends on, so nodes with the same key sound the same and what has been rendered
for one serves the other.
"""

import hashlib
from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import lru_cache

from ..stages.base import Stage
from .picks import Picks

Gains = tuple[float, float]
_OVERLAP = 0.3


@dataclass(frozen=True)
class Node:
    """One source, stage, sum or pick. `gains` stand beside `inputs` of a sum, left and right; `picks` is of a pick.

    `twin` says at which place a stage stands and what it remembers of what is set on it (`Stage.remembers`), not what
    comes into it; "" for others.
    """

    key: str
    inputs: tuple[str, ...] = ()
    channels: int = 1
    digest: str = ""
    stage: Stage | None = None
    keyed_by: str = ""
    gains: tuple[Gains, ...] = ()
    latency: int = 0
    memory_s: float = 0.0
    twin: str = ""
    picks: Picks | None = None

    @property
    def before(self) -> tuple[str, ...]:
        """Keys of all that it hears: its inputs, and its key."""
        return (*self.inputs, self.keyed_by) if self.keyed_by else self.inputs


@dataclass
class Graph:
    """Nodes in an order in which each stands after what it needs, and the names of places along the paths.

    Where the session is set otherwise in some of its parts, `variants` are the places of each way in which it is set.
    """

    rate: int
    frames: int
    nodes: dict[str, Node] = field(default_factory=dict)
    places: dict[str, str] = field(default_factory=dict)
    variants: list[dict[str, str]] = field(default_factory=list)
    heard: Picks | None = None  # which of the variants, when
    # of so many nodes: run-ins, and the latency of the longest path
    _reach: tuple[int, dict[str, float], int] = field(default=(-1, {}, 0), repr=False, compare=False)

    def add(self, node: Node) -> str:
        """Add a node unless it is there; its key."""
        self.nodes.setdefault(node.key, node)
        return node.key

    def narrowed(self, target: str, start: int, stop: int) -> tuple["Graph", str]:
        """The graph, and in it the key of what is heard of a target in frames [start, stop): variants of which nothing
        is heard there are left out."""
        node, graph = self.nodes[target], self
        if node.picks is None:
            if not any(self.nodes[k].picks for k in node.inputs):
                return self, target
            inputs = []
            for key in node.inputs:
                graph, key = graph.narrowed(key, start, stop)
                inputs.append(key)
            fewer = summed(tuple(inputs), node.gains, node.channels)
        else:
            heard = node.picks.over(start, stop)
            if len(heard) == 1:
                return self, node.inputs[heard[0]]
            if len(heard) == len(node.inputs):
                return self, target
            fewer = pick(tuple(node.inputs[k] for k in heard), node.picks.only(heard), node.channels)
        return Graph(self.rate, self.frames, graph.nodes | {fewer.key: fewer}, self.places), fewer.key

    def places_over(self, start: int, stop: int) -> dict[str, str]:
        """The places of the one variant that is heard longest in frames [start, stop)."""
        return self.variants[self.heard.most(start, stop)] if self.heard is not None else self.places

    def holds(self, target: str, key: str, start: int, stop: int) -> bool:
        """Whether what is heard of `key` in frames [start, stop) is rendered wherever the target is."""
        graph, end = self.narrowed(target, start, stop)
        node = self.nodes[key]
        wanted = {node.inputs[k] for k in node.picks.over(start, stop)} if node.picks else {key}
        return wanted <= {n.key for n in graph.needed(end)} | {end}

    def needed(self, target: str) -> list[Node]:
        """Nodes that `target` depends on, itself last, in order."""
        wanted, stack = set(), [target]
        while stack:
            key = stack.pop()
            if key not in wanted:
                wanted.add(key)
                stack += self.nodes[key].before
        return [node for key, node in self.nodes.items() if key in wanted]

    def run_ins(self) -> dict[str, float]:
        """How long each node must have run for all that hears it to be exact, in seconds.

        Stages in a row forget at the same time, so a path remembers as long as its longest stage and a share of the
        others. Whatever is to be heard, a node is run in alike, so that what was rendered for one serves the other.
        """
        count, run_ins, _ = self._reach
        if count != len(self.nodes):
            after: dict[str, float] = {}
            run_ins = {}
            for node in reversed(self.nodes.values()):
                behind = after.get(node.key, 0.0)
                longer, shorter = max(behind, node.memory_s), min(behind, node.memory_s)
                run_ins[node.key] = mine = longer + _OVERLAP * shorter
                for key in node.before:
                    after[key] = max(after.get(key, 0.0), mine)
            self._reach = len(self.nodes), run_ins, max(_latencies(self.nodes.values()).values(), default=0)
        return run_ins

    def latest(self) -> int:
        """Latency of the longest path of all, in frames."""
        self.run_ins()
        return self._reach[2]

    def latency_to(self, target: str) -> int:
        """Latency of the longest path into `target`, in frames."""
        return _latencies(self.needed(target))[target]

    def rings_on(self, target: str) -> tuple[float, float]:
        """How long `target` may sound on after its sounds have ended, and the longest silence in that, in seconds.

        Along a path each stage sounds on after the one before it: an echo of an echo.
        """
        rest: dict[str, tuple[float, float]] = {}
        for node in self.needed(target):
            tail, pause = (max(each) for each in zip((0.0, 0.0), *(rest[k] for k in node.inputs), strict=True))
            if node.stage is not None:
                tail, pause = tail + max(node.stage.tail_s(), node.memory_s), pause + node.stage.pause_s()
            rest[node.key] = tail, pause
        return rest[target]


def _latencies(nodes: Iterable[Node]) -> dict[str, int]:
    """Latency of the longest path into each node, its own included; nodes stand in order, with all before them."""
    found: dict[str, int] = {}
    for node in nodes:
        found[node.key] = node.latency + max((found[k] for k in node.before), default=0)
    return found


@lru_cache(maxsize=2048)
def summed(inputs: tuple[str, ...], gains: tuple[Gains, ...], channels: int) -> Node:
    """A weighted sum of its inputs."""
    return Node(digest_of("sum", channels, inputs, gains), inputs, channels, gains=gains)


def pick(inputs: tuple[str, ...], picks: Picks, channels: int) -> Node:
    """A node that is now the one, now the other of its inputs, which have so many channels each."""
    return Node(digest_of("pick", inputs, picks.spans, sorted(picks.untraced), channels), inputs, channels, picks=picks)


def digest_of(*parts: object) -> str:
    """Key of a node made of these parts: text, numbers, and tuples of such."""
    return hashlib.blake2b(repr(parts).encode(), digest_size=16).hexdigest()
