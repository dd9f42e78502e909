"""Rendering of ranges: a loop, exactly and incrementally; the second under the playhead, first.

Every node of a range is run from the zero state: a run-in as long as it and what lies after it remember, a horizon as
long as the latency of the path. Both are rounded up generously, so that moving a setting seldom changes the range of
what lies upstream and its render serves again. The result depends on the request alone.
"""

import os
from collections.abc import Callable, Collection, Mapping
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass
from functools import partial
from typing import TypeVar

import numpy as np

from .ahead import BLEND, Ahead, waits_frames, with_ahead
from .budget import Budget
from .cache import MEMORY_BYTES, Rendered, RenderStore
from .giving_way import Cancel, Gate, give_way
from .graph import Graph, Node
from .in_step import InStep
from .node import BLOCK, Worker, check_sound, put_together, run_stage
from .range import Range
from .states import States

T = TypeVar("T")
SoundReader = Callable[[str, int, int], np.ndarray]
HORIZON = 8192
STATES_BEFORE = 6 * BLOCK  # frames before a run-in would begin, to go on from a state there: large ones lie far apart
TAILS_BEFORE = 32 * BLOCK  # the same of an effect, whose state may be that large
PREVIEW_RUN_IN_S = (0.4, 0.7)
_RUN_INS_S = (2.0, 2.5, 3.0, 3.5, 4.0, 5.0, 6.0, 7.0, 8.0, 10.0, 12.0, 14.0, 16.0, 20.0, 24.0, 28.0, 32.0)


@dataclass(frozen=True)
class Piece:
    """Frames [start, stop) that come into a node, and who goes on with them unless they begin from the zero state.

    From the frame `told_from` on they are as they are in `ahead`, where that is given. Of what comes out nobody hears
    what is before the frame `heard_from`.
    """

    start: int
    stop: int
    worker: Worker | None = None
    ahead: Rendered | None = None
    told_from: int = 0
    heard_from: int = 0


def plan(
    graph: Graph,
    target: str,
    wanted: tuple[int, int],
    most_in: int,
    states: States,
    first: int = 0,
    held: Mapping[str, Rendered] | None = None,
    ahead: Ahead | None = None,
) -> dict[str, Piece]:
    """What each node that is not `held` is to be run over to have the `wanted` frames of the target.

    A stage goes on from its last state before them; one without is run in from `most_in` frames before them on (where
    something is held, which is for what is wanted soon, for no longer than it remembers), or from where it must begin
    (`Stage.begins_by`). Nothing is run over what comes before the frame `first`, but for what hears only what is held
    of before that.
    """
    soon, held = held is not None, held or {}
    floor = max(first, wanted[0] - most_in)
    needed = {target: wanted}
    pieces = {}
    for node in reversed(graph.needed(target)):
        if node.key not in needed:  # nobody hears it but what is held
            continue
        begin, end = heard_from, _ = needed[node.key]
        worker, later, waits = None, None, waits_frames(node, graph.rate)
        if node.stage is not None:
            end += node.latency
            if ahead is not None and waits and node.inputs[0] not in held:
                later = ahead.of(node, end - waits, end)
            there = max(held[key].start if key in held else first for key in node.before)
            earliest = max(first, min(begin, floor) - STATES_BEFORE)
            if node.stage.effect and all(key in held for key in node.before):
                earliest = min(earliest, max(there, begin - TAILS_BEFORE))
            found = states.before(node, begin, earliest, graph.rate)
            if found:
                begin, worker = found[0], found[1].turned_to(node.stage)
            else:
                run_in = max(floor, begin - round(node.memory_s * graph.rate)) if soon else floor
                begin = min(begin, run_in, max(there, node.stage.begins_by(begin, graph.rate)))
        later = later if begin < end - waits else None
        pieces[node.key] = Piece(begin, end, worker, later, end - waits, heard_from)
        for key in node.before:
            if key not in held:
                start, stop = needed.get(key, (begin, begin))
                to = end if later is None or key != node.inputs[0] else end - waits + BLEND
                needed[key] = min(start, begin), max(stop, to)
    return pieces


