"""What is used of SciPy, loaded at the first call: a start of the program need not wait for a second of imports."""

from collections.abc import Callable
from importlib import import_module
from typing import Any


def _late(module: str, name: str) -> Callable[..., Any]:
    def call(*args: Any, **how: Any) -> Any:
        return getattr(import_module(module), name)(*args, **how)

    return call


fft, rfft, irfft = (_late("scipy.fft", name) for name in ("fft", "rfft", "irfft"))
maximum_filter1d, median_filter, uniform_filter1d = (
    _late("scipy.ndimage", name) for name in ("maximum_filter1d", "median_filter", "uniform_filter1d")
)
butter, lfilter, sosfilt, sosfiltfilt = (
    _late("scipy.signal", name) for name in ("butter", "lfilter", "sosfilt", "sosfiltfilt")
)
cho_solve, solve_triangular = (_late("scipy.linalg", name) for name in ("cho_solve", "solve_triangular"))
