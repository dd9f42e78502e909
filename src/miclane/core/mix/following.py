"""Lanes that follow another: its stages in its order, with a short list of differences of their own.

A follower's `stages` are what it sounds like, so nothing that renders or shows a lane need know that it follows. What
is changed on the lane that leads is set on its followers as a part of the same step, except where they differ; what is
changed on a follower becomes a difference of its own. `Lane.differs` names the settings that are its own by their
places below `stages`, and stages that the leader does not have by their ids.
"""

import copy
from dataclasses import dataclass
from typing import Any

from ..errors import UnusableChainError
from ..stages.base import OF_THE_TAKE, rule_of
from ..units import show_value
from .document import Lane, Session
from .edits import Edit, Move, Remove, Set
from .labels import names_to
from .places import walk

Tree = list[dict[str, Any]]


@dataclass(frozen=True)
class Difference:
    """Something of a follower that its leader has not, or has otherwise: place below its lane, names, both values."""

    path: str
    label: str
    own: str
    leads: str


def leader_of(session: Session, lane: Lane) -> Lane | None:
    """The lane that a lane follows, None where it follows none, or none that is there."""
    return next((x for x in session.lanes if x.id == lane.follows), None) if lane.follows else None


def followers_of(session: Session, lane: Lane) -> list[Lane]:
    """The lanes that follow one."""
    return [x for x in session.lanes if x.follows == lane.id]


def followed(leader: Lane, follower: Lane) -> Tree:
    """The stages, as plain data, that a follower has: the leader's, with its differences applied."""
    base, own = (_tree(x) for x in (leader, follower))
    known = {s["id"] for s in base}
    for stage in _flat(base):
        mine = next((s for s in _flat(own) if s["id"] == stage["id"] and s["kind"] == stage["kind"]), None)
        for name in OF_THE_TAKE:
            if isinstance(stage.get(name), list):
                stage[name] = copy.deepcopy(mine[name]) if mine else []
        if mine and mine.get("auto_makeup") and stage.get("auto_makeup"):
            stage["makeup_db"] = mine["makeup_db"]  # each is matched to its own take
    for path in follower.differs:
        value = _get(own, path)
        if value is not _NOTHING and _get(base, path) is not _NOTHING:
            _put(base, path, copy.deepcopy(value))
    before = ""
    for stage in own:
        if stage["id"] not in known and stage["id"] in follower.differs:
            at = next((k + 1 for k, s in enumerate(base) if s["id"] == before), 0)
            base.insert(at, copy.deepcopy(stage))
        before = stage["id"]
    return base


def following_edits(session: Session, edits: list[Edit]) -> list[Edit]:
    """What must be set because of edits that reach a lane that leads or follows, given the session after them.

    UnusableChainError, in words, for an edit that a follower cannot have.
    """
    found: list[Edit] = []
    for lane in session.lanes:
        base = f"lanes/{lane.id}"
        if not lane.follows:
            continue
        leader = leader_of(session, lane)
        if leader is None:
            found += [Set(path=f"{base}/follows", value=None), Set(path=f"{base}/differs", value=[])]
            continue
        begun = any(e.path in (f"{base}/follows", base) for e in edits)
        mine = [e for e in edits if e.path.startswith(f"{base}/stages")]
        theirs = any(e.path.startswith((f"lanes/{leader.id}/stages", f"{base}/differs")) for e in edits)
        if not (begun or mine or theirs):
            continue
        differs = [] if begun else _differs(leader, lane, mine)
        if mine and not begun:
            _check_order(leader, lane)
        wanted = followed(leader, lane.model_copy(update={"differs": tuple(differs)}))
        found += _ways(_tree(lane), wanted, f"{base}/stages")
        if differs != list(lane.differs):
            found.append(Set(path=f"{base}/differs", value=list(differs)))
    return found


