"""Loops over arrays, compiled. Nothing here knows of settings, files or sessions."""

import sys
from collections.abc import Callable

from numba import njit


def _load_without_linear_algebra() -> None:
    """Have Numba not look for SciPy's linear algebra, of which no kernel makes use: an eighth of a second a start."""
    name = "scipy.linalg"
    if name in sys.modules:
        return
    sys.modules[name] = None  # type: ignore[assignment]
    try:
        import numba.np.arraymath  # noqa: F401
    finally:
        del sys.modules[name]


_load_without_linear_algebra()


def kernel(function: Callable) -> Callable:
    """Compile without the interpreter lock, and keep the result on disk."""
    return njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})(function)


def kernel_in_any_order(function: Callable) -> Callable:
    """The same for what is only looked at: sums may be taken in any order."""
    return njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract", "reassoc"})(function)


def kernel_within(function: Callable) -> Callable:
    """The same for what is to become a part of whatever calls it."""
    return njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"}, forceinline=True)(function)


def kernel_as_written(function: Callable) -> Callable:
    """The same with every operation rounded by itself, so that bits do not depend on how a loop is divided."""
    return njit(cache=True, nogil=True, error_model="numpy")(function)
