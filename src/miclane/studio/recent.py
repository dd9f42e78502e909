"""A bounded store of what was made last, in which nothing is made twice at the same time."""

import threading
from collections.abc import Callable
from typing import Any, Generic, TypeVar

from cachetools import LRUCache

from ..core.engine.giving_way import breathe

T = TypeVar("T")
Key = tuple[Any, ...]


class Recent(Generic[T]):
    """The values made last, by key, up to a number of them.

    Who asks for what another thread is making waits for it, and makes it himself where that has failed.
    """

    def __init__(self, most: int) -> None:
        self._held: LRUCache[Key, T] = LRUCache(most)
        self._making: dict[Key, threading.Event] = {}
        self._lock = threading.Lock()

    def has(self, key: Key) -> bool:
        """Whether a value is held under a key."""
        with self._lock:
            return key in self._held

    def held(self, key: Key) -> T | None:
        """The value held under a key, None where there is none."""
        with self._lock:
            return self._held.get(key)

    def put(self, key: Key, value: T) -> None:
        """Hold a value that was made elsewhere."""
        with self._lock:
            self._held[key] = value

    def get(self, key: Key, make: Callable[[], T], waiting: Callable[[], None] = lambda: None) -> T:
        """The value held under a key, or made now. While another makes it, `waiting` is called and may give up."""
        while True:
            with self._lock:
                if key in self._held:
                    return self._held[key]
                other = self._making.get(key)
                if other is None:
                    mine = self._making[key] = threading.Event()
                    break
            while not other.wait(0.1):
                waiting()
        try:
            breathe()
            made = make()
            with self._lock:
                self._held[key] = made
            return made
        finally:
            with self._lock:
                del self._making[key]
            mine.set()
