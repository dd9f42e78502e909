"""Edits applied to a plain tree and validated as a whole: the slow and simple way that `edits.apply` is held against."""

import copy
from typing import Any

from pydantic import ValidationError

from miclane.core.errors import UnknownPlaceError, UnusableChainError
from miclane.core.mix.document import Session
from miclane.core.mix.edits import Edit


def apply_plainly(session: Session, edits: list[Edit]) -> Session:
    tree = session.model_dump(mode="json")
    for edit in edits:
        _one(tree, edit)
    try:
        return Session.model_validate(tree)
    except ValidationError as error:
        raise UnusableChainError(str(error)) from error


def _one(tree: Any, edit: Edit) -> None:
    if edit.op == "insert":
        members = _find(tree, edit.path)
        if not isinstance(members, list):
            raise UnknownPlaceError(edit.path)
        members.insert(min(edit.index, len(members)), copy.deepcopy(edit.value))
        return
    base, _, name = edit.path.rpartition("/")
    parent = _find(tree, base) if base else tree
    if edit.op == "set":
        if not isinstance(parent, dict) or name not in parent or name in ("id", "kind"):
            raise UnknownPlaceError(edit.path)
        parent[name] = copy.deepcopy(edit.value)
        return
    if not isinstance(parent, list):
        raise UnknownPlaceError(edit.path)
    member = parent.pop(_index(parent, name))
    if edit.op == "move":
        parent.insert(min(edit.index, len(parent)), member)


def _find(tree: Any, path: str) -> Any:
    at = tree
    for part in path.split("/"):
        if isinstance(at, list):
            at = at[_index(at, part)]
        elif isinstance(at, dict) and part in at:
            at = at[part]
        else:
            raise UnknownPlaceError(path)
    return at


def _index(members: list[Any], name: str) -> int:
    for i, member in enumerate(members):
        if isinstance(member, dict) and member.get("id") and member["id"] == name:
            return i
    if name.isdecimal() and int(name) < len(members) and not members[int(name)].get("id"):
        return int(name)
    raise UnknownPlaceError(name)
