"""The graph run from one frame to another in chunks, with bounded memory: for printing and for playing on and on.

In a print stations in a row, with nobody listening in between, work on a piece one after the other while it is near.
All rows work at the same time, each on what others made in the step before, so that a long chain keeps every core busy.
Which thread runs which rows, and where one is divided, follows from how long each station has taken so far.
"""

import os
import time
from collections import deque
from collections.abc import Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import numpy as np

from .giving_way import Cancel
from .graph import Graph, Node
from .node import BLOCK, Worker, check_sound, put_together
from .render import Piece, SoundReader, plan
from .states import States

CHUNK = 2 * BLOCK
IN_PRINT = 6 * BLOCK  # fewer, longer pieces: what one hand waits for the other weighs less
_FIRST = 2048
_RUN_IN = 8 * BLOCK  # of what nobody hears as much in one go: what a stage takes besides its frames weighs less
_NOTED = 6 * BLOCK  # states are kept of a flow at multiples of so many frames, whatever node they are of: one that
# goes on from there needs no more of those before it than there is a state for
_DEAL_AGAIN = 8
_FULL = 0.8  # of a hand: a row that takes more leaves too little to even out with


class _Edge:
    """Frames on their way from one node to another; the first `skip` are not wanted there."""

    def __init__(self) -> None:
        self.blocks: deque[np.ndarray] = deque()
        self.frames = 0
        self.skip = 0

    def put(self, block: np.ndarray) -> None:
        if self.skip:
            dropped = min(self.skip, block.shape[1])
            self.skip -= dropped
            block = block[:, dropped:]
        if block.shape[1]:
            self.blocks.append(block)
            self.frames += block.shape[1]

    def take(self, frames: int) -> np.ndarray:
        self.frames -= frames
        first = self.blocks[0]
        if first.shape[1] == frames:
            return np.ascontiguousarray(self.blocks.popleft())
        out = np.empty((first.shape[0], frames))
        at = 0
        while at < frames:
            block = self.blocks.popleft()
            step = min(block.shape[1], frames - at)
            out[:, at : at + step] = block[:, :step]
            if step < block.shape[1]:
                self.blocks.appendleft(block[:, step:])
            at += step
        return out


