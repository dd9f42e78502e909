"""Lanes, returns and buses as a whole: what must be edited for one to go, to be there twice, or to be new."""

from typing import Any

from ..errors import MicLaneError
from .document import Bus, Lane, Return, Session
from .edits import Edit, Insert, Remove, Set, new_id
from .paths import find_path, name_of_path


def removal_edits(session: Session, name: str) -> list[Edit]:
    """What takes the path of that name away: with a return the sends to it; what fed a bus feeds the one after it."""
    path = find_path(session, name)
    found: list[Edit] = [Remove(path=path.base)]
    if isinstance(path.member, Return):
        found += [Remove(path=f"{place}/{path.member.id}") for place, _ in _sends_to(session, path.member.id)]
    if isinstance(path.member, Bus):
        if path.member.into is None:
            raise MicLaneError("the mix is where everything ends; it cannot be taken away")
        found += [Set(path=place, value=path.member.into) for place in _feeding(session, path.member.id)]
    return found


def copy_edits(session: Session, name: str) -> tuple[list[Edit], str]:
    """What puts a copy of a path beside it, and the copy's name among paths.

    A lane's has its take, a return's the same sends to it; nothing feeds a bus's.
    """
    path = find_path(session, name)
    member = path.member
    group = path.base.split("/")[0]
    known: tuple[Lane | Return | Bus, ...] = getattr(session, group)
    identifier = new_id({"lanes": "l", "returns": "r", "buses": "b"}[group])
    value = {
        **member.model_dump(mode="json"),
        "id": identifier,
        "name": free_name(member.name, [m.name for m in known]),
    }
    if isinstance(member, Bus) and member.into is None:
        raise MicLaneError("there is one mix only")
    if isinstance(member, Lane | Bus):
        value["solo"] = False
    if isinstance(member, Lane):
        _heard_by_itself(value["stages"], member.id, identifier)
    found: list[Edit] = [Insert(path=group, index=known.index(member) + 1, value=value)]
    if isinstance(member, Return):
        for place, send in _sends_to(session, member.id):
            found.append(Insert(path=place, index=99, value={**send, "id": identifier}))
    return found, name_of_path(group, identifier)


def bus_edits(session: Session, name: str, lanes: list[str]) -> tuple[list[Edit], str]:
    """What puts a bus between lanes and the bus that they feed (where they feed several, the mix), and its id."""
    fed = {session.lane(lane).bus for lane in lanes}
    into = fed.pop() if len(fed) == 1 else "mix"
    identifier = new_id("b")
    value = {"id": identifier, "name": free_name(name, [b.name for b in session.buses]), "into": into}
    found: list[Edit] = [Insert(path="buses", index=0, value=value)]
    return [*found, *(Set(path=f"lanes/{lane}/bus", value=identifier) for lane in lanes)], identifier


def free_name(name: str, taken: list[str]) -> str:
    """The name, with a number where it is taken already, at most 120 characters."""
    stem = name.rstrip("0123456789").rstrip() or name
    number, found = 2, name
    while found in taken:
        found, number = f"{stem[:115]} {number}", number + 1
    return found[:120]


def _sends_to(session: Session, identifier: str) -> list[tuple[str, dict[str, Any]]]:
    """The lists of sends in which one goes to a return, and that send."""
    found = []
    for lane in session.lanes:
        lists = [(f"lanes/{lane.id}/sends", lane.sends)]
        for stage in lane.stages:
            lists += [(f"lanes/{lane.id}/stages/{stage.id}/branches/{b.id}/sends", b.sends) for b in stage.forks()]
        found += [(place, s.model_dump(mode="json")) for place, sends in lists for s in sends if s.id == identifier]
    return found


def _feeding(session: Session, identifier: str) -> list[str]:
    """Where it is said that something feeds a bus."""
    found = [f"lanes/{x.id}/bus" for x in session.lanes if x.bus == identifier]
    found += [f"returns/{x.id}/bus" for x in session.returns if x.bus == identifier]
    return found + [f"buses/{x.id}/into" for x in session.buses if x.into == identifier]


def _heard_by_itself(tree: Any, before: str, after: str) -> None:
    """Stages that listen to their own lane listen to the copy's in the copy."""
    if isinstance(tree, list):
        for inner in tree:
            _heard_by_itself(inner, before, after)
    elif isinstance(tree, dict):
        if "tap" in tree and tree.get("lane") == before:
            tree["lane"] = after
        for inner in tree.values():
            _heard_by_itself(inner, before, after)
