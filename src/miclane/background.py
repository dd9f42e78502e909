"""What a server does beside serving: begun a while after its start, and ended before the program is.

A thread that is in compiled code when the interpreter goes takes the whole process down with it.
"""

import threading
from collections.abc import Callable

from .core.engine.giving_way import Cancel
from .core.errors import CancelledError
from .logs import log


class Background:
    """Threads that begin after a while, until `stopping`."""

    def __init__(self, stopping: Cancel) -> None:
        self.stopping = stopping
        self._timers: list[threading.Timer] = []

    def later(self, seconds: float, what: Callable[[], None]) -> None:
        """Do something after a while; what the end of the program breaks off is not told."""
        timer = threading.Timer(seconds, self._run, [what])
        timer.daemon = True
        self._timers.append(timer)
        timer.start()

    def close(self) -> None:
        """Begin nothing any more, and wait for what has begun; it is to look at `stopping`."""
        for timer in self._timers:
            timer.cancel()
        for timer in self._timers:
            timer.join()

    def _run(self, what: Callable[[], None]) -> None:
        try:
            self.stopping.check()
            what()
            self.stopping.check()
        except CancelledError:
            return
        except RuntimeError:
            if not self.stopping.is_set():
                log.exception("background work failed")
