"""Copies of running things, cast again and again from what was found out once about how they hang together."""

from collections.abc import Callable
from functools import partial
from types import FunctionType
from typing import Any

import numpy as np
from pydantic import BaseModel

_EACH_BYTES = 500  # an object with its attributes, or an array besides what is in it
_NEVER_CHANGE = (BaseModel, str, int, float, complex, bool, np.generic, FunctionType, frozenset, type, type(None))
_PASSING = ("_gain_db", "_parts_db")  # what a processor leaves of its last block, which nobody asks for any more

_Step = Callable[[list[Any]], Any]  # what gives one part, of the parts that have been made before it


class Mould:
    """A thing as it is just now, to have copies of: what they change is copied, what they only read is shared.

    Only read are settings, and of a class with `SHARED` the attributes named there; a class with `copied()` gives what
    of it is copied in a way of its own, by attribute, and how many bytes that takes. One thing that stands in several
    places is one in a copy too. `nbytes` is about what a copy takes, objects included.
    """

    def __init__(self, thing: Any) -> None:
        self.nbytes = 0
        self._steps: list[_Step] = []
        self._places: dict[int, int] = {}
        self._part(thing)
        self._places.clear()

    def cast(self) -> Any:
        """A copy of the thing."""
        made: list[Any] = []
        for step in self._steps:
            made.append(step(made))
        return made[-1]

    def _part(self, thing: Any) -> int:
        """Where the copy of a part stands among those that are made."""
        place = self._places.get(id(thing))
        if place is None:
            step = self._step(thing, type(thing))
            self.nbytes += _EACH_BYTES
            place = self._places[id(thing)] = len(self._steps)
            self._steps.append(step)
        return place

    def _split(self, parts: dict[Any, Any]) -> tuple[dict[Any, Any], list[tuple[Any, int]]]:
        """What of named parts every copy has in common, and where those stand that each has for itself."""
        common, own = {}, []
        for name, part in parts.items():
            if _is_fixed(type(part)):
                common[name] = part
            else:
                common[name] = None  # in its place
                own.append((name, self._part(part)))
        return common, own

    def _step(self, thing: Any, kind: type) -> _Step:
        if kind is np.ndarray:
            self.nbytes += thing.nbytes
            return partial(_array, _array(thing))
        if kind is dict:
            return partial(_filled, *self._split(thing))
        if kind is list or kind is tuple:
            return partial(_row, kind, *self._split(dict(enumerate(thing))))
        inside = dict(thing.__dict__)
        shared = {name: inside.pop(name) for name in getattr(kind, "SHARED", ()) if name in inside}
        shared |= dict.fromkeys(name for name in _PASSING if inside.pop(name, None) is not None)
        frozen: Any = None
        if hasattr(kind, "copied"):
            frozen = object.__new__(kind)
            own, nbytes = thing.copied()
            frozen.__dict__.update({**thing.__dict__, **own})
            self.nbytes += nbytes
            for name in own:
                inside.pop(name)
        common, parts = self._split(inside)
        common |= shared
        return partial(_object, kind, {name: common.get(name) for name in thing.__dict__}, parts, frozen)


def _array(held: np.ndarray, _made: object = None) -> np.ndarray:
    if held.flags.forc:
        return held.copy(order="K")
    copy = np.empty((*held.shape, 2), held.dtype)[..., 0]
    copy[:] = held
    return copy  # laid out with gaps as well: compiled loops tell the one from the other


def _filled(common: dict[Any, Any], own: list[tuple[Any, int]], made: list[Any]) -> dict[Any, Any]:
    filled = common.copy()
    for name, place in own:
        filled[name] = made[place]
    return filled


def _row(kind: type, common: dict[Any, Any], own: list[tuple[Any, int]], made: list[Any]) -> Any:
    return kind(_filled(common, own, made).values())


def _object(kind: type, common: dict[str, Any], own: list[tuple[str, int]], frozen: Any, made: list[Any]) -> Any:
    new: Any = object.__new__(kind)
    inside = new.__dict__
    inside.update(common)
    for name, place in own:
        inside[name] = made[place]
    if frozen is not None:
        inside.update(frozen.copied()[0])
    return new


_FIXED: dict[type, bool] = {}  # kinds of things: whether they never change


def _is_fixed(kind: type) -> bool:
    fixed = _FIXED.get(kind)
    if fixed is None:
        fixed = _FIXED[kind] = issubclass(kind, _NEVER_CHANGE)
    return fixed
