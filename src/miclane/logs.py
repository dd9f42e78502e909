"""The one logger. What it logs with is loaded when there is first something to log: a start needs not wait for it."""

import threading
from collections.abc import Callable
from typing import Any


class Log:
    """A structlog logger that is set up at its first call."""

    def __init__(self) -> None:
        self._how: Callable[[], None] | None = None
        self._lock = threading.RLock()

    def set_up(self, how: Callable[[], None]) -> None:
        """How structlog is to be configured, once there is something to log."""
        self._how = how

    def __getattr__(self, name: str) -> Any:
        import structlog

        with self._lock:
            if (how := self._how) is not None:
                self._how = None
                how()
        return getattr(structlog.get_logger(), name)


log = Log()
