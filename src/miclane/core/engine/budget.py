"""How much memory rendering may take at the same time, all requests together."""

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager


class Budget:
    """So many bytes; who needs more than are left waits. One that needs more than there are goes when it is alone."""

    def __init__(self, limit_bytes: int) -> None:
        self.limit_bytes = limit_bytes
        self.spent_bytes = 0
        self._change = threading.Condition()

    @contextmanager
    def spend(self, amount: int, check: Callable[[], None]) -> Iterator[None]:
        """Hold an amount in bytes; while it must wait, `check` is called and may raise to give up."""
        with self._change:
            while self.spent_bytes and self.spent_bytes + amount > self.limit_bytes:
                self._change.wait(0.05)
                check()
            self.spent_bytes += amount
        try:
            yield
        finally:
            with self._change:
                self.spent_bytes -= amount
                self._change.notify_all()
