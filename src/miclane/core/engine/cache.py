"""What has been rendered, bounded in bytes, least recently used first to go."""

import threading
from collections import OrderedDict
from dataclasses import dataclass

import numpy as np

from .node import Trace


@dataclass
class Rendered:
    """Sound of a node from frame `start` on, and the trace when it is a stage's."""

    start: int
    audio: np.ndarray
    trace: Trace | None = None

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
    """Renders by node key and range. Safe to use from several threads."""

    def __init__(self, limit_bytes: int = 1024 * 2**20) -> None:
        self.limit_bytes = limit_bytes
        self.held_bytes = 0
        self._lock = threading.Lock()
        self._items: OrderedDict[tuple[str, int, int], Rendered] = OrderedDict()

    def get(self, key: str, start: int, stop: int) -> Rendered | None:
        """The render of exactly this request."""
        with self._lock:
            found = self._items.get((key, start, stop))
            if found is not None:
                self._items.move_to_end((key, start, stop))
            return found

    def holds(self, key: str, start: int, stop: int) -> bool:
        """Whether the render of exactly this request is kept."""
        with self._lock:
            return (key, start, stop) in self._items

    def put(self, key: str, start: int, stop: int, item: Rendered) -> None:
        """Keep a render; the least recently used make room."""
        with self._lock:
            place = (key, start, stop)
            old = self._items.pop(place, None)
            self.held_bytes += item.nbytes - (old.nbytes if old else 0)
            self._items[place] = item
            while self.held_bytes > self.limit_bytes and len(self._items) > 1:
                _, gone = self._items.popitem(last=False)
                self.held_bytes -= gone.nbytes
