"""Loops over arrays, compiled. Nothing here knows of settings, files or sessions.

Numba is loaded with the first call of a loop and not before, for it takes about as long as all that a page needs.
"""

import functools
import sys
import threading
from collections.abc import Callable
from typing import Any

from ..late import loading


class Later:
    """What Numba makes, made with its first use: called as it would be, also from within another loop."""

    def __init__(self, make: Callable[[], Any]) -> None:
        self._make = make
        self._made: Any = None
        self._type: Any = None

    def __call__(self, *given: Any) -> Any:
        return (self._made or self.made)(*given)

    @property
    def made(self) -> Any:
        """The dispatcher or intrinsic itself."""
        with loading:
            if self._made is None:
                _load()
                self._made = self._make()
            return self._made

    @property
    def _numba_type_(self) -> Any:  # by which Numba knows what it is in another loop
        if self._type is None:
            made = self.made
            from numba.core.compiler_lock import global_compiler_lock
            from numba.core.registry import cpu_target

            with global_compiler_lock:
                cpu_target.typing_context.refresh()  # an intrinsic may be new to it
                cpu_target.target_context.refresh()
                self._type = cpu_target.typing_context.resolve_value_type(made)
        return self._type


class _WithoutYaml:
    """Has one thread not find what Numba would read a file of settings with, which nobody has here."""

    def __init__(self) -> None:
        self.thread = threading.get_ident()

    def find_spec(self, name: str, path: Any = None, target: Any = None) -> None:
        if name == "yaml" and threading.get_ident() == self.thread:
            raise ModuleNotFoundError(name)


def load() -> None:
    """Load Numba, which takes a while; what is called first would."""
    with loading:
        _load()


@functools.cache
def _load() -> None:
    finder: Any = _WithoutYaml()
    sys.meta_path.insert(0, finder)
    try:
        from . import kept  # noqa: F401
    finally:
        sys.meta_path.remove(finder)


def _compiled(function: Callable, **how: Any) -> Callable:
    def make() -> Any:
        from .kept import dispatcher

        return dispatcher(function, **how)

    return functools.update_wrapper(Later(make), function)


def kernel(function: Callable) -> Callable:
    """Compile without the interpreter lock, and keep the result on disk."""
    return _compiled(function, fastmath={"contract"})


def kernel_in_any_order(function: Callable) -> Callable:
    """The same for what is only looked at: sums may be taken in any order."""
    return _compiled(function, fastmath={"contract", "reassoc"})


def kernel_within(function: Callable) -> Callable:
    """The same for what is to become a part of whatever calls it."""
    return _compiled(function, fastmath={"contract"}, forceinline=True)


def kernel_as_written(function: Callable) -> Callable:
    """The same with every operation rounded by itself, so that bits do not depend on how a loop is divided."""
    return _compiled(function)
