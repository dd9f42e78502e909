"""A bounded store of what was made last."""

import threading
from collections import OrderedDict
from collections.abc import Callable
from typing import Generic, TypeVar

T = TypeVar("T")


class Recent(Generic[T]):
    """The values made last, by key, up to a number of them. Two threads may now and then make the same one."""

    def __init__(self, most: int) -> None:
        self.most = most
        self._held: OrderedDict[tuple, T] = OrderedDict()
        self._lock = threading.Lock()

    def has(self, key: tuple) -> bool:
        """Whether a value is held under a key."""
        with self._lock:
            return key in self._held

    def get(self, key: tuple, make: Callable[[], T]) -> T:
        """The value held under a key, or made now."""
        with self._lock:
            if key in self._held:
                self._held.move_to_end(key)
                return self._held[key]
        made = make()
        with self._lock:
            self._held[key] = made
            while len(self._held) > self.most:
                self._held.popitem(last=False)
        return made
