"""Loops over arrays, compiled. Nothing here knows of settings, files or sessions."""

from collections.abc import Callable

from numba import njit


def kernel(function: Callable) -> Callable:
    """Compile without the interpreter lock, and keep the result on disk."""
    return njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})(function)


def kernel_in_any_order(function: Callable) -> Callable:
    """The same for what is only looked at: sums may be taken in any order."""
    return njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract", "reassoc"})(function)


def kernel_within(function: Callable) -> Callable:
    """The same for what is to become a part of whatever calls it."""
    return njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"}, forceinline=True)(function)
