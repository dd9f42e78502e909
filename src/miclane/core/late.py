"""What is used of SciPy, loaded at the first call: a start of the program need not wait for a second of imports.

One thread loads it at a time, and none while another loads Numba, which loads SciPy too: of two that begin with
different parts of it, each waits for what the other has half loaded, and one of them is left without.
"""

import threading
from collections.abc import Callable
from importlib import import_module
from typing import Any

loading = threading.RLock()


def _late(module: str, name: str) -> Callable[..., Any]:
    found: Callable[..., Any] | None = None

    def call(*args: Any, **how: Any) -> Any:
        nonlocal found
        if found is None:
            with loading:
                found = getattr(import_module(module), name)
        return found(*args, **how)

    return call


fft, rfft, irfft = (_late("scipy.fft", name) for name in ("fft", "rfft", "irfft"))
maximum_filter1d, median_filter, uniform_filter1d = (
    _late("scipy.ndimage", name) for name in ("maximum_filter1d", "median_filter", "uniform_filter1d")
)
cho_solve, solve_triangular = (_late("scipy.linalg", name) for name in ("cho_solve", "solve_triangular"))
