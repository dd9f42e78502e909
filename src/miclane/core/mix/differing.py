"""What differs between two states of a session, as lines that can be read, and taken one by one or all together."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from ..errors import MicLaneError, UnknownPlaceError
from ..stages.base import Stage, rule_of
from ..stages.split import BranchSend, Throw
from .document import LocalValue, Phrase, Session
from .edits import Edit, Insert, Move, Remove, Set, apply
from .labels import names_to
from .local import name_of_where, worded
from .places import along, walk
from .sections import where_of

Tree = dict[str, Any]
_SILENT = ("alternatives",)  # what is said elsewhere
_WHOLE = ("sound", "key")  # of which one part alone says nothing
_GROUPS = ("lanes", "returns", "buses")


@dataclass(frozen=True)
class Line:
    """One difference: where (lane, return or bus; stage), what, from what to what, and the edits that make it so.

    `was` and `now` are "" of what is put in, taken out or moved; `what` says that then.
    """

    group: str
    stage: str
    what: str
    was: str
    now: str
    path: str
    edits: tuple[Edit, ...]

    @property
    def text(self) -> str:
        """The line as it is read: `Peaks: threshold −17 → −21 dB`."""
        change = f" {self.was} → {self.now}" if self.was or self.now else ""
        return f"{self.stage or self.group}: {self.what}{change}"


def lines_between(before: Session, after: Session) -> list[Line]:
    """The differences of two states: the edits of all of them, in order, make the one the other."""
    found = []
    for path, edits in _members(before.model_dump(mode="json"), after.model_dump(mode="json"), ""):
        found.append(_line(before, after, path, edits))
    return found


def edits_between(before: Session, after: Session) -> list[Edit]:
    """What makes the one state the other."""
    return [edit for line in lines_between(before, after) for edit in line.edits]


def applied(session: Session, edits: list[Edit]) -> Session:
    """The session after edits; those whose place it does not have, or which it cannot have, are left out."""
    try:
        return apply(session, edits).session
    except MicLaneError:
        pass
    for edit in edits:
        try:
            session = apply(session, [edit]).session
        except MicLaneError:
            continue
    return session


def _members(old: Tree, new: Tree, path: str) -> Iterator[tuple[str, tuple[Edit, ...]]]:
    """Places that differ, each with the edits that make the old the new one there."""
    for name, value in new.items():
        place = f"{path}/{name}".lstrip("/")
        before = old.get(name)
        if before == value or (not path and name in _SILENT):
            continue
        if isinstance(value, list) and isinstance(before, list):
            yield from _lists(before, value, place)
        elif (
            name not in _WHOLE
            and isinstance(value, dict)
            and isinstance(before, dict)
            and value.keys() == before.keys()
        ):
            yield from _members(before, value, place)
        else:
            yield place, (Set(path=place, value=value),)


def _same_fields(one: Any, other: Any) -> bool:
    return isinstance(one, dict) and isinstance(other, dict) and one.keys() == other.keys()


def _lists(old: list[Any], new: list[Any], place: str) -> Iterator[tuple[str, tuple[Edit, ...]]]:
    if _named(old) and _named(new):
        yield from _named_lists(old, new, place)
    elif len(old) == len(new) and all(isinstance(m, dict) and not m.get("id") for m in [*old, *new]):
        for k, (a, b) in enumerate(zip(old, new, strict=True)):
            if a.keys() == b.keys():
                yield from _members(a, b, f"{place}/{k}")
            else:
                yield place, (Set(path=place, value=new),)
                return
    else:
        yield place, (Set(path=place, value=new),)


def _named(members: list[Any]) -> bool:
    ids = [m.get("id") if isinstance(m, dict) else None for m in members]
    return all(ids) and len(set(ids)) == len(ids)


def _named_lists(old: list[Tree], new: list[Tree], place: str) -> Iterator[tuple[str, tuple[Edit, ...]]]:
    """Members that both have, one inside the other; then what is taken out, put in and moved."""
    before = {m["id"]: m for m in old}
    wanted = {m["id"]: m for m in new}
    kept = [i for i in wanted if i in before and _alike(before[i], wanted[i])]
    for i in kept:
        yield from _members(before[i], wanted[i], f"{place}/{i}")
    order = [m["id"] for m in old if m["id"] in kept]
    for i in before:
        if i not in kept:
            yield f"{place}/{i}", (Remove(path=f"{place}/{i}"),)
    stay = _staying([order.index(i) for i in kept])
    staying = {order[k] for k in stay}
    previous = ""
    for i in wanted:
        if i not in kept:
            at = order.index(previous) + 1 if previous else 0
            order.insert(at, i)
            yield f"{place}/{i}", (Insert(path=place, index=at, value=wanted[i]),)
        elif i not in staying:
            order.remove(i)
            at = order.index(previous) + 1 if previous else 0
            order.insert(at, i)
            yield f"{place}/{i}", (Move(path=f"{place}/{i}", index=at),)
        previous = i


def _staying(numbers: list[int]) -> list[int]:
    """A longest run of rising numbers: what can stay where it is while the others move."""
    ends: list[list[int]] = []
    for number in numbers:
        best = max((run for run in ends if run[-1] < number), key=len, default=[])
        ends.append([*best, number])
    return max(ends, key=len, default=[])


def _alike(old: Tree, new: Tree) -> bool:
    """Whether one can become the other by settings: a stage of another kind is another stage."""
    return old.get("kind") == new.get("kind") and old.keys() == new.keys()


def _line(before: Session, after: Session, path: str, edits: tuple[Edit, ...]) -> Line:
    if path.startswith("local_values/"):
        return _local_line(before, after, path, edits)
    edit = edits[0]
    session = before if isinstance(edit, Remove) else after
    names, model, field = names_to(session, path)
    parts = path.split("/")
    group = names[0] if names and parts[0] in _GROUPS else "Session"
    stages = [m.label for _, m in along(session, path) if isinstance(m, Stage)]
    stage = stages[-1] if stages else ""
    if not isinstance(edit, Set):
        word = {"insert": "put in", "remove": "taken out", "move": "moved"}[edit.op]
        kind = "" if parts[-2] in ("stages", *_GROUPS) else f"{_kind_of(session, model, parts)} "
        return Line(group, stage, f"{kind}{word}", "", "", path, edits)
    rule = rule_of(model, field)
    label = rule["label"].lower() if rule else field.replace("_", " ")
    skipped = {group, *stages}
    rest = [n for n in names if n not in skipped]
    if isinstance(model, BranchSend | Phrase | Throw):
        rest = [_kind_of(session, model, parts)]
    was, now = (worded(rule, _value(s, path)) for s in (before, after))
    if now == was == "its own":
        was, now = "", "changed"
    return Line(group, stage, " · ".join([*rest, label]), was, now, path, edits)


def _kind_of(session: Session, model: Any, parts: list[str]) -> str:
    """What a member of a list that is neither stage nor path is called."""
    if isinstance(model, BranchSend):
        return f"send to {next((r.name for r in session.returns if r.id == model.id), model.id)}"
    words = getattr(model, "words", "") or getattr(model, "name", "")
    parts = parts if getattr(model, "id", "") == parts[-1] else parts[:-1]
    kind = {"branches": "branch", "breaths": "breath"}.get(parts[-2], parts[-2].removesuffix("s"))
    return f"{kind} “{words}”" if words else kind


def _local_line(before: Session, after: Session, path: str, edits: tuple[Edit, ...]) -> Line:
    edit = edits[0]
    session = before if isinstance(edit, Remove) else after
    local: LocalValue = next(x for x in session.local_values if x.id == path.split("/")[1])
    names, model, field = names_to(session, local.path)
    rule = rule_of(model, field) if model is not None else None
    where = name_of_where(session, where_of(local))
    label = rule["label"].lower() if rule else field.replace("_", " ")
    group = names[0] if names else "Session"
    what = f"{label} in {where}"
    stage = names[1] if len(names) > 1 else ""
    if isinstance(edit, Insert):
        return Line(group, stage, what, "as the song", worded(rule, local.value), path, edits)
    if isinstance(edit, Remove):
        return Line(group, stage, what, worded(rule, local.value), "as the song", path, edits)
    if isinstance(edit, Move):
        return Line(group, stage, f"{what} moved", "", "", path, edits)
    setting = path.split("/")[2]
    if setting != "value":
        what = f"{what}, {setting.removesuffix('_ms').replace('_', ' ')}"
        rule = rule_of(local, setting)
    was, now = (worded(rule, _value(s, path)) for s in (before, after))
    return Line(group, stage, what, was, now, path, edits)


def _value(session: Session, path: str) -> Any:
    try:
        return walk(session, path)[-1].value
    except UnknownPlaceError:
        return None
