"""Printing: the whole graph run once from the first frame to the last, in chunks, with bounded memory.

All stations work at the same time, each on what its neighbours made in the step before, so that a long chain keeps
every core busy. Which thread runs which stations follows from how long each has taken so far.
"""

import os
import time
from collections import deque
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from .graph import Graph, Node
from .node import BLOCK, Worker, mix_down
from .render import Cancel, SoundReader

CHUNK = BLOCK
_DEAL_AGAIN = 16


class _Edge:
    """Frames on their way from one node to another."""

    def __init__(self) -> None:
        self.blocks: deque[np.ndarray] = deque()
        self.frames = 0

    def put(self, block: np.ndarray) -> None:
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
    """A node with its incoming edges and the outgoing ones to fill."""

    def __init__(self, node: Node, rate: int) -> None:
        self.node = node
        self.incoming = [_Edge() for _ in (*node.inputs, *([node.keyed_by] if node.keyed_by else []))]
        self.outgoing: list[_Edge] = []
        self.rate = rate
        self.worker: Worker | None = None
        self.seconds = 0.0
        self.ready: list[np.ndarray] = []
        self.made: np.ndarray | None = None

    def gather(self) -> None:
        """Take what has come in on every edge, equally long; nothing while one is empty."""
        ready = min((edge.frames for edge in self.incoming), default=0)
        self.ready = [edge.take(ready) for edge in self.incoming] if ready else []

    def work(self, start: int, read: SoundReader) -> None:
        """Make what follows from what has been gathered; a source reads its next chunk."""
        begun = time.perf_counter()
        node, blocks = self.node, self.ready
        if not self.incoming:
            self.made = read(node.digest, start, start + CHUNK) if node.digest else np.zeros((node.channels, CHUNK))
        elif not blocks:
            self.made = None
        elif node.stage is None:
            self.made = mix_down(blocks, list(node.gains), node.channels, blocks[0].shape[1])
        else:
            self.worker = self.worker or Worker(node.stage, self.rate, blocks[0].shape[0])
            self.made = self.worker.push(blocks[0], blocks[1] if node.keyed_by else None)
        self.seconds += time.perf_counter() - begun


def _deal(line: list[_Station], hands: int) -> list[list[_Station]]:
    """Stations dealt to as many hands, the costliest first, each to the hand with the least to do."""
    dealt: list[list[_Station]] = [[] for _ in range(hands)]
    load = [0.0] * hands
    for station in sorted(line, key=lambda s: -s.seconds):
        least = load.index(min(load))
        dealt[least].append(station)
        load[least] += station.seconds + 1e-6
    return dealt


def stream(
    graph: Graph,
    targets: list[str],
    frames: int,
    read: SoundReader,
    cancel: Cancel | None = None,
    threads: int | None = None,
) -> Iterator[list[np.ndarray]]:
    """Yield, chunk by chunk, `frames` frames of every target (channels, n) side by side."""
    cancel = cancel or Cancel()
    threads = threads or min(4, len(os.sched_getaffinity(0)))
    wanted = {n.key for target in targets for n in graph.needed(target)}
    order = [n for n in graph.nodes.values() if n.key in wanted]
    stations = {n.key: _Station(n, graph.rate) for n in order}
    for node in order:
        before = (*node.inputs, *([node.keyed_by] if node.keyed_by else []))
        for edge, key in zip(stations[node.key].incoming, before, strict=True):
            stations[key].outgoing.append(edge)
    ends = [_Edge() for _ in targets]
    for edge, target in zip(ends, targets, strict=True):
        stations[target].outgoing.append(edge)
    line = list(stations.values())
    given = at = step = 0

    def run(hand: list[_Station], start: int) -> None:
        for station in hand:
            station.work(start, read)

    with ThreadPoolExecutor(max(1, threads - 1)) as pool:
        while given < frames:
            cancel.check()
            if step % _DEAL_AGAIN == 0:
                hands = _deal(line, threads)
            for station in line:
                station.gather()
            jobs = [pool.submit(run, hand, at) for hand in hands[1:]]
            run(hands[0], at)
            for job in jobs:
                job.result()
            for station in line:
                if station.made is not None:
                    for edge in station.outgoing:
                        edge.put(station.made)
            at += CHUNK
            step += 1
            ready = min(min(edge.frames for edge in ends), frames - given)
            if ready > 0:
                given += ready
                yield [edge.take(ready) for edge in ends]
