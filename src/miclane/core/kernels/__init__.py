"""Loops over arrays, compiled. Nothing here knows of settings, files or sessions."""

from collections.abc import Callable

from numba import njit

KERNELS: list[Callable] = []


def kernel(function: Callable) -> Callable:
    """Compile without the interpreter lock, keep the result on disk, and remember it for the warm-up."""
    compiled = njit(cache=True, nogil=True, error_model="numpy", fastmath={"contract"})(function)
    KERNELS.append(compiled)
    return compiled