class Renderer:
    """Renders graphs. `read(digest, start, stop)` gives float64 (channels, n) frames of a sound, zeros past its end."""

    def __init__(
        self,
        read: SoundReader,
        store: RenderStore | None = None,
        threads: int | None = None,
        budget: Budget | None = None,
        states: States | None = None,
        gate: Gate | None = None,
    ) -> None:
        """`store` keeps renders, `budget` bounds those under way, `states` are gone on from; all may be shared.

        What is previewed goes first through the `gate`.
        """
        self.read = read
        self.store = store or RenderStore()
        self.budget = budget or Budget(MEMORY_BYTES)
        self.states = states or States()
        self.ahead = Ahead(self.store)
        self.threads = threads or max(1, (os.cpu_count() or 1) - 1)  # one is left to what shows and plays it
        self.gate = gate or Gate()
        self._pool = ThreadPoolExecutor(self.threads, thread_name_prefix="render", initializer=give_way)
        self._patient_pool = ThreadPoolExecutor(1, thread_name_prefix="patient", initializer=give_way)
        self._urgent_pool = ThreadPoolExecutor(self.threads + 1, thread_name_prefix="soon")

    def in_no_hurry(self, work: Callable[[], T]) -> T:
        """What `work` gives, done when nothing else wants the processor, one such work at a time."""
        return self._patient_pool.submit(work).result()

    def span(self, graph: Graph, target: str, start: int, stop: int) -> tuple[int, int]:
        """The frames that must be run to have [start, stop) of the target exact."""
        starts, last = self.spans(graph, target, start, stop)
        return min(starts.values()), last

    def spans(self, graph: Graph, target: str, start: int, stop: int) -> tuple[dict[str, int], int]:
        """The frame from which on each node must be run to have [start, stop) of the target exact, and the last of all.

        They are the same whatever the target is. All begin with a block of the song: states that are kept at the
        beginning of one are of the same frames everywhere.
        """
        run_ins, starts = graph.run_ins(), {}
        for node in graph.needed(target):
            wanted = next((s for s in _RUN_INS_S if s >= run_ins[node.key]), run_ins[node.key])
            starts[node.key] = max(0, (start - round(wanted * graph.rate)) // BLOCK * BLOCK)
        return starts, stop + max(1, -(-graph.latest() // HORIZON)) * HORIZON

    def loop(self, graph: Graph, target: str, start: int, stop: int, cancel: Cancel | None = None) -> Range:
        """Frames [start, stop) of a node, as a print would have them to below −90 dBFS, with all traces."""
        cancel = cancel or Cancel()
        whole, (graph, target) = graph, graph.narrowed(target, start, stop)
        starts, last = self.spans(graph, target, start, stop)

        def check() -> None:
            self.gate.pass_through()
            cancel.check()  # which what went first may have set

        with self.budget.spend(self._bytes(graph, target, starts, last), cancel.check):
            work = InStep(graph, starts, last, self.read, self.store, self.states, start - STATES_BEFORE, check)
            done = work.run(target, self._pool)
        self.ahead.note(graph, target, starts, last)
        audio = done[target].cut(start, stop)
        check_sound(audio, "All together")
        return Range(start, audio, done, whole)

    def sound(self, graph: Graph, target: str, start: int, stop: int, cancel: Cancel | None = None) -> np.ndarray:
        """Frames [start, stop) of a node as `loop` gives them; what would take much memory is made piece by piece."""
        graph, target = graph.narrowed(target, start, stop)
        starts, last = self.spans(graph, target, start, stop)
        if self._bytes(graph, target, starts, last) <= self.store.limit_bytes * 4 // 5:
            return self.loop(graph, target, start, stop, cancel).audio
        from .stream import flow  # which is built on this module

        pieces = flow(graph, target, start, stop, self.read, start - min(starts.values()), cancel or Cancel())
        return np.concatenate(list(pieces), axis=1)

    def _bytes(self, graph: Graph, target: str, starts: Mapping[str, int], last: int) -> int:
        """What rendering each node from its start to `last` takes beyond the renders that are kept already."""
        fresh = [node for node in graph.needed(target) if not self.store.holds(node.key, starts[node.key], last)]
        return 8 * sum((last - starts[node.key]) * node.channels for node in fresh)

    def preview(
        self, graph: Graph, target: str, start: int, stop: int, loop: tuple[int, int], cancel: Cancel | None = None
    ) -> np.ndarray:
        """Frames [start, stop) soon: upstream of the change from what the loop has rendered, downstream from states.

        What was changed, and what has no state there, is run in for a moment.
        """
        graph, target = graph.narrowed(target, *loop)
        starts, last = self.spans(graph, target, *loop)
        graph, target = graph.narrowed(target, start, stop)  # ways in which the song is set that are heard in it
        nodes = [(n, starts.get(n.key)) for n in graph.needed(target)]
        kept = ((n, self.store.get(n.key, at, last)) for n, at in nodes if at is not None)
        held = {n.key: found for n, found in kept if found is not None}
        if target in held:
            return held[target].cut(start, stop)
        run_in = round(_run_in_s([n for n, _ in nodes], held) * graph.rate)
        first = max(starts.values())  # from where on all that is held is there
        pieces = plan(graph, target, (start, stop), run_in, self.states, first, held, self.ahead)
        with self.gate.urgent():
            done = self._soon(graph, target, held, pieces, cancel or Cancel())
        audio = done[target].cut(start, stop)
        check_sound(audio, "All together")
        return audio

    def _soon(
        self, graph: Graph, target: str, held: dict[str, Rendered], pieces: Mapping[str, Piece], cancel: Cancel
    ) -> dict[str, Rendered]:
        """Render every needed node that is not held over its piece, several at a time."""
        done = dict(held)
        waiting = {key: graph.nodes[key] for key in pieces}
        running: dict[Future[Rendered], str] = {}
        try:
            while waiting or running:
                ready = [n for n in waiting.values() if all(k in done for k in n.before)]
                for node in ready:
                    del waiting[node.key]
                    work = partial(self._node, graph, node, done, pieces[node.key], cancel)
                    if len(ready) == 1 and not running:
                        done[node.key] = work()
                    else:
                        running[self._urgent_pool.submit(work)] = node.key
                if running:
                    _take_in(done, running)
        except BaseException:
            _give_up(running)
            done.clear()
            raise
        return done

    def _node(self, graph: Graph, node: Node, done: dict[str, Rendered], piece: Piece, cancel: Cancel) -> Rendered:
        first, own = piece.start, node.inputs[:1] if piece.ahead is not None else ()
        stop = min([piece.stop, *(done[k].stop for k in node.before if k not in own)])
        if node.digest:
            return Rendered(first, self.read(node.digest, first, stop))
        if node.stage is None:
            cuts = [done[k].cut(first, stop) for k in node.inputs]
            return Rendered(first, put_together(node, cuts, first, stop - first))
        source = done[node.inputs[0]]
        key = done[node.keyed_by].cut(first, stop) if node.keyed_by else None
        if piece.ahead is None or stop <= piece.told_from:
            x = source.cut(first, stop)
        else:
            x = with_ahead(source, first, piece.told_from, stop, piece.ahead)
        worker = piece.worker or Worker(node.stage, graph.rate, x.shape[0], first)
        begins = first if piece.worker is None else first - node.latency
        worker.unheard = max(0, piece.heard_from - begins)
        audio, _ = run_stage(node, x, key, graph.rate, first, lambda _: cancel.check(), False, worker)
        return Rendered(begins, audio)


def _take_in(done: dict[str, Rendered], running: dict[Future[Rendered], str]) -> None:
    """Wait for one job at the least, and take in what has been made."""
    ended = list(wait(running, return_when=FIRST_COMPLETED).done)
    job = None
    try:
        while ended:
            job = ended.pop()
            done[running.pop(job)] = job.result()
    finally:
        ended.clear()
        job = None  # what it raised leads back here


def _give_up(running: dict[Future[Rendered], str]) -> None:
    """Have all jobs ended, and forget them: what was raised leads back to them, and would keep them alive."""
    for job in running:
        job.cancel()
    wait(running)
    running.clear()


def _run_in_s(nodes: list[Node], held: Collection[str]) -> float:
    """How long what is not held is run in where it has no state: as long as the path remembers, up to a moment."""
    memory: dict[str, float] = {}
    for node in nodes:
        before = max((memory[k] for k in node.before), default=0.0)
        memory[node.key] = 0.0 if node.key in held else min(node.memory_s, 2.0) + before
    longest = memory[nodes[-1].key]
    return min(longest, PREVIEW_RUN_IN_S[0 if longest < 2 else 1])
