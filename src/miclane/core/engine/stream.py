"""Printing: the whole graph run once from the first frame to the last, in chunks, with bounded memory.

All stations work at the same time, each on what its neighbours made in the step before, so that a long chain keeps
every core busy.
"""

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from .graph import Graph, Node
from .node import Worker, mix_down
from .render import Cancel, SoundReader

CHUNK = 32768


class _Edge:
    """Frames on their way from one node to another."""

    def __init__(self) -> None:
        self.blocks: list[np.ndarray] = []
        self.frames = 0

    def put(self, block: np.ndarray) -> None:
        if block.shape[1]:
            self.blocks.append(block)
            self.frames += block.shape[1]

    def take(self, frames: int) -> np.ndarray:
        joined = self.blocks[0] if len(self.blocks) == 1 else np.concatenate(self.blocks, axis=1)
        self.blocks = [joined[:, frames:]] if joined.shape[1] > frames else []
        self.frames -= frames
        return np.ascontiguousarray(joined[:, :frames])


class _Station:
    """A node with its incoming edges and the outgoing ones to fill."""

    def __init__(self, node: Node, rate: int) -> None:
        self.node = node
        self.incoming = [_Edge() for _ in (*node.inputs, *([node.keyed_by] if node.keyed_by else []))]
        self.outgoing: list[_Edge] = []
        self.rate = rate
        self.worker: Worker | None = None

    def gather(self) -> list[np.ndarray]:
        """What has come in on every edge, equally long; nothing while one is empty."""
        ready = min((edge.frames for edge in self.incoming), default=0)
        return [edge.take(ready) for edge in self.incoming] if ready else []

    def work(self, blocks: list[np.ndarray], start: int, read: SoundReader) -> np.ndarray | None:
        """What follows from gathered blocks; a source reads its next chunk."""
        node = self.node
        if not self.incoming:
            return read(node.digest, start, start + CHUNK) if node.digest else np.zeros((node.channels, CHUNK))
        if not blocks:
            return None
        if node.stage is None:
            return mix_down(blocks, list(node.gains), node.channels, blocks[0].shape[1])
        self.worker = self.worker or Worker(node.stage, self.rate, blocks[0].shape[0])
        return self.worker.push(blocks[0], blocks[1] if node.keyed_by else None)[0]


def stream(
    graph: Graph,
    targets: list[str],
    frames: int,
    read: SoundReader,
    cancel: Cancel | None = None,
    threads: int = 2,
) -> Iterator[list[np.ndarray]]:
    """Yield, chunk by chunk, `frames` frames of every target (channels, n) side by side."""
    cancel = cancel or Cancel()
    order: list[Node] = []
    for target in targets:
        order += [n for n in graph.needed(target) if n not in order]
    order = [n for n in graph.nodes.values() if n in order]
    stations = {n.key: _Station(n, graph.rate) for n in order}
    for node in order:
        before = (*node.inputs, *([node.keyed_by] if node.keyed_by else []))
        for edge, key in zip(stations[node.key].incoming, before, strict=True):
            stations[key].outgoing.append(edge)
    ends = [_Edge() for _ in targets]
    for edge, target in zip(ends, targets, strict=True):
        stations[target].outgoing.append(edge)
    line = list(stations.values())
    given = at = 0
    with ThreadPoolExecutor(threads) as pool:
        while given < frames:
            cancel.check()
            gathered = [station.gather() for station in line]
            jobs = zip(line, gathered, strict=True)
            made = list(pool.map(lambda job, at=at: job[0].work(job[1], at, read), jobs))  # type: ignore[misc]
            for station, block in zip(line, made, strict=True):
                if block is not None:
                    for edge in station.outgoing:
                        edge.put(block)
            at += CHUNK
            ready = min(min(edge.frames for edge in ends), frames - given)
            if ready > 0:
                given += ready
                yield [edge.take(ready) for edge in ends]
