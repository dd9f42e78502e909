"""The operations of `vectors` by name, for kernels to make use of: they load Numba with their first use only.

from .simd import fma, load8, put
"""

from importlib import import_module

from . import Later

_named: dict[str, Later] = {}


def __getattr__(name: str) -> Later:
    if name.startswith("_"):
        raise AttributeError(name)
    return _named.setdefault(name, Later(lambda: getattr(import_module(".vectors", __package__), name)))
