"""Small edits of a session, each with its inverse.

A place is a path such as `lanes/lead/stages/s3/bands/2/gain_db`; members of a list are named by their id, or by their
number where they have none.
"""

import copy
import secrets
from collections.abc import Callable
from dataclasses import dataclass
from typing import Annotated, Any, Literal

from pydantic import Field, TypeAdapter, ValidationError
from pydantic_core import to_jsonable_python

from ..errors import UnknownPlaceError, UnusableChainError
from ..stages.base import Settings
from .chain import describe
from .document import Session
from .places import member_index, name_of, replaced, taking, walk


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


@dataclass(frozen=True)
class Applied:
    """What edits made: the session after them, the edits as they were really made (with every id and default that
    came to be), and the edits that take them back."""

    session: Session
    made: list[Edit]
    inverses: list[Edit]


def apply(session: Session, edits: list[Edit]) -> Applied:
    """Apply edits one after another; the session is validated as a whole after the last.

    UnknownPlaceError for a path that leads nowhere, UnusableChainError for a value that is refused; the session given
    is never changed.
    """
    done = tried(session, edits)
    return Applied(validated(done.session, session), done.made, done.inverses)


def apply_with(
    session: Session,
    edits: list[Edit],
    follows: Callable[[Session, list[Edit]], list[Edit]] | None,
    holds: Callable[[Session], None] | None = None,
) -> Applied:
    """As `apply`, with what `follows(session after edits, edits)` says after them; validated once, after all of it.

    `holds` raises for a session that is valid and yet cannot be.
    """
    done = tried(session, edits)
    try:
        more = follows(done.session, done.made) if follows is not None else []
        then = tried(done.session, more)
        after = validated(then.session, session)
    except Exception:
        validated(done.session, session)  # where what was asked for is to blame, that is what is said
        raise
    if holds is not None:
        holds(after)
    return Applied(after, done.made + then.made, then.inverses + done.inverses)


def tried(session: Session, edits: list[Edit]) -> Applied:
    """As `apply`, each value looked into by itself only: to ask what follows from edits that are applied later."""
    at = session
    made: list[Edit] = []
    inverses: list[Edit] = []
    for edit in edits:
        try:
            at, really, inverse = _APPLIES[edit.op](at, edit)
        except ValidationError as error:
            raise UnusableChainError(describe(error, edit.path)) from error
        made.append(really)
        inverses.insert(0, inverse)
    return Applied(at, made, inverses)


def validated(after: Session, before: Session) -> Session:
    """The session after edits, validated; what is the very same object as before is not looked into again."""
    try:
        return Session.model_validate(_loosened(after, before))
    except ValidationError as error:
        raise UnusableChainError(describe(error)) from error


def _loosened(new: Any, old: Any) -> Any:
    """Models on the way to what has changed as plain dicts, so that they are validated again; the rest as it is."""
    if new is old:
        return new
    if isinstance(new, Settings):
        same = type(old) is type(new)
        return {f: _loosened(getattr(new, f), getattr(old, f) if same else None) for f in type(new).model_fields}
    if isinstance(new, tuple):
        members = old if isinstance(old, tuple) else ()
        known = {id(m) for m in members}
        named = {m.id: m for m in members if getattr(m, "id", "")}
        return [
            m if id(m) in known else _loosened(m, named.get(getattr(m, "id", ""), members[i : i + 1] and members[i]))
            for i, m in enumerate(new)
        ]
    return new


def _set(session: Session, edit: Set) -> tuple[Session, Edit, Edit]:
    steps = walk(session, edit.path)
    last = steps[-1]
    if last.index is not None or last.field in ("id", "kind"):
        raise UnknownPlaceError(f"“{edit.path}” cannot be set")
    value = taking(type(last.holder), last.field, False).validate_python(with_ids(edit.value))
    made = Set(path=edit.path, value=to_jsonable_python(value))
    return replaced(steps, value), made, Set(path=edit.path, value=to_jsonable_python(last.value))


def _insert(session: Session, edit: Insert) -> tuple[Session, Edit, Edit]:
    steps = walk(session, edit.path)
    last = steps[-1]
    if last.index is not None or not isinstance(last.value, tuple):
        raise UnknownPlaceError(f"“{edit.path}” is not a list")
    member = taking(type(last.holder), last.field, True).validate_python(with_ids(edit.value))
    index = min(edit.index, len(last.value))
    members = (*last.value[:index], member, *last.value[index:])
    made = Insert(path=edit.path, index=index, value=to_jsonable_python(member))
    return replaced(steps, members), made, Remove(path=f"{edit.path}/{name_of(members, index)}")


def _member(session: Session, path: str) -> tuple[tuple[Any, ...], tuple[Any, ...], int, str]:
    """The steps to a member's list, its members, where it stands, and the path of the list."""
    base, _, name = path.rpartition("/")
    steps = walk(session, base) if base else ()
    members = steps[-1].value if steps and steps[-1].index is None else None
    index = member_index(members, name) if isinstance(members, tuple) else None
    if index is None or members is None:
        if members is None or not isinstance(members, tuple):
            raise UnknownPlaceError(f"“{path}” is not a member of a list")
        raise UnknownPlaceError(f"“{path}” is not in the session")
    return steps, members, index, base


def _remove(session: Session, edit: Remove) -> tuple[Session, Edit, Edit]:
    steps, members, index, base = _member(session, edit.path)
    inverse = Insert(path=base, index=index, value=to_jsonable_python(members[index]))
    return replaced(steps, (*members[:index], *members[index + 1 :])), edit, inverse


def _move(session: Session, edit: Move) -> tuple[Session, Edit, Edit]:
    steps, members, index, base = _member(session, edit.path)
    rest = (*members[:index], *members[index + 1 :])
    to = min(edit.index, len(rest))
    moved = (*rest[:to], members[index], *rest[to:])
    made = Move(path=edit.path, index=to)
    return replaced(steps, moved), made, Move(path=f"{base}/{name_of(moved, to)}", index=index)


_APPLIES: dict[str, Any] = {"set": _set, "insert": _insert, "remove": _remove, "move": _move}


def with_ids(value: Any) -> Any:
    """A copy of plain data in which every stage and branch has an id of its own."""
    value = copy.deepcopy(value)
    _give_ids(value)
    return value


def _give_ids(value: Any) -> None:
    if isinstance(value, list | tuple):
        for member in value:
            _give_ids(member)
    elif isinstance(value, dict):
        if not value.get("id"):
            prefix = "s" if "kind" in value else "b" if "blend_db" in value or "stages" in value else ""
            if prefix:
                value["id"] = new_id(prefix)
        for inner in value.values():
            _give_ids(inner)


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
