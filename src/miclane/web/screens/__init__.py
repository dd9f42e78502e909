"""One module a screen, or a part of one: read, call, answer.

Every module of this package is taken as it is found: its `router`; a `NAV` (Nav) where it has a place in the bar at the
top; a `SCRIPT` where it has a script of its own in `static/js`.
"""

import importlib
import pkgutil
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from types import ModuleType

from ...core.mix.document import Session


@dataclass(frozen=True)
class Nav:
    """A screen's place in the bar: its name there, its order, its address below the session's, "" for none just now."""

    screen: str
    title: str
    order: int
    address: Callable[[Session, str], str]


@lru_cache(maxsize=1)
def found() -> tuple[ModuleType, ...]:
    """All screens there are."""
    names = [module.name for module in pkgutil.iter_modules(__path__)]
    modules = [importlib.import_module(f"{__name__}.{name}") for name in names]
    return tuple(m for m in modules if hasattr(m, "router"))


def bar() -> list[Nav]:
    """What the bar shows, in order."""
    return sorted((m.NAV for m in found() if hasattr(m, "NAV")), key=lambda nav: nav.order)


def scripts() -> list[str]:
    """Scripts of screens."""
    return sorted({m.SCRIPT for m in found() if hasattr(m, "SCRIPT")})
