"""Numba's dispatchers as they are kept on disk: loaded without all that only compiling needs."""

import functools
import sys
from collections.abc import Callable
from typing import Any

import llvmlite.binding
import numpy as np
from numba import njit, types
from numba.core import environment
from numba.core.caching import FunctionCache
from numba.core.codegen import JITCodeLibrary, JITCPUCodegen
from numba.core.runtime.nrt import rtsys
from numba.core.typing.typeof import typeof_impl
from numba.np import numpy_support

_CALLED_FROM_PYTHON = "_ZN7cpython"  # how the names of entries begin that take Python's own objects


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


class _Library(JITCodeLibrary):
    """Machine code that is ready. What another loop that calls this one is compiled from is read when one is."""

    _bitcode: bytes | None = None

    @classmethod
    def _unserialize(cls, codegen: Any, state: tuple[str, str, Any]) -> Any:
        name, kind, data = state
        if kind != "object":
            return super()._unserialize(codegen, state)
        made = codegen.create_library(name)
        made.enable_object_caching()
        code, made._bitcode = data
        made._set_compiled_object(code)
        made._finalize_final_module()
        return made

    def get_pointer_to_function(self, name: str) -> int:
        if self._bitcode is not None and name.startswith(_CALLED_FROM_PYTHON):
            return self._codegen._engine.get_function_address(name)  # there is one in all that is kept
        self._read_bitcode()
        return super().get_pointer_to_function(name)

    def _get_module_for_linking(self) -> Any:
        self._read_bitcode()
        return super()._get_module_for_linking()

    def _read_bitcode(self) -> None:
        if self._shared_module is None and self._bitcode is not None:
            self._shared_module = llvmlite.binding.parse_bitcode(self._bitcode)
            self._codegen._engine._load_defined_symbols(self._shared_module)


JITCPUCodegen._library_class = _Library


def _environment(module: str, consts: list[Any], name: str) -> Any:
    """What compiled code finds its constants by. Numba would load the module it was written in, which nobody asks."""
    known = environment.lookup_environment(name)
    if known is None:
        there = sys.modules.get(module)
        known = environment.Environment(there.__dict__ if there else {"__name__": module})
        known.consts[:] = consts
        known.env_name = name
        environment.Environment._memo[name] = known
    return known


environment._rebuild_env = functools.update_wrapper(_environment, environment._rebuild_env)  # known on disk by its name


def dispatcher(function: Callable, **how: Any) -> Any:
    """`function` compiled without the interpreter lock, from disk where it is kept there."""
    made: Any = njit(nogil=True, error_model="numpy", **how)(function)
    made._cache = _Kept(function)
    return made
