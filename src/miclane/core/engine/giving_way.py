"""What lets work give way: to something newer, to what is heard sooner, to threads that answer at once."""

import os
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

from ..errors import CancelledError


class Cancel:
    """A flag that makes work in progress give up; it is up as well while a parent's is."""

    def __init__(self, *parents: "Cancel") -> None:
        self._event = threading.Event()
        self._parents = parents

    def set(self) -> None:
        """Ask for it."""
        self._event.set()

    def is_set(self) -> bool:
        """Whether it has been asked for, here or of a parent."""
        return self._event.is_set() or any(parent.is_set() for parent in self._parents)

    def check(self) -> None:
        """Raise CancelledError when asked for."""
        if self.is_set():
            raise CancelledError("overtaken by something newer")


class Gate:
    """Lets what will be heard at once go before what can wait."""

    def __init__(self) -> None:
        self._urgent = 0
        self._lock = threading.Lock()
        self._open = threading.Event()
        self._open.set()

    @contextmanager
    def urgent(self) -> Iterator[None]:
        """While this is held, whoever asks to `pass_through` waits."""
        with self._lock:
            self._urgent += 1
            self._open.clear()
        try:
            yield
        finally:
            with self._lock:
                self._urgent -= 1
                if not self._urgent:
                    self._open.set()

    def pass_through(self, most_s: float = 1.0) -> None:
        """Wait for the urgent, for so long at the most."""
        self._open.wait(most_s)


PAUSE: ContextVar[Callable[[], None]] = ContextVar("PAUSE", default=lambda: None)  # what `breathe` does just here


def breathe() -> None:
    """Said by the way by whatever is long at work with something that is only looked at.

    What is heard sooner goes first meanwhile; CancelledError once nobody wants it any more. Not to be said while a lock
    is held that what is heard sooner may want.
    """
    PAUSE.get()()


def give_way() -> None:
    """Let every thread that answers at once have the processor before this one, where the system knows how."""
    if sys.platform == "linux":
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), 10)
