"""Small edits of a session, each with its inverse.

A place is a path such as `lanes/lead/stages/s3/bands/2/gain_db`; members of a list are named by their id, or by their
number where they have none.
"""

import copy
import secrets
from typing import Annotated, Any, Literal

from pydantic import Field, TypeAdapter, ValidationError

from ..errors import UnknownPlaceError, UnusableChainError
from ..stages.base import Settings, rule_of
from .chain import describe
from .document import Session


class Set(Settings):
    """Give a field a value."""

    op: Literal["set"] = "set"
    path: str = Field(max_length=400)
    value: Any = None


class Insert(Settings):
    """Put a member into a list, before the one at `index`."""

    op: Literal["insert"] = "insert"
    path: str = Field(max_length=400)
    index: int = Field(ge=0, le=10_000)
    value: Any = None


class Remove(Settings):
    """Take a member out of its list."""

    op: Literal["remove"] = "remove"
    path: str = Field(max_length=400)


class Move(Settings):
    """Move a member to another index of its list."""

    op: Literal["move"] = "move"
    path: str = Field(max_length=400)
    index: int = Field(ge=0, le=10_000)


Edit = Annotated[Set | Insert | Remove | Move, Field(discriminator="op")]
EDITS: TypeAdapter[list[Edit]] = TypeAdapter(list[Edit])


def new_id(prefix: str = "s") -> str:
    """A short identifier, unlikely to have been given before."""
    return prefix + secrets.token_hex(4)


def apply(session: Session, edits: list[Edit]) -> tuple[Session, list[Edit]]:
    """The session after the edits, and the edits that take it back.

    UnknownPlaceError for a path that leads nowhere, UnusableChainError for a value that is refused; the session given
    is never changed.
    """
    quick = _apply_numbers(session, edits)
    if quick is not None:
        return quick
    tree = session.model_dump(mode="json")
    inverses: list[Edit] = []
    for edit in edits:
        inverses.insert(0, _apply_one(tree, edit))
    try:
        return Session.model_validate(tree), inverses
    except ValidationError as error:
        raise UnusableChainError(describe(error)) from error


def _apply_numbers(session: Session, edits: list[Edit]) -> tuple[Session, list[Edit]] | None:
    """As `apply`, where all that is set are numbers and switches, which no other part of a session depends on.

    Only the models on the way to them are made anew, and only the innermost is validated. None for anything else.
    """
    inverses: list[Edit] = []
    for edit in edits:
        if not isinstance(edit, Set) or type(edit.value) not in (int, float, bool):
            return None
        way: list[tuple[Settings, str, int | None]] = []
        at: Any = session
        *parts, name = edit.path.split("/")
        k = 0
        while k < len(parts):
            field = parts[k]
            if not isinstance(at, Settings) or field not in type(at).model_fields:
                return None
            value, index = getattr(at, field), None
            if isinstance(value, tuple):
                k += 1
                index = _named(value, parts[k]) if k < len(parts) else None
                if index is None:
                    return None
            way.append((at, field, index))
            at = value if index is None else value[index]
            k += 1
        if not isinstance(at, Settings) or not (rule_of(at, name) or type(getattr(at, name, None)) is bool):
            return None
        before = getattr(at, name)
        try:
            made: Any = type(at).model_validate({**at.model_dump(), name: edit.value})
        except ValidationError:
            return None
        for parent, field, index in reversed(way):
            if index is not None:
                members = getattr(parent, field)
                made = (*members[:index], made, *members[index + 1 :])
            made = parent.model_copy(update={field: made})
        session = made
        inverses.insert(0, Set(path=edit.path, value=before))
    return session, inverses


def _named(members: tuple[Any, ...], name: str) -> int | None:
    """Where the member of that id or, where they have none, of that number stands."""
    for i, member in enumerate(members):
        if getattr(member, "id", "") and member.id == name:
            return i
    if name.isdigit() and int(name) < len(members) and not getattr(members[int(name)], "id", ""):
        return int(name)
    return None


