"""States of what sounds on for long, left along a song before anyone goes there: a jump then has the tails it lands in.

What forgets sooner than a song's run-in lasts needs none; nor does what is only turned up or down by a little by what
was longer ago, and takes much to keep (a ducker, a de-esser). Where a song is too long for states all along it, they
are left where its phrases begin: that is where one goes.
"""

from collections.abc import Iterable

from .casts import Mould
from .giving_way import Cancel
from .graph import Graph, Node
from .node import Worker
from .render import SoundReader
from .states import States
from .stations import NOTED
from .stream import flow

_LITTLE_BYTES = 16 << 10


class _Sparing(States):
    """Hands on only those of some nodes, at some multiples of NOTED, and has none to go on from."""

    def __init__(self, states: States, keys: frozenset[str], slots: frozenset[int]) -> None:
        super().__init__(0)
        self._to, self._keys, self._slots = states, keys, slots

    def note(self, node: Node, frame: int, worker: Worker) -> None:
        if node.key in self._keys and frame // NOTED in self._slots:
            self._to.note(node, frame, worker)

    def before(self, node: Node, frame: int, earliest: int, rate: int) -> None:
        return None


def sounding_on(graph: Graph, target: str, least_s: float) -> list[Node]:
    """Stages on the ways to the target that remember for longer than `least_s`: effects, and those that take little."""
    found = [n for n in graph.needed(target) if n.stage is not None and n.twin and n.memory_s > least_s]
    return [n for n in found if n.stage is not None and (n.stage.effect or _bytes(graph, n) <= _LITTLE_BYTES)]


def lay(
    graph: Graph,
    target: str,
    nodes: Iterable[Node],
    places: Iterable[int],
    read: SoundReader,
    states: States,
    cancel: Cancel,
) -> None:
    """Run the song to the target once and leave states of the nodes, of no more than half of what `states` may hold.

    They lie about a second apart or, where that is too many, before the `places` (frames). What `cancel` checks, every
    few milliseconds of work, may wait as well.
    """
    nodes = tuple(nodes)
    slots = _slots(graph.frames, places, sum(_bytes(graph, node) for node in nodes), states.limit_bytes // 2)
    sparing = _Sparing(states, frozenset(node.key for node in nodes), slots)
    if nodes and slots:
        for _ in flow(graph, target, 0, min(graph.frames, (max(slots) + 1) * NOTED), read, 0, cancel, sparing):
            pass


def _bytes(graph: Graph, node: Node) -> int:
    """What a state of a node takes."""
    assert node.stage is not None
    return Mould(Worker(node.stage, graph.rate, graph.nodes[node.inputs[0]].channels)).nbytes


def _slots(frames: int, places: Iterable[int], each_bytes: int, most_bytes: int) -> frozenset[int]:
    """Multiples of NOTED at which states of so many bytes each are left: all there are, or those before places."""
    most = most_bytes // max(each_bytes, 1)
    every = range(1, frames // NOTED + 1)
    chosen = every if len(every) <= most else sorted({place // NOTED for place in places} & set(every))
    return frozenset(list(chosen)[:most])
