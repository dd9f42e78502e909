"""States that stages were in along the song while they were rendered, for what is made next to go on from.

A state is that of a place and of the settings it depends on, whatever came into it: when something before it is
changed, a stage goes on from what it had in it, as it would on a desk where a hand moves a knob, and tails that were
sounding sound on.
"""

import threading
from collections import OrderedDict
from dataclasses import dataclass

from ..stages.base import Stage
from .casts import Mould, Pattern
from .graph import Node
from .node import BLOCK, Worker

STATES_BYTES = 170 << 20
_APART = 48 * BLOCK  # bytes that may be kept for a block of the song, at most: larger states are kept more seldom
_LARGE = 100_000  # bytes
_MOST_TWINS = 20_000


@dataclass(frozen=True)
class _Kept:
    frame: int
    stage: Stage  # as it was set
    mould: Mould
    came: tuple[str, ...]  # keys of what has come into it


class States:
    """Workers as they were at frames of the song, by twin (`Node.twin`); those not used for longest go first.

    Of large ones every other goes before anything else: half as close they serve as well, only later.

    Safe to use from several threads.
    """

    def __init__(self, limit_bytes: int = STATES_BYTES) -> None:
        self.limit_bytes = limit_bytes
        self.held_bytes = 0
        self._lock = threading.Lock()
        self._kept: OrderedDict[tuple[str, int], _Kept] = OrderedDict()
        self._between: OrderedDict[tuple[str, int], _Kept] = OrderedDict()  # every other one of large ones
        # of a twin: frame of its last state, frames from one to the next, how it hangs together
        self._last: dict[str, tuple[int, int, Pattern | None]] = {}
        self._patterns: dict[Pattern, Pattern] = {}  # those of all places; there are few, for most are alike

    def note(self, node: Node, frame: int, worker: Worker) -> None:
        """Keep the state a node's worker is in before the frame `frame` comes in, unless there are enough of it."""
        twin = node.twin
        last, apart, pattern = self._last.get(twin, (frame, 0, None))
        if not twin or worker.skip or 0 <= frame - last < apart:
            return
        slot, item = frame // BLOCK, _Kept(frame, worker.stage, Mould(worker, pattern), node.before)
        with self._lock:
            if len(self._last) > _MOST_TWINS:
                self._last.clear()
                self._patterns.clear()
            if item.mould.pattern is not pattern:
                item.mould.pattern = self._patterns.setdefault(item.mould.pattern, item.mould.pattern)
            self._last[twin] = frame, BLOCK * (1 + item.mould.nbytes // _APART), item.mould.pattern
            for group in (self._kept, self._between):
                old = group.pop((twin, slot), None)
                self.held_bytes -= old.mould.nbytes if old else 0
            self.held_bytes += item.mould.nbytes
            close = _LARGE < item.mould.nbytes < _APART  # larger ones lie further apart already
            group = self._between if slot % 2 and close else self._kept
            group[twin, slot] = item
            self._make_room(self.limit_bytes)

    def before(self, node: Node, frame: int, earliest: int, rate: int) -> tuple[int, Worker] | None:
        """The newest state that a node can go on from to give what is due from `frame` on, not before `earliest`.

        Its frame, and a worker that is in it. What waits in it to be heard is what came before: where something else
        comes in now, it is not after `frame`. It is as long before as the stage takes to settle when it is turned.
        """
        twin, stage = node.twin, node.stage
        if not twin or stage is None:
            return None
        latest = frame + node.latency
        with self._lock:
            for slot in range(latest // BLOCK, earliest // BLOCK - 1, -1):
                place = (twin, slot)
                group = self._kept if place in self._kept else self._between
                item = group.get(place)
                if item is None or not earliest <= item.frame <= latest:
                    continue
                until = latest if item.came == node.before else frame
                if item.frame <= until - round(rate * stage.settles_s(item.stage)):
                    group.move_to_end(place)
                    break
            else:
                return None
        return item.frame, item.mould.cast()

    def shrink(self, most_bytes: int) -> None:
        """Keep no more than so many bytes."""
        with self._lock:
            self._make_room(most_bytes)

    def _make_room(self, most_bytes: int) -> None:
        for group in (self._between, self._kept):
            while self.held_bytes > most_bytes and group:
                self.held_bytes -= group.popitem(last=False)[1].mould.nbytes