def differences(session: Session, lane: Lane) -> list[Difference]:
    """All that a follower has of its own, in the order of its stages."""
    leader = leader_of(session, lane)
    if leader is None:
        return []
    theirs, base, told = _tree(leader), f"lanes/{lane.id}/stages", []
    for path in lane.differs:
        value, leads = _get(_tree(lane), path), _get(theirs, path)
        if value is _NOTHING or leads is _NOTHING:
            continue
        names, _, _ = names_to(session, f"{base}/{path}")
        label, own, other = _shown(session, f"{base}/{path}", value, leads)
        told.append(Difference(path, " · ".join([*names[1:], label]), own, other))
    for stage in lane.stages:
        if stage.id in lane.differs:
            told.append(Difference(stage.id, stage.label, "a stage of its own", "none"))
    order = [s.id for s in lane.stages]
    return sorted(told, key=lambda d: order.index(d.path.split("/")[0]) if d.path.split("/")[0] in order else 0)


def give_up_edits(session: Session, lane: Lane, path: str) -> list[Edit]:
    """What takes a difference back, so that the lane follows there again."""
    base = f"lanes/{lane.id}"
    if "/" not in path:
        return [Remove(path=f"{base}/stages/{path}")]
    return [Set(path=f"{base}/differs", value=[p for p in lane.differs if p != path])]


def own_edits(lane: Lane) -> list[Edit]:
    """What makes a lane its own: it sounds as it does, and follows no more."""
    return [Set(path=f"lanes/{lane.id}/follows", value=None), Set(path=f"lanes/{lane.id}/differs", value=[])]


def _shown(session: Session, path: str, own: Any, leads: Any) -> tuple[str, str, str]:
    last = walk(session, path)[-1]
    rule = rule_of(last.holder, last.field)
    if rule is None or not isinstance(own, int | float) or isinstance(own, bool):
        return last.field.replace("_", " "), _worded(own), _worded(leads)
    told = [" ".join(show_value(float(v), rule["unit"], rule["signed"])).strip() for v in (own, leads)]
    return rule["label"], told[0], told[1]


def _worded(value: Any) -> str:
    if isinstance(value, bool):
        return "on" if value else "off"
    return str(value) if isinstance(value, str | int | float) else "its own"


def _differs(leader: Lane, lane: Lane, mine: list[Edit]) -> list[str]:
    """The places that are a follower's own after edits of it."""
    theirs, own, base = _tree(leader), _tree(lane), f"lanes/{lane.id}/stages"
    known = {s["id"] for s in theirs}
    found = list(lane.differs)
    for edit in mine:
        path = edit.path.removeprefix(base).lstrip("/")
        if not path:  # the list itself: what is in it is its own
            found += [i for i in (s["id"] for s in own) if i not in known and i not in found]
            if isinstance(edit, Set):
                found += [p for p in _unlike(own, theirs) if p not in found]
            continue
        if path.split("/")[0] not in known:
            continue  # a stage of its own
        if isinstance(edit, Remove | Move):
            if "/" not in path:
                continue  # is looked at by its order
            path = path.rsplit("/", 1)[0]
        if not isinstance(edit, Set):
            path = _list_of(own, path)
        if _of_the_take(own, path):
            continue
        found = [p for p in found if p != path and not p.startswith(path + "/")]
        if not any(path.startswith(p + "/") for p in found):
            found.append(path)
    return [p for p in found if _get(own, p) is not _NOTHING and _get(own, p) != _get(theirs, p)]


def _of_the_take(tree: Tree, path: str) -> bool:
    parts = path.split("/")
    places = ("/".join(parts[: k + 1]) for k, part in enumerate(parts) if part in OF_THE_TAKE)
    return any(isinstance(_get(tree, place), list) for place in places)


def _unlike(own: Tree, theirs: Tree) -> list[str]:
    """Settings of stages that both have, and that are not alike."""
    leads = {s["id"]: s for s in theirs}
    return [
        f"{mine['id']}/{name}"
        for mine in own
        for name, value in mine.items()
        if mine["id"] in leads
        and not _of_the_take(own, f"{mine['id']}/{name}")
        and leads[mine["id"]].get(name, value) != value
    ]


