"""Edits applied to the plain tree of a document, nothing validated: for documents that cannot be read."""

import copy
from typing import Any

from ..errors import UnknownPlaceError
from .edits import Edit


def apply_to_tree(tree: dict[str, Any], edits: list[Edit]) -> None:
    """Apply edits in place; UnknownPlaceError for a path that leads nowhere, and then the tree is of no more use."""
    for edit in edits:
        _apply_one(tree, edit)


def _apply_one(tree: dict[str, Any], edit: Edit) -> None:
    if edit.op == "insert":
        members = _find(tree, edit.path)
        if not isinstance(members, list):
            raise UnknownPlaceError(f"“{edit.path}” is not a list")
        members.insert(min(edit.index, len(members)), copy.deepcopy(edit.value))
        return
    base, _, name = edit.path.rpartition("/")
    parent = _find(tree, base) if base else tree
    if edit.op == "set":
        if not isinstance(parent, dict) or name not in parent or name in ("id", "kind"):
            raise UnknownPlaceError(f"“{edit.path}” cannot be set")
        parent[name] = copy.deepcopy(edit.value)
        return
    if not isinstance(parent, list):
        raise UnknownPlaceError(f"“{edit.path}” is not a member of a list")
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
            raise UnknownPlaceError(f"“{path}” is not in the document")
    return at


def _index(members: list[Any], name: str) -> int:
    for i, member in enumerate(members):
        if isinstance(member, dict) and member.get("id") and member["id"] == name:
            return i
    if name.isdecimal() and len(name) < 7 and int(name) < len(members):
        member = members[int(name)]
        if not (isinstance(member, dict) and member.get("id")):
            return int(name)
    raise UnknownPlaceError(f"there is no member “{name}”")
