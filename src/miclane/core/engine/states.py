"""States that stages were in along the song while they were rendered, for what is made next to go on from.

A state is that of a place and of the settings it depends on, whatever came into it: when something before it is
changed, a stage goes on from what it had in it, as it would on a desk where a hand moves a knob, and tails that were
sounding sound on.
"""

import threading
from collections import OrderedDict
from dataclasses import dataclass
from types import FunctionType
from typing import Any

import numpy as np
from pydantic import BaseModel

from .graph import Node
from .node import BLOCK, Worker

STATES_BYTES = 170 << 20
_APART = 48 * BLOCK  # bytes that may be kept for a block of the song, at most: larger states are kept more seldom
_LARGE = 100_000  # bytes
_EACH_BYTES = 500  # an object with its attributes, or an array besides what is in it
_MOST_TWINS = 20_000
_NEVER_CHANGE = (BaseModel, str, int, float, complex, bool, np.generic, FunctionType, frozenset, type, type(None))
_PASSING = ("_gain_db", "_parts_db")  # what a processor leaves of its last block, which nobody asks for any more


@dataclass(frozen=True)
class _Kept:
    frame: int
    worker: Worker
    nbytes: int
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
        self._last: dict[str, tuple[int, int]] = {}  # of a twin: frame of its last state, frames from one to the next

    def note(self, node: Node, frame: int, worker: Worker) -> None:
        """Keep the state a node's worker is in before the frame `frame` comes in, unless there are enough of it."""
        twin = node.twin
        last, apart = self._last.get(twin, (frame, 0))
        if not twin or worker.skip or 0 <= frame - last < apart:
            return
        copied = Copied()
        slot, item = frame // BLOCK, _Kept(frame, copied.of(worker), copied.nbytes, node.before)
        with self._lock:
            if len(self._last) > _MOST_TWINS:
                self._last.clear()
            self._last[twin] = frame, BLOCK * (1 + item.nbytes // _APART)
            for group in (self._kept, self._between):
                old = group.pop((twin, slot), None)
                self.held_bytes -= old.nbytes if old else 0
            self.held_bytes += item.nbytes
            close = _LARGE < item.nbytes < _APART  # larger ones lie further apart already
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
                if item.frame <= until - round(rate * stage.settles_s(item.worker.stage)):
                    group.move_to_end(place)
                    break
            else:
                return None
        return item.frame, Copied().of(item.worker)

    def shrink(self, most_bytes: int) -> None:
        """Keep no more than so many bytes."""
        with self._lock:
            self._make_room(most_bytes)

    def _make_room(self, most_bytes: int) -> None:
        for group in (self._between, self._kept):
            while self.held_bytes > most_bytes and group:
                self.held_bytes -= group.popitem(last=False)[1].nbytes


class Copied:
    """Copies of running things: what they change is copied, what they only read is shared.

    Only read are settings, and of a class with `SHARED` the attributes named there; a class with `copied()` gives what
    of it is copied in a way of its own, by attribute, and how many bytes that takes. One thing that stands in several
    places is one in the copy too. `nbytes` is about what was copied, objects included.
    """

    def __init__(self) -> None:
        self.nbytes = 0
        self._made: dict[int, Any] = {}

    def of(self, thing: Any) -> Any:
        """The copy of a thing."""
        kind = type(thing)
        if kind in _FIXED or (kind not in _MOVING and _never_changes(kind)):
            return thing
        made = self._made.get(id(thing))
        if made is None:
            made = self._made[id(thing)] = self._copy(thing, kind)
        return made

    def _copy(self, thing: Any, kind: type) -> Any:
        self.nbytes += _EACH_BYTES
        if kind is np.ndarray:
            self.nbytes += thing.nbytes
            if thing.flags.forc:
                return thing.copy(order="K")
            copy = np.empty((*thing.shape, 2), thing.dtype)[..., 0]
            copy[:] = thing
            return copy  # laid out with gaps as well: compiled loops tell the one from the other
        if kind is list or kind is tuple:
            return kind([self.of(each) for each in thing])
        if kind is dict:
            return {key: self.of(value) for key, value in thing.items()}
        new: Any = object.__new__(kind)
        inside = new.__dict__
        inside.update(thing.__dict__)
        shared = getattr(kind, "SHARED", ())
        if hasattr(kind, "copied"):
            own, nbytes = thing.copied()
            inside.update(own)
            shared = (*shared, *own)
            self.nbytes += nbytes
        for name, value in thing.__dict__.items():
            if type(value) not in _FIXED and name not in shared:
                inside[name] = None if name in _PASSING else self.of(value)
        return new


# kinds of things: what is known not to change, and what may
_FIXED: set[type] = set()
_MOVING: set[type] = set()


def _never_changes(kind: type) -> bool:
    fixed = issubclass(kind, _NEVER_CHANGE)
    (_FIXED if fixed else _MOVING).add(kind)
    return fixed
