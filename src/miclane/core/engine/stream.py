"""The graph run from one frame to another in chunks, with bounded memory: for printing and for playing on and on.

In a print stations in a row, with nobody listening in between, work on a piece one after the other while it is near,
and rows work at the same time (`crew`).
"""

import os
import threading
from collections import Counter
from collections.abc import Iterator, Mapping
from contextlib import ExitStack
from dataclasses import replace

import numpy as np

from .crew import Crew
from .giving_way import Cancel
from .graph import Gains, Graph, Node
from .node import BLOCK, Watch, check_sound
from .render import Piece, SoundReader, plan
from .states import States
from .stations import CHUNK, Edge, Station, read_ahead, rows_of

IN_PRINT = 8 * BLOCK  # longer, and more is waited for at both ends; shorter, and what a step takes besides weighs more
_FIRST = 2048
_SOON = 8 * _FIRST  # of what is due: it can be heard by then, and what follows comes far sooner than it is
_RUN_IN = 8 * BLOCK  # of what nobody hears as much in one go: what a stage takes besides its frames weighs less


def _cores() -> int:
    """Processors this process may use."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


def _lay_out(
    graph: Graph, targets: list[str], pieces: Mapping[str, Piece], states: States | None = None, settled: int = 0
) -> tuple[list[Station], list[Edge]]:
    """Stations for all that the targets need, in order, joined by edges, and the edges that the targets fill."""
    wanted = {n.key for target in targets for n in graph.needed(target)}
    nodes = {key: node for key, node in graph.nodes.items() if key in wanted}
    stations = {key: Station(node, graph.rate, pieces[key], states, settled) for key, node in nodes.items()}
    for station in stations.values():
        for edge, key in zip(station.incoming, station.node.before, strict=True):
            edge.skip = station.at - stations[key].gives_from
            stations[key].outgoing.append(edge)
    ends = [Edge() for _ in targets]
    for edge, target in zip(ends, targets, strict=True):
        stations[target].outgoing.append(edge)
    return list(stations.values()), ends


def _folded(graph: Graph, targets: list[str]) -> Graph:
    """The same where a sum hears what another sum hears from that itself: in one go, not in two.

    So it is where the other turns one sound by a fader and a pan, or is heard by nobody else. Whoever listens to what
    comes between finds it as before; nobody does in a mix.
    """
    heard = Counter(k for key in {n.key for t in targets for n in graph.needed(t)} for k in graph.nodes[key].before)
    nodes: dict[str, Node] = {}
    for key, node in graph.nodes.items():
        if _adds(node):
            fed: list[tuple[str, Gains]] = []
            for k, (left, right) in zip(node.inputs, node.gains, strict=True):
                one = nodes[k]
                if _adds(one) and (len(one.inputs) == 1 or (heard[k] == 1 and k not in targets)):
                    fed += [(i, (left * g[0], right * g[1])) for i, g in zip(one.inputs, one.gains, strict=True)]
                else:
                    fed.append((k, (left, right)))
            node = replace(node, inputs=tuple(k for k, _ in fed), gains=tuple(gain for _, gain in fed))
        nodes[key] = node
    return Graph(graph.rate, graph.frames, nodes, graph.places)


def _adds(node: Node) -> bool:
    """Whether it is a weighted sum of two sides."""
    return node.stage is None and node.picks is None and bool(node.inputs) and node.channels == 2


def flow(
    graph: Graph,
    target: str,
    start: int,
    stop: int,
    read: SoundReader,
    run_in: int,
    cancel: Cancel,
    states: States | None = None,
    hands: int = 1,
) -> Iterator[np.ndarray]:
    """Yield frames [start, stop) of a node (channels, n) piece by piece, the first as soon as can be.

    Nothing waits for a later chunk; up to the first that can be heard so many `hands` work, then whoever asks alone.
    Stages go on from their `states`, and leave some; what sounded more than `run_in` frames before the start is not
    heard of one without.
    """
    graph, target = graph.narrowed(target, start, stop)
    pieces = plan(graph, target, (start, stop), run_in, states or States(0))
    at = min(piece.start for piece in pieces.values())
    pieces |= {node.key: Piece(at, stop) for node in graph.needed(target) if not node.before}  # all read in one stride
    line, ends = _lay_out(graph, [target], pieces, states, start)
    given, due = line[-1].gives_from, start + graph.latency_to(target)
    crew = Crew(rows_of(line), ends, read, _Steps(at, due), min(hands, _cores()))
    with ExitStack() as helped:
        helped.enter_context(crew.at_work())
        while given < stop:
            crew.step(cancel)
            ready = ends[0].frames
            if not ready:
                continue
            block = ends[0].take(ready)
            if graph.nodes[target].stage is None:  # a stage's has been looked at
                check_sound(block, "All together")
            skip = min(max(start - given, 0), ready)
            given += ready
            if skip < ready:
                yield block[:, skip : ready - max(0, given - stop)]
            if given >= start + _SOON:
                helped.close()


class _Steps:
    """Up to which frame each step of a flow reads: what nobody hears in long ones, the first of what is due at once."""

    def __init__(self, at: int, due: int) -> None:
        self._at, self._due, self._lock = [at], due, threading.Lock()

    def __call__(self, step: int) -> int:
        with self._lock:  # any hand may be the first to ask
            while len(self._at) < step + 2:
                at = self._at[-1]
                soon = 2 * _FIRST if at <= self._due + _SOON else CHUNK
                self._at.append(at + (min(_RUN_IN, self._due - at + _FIRST) if at < self._due else soon))
            return self._at[step + 1]


def stream(
    graph: Graph,
    targets: list[str],
    frames: int,
    read: SoundReader,
    cancel: Cancel | None = None,
    threads: int | None = None,
    chunk: int = IN_PRINT,
    watches: Mapping[str, Watch] | None = None,
) -> Iterator[list[np.ndarray]]:
    """Yield, chunk by chunk, `frames` frames of every target (channels, n) side by side.

    Stages are watched whose nodes have a key in `watches`.
    """
    cancel = cancel or Cancel()
    threads = threads or min(4, _cores())
    graph = _folded(graph, targets)
    line, ends = _lay_out(graph, targets, {key: Piece(0, frames) for key in graph.nodes})
    for station in line:
        station.watch = (watches or {}).get(station.node.key)
    read_ahead(line)
    crew, given = Crew(rows_of(line), ends, read, lambda step: (step + 1) * chunk, threads), 0
    with crew.at_work():
        while given < frames:
            crew.step(cancel)
            ready = min(min(edge.frames for edge in ends), frames - given)
            if ready > 0:
                given += ready
                blocks = [edge.take(ready) for edge in ends]
                for block, target in zip(blocks, targets, strict=True):
                    if graph.nodes[target].stage is None:
                        check_sound(block, "All together")
                yield blocks
