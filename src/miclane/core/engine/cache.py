"""What has been rendered, bounded in bytes."""

import heapq
import threading
import time
from dataclasses import dataclass

import numpy as np

from .node import Trace
from .room import Room

MEMORY_BYTES = 1 << 30
Place = tuple[str, int, int]


@dataclass
class Rendered:
    """Sound of a node from frame `start` on, the trace when it is a stage's, and how long a thread took to make it."""

    start: int
    audio: np.ndarray
    trace: Trace | None = None
    seconds: float = 0.0

    @property
    def stop(self) -> int:
        """Frame after the last."""
        return self.start + self.audio.shape[1]

    @property
    def nbytes(self) -> int:
        """Memory held."""
        return self.audio.nbytes + (self.trace.nbytes if self.trace else 0)

    def cut(self, start: int, stop: int) -> np.ndarray:
        """Frames [start, stop), a view."""
        return self.audio[:, start - self.start : stop - self.start]


class RenderStore:
    """Renders by node key and range. Safe to use from several threads.

    When they take too much, what is cheapest to make again for the room it takes goes first, and of that what has not
    been used for longest: GreedyDual-Size (Cao and Irani, Cost-Aware WWW Proxy Caching Algorithms, USITS 1997).
    """

    def __init__(self, limit_bytes: int = MEMORY_BYTES) -> None:
        self.limit_bytes = limit_bytes
        self.held_bytes = 0
        self.room = Room(limit_bytes // 8)  # of them for what nobody holds any more
        self.used = time.monotonic()
        self._lock = threading.Lock()
        self._items: dict[Place, Rendered] = {}
        self._worth: dict[Place, tuple[float, int]] = {}
        self._line: list[tuple[float, int, Place]] = []  # a heap of worths, also of those that have changed since
        self._floor, self._count = 0.0, 0

    def get(self, key: str, start: int, stop: int) -> Rendered | None:
        """The render of exactly this request."""
        with self._lock:
            place = (key, start, stop)
            found = self._items.get(place)
            if found is not None:
                self._value(place, found)
            return found

    def holds(self, key: str, start: int, stop: int) -> bool:
        """Whether the render of exactly this request is kept."""
        with self._lock:
            return (key, start, stop) in self._items

    def put(self, key: str, start: int, stop: int, item: Rendered) -> None:
        """Keep a render; others make room, or it is not kept where it is worth less than they are."""
        with self._lock:
            place = (key, start, stop)
            old = self._items.pop(place, None)
            self.held_bytes += item.nbytes - (old.nbytes if old else 0)
            self._items[place] = item
            self._value(place, item)
            self._make_room(self.limit_bytes - self.room.most_bytes)

    def shrink(self, most_bytes: int) -> None:
        """Keep no more than so many bytes."""
        with self._lock:
            self._make_room(most_bytes, least=0)
        self.room.shrink(0)

    def _value(self, place: Place, item: Rendered) -> None:
        self.used = time.monotonic()
        self._count += 1
        worth = (self._floor + item.seconds / max(item.nbytes, 1), self._count)
        self._worth[place] = worth
        heapq.heappush(self._line, (*worth, place))
        if len(self._line) > 4 * len(self._items) + 100:
            self._line = [(*self._worth[p], p) for p in self._items]
            heapq.heapify(self._line)

    def _make_room(self, most_bytes: int, least: int = 1) -> None:
        while self.held_bytes > most_bytes and len(self._items) > least:
            worth, count, place = heapq.heappop(self._line)
            if self._worth.get(place) != (worth, count):
                continue  # used since
            self._floor = worth
            del self._worth[place]
            self.held_bytes -= self._items.pop(place).nbytes
