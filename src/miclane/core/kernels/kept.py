"""Numba's dispatchers as they are kept on disk: loaded without all that only compiling needs."""

from collections.abc import Callable
from typing import Any

import numpy as np
from numba import njit, types
from numba.core.caching import FunctionCache
from numba.core.runtime.nrt import rtsys
from numba.core.typing.typeof import typeof_impl
from numba.np import numpy_support


class _Kept(FunctionCache):
    """What is on disk is ready to run. Numba would first read all it can compile: a third of a second a start.

    Where nothing is on disk its compiler reads that by itself.
    """

    def load_overload(self, signature: Any, target: Any) -> Any:
        rtsys.initialize(target)
        with self._guard_against_spurious_io_errors():
            return self._load_overload(signature, target)


@typeof_impl.register(np.ndarray)
def _type_of_array(array: np.ndarray, _context: Any) -> types.Array:
    """Numba's own looks for masked arrays and loads all of them for it; nobody has any here."""
    return types.Array(
        numpy_support.from_dtype(array.dtype),
        array.ndim,
        numpy_support.map_layout(array),
        readonly=not array.flags.writeable,
    )


def dispatcher(function: Callable, **how: Any) -> Any:
    """`function` compiled without the interpreter lock, from disk where it is kept there."""
    made: Any = njit(nogil=True, error_model="numpy", **how)(function)
    made._cache = _Kept(function)
    return made
