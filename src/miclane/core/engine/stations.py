"""Stations: nodes of the graph at work on what flows, piece by piece, and what is on its way between them.

In a print stations in a row, with nobody listening in between, hand each other what they make.
"""

import time
from collections import deque

import numpy as np

from .graph import Node
from .node import BLOCK, Watch, Worker, put_together
from .render import Piece, SoundReader
from .resting import Resting
from .states import States

CHUNK = 2 * BLOCK
NOTED = 6 * BLOCK  # states are kept of a flow at multiples of so many frames, whatever node they are of: one that
# goes on from there needs no more of those before it than there is a state for


class Edge:
    """Frames on their way from one node to another; the first `skip` are not wanted there."""

    def __init__(self) -> None:
        self.blocks: deque[np.ndarray] = deque()
        self.frames = 0
        self.skip = 0
        self._sent: deque[np.ndarray | None] = deque()

    def send(self, block: np.ndarray | None) -> None:
        """Have what was made at a step wait until whoever is at the other end takes that step too."""
        self._sent.append(block)

    def receive(self) -> None:
        """Let come in what was sent at the next step."""
        block = self._sent.popleft()
        if block is not None:
            self.put(block)

    def put(self, block: np.ndarray) -> None:
        if self.skip:
            dropped = min(self.skip, block.shape[1])
            self.skip -= dropped
            block = block[:, dropped:]
        if block.shape[1]:
            self.blocks.append(block)
            self.frames += block.shape[1]

    def through(self, block: np.ndarray) -> np.ndarray:
        """What of a block is wanted at the other end, where nothing waits."""
        if not self.skip:
            return block
        self.put(block)
        return self.take(self.frames) if self.frames else block[:, :0]

    def take(self, frames: int) -> np.ndarray:
        """The next so many frames (channels, frames), which are there, in one piece."""
        parts = self.take_parts(frames)
        return np.ascontiguousarray(parts[0] if len(parts) == 1 else np.concatenate(parts, axis=1))

    def take_parts(self, frames: int) -> list[np.ndarray]:
        """The next so many frames as they came."""
        self.frames -= frames
        parts = []
        while frames:
            block = self.blocks.popleft()
            if block.shape[1] > frames:
                self.blocks.appendleft(block[:, frames:])
                block = block[:, :frames]
            parts.append(block)
            frames -= block.shape[1]
        return parts