def _list_of(tree: Tree, path: str) -> str:
    """The nearest place on the way to a path that is a list."""
    while path and not isinstance(_get(tree, path), list):
        path = path.rsplit("/", 1)[0] if "/" in path else ""
    return path


def _check_order(leader: Lane, lane: Lane) -> None:
    theirs = [s.id for s in leader.stages]
    mine = [s.id for s in lane.stages]
    for stage in leader.stages:
        if stage.id not in mine:
            raise UnusableChainError(
                f"“{lane.name}” follows “{leader.name}”, which has “{stage.label}”: switch it off here instead of"
                " taking it out, or make the lane its own"
            )
    if [i for i in mine if i in theirs] != theirs:
        raise UnusableChainError(
            f"“{lane.name}” follows “{leader.name}” and has its stages in that order: move them there, or make the"
            " lane its own"
        )


def _ways(now: Tree, wanted: Tree, base: str) -> list[Edit]:
    """The edits that make the one tree the other: single settings where nothing was put in, taken out or moved."""
    if now == wanted:
        return []
    if [(s["id"], s["kind"]) for s in now] != [(s["id"], s["kind"]) for s in wanted]:
        return [Set(path=base, value=wanted)]
    found: list[Edit] = []
    for old, new in zip(now, wanted, strict=True):
        for name, value in new.items():
            if old.get(name) == value:
                continue
            if name == "branches" and _ids(old[name]) == _ids(value):
                for a, b in zip(old[name], value, strict=True):
                    place = f"{base}/{new['id']}/branches/{b['id']}"
                    found += _ways(a["stages"], b["stages"], f"{place}/stages")
                    found += [Set(path=f"{place}/{k}", value=v) for k, v in b.items() if k != "stages" and a[k] != v]
            elif name == "bands" and len(old[name]) == len(value):
                for k, (a, b) in enumerate(zip(old[name], value, strict=True)):
                    changed = {f: v for f, v in b.items() if a.get(f) != v}
                    found += [Set(path=f"{base}/{new['id']}/bands/{k}/{f}", value=v) for f, v in changed.items()]
            else:
                found.append(Set(path=f"{base}/{new['id']}/{name}", value=value))
    return found


def _ids(members: list[Any]) -> list[Any]:
    return [m.get("id") if isinstance(m, dict) else None for m in members]


def _tree(lane: Lane) -> Tree:
    return [s.model_dump(mode="json") for s in lane.stages]


def _flat(tree: Tree) -> Tree:
    found = []
    for stage in tree:
        found.append(stage)
        for branch in stage.get("branches", ()):
            found += branch["stages"]
    return found


_NOTHING = object()


def _get(tree: Any, path: str) -> Any:
    at = tree
    for part in path.split("/"):
        if isinstance(at, list):
            named = next((m for m in at if isinstance(m, dict) and m.get("id") == part), _NOTHING)
            at = at[int(part)] if _number(at, part) else named
        elif isinstance(at, dict) and part in at:
            at = at[part]
        else:
            return _NOTHING
        if at is _NOTHING:
            return _NOTHING
    return at


def _number(members: list[Any], part: str) -> bool:
    if not part.isdecimal() or len(part) > 6 or int(part) >= len(members):
        return False
    member = members[int(part)]
    return not (isinstance(member, dict) and member.get("id"))


def _put(tree: Any, path: str, value: Any) -> None:
    base, _, name = path.rpartition("/")
    parent = _get(tree, base) if base else tree
    if isinstance(parent, dict):
        parent[name] = value
    elif isinstance(parent, list):
        index = int(name) if _number(parent, name) else next(i for i, m in enumerate(parent) if m.get("id") == name)
        parent[index] = value
