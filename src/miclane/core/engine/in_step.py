"""A range of many nodes at once: each works on what the one before it has made so far, so that every core is busy.

Jobs are handed to the threads in the order of the graph, and threads take them up in that order: whatever a job waits
for is done already or under way, so some job can always get on, however few threads there are.
"""

import threading
import time
from collections.abc import Callable, Mapping
from concurrent.futures import Executor, Future, wait

import numpy as np

from ..errors import CancelledError
from .cache import Rendered, RenderStore
from .graph import Graph, Node
from .node import BLOCK, Trace, Worker, put_together, run_stage
from .room import Room
from .states import States

STEP = 8 * BLOCK  # frames by which a job is behind the one it waits for, at the least
_LOOK_S = 0.1


class _Growing:
    """Frames [start, stop) of a node while they are being made."""

    def __init__(self, start: int, stop: int, channels: int, room: Room) -> None:
        self.start, self.stop = start, max(start, stop)
        self.audio = room.empty(channels, self.stop - start)
        self._until, self._failed = start, False
        self._told = threading.Condition()

    def made(self, until: int) -> None:
        """The frames up to this one are there."""
        with self._told:
            self._until = until
            self._told.notify_all()

    def fail(self) -> None:
        """They will not all be made."""
        with self._told:
            self._failed = True
            self._told.notify_all()

    def wait_for(self, until: int, check: Callable[[], None]) -> None:
        """Wait for the frames up to this one; CancelledError once they will not come."""
        with self._told:
            while self._until < min(until, self.stop):
                if self._failed:
                    raise CancelledError("what comes before was given up")
                if not self._told.wait(_LOOK_S):
                    check()

    def cut(self, start: int, stop: int) -> np.ndarray:
        """Frames [start, stop), a view."""
        return self.audio[:, start - self.start : stop - self.start]


class InStep:
    """All that a target needs, each node from its start in `starts` to `last`; no node begins after one that hears it.

    Kept in a store; states and traces are taken down from `noted_from` on.
    """

    def __init__(
        self,
        graph: Graph,
        starts: Mapping[str, int],
        last: int,
        read: Callable[[str, int, int], np.ndarray],
        store: RenderStore,
        states: States,
        noted_from: int,
        check: Callable[[], None],
    ) -> None:
        self.graph, self.read, self.store, self.states = graph, read, store, states
        self.starts, self.last = starts, last
        self.noted_from = noted_from
        self.check = check
        self._there: dict[str, Rendered | _Growing] = {}

    def run(self, target: str, threads: Executor) -> dict[str, Rendered]:
        """Every node that the target needs, by its key: from the store, or made by the threads."""
        jobs: dict[str, Future[Rendered]] = {}
        for node in self.graph.needed(target):
            first = self.starts[node.key]
            found = self.store.get(node.key, first, self.last)
            if found is not None and (found.trace is None or found.trace.start <= max(first, self.noted_from)):
                self._there[node.key] = found
                continue
            stop = min([self.last, *(self._there[k].stop for k in node.before)])
            latency = node.latency if node.stage is not None else 0
            mine = self._there[node.key] = _Growing(first, stop - latency, node.channels, self.store.room)
            jobs[node.key] = threads.submit(self._make, node, mine, stop)
        try:
            return {k: jobs[k].result() if k in jobs else v for k, v in self._there.items()}  # type: ignore[misc]
        except BaseException:
            self._give_up(jobs)
            raise

    def _give_up(self, jobs: dict[str, Future[Rendered]]) -> None:
        """Have all jobs ended, and hold on to nothing: what was raised leads back here, and would keep it alive."""
        for job in jobs.values():
            job.cancel()
        for growing in self._there.values():
            if isinstance(growing, _Growing):
                growing.fail()
        wait(jobs.values())
        jobs.clear()
        self._there.clear()

    def _make(self, node: Node, mine: _Growing, stop: int) -> Rendered:
        self.check()
        begun = time.thread_time()
        item = Rendered(mine.start, mine.audio)
        if node.stage is not None:
            item.trace = self._stage(node, mine, stop)
        elif node.digest:
            mine.audio[:] = self.read(node.digest, mine.start, stop)
        else:
            self._sum(node, mine)
        mine.made(mine.stop)
        item.seconds = time.thread_time() - begun
        self.store.put(node.key, mine.start, self.last, item)
        return item

    def _sum(self, node: Node, mine: _Growing) -> None:
        for at in range(mine.start, mine.stop, STEP):
            to = min(at + STEP, mine.stop)
            for key in node.inputs:
                self._wait(key, to)
            parts = [self._there[k].cut(at, to) for k in node.inputs]
            put_together(node, parts, at, to - at, mine.cut(at, to))
            mine.made(to)

    def _stage(self, node: Node, mine: _Growing, stop: int) -> Trace | None:
        def ready(until: int) -> None:
            self.check()
            if (until - mine.start) % STEP == BLOCK % STEP or until >= stop:
                for key in node.before:
                    self._wait(key, until + STEP)

        def note(frame: int, worker: Worker) -> None:
            if frame >= self.noted_from:
                self.states.note(node, frame, worker)

        source, *keys = (self._there[k] for k in node.before)
        key = keys[0].cut(mine.start, stop) if keys else None
        x = source.cut(mine.start, stop)
        _, trace = run_stage(
            node, x, key, self.graph.rate, mine.start, ready,
            note=note, out=mine.audio, made=mine.made, traced_from=self.noted_from,
        )  # fmt: skip
        return trace

    def _wait(self, key: str, until: int) -> None:
        there = self._there[key]
        if isinstance(there, _Growing):
            there.wait_for(until, self.check)