class Station:
    """A node with its incoming edges and the outgoing ones to fill. It begins with the first frame of its piece."""

    def __init__(self, node: Node, rate: int, piece: Piece, states: States | None = None, settled: int = 0) -> None:
        self.node = node
        self.at = piece.start
        self.incoming = [Edge() for _ in node.before]
        self.outgoing: list[Edge] = []
        self.rate = rate
        self.worker = piece.worker
        self.gives_from = piece.start - (node.latency if piece.worker else 0)
        self.unheard = max(0, piece.heard_from - self.gives_from)
        # what began from nothing is like no state of a song before it is `settled`: nobody is to go on from it, nor
        # from one in which waits what nobody was to hear
        self.states, self.notes_from = states, piece.start + 1 if piece.worker else max(piece.start + NOTED, settled)
        if self.unheard:
            self.notes_from = max(self.notes_from, piece.heard_from + node.latency)
        self.ahead = 0  # of a source: so many frames more are read at once
        self.seconds = 0.0
        self.adds = node.stage is None and node.picks is None
        self.ready: list[np.ndarray] = []
        self.to_add: list[list[np.ndarray]] = []
        self.watch: Watch | None = None  # of a stage that leaves no states
        self.resting = Resting(node, rate) if node.stage is not None and states is None else None

    def gather(self) -> None:
        """Take what has come in on every edge, equally long; nothing while one is empty."""
        ready = min((edge.frames for edge in self.incoming), default=0)
        if self.adds:
            self.to_add = [edge.take_parts(ready) for edge in self.incoming] if ready else []
        else:
            self.ready = [edge.take(ready) for edge in self.incoming] if ready else []

    def feed(self, made: np.ndarray | None) -> None:
        """Take what alone comes in, of one that stands before this in a row."""
        if made is None or not made.shape[1]:
            self.ready, self.to_add = [], []
        elif self.adds:
            self.to_add = [[made]]
        else:
            self.ready = [np.ascontiguousarray(made)]

    def work(self, until: int, read: SoundReader) -> np.ndarray | None:
        """What follows from what has been gathered; a source reads on, up to a frame and as far `ahead` of it.

        What came in is let go: the next one's sound is then made where this one's was, while that is near.
        """
        begun = time.perf_counter()
        node, blocks, came = self.node, self.ready, self.to_add
        self.ready, self.to_add = [], []
        made: np.ndarray | None = None
        if not self.incoming:
            begin, self.at = self.at, until + self.ahead
            whole = node.channels, self.at - begin
            made = read(node.digest, begin, self.at) if node.digest else np.zeros(whole)
        elif self.adds:
            made = self._sum(came) if came else None
        elif blocks and node.stage is None:
            made = put_together(node, blocks, self.at, blocks[0].shape[1])
            self.at += blocks[0].shape[1]
        elif blocks and node.stage:
            self.worker = self.worker or Worker(node.stage, self.rate, blocks[0].shape[0], self.at)
            self.worker.unheard, self.unheard = max(self.worker.unheard, self.unheard), 0
            made = self._push(self.worker, blocks[0], blocks[1] if node.keyed_by else None)
        self.seconds += time.perf_counter() - begun
        return made

    def _sum(self, came: list[list[np.ndarray]]) -> np.ndarray:
        """What has come in put together, piece by piece where it does not end at the same frames."""
        node, frames = self.node, sum(part.shape[1] for part in came[0])
        self.at += frames
        if all(len(parts) == 1 for parts in came):
            return put_together(node, [parts[0] for parts in came], self.at - frames, frames)
        out, at = np.empty((node.channels, frames)), 0
        while at < frames:
            step = min(parts[0].shape[1] for parts in came)
            some = [parts[0][:, :step] for parts in came]
            put_together(node, some, self.at - frames + at, step, out[:, at : at + step])
            for parts in came:
                parts[:1] = [parts[0][:, step:]] if parts[0].shape[1] > step else []
            at += step
        return out

    def _push(self, worker: Worker, x: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        """What is due once x has come in; states are noted on the way."""
        begun, stop, made = self.at, self.at + x.shape[1], []
        if self.states is None:
            self.at = stop
            return self._push_on(worker, np.ascontiguousarray(x), None if key is None else np.ascontiguousarray(key))
        while self.at < stop:
            grid = -(-max(self.at, self.notes_from) // NOTED) * NOTED
            if grid == self.at:
                self.states.note(self.node, grid, worker)
                grid += NOTED
            to = min(stop, grid)
            part = slice(self.at - begun, to - begun)
            heard = None if key is None else np.ascontiguousarray(key[:, part])
            made.append(worker.push(np.ascontiguousarray(x[:, part]), heard))
            self.at = to
        return made[0] if len(made) == 1 else np.concatenate(made, axis=1)

    def _push_on(self, worker: Worker, x: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        """What is due of one that leaves no states, once x (channels, n) has come in before `at`."""
        if self.watch is not None or self.resting is None:
            due = worker.push(x, key)
            if self.watch is not None:
                self.watch.take(x, due, worker.gain_db)
            return due
        if self.resting.goes_on(x, key):
            return np.zeros((self.node.channels, x.shape[1]))
        self.worker = worker = self.resting.awake(worker, x, key, self.at - x.shape[1])
        due = worker.push(x, key)
        self.resting.after(x, key, due)
        return due


class Row:
    """Stations in a row, each fed by the one before it alone, and how many steps they have taken."""

    def __init__(self, stations: list[Station], steps: int = 0) -> None:
        self.stations = stations
        self.steps = steps
        self.busy = False
        self.made: np.ndarray | None = None
        self.fed_by: list[Row] = []
        self.heard_by: list[Row] = []

    @property
    def incoming(self) -> list[Edge]:
        """What the first of them hears."""
        return self.stations[0].incoming

    @property
    def outgoing(self) -> list[Edge]:
        """What the last of them fills."""
        return self.stations[-1].outgoing

    @property
    def seconds(self) -> float:
        """What they have taken so far."""
        return sum(s.seconds for s in self.stations)

    def gather(self) -> None:
        """Take what has come in for the first of them."""
        self.stations[0].gather()

    def work(self, until: int, read: SoundReader) -> None:
        """Let all of them work in turn; what the last has made waits to be handed on."""
        first, *others = self.stations
        made = first.work(until, read)
        for station in others:
            station.feed(None if made is None else station.incoming[0].through(made))
            del made
            made = station.work(until, read)
        self.made = made

    def hand_on(self) -> None:
        """Send what the last of them made to those that hear it, each of which takes it at the same step."""
        for edge in self.outgoing:
            edge.send(self.made)
        self.made = None

    def divided(self) -> "list[Row]":
        """Two rows that have taken about as long."""
        half, until, total = 0.0, 0, self.seconds
        while until < len(self.stations) - 1 and half < 0.5 * total:
            half += self.stations[until].seconds
            until += 1
        return [Row(self.stations[:until], self.steps), Row(self.stations[until:], self.steps)]


def rows_of(line: list[Station]) -> list[Row]:
    """Stations in as few rows as they stand in, in an order in which none comes before what feeds it."""
    rows: dict[int, list[Station]] = {}  # by the edge its last station fills, where there is but one
    found: list[list[Station]] = []
    for station in line:
        edges = station.incoming
        row = rows.pop(id(edges[0]), None) if len(edges) == 1 else None
        if row is None:
            found.append(row := [])
        row.append(station)
        if len(station.outgoing) == 1:
            rows[id(station.outgoing[0])] = row
    return [Row(row) for row in found]


def read_ahead(line: list[Station]) -> None:
    """Have sources read ahead by what the longest way takes from them to an end.

    Blocks of all that is put together then begin and end at the same frames: none is cut, and put together again.
    """
    ahead = {station.node.key: 0 for station in line}
    for station in reversed(line):
        for key in station.node.before:
            ahead[key] = max(ahead[key], ahead[station.node.key] + station.node.latency)
    for station in line:
        if not station.incoming:
            station.ahead = ahead[station.node.key]
