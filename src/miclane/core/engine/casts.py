"""Copies of running things, cast again and again from what was found out once about how they hang together."""

from collections.abc import Iterator
from types import FunctionType
from typing import Any, Protocol

import numpy as np
from pydantic import BaseModel

_EACH_BYTES = 500  # an object with its attributes, or an array besides what is in it
_NEVER_CHANGE = (BaseModel, str, int, float, complex, bool, np.generic, FunctionType, frozenset, type, type(None))
_PASSING = ("_gain_db", "_parts_db")  # what a processor leaves of its last block, which nobody asks for any more


class Mould:
    """A thing as it is just now, to have copies of: what they change is copied, what they only read is shared.

    Only read are settings, and of a class with `SHARED` the attributes named there. One thing that stands in several
    places is one in a copy too. `nbytes` is about what a copy takes, objects included.

    With the `pattern` of an earlier mould, how the thing hangs together is found out anew only where that has changed.
    """

    def __init__(self, thing: Any, pattern: "Pattern | None" = None) -> None:
        taken = pattern.taken(thing) if pattern is not None else None
        if pattern is None or taken is None:
            pattern = Pattern(thing)
            taken = pattern.taken(thing)
            assert taken is not None
        self.pattern = pattern
        self._parts, self.nbytes = taken

    def cast(self) -> Any:
        """A copy of the thing."""
        return self.pattern.root.cast(iter(self._parts), [])


class Pattern:
    """How a thing hangs together: what each has for itself, and what is one and the same. Two that say so are equal."""

    def __init__(self, thing: Any) -> None:
        self._places: dict[int, int] = {}
        self.root = self._part(thing)
        self._places.clear()

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Pattern) and self.root.said == other.root.said

    def __hash__(self) -> int:
        return hash(self.root.said)

    def taken(self, thing: Any) -> tuple[list[Any], int] | None:
        """The parts of a thing, copied, and about the bytes they take; None where it hangs together otherwise."""
        parts, met = list[Any](), list[Any]()
        try:
            nbytes = self.root.take(thing, parts, met)
        except _OtherwiseError:
            return None
        if len(set(map(id, met))) < len(met):  # what was two things has become one
            return None
        return parts, nbytes + _EACH_BYTES * len(met)

    def _part(self, thing: Any) -> "_Part":
        place = self._places.get(id(thing))
        if place is not None:
            return _Same(place)
        self._places[id(thing)] = len(self._places)
        kind = type(thing)
        if kind is np.ndarray:
            return _Array()
        if kind is dict:
            return _Named(dict, thing, self._own(thing, ()), ())
        if kind is list or kind is tuple:
            return _Row(kind, thing, self._own(dict(enumerate(thing)), ()))
        left = (*getattr(kind, "SHARED", ()), *_PASSING)
        return _Named(kind, thing.__dict__, self._own(thing.__dict__, left), _PASSING)

    def _own(self, parts: dict[Any, Any], left: tuple[str, ...]) -> "list[tuple[Any, _Part]]":
        """Those of named parts that each copy has for itself."""
        return [(k, self._part(x)) for k, x in parts.items() if k not in left and not _is_fixed(type(x))]


class _OtherwiseError(Exception):
    """A thing does not hang together as a pattern says."""


class _Part(Protocol):
    said: Any  # hashable: the same for parts that hang together alike

    def take(self, thing: Any, parts: list[Any], met: list[Any]) -> int:
        """Add copies of what is kept of a thing to `parts`, itself and what is in it to `met`; the bytes they take."""

    def cast(self, parts: Iterator[Any], made: list[Any]) -> Any:
        """A thing of the next `parts`; `made` are those that there are, in the order in which they were met."""


class _Array:
    said = "array"

    def take(self, thing: np.ndarray, parts: list[Any], met: list[Any]) -> int:
        met.append(thing)
        parts.append(_copy(thing))
        return thing.nbytes

    def cast(self, parts: Iterator[Any], made: list[Any]) -> np.ndarray:
        made.append(copy := _copy(next(parts)))
        return copy


class _Same:
    def __init__(self, place: int) -> None:
        self._place = self.said = place

    def take(self, thing: Any, parts: list[Any], met: list[Any]) -> int:
        if self._place >= len(met) or met[self._place] is not thing:
            raise _OtherwiseError
        return 0

    def cast(self, parts: Iterator[Any], made: list[Any]) -> Any:
        return made[self._place]


class _Named:
    """A dictionary, or an object with its attributes."""

    def __init__(self, kind: type, inside: dict[Any, Any], own: list[tuple[Any, _Part]], passing: tuple[str, ...]):
        self._kind, self._own = kind, own
        self._passing = [name for name in passing if name in inside]
        common = self._common(inside)
        self._names, self._types = tuple(common), tuple(map(type, common.values()))
        self.said = kind, self._names, self._types, _said(own)

    def _common(self, inside: dict[Any, Any]) -> dict[Any, Any]:
        common = inside.copy()
        for name in self._passing:
            common[name] = None
        return common

    def take(self, thing: Any, parts: list[Any], met: list[Any]) -> int:
        met.append(thing)
        inside = thing if self._kind is dict else thing.__dict__
        common = self._common(inside)
        if tuple(common) != self._names or tuple(map(type, common.values())) != self._types:
            raise _OtherwiseError
        parts.append(common)
        nbytes = 0
        for name, part in self._own:
            common[name] = None  # in its place
            nbytes += part.take(inside[name], parts, met)
        return nbytes

    def cast(self, parts: Iterator[Any], made: list[Any]) -> Any:
        inside = next(parts).copy()
        new: Any = inside
        if self._kind is not dict:
            new = object.__new__(self._kind)
            new.__dict__.update(inside)
            inside = new.__dict__
        made.append(new)
        for name, part in self._own:
            inside[name] = part.cast(parts, made)
        return new


class _Row:
    """A list or a tuple."""

    def __init__(self, kind: type, row: Any, own: list[tuple[int, _Part]]) -> None:
        self._kind, self._own, self._types = kind, own, tuple(map(type, row))
        self.said = kind, self._types, _said(own)

    def take(self, thing: Any, parts: list[Any], met: list[Any]) -> int:
        met.append(thing)
        if tuple(map(type, thing)) != self._types:
            raise _OtherwiseError
        common, nbytes = list(thing), 0
        parts.append(common)
        for at, part in self._own:
            common[at] = None  # in its place
            nbytes += part.take(thing[at], parts, met)
        return nbytes

    def cast(self, parts: Iterator[Any], made: list[Any]) -> Any:
        row, place = next(parts).copy(), len(made)
        made.append(row)
        for at, part in self._own:
            row[at] = part.cast(parts, made)
        if self._kind is tuple:
            made[place] = row = tuple(row)
        return row


def _said(own: list[tuple[Any, _Part]]) -> tuple[tuple[Any, Any], ...]:
    return tuple((name, part.said) for name, part in own)


def _copy(held: np.ndarray) -> np.ndarray:
    if held.flags.forc:
        return held.copy(order="K")
    copy = np.empty((*held.shape, 2), held.dtype)[..., 0]
    copy[:] = held
    return copy  # laid out with gaps as well: compiled loops tell the one from the other


_FIXED: dict[type, bool] = {}  # kinds of things: whether they never change


def _is_fixed(kind: type) -> bool:
    fixed = _FIXED.get(kind)
    if fixed is None:
        fixed = _FIXED[kind] = issubclass(kind, _NEVER_CHANGE)
    return fixed