def _apply_one(tree: dict[str, Any], edit: Edit) -> Edit:
    if isinstance(edit, Insert):
        members = _find(tree, edit.path)
        if not isinstance(members, list):
            raise UnknownPlaceError(f"“{edit.path}” is not a list")
        value = _with_ids(copy.deepcopy(edit.value))
        index = min(edit.index, len(members))
        members.insert(index, value)
        name = value["id"] if isinstance(value, dict) and value.get("id") else str(index)
        return Remove(path=f"{edit.path}/{name}")
    parent, name = _parent(tree, edit.path)
    if isinstance(edit, Set):
        if not isinstance(parent, dict) or name in ("id", "kind"):
            raise UnknownPlaceError(f"“{edit.path}” cannot be set")
        before = copy.deepcopy(parent.get(name))
        parent[name] = copy.deepcopy(edit.value)
        return Set(path=edit.path, value=before)
    if not isinstance(parent, list):
        raise UnknownPlaceError(f"“{edit.path}” is not a member of a list")
    index = _index(parent, name, edit.path)
    taken = parent.pop(index)
    base = edit.path.rsplit("/", 1)[0]
    if isinstance(edit, Remove):
        return Insert(path=base, index=index, value=taken)
    to = min(edit.index, len(parent))
    parent.insert(to, taken)
    return Move(path=edit.path if taken.get("id") else f"{base}/{to}", index=index)


def _with_ids(value: Any) -> Any:
    """Stages and branches that are inserted without an id get one."""
    if isinstance(value, dict):
        if ("kind" in value or "blend_db" in value or "stages" in value) and not value.get("id"):
            value["id"] = new_id("s" if "kind" in value else "b")
        for member in value.values():
            if isinstance(member, list):
                for inner in member:
                    _with_ids(inner)
    return value


def with_ids(stages: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Plain stages, as read from a chain file, with ids of their own."""
    return [_with_ids(copy.deepcopy(stage)) for stage in stages]


def _index(members: list[Any], name: str, path: str) -> int:
    for i, member in enumerate(members):
        if isinstance(member, dict) and member.get("id") and member["id"] == name:
            return i
    if name.isdigit() and int(name) < len(members) and not members[int(name)].get("id"):
        return int(name)
    raise UnknownPlaceError(f"“{path}” is not in the session")


def _find(tree: Any, path: str) -> Any:
    at = tree
    for part in path.split("/"):
        if isinstance(at, list):
            at = at[_index(at, part, path)]
        elif isinstance(at, dict) and part in at:
            at = at[part]
        else:
            raise UnknownPlaceError(f"“{path}” is not in the session")
    return at


def _parent(tree: dict[str, Any], path: str) -> tuple[Any, str]:
    base, _, name = path.rpartition("/")
    parent = _find(tree, base) if base else tree
    if isinstance(parent, dict) and name not in parent:
        raise UnknownPlaceError(f"“{path}” is not in the session")
    return parent, name


def value_at(session: Session, path: str) -> Any:
    """What stands at a place, as plain JSON data."""
    return _find(session.model_dump(mode="json"), path)


def touches(first: list[Edit], second: list[Edit]) -> bool:
    """Whether two lists of edits change the same setting, or one changes a list the other reaches into."""

    def reach(edit: Edit) -> list[tuple[str, bool]]:
        if isinstance(edit, Insert):
            return [(edit.path, True)]
        if isinstance(edit, Remove | Move):
            return [(edit.path, False), (edit.path.rsplit("/", 1)[0], True)]
        return [(edit.path, False)]

    def clash(a: tuple[str, bool], b: tuple[str, bool]) -> bool:
        if a[1] and b[1]:
            return a[0] == b[0]
        if a[1] or b[1]:
            listed, other = (a[0], b[0]) if a[1] else (b[0], a[0])
            numbered = other.startswith(listed + "/") and other[len(listed) + 1 :].split("/")[0].isdigit()
            return numbered or listed.startswith(other + "/") or listed == other
        return a[0] == b[0] or a[0].startswith(b[0] + "/") or b[0].startswith(a[0] + "/")

    return any(clash(a, b) for x in first for a in reach(x) for y in second for b in reach(y))