class _Station:
    """A node with its incoming edges and the outgoing ones to fill. It begins with the first frame of its piece."""

    def __init__(self, node: Node, rate: int, piece: Piece, states: States | None = None, settled: int = 0) -> None:
        self.node = node
        self.at = piece.start
        self.incoming = [_Edge() for _ in node.before]
        self.outgoing: list[_Edge] = []
        self.rate = rate
        self.worker = piece.worker
        self.gives_from = piece.start - (node.latency if piece.worker else 0)
        self.unheard = max(0, piece.heard_from - self.gives_from)
        # what began from nothing is like no state of a song before it is `settled`: nobody is to go on from it, nor
        # from one in which waits what nobody was to hear
        self.states, self.notes_from = states, piece.start + 1 if piece.worker else max(piece.start + _NOTED, settled)
        if self.unheard:
            self.notes_from = max(self.notes_from, piece.heard_from + node.latency)
        self.seconds = 0.0
        self.ready: list[np.ndarray] = []
        self.made: np.ndarray | None = None

    def gather(self) -> None:
        """Take what has come in on every edge, equally long; nothing while one is empty."""
        ready = min((edge.frames for edge in self.incoming), default=0)
        self.ready = [edge.take(ready) for edge in self.incoming] if ready else []

    def hand_on(self) -> None:
        """Give what was made to those that wait for it."""
        if self.made is not None:
            for edge in self.outgoing:
                edge.put(self.made)

    def work(self, start: int, read: SoundReader, chunk: int = CHUNK) -> None:
        """Make what follows from what has been gathered; a source reads its next chunk."""
        begun = time.perf_counter()
        node, blocks = self.node, self.ready
        if not self.incoming:
            self.made = read(node.digest, start, start + chunk) if node.digest else np.zeros((node.channels, chunk))
        elif not blocks:
            self.made = None
        elif node.stage is None:
            self.made = put_together(node, blocks, self.at, blocks[0].shape[1])
            self.at += blocks[0].shape[1]
        else:
            self.worker = self.worker or Worker(node.stage, self.rate, blocks[0].shape[0], self.at)
            self.worker.unheard, self.unheard = max(self.worker.unheard, self.unheard), 0
            self.made = self._push(self.worker, blocks[0], blocks[1] if node.keyed_by else None)
        self.seconds += time.perf_counter() - begun

    def _push(self, worker: Worker, x: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        """What is due once x has come in; states are noted on the way."""
        begun, stop, made = self.at, self.at + x.shape[1], []
        while self.at < stop:
            to = stop
            if self.states is not None:
                grid = -(-max(self.at, self.notes_from) // _NOTED) * _NOTED
                if grid == self.at:
                    self.states.note(self.node, grid, worker)
                    grid += _NOTED
                to = min(stop, grid)
            part = slice(self.at - begun, to - begun)
            heard = None if key is None else np.ascontiguousarray(key[:, part])
            made.append(worker.push(np.ascontiguousarray(x[:, part]), heard))
            self.at = to
        return made[0] if len(made) == 1 else np.concatenate(made, axis=1)


def _cores() -> int:
    """Processors this process may use."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


class _Row:
    """Stations in a row, each fed by the one before it alone."""

    def __init__(self, stations: list[_Station]) -> None:
        self.stations = stations

    @property
    def seconds(self) -> float:
        """What they have taken so far."""
        return sum(s.seconds for s in self.stations)

    def gather(self) -> None:
        """Take what has come in for the first of them."""
        self.stations[0].gather()

    def work(self, start: int, read: SoundReader, chunk: int) -> None:
        """Let all of them work in turn; what the last has made waits to be handed on."""
        first, *others = self.stations
        first.work(start, read, chunk)
        for before, station in zip(self.stations, others, strict=False):
            before.hand_on()
            station.gather()
            station.work(start, read, chunk)

    def hand_on(self) -> None:
        """Give what the last of them made to those that wait for it."""
        self.stations[-1].hand_on()

    def divided(self) -> "list[_Row]":
        """Two rows that have taken about as long."""
        half, until, total = 0.0, 0, self.seconds
        while until < len(self.stations) - 1 and half < 0.5 * total:
            half += self.stations[until].seconds
            until += 1
        return [_Row(self.stations[:until]), _Row(self.stations[until:])]


def _rows(line: list[_Station]) -> list[_Row]:
    """Stations in as few rows as they stand in, in an order in which none comes before what feeds it."""
    rows: dict[int, list[_Station]] = {}  # by the edge its last station fills, where there is but one
    found: list[list[_Station]] = []
    for station in line:
        edges = station.incoming
        row = rows.pop(id(edges[0]), None) if len(edges) == 1 else None
        if row is None:
            found.append(row := [])
        row.append(station)
        if len(station.outgoing) == 1:
            rows[id(station.outgoing[0])] = row
    return [_Row(row) for row in found]


def _evened(rows: list[_Row], hands: int) -> list[_Row]:
    """The same with a row divided that takes more than its share of a hand."""
    share = sum(row.seconds for row in rows) / hands
    longest = max(rows, key=lambda r: r.seconds)
    if hands < 2 or longest.seconds <= _FULL * share or len(longest.stations) < 2:
        return rows
    at = rows.index(longest)
    return [*rows[:at], *longest.divided(), *rows[at + 1 :]]


def _deal(rows: list[_Row], hands: int) -> list[list[_Row]]:
    """Rows dealt to as many hands, the costliest first, each to the hand with the least to do."""
    dealt: list[list[_Row]] = [[] for _ in range(hands)]
    load = [0.0] * hands
    for row in sorted(rows, key=lambda r: -r.seconds):
        least = load.index(min(load))
        dealt[least].append(row)
        load[least] += row.seconds + 1e-6
    return dealt


def _lay_out(
    graph: Graph, targets: list[str], pieces: Mapping[str, Piece], states: States | None = None, settled: int = 0
) -> tuple[list[_Station], list[_Edge]]:
    """Stations for all that the targets need, in order, joined by edges, and the edges that the targets fill."""
    wanted = {n.key for target in targets for n in graph.needed(target)}
    nodes = {key: node for key, node in graph.nodes.items() if key in wanted}
    stations = {key: _Station(node, graph.rate, pieces[key], states, settled) for key, node in nodes.items()}
    for station in stations.values():
        for edge, key in zip(station.incoming, station.node.before, strict=True):
            edge.skip = station.at - stations[key].gives_from
            stations[key].outgoing.append(edge)
    ends = [_Edge() for _ in targets]
    for edge, target in zip(ends, targets, strict=True):
        stations[target].outgoing.append(edge)
    return list(stations.values()), ends


def _folded(graph: Graph) -> Graph:
    """The same where a sum hears what a fader and pan make of one sound from that sound itself: in one go, not in two.

    Whoever listens to what comes between finds it as before; nobody does in a mix.
    """
    nodes: dict[str, Node] = {}
    for key, node in graph.nodes.items():
        if _adds(node):
            fed = [(nodes[k], k, gain) for k, gain in zip(node.inputs, node.gains, strict=True)]
            turned = [
                (one.inputs[0], (left * one.gains[0][0], right * one.gains[0][1]))
                if _adds(one) and len(one.inputs) == 1
                else (k, (left, right))
                for one, k, (left, right) in fed
            ]
            node = replace(node, inputs=tuple(k for k, _ in turned), gains=tuple(gain for _, gain in turned))
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
) -> Iterator[np.ndarray]:
    """Yield frames [start, stop) of a node (channels, n) piece by piece, the first as soon as can be.

    Every station works on each chunk in turn, so that nothing waits for a later chunk. Stages go on from their
    `states`, and leave some; what sounded more than `run_in` frames before the start is not heard of one without.
    """
    graph, target = graph.narrowed(target, start, stop)
    pieces = plan(graph, target, (start, stop), run_in, states or States(0))
    at = min(piece.start for piece in pieces.values())
    pieces |= {node.key: Piece(at, stop) for node in graph.needed(target) if not node.before}  # all read in one stride
    line, (end,) = _lay_out(graph, [target], pieces, states, start)
    given, due = line[-1].gives_from, start + graph.latency_to(target)
    while given < stop:
        soon = 2 * _FIRST if given <= start + 8 * _FIRST else CHUNK
        chunk = min(_RUN_IN, due - at + _FIRST) if at < due else soon
        for station in line:
            cancel.check()
            station.gather()
            station.work(at, read, chunk)
            station.hand_on()
        at += chunk
        ready = end.frames
        if not ready:
            continue
        block = end.take(ready)
        if graph.nodes[target].stage is None:  # a stage's has been looked at
            check_sound(block, "All together")
        skip = min(max(start - given, 0), ready)
        given += ready
        if skip < ready:
            yield block[:, skip : ready - max(0, given - stop)]


def stream(
    graph: Graph,
    targets: list[str],
    frames: int,
    read: SoundReader,
    cancel: Cancel | None = None,
    threads: int | None = None,
    chunk: int = IN_PRINT,
) -> Iterator[list[np.ndarray]]:
    """Yield, chunk by chunk, `frames` frames of every target (channels, n) side by side."""
    cancel = cancel or Cancel()
    threads = threads or min(4, _cores())
    graph = _folded(graph)
    line, ends = _lay_out(graph, targets, {key: Piece(0, frames) for key in graph.nodes})
    rows = _rows(line)
    given = at = step = 0

    def run(hand: list[_Row], start: int) -> None:
        for row in hand:
            row.work(start, read, chunk)

    with ThreadPoolExecutor(max(1, threads - 1)) as pool:
        while given < frames:
            cancel.check()
            if step % _DEAL_AGAIN == 0:
                rows = _evened(rows, threads)
                hands = _deal(rows, threads)
            for row in rows:
                row.gather()
            jobs = [pool.submit(run, hand, at) for hand in hands[1:]]
            run(hands[0], at)
            while jobs:
                jobs.pop().result()  # held by no name: what one raises leads back here
            for row in rows:
                row.hand_on()
            at += chunk
            step += 1
            ready = min(min(edge.frames for edge in ends), frames - given)
            if ready > 0:
                given += ready
                blocks = [edge.take(ready) for edge in ends]
                for block, target in zip(blocks, targets, strict=True):
                    if graph.nodes[target].stage is None:
                        check_sound(block, "All together")
                yield blocks
