"""How older documents, edits and chain files become newer ones, a version a step.

A step takes plain JSON data of its version and leaves it as the next has it. Every version that was ever shipped stays
readable; `tests/ages` keeps a database of each.
"""

from collections.abc import Callable, Iterator
from typing import Any

from ..errors import UnreadableError

DOCUMENT_VERSION = 6
CHAIN_VERSION = 3
LEVEL_FOUND = 4  # from this version on a drive keeps the gain that makes it as loud as before
Tree = dict[str, Any]


def upgrade_document(tree: Tree) -> Tree:
    """A session document of any age as today's version has it; UnreadableError for one of a newer version."""
    return _upgraded(tree, DOCUMENT_VERSION, _DOCUMENT_STEPS, "the session")


def upgrade_chain(tree: Tree) -> Tree:
    """A chain file of any age as today's version has it; UnreadableError for one of a newer version."""
    return _upgraded(tree, CHAIN_VERSION, {1: _makes_up, 2: _as_it_is}, "the chain file")


def upgrade_edits(edits: list[Tree], version: int) -> list[Tree]:
    """Edits of a document of `version`, so that they mean the same in today's."""
    for at in range(version, DOCUMENT_VERSION):
        edits = _EDIT_STEPS[at](edits)
    return edits


def _upgraded(tree: Tree, newest: int, steps: dict[int, Callable[[Tree], None]], what: str) -> Tree:
    version = tree.get("version")
    if not isinstance(version, int) or isinstance(version, bool) or version < 1:
        raise UnreadableError(f"{what} does not say its version")
    if version > newest:
        raise UnreadableError(
            f"{what} is of version {version}; this Mic Lane reads up to {newest}. Update it to open this"
        )
    for at in range(version, newest):
        steps[at](tree)
        tree["version"] = at + 1
    return tree


# ---- 1 to 2: a lane sends to each return once; a branch's send has neither `raw` nor `throws`, which did nothing ----

_INERT = ("raw", "throws", "ramp_ms")


def _dicts(value: Any) -> Iterator[Tree]:
    if isinstance(value, dict):
        yield value
        for inner in value.values():
            yield from _dicts(inner)
    elif isinstance(value, list):
        for inner in value:
            yield from _dicts(inner)


def _once(members: Any) -> Any:
    """The first of all members with the same id."""
    if not isinstance(members, list):
        return members
    seen: set[Any] = set()
    kept = []
    for member in members:
        name = member.get("id") if isinstance(member, dict) else None
        if not name or name not in seen:
            kept.append(member)
        seen.add(name)
    return kept


def _sends_once(tree: Any) -> None:
    for part in _dicts(tree):
        for name in ("sends", "branches", "throws"):
            if name in part:
                part[name] = _once(part[name])
        for branch in part.get("branches") or ():
            for send in branch.get("sends") or () if isinstance(branch, dict) else ():
                for inert in _INERT:
                    send.pop(inert, None)


def _edits_1(edits: list[Tree]) -> list[Tree]:
    kept = []
    for edit in edits:
        parts = edit["path"].split("/")
        if "branches" in parts and "sends" in parts and any(name in parts for name in _INERT):
            continue
        _sends_once(edit.get("value"))
        if isinstance(edit.get("value"), dict) and "branches" in parts and parts[-1] == "sends":
            for inert in _INERT:
                edit["value"].pop(inert, None)
        if parts[-1] == "sends" and edit["op"] == "set":
            edit["value"] = _once(edit["value"])
        kept.append(edit)
    return kept


# ---- 2 to 3: the edges of a band lie a semitone apart and do not cross ----

_APART = 2 ** (1 / 12)
_EDGES: dict[str, tuple[str, float, str, float]] = {  # with what they were where they were not given
    "deess": ("low_hz", 5200.0, "high_hz", 12000.0),
    "plosive": ("low_hz", 20.0, "high_hz", 120.0),
    "duck": ("band_low_hz", 1500.0, "band_high_hz", 6000.0),
    "compressor": ("key_low_cut_hz", 0.0, "key_high_cut_hz", 0.0),
    "delay": ("low_cut_hz", 250.0, "high_cut_hz", 5500.0),
    "impulse": ("low_cut_hz", 180.0, "high_cut_hz", 9000.0),
    "reverb": ("low_cut_hz", 220.0, "high_cut_hz", 8000.0),
}


def _uncrossed(tree: Any) -> None:
    for part in _dicts(tree):
        if str(part.get("kind")) not in _EDGES:
            continue
        low, low_default, high, high_default = _EDGES[part["kind"]]
        try:
            below, above = float(part.get(low, low_default)), float(part.get(high, high_default))
        except (TypeError, ValueError):
            continue  # refused in words when it is read
        if below > 0 and above > 0 and below * _APART > above:
            below, above = min(below, above), max(below, above)
            part[low], part[high] = below, max(above, below * _APART)


def _edits_2(edits: list[Tree]) -> list[Tree]:
    for edit in edits:
        _uncrossed(edit.get("value"))
    return edits


# ---- 3 to 4: a drive's level is made up by a gain that is found and kept, as a compressor's is; a band that is to
# listen to a key where there is none has listened to itself ----


def _makes_up(tree: Any) -> None:
    for part in _dicts(tree):
        if part.get("kind") == "drive" and "level_matched" in part:
            part["auto_makeup"] = part.pop("level_matched")
        if part.get("kind") == "eq" and not part.get("key"):
            for inside in _dicts(part.get("bands")):
                if inside.get("keyed_by") == "key":
                    inside["keyed_by"] = "itself"


def _edits_3(edits: list[Tree]) -> list[Tree]:
    for edit in edits:
        _makes_up(edit.get("value"))
        if edit["path"].endswith("/level_matched"):
            edit["path"] = edit["path"].removesuffix("level_matched") + "auto_makeup"
    return edits


# ---- 4 to 5: a bus can be on solo, which it was not; 5 to 6: what has stages can have handles ----


def _as_it_is(tree: Tree) -> None:
    pass


def _the_same(edits: list[Tree]) -> list[Tree]:
    return edits


_DOCUMENT_STEPS: dict[int, Callable[[Tree], None]] = {
    1: _sends_once, 2: _uncrossed, 3: _makes_up, 4: _as_it_is, 5: _as_it_is,
}  # fmt: skip
_EDIT_STEPS: dict[int, Callable[[list[Tree]], list[Tree]]] = {
    1: _edits_1, 2: _edits_2, 3: _edits_3, 4: _the_same, 5: _the_same,
}  # fmt: skip
