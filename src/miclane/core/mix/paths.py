"""Whatever has a route: a lane, a return, a bus; how each is named, where it stands in the session and in the graph."""

from dataclasses import dataclass

from ..errors import UnknownPlaceError
from ..stages.base import Stage
from ..stages.flat import flat_stages
from .document import Bus, Lane, Return, Session, Sound


@dataclass(frozen=True)
class Path:
    """`name` in addresses (`lead`, `return:plate`, `bus:vocals`), `place` in the graph, `base` in the session.

    `timed_by` is the lane whose phrases it is looked at by: a lane's own; of a return or bus the first that is sung
    into it, else the lead; None in a session without voices.
    """

    member: Lane | Return | Bus
    name: str
    place: str
    base: str
    timed_by: Lane | None

    @property
    def is_lane(self) -> bool:
        """Whether it begins with a take."""
        return isinstance(self.member, Lane)

    @property
    def role(self) -> str:
        """`lead`, `backing` or `music` of a lane; `return`; `bus`."""
        return self.member.role if isinstance(self.member, Lane) else self.place.split(":")[0]

    @property
    def sung(self) -> bool:
        """Whether it is a lane of a voice."""
        return self.role in ("lead", "backing")

    @property
    def lane(self) -> Lane:
        """The lane itself; UnknownPlaceError of a return or bus."""
        if not isinstance(self.member, Lane):
            raise UnknownPlaceError(f"“{self.member.name}” is not a lane")
        return self.member

    @property
    def sound(self) -> Sound | None:
        """The take, where there is one."""
        return self.member.sound if isinstance(self.member, Lane) else None


def place_of(name: str) -> str:
    """Where a path of that name stands in the graph."""
    return name if ":" in name else f"lane:{name}"


def name_of_path(group: str, identifier: str) -> str:
    """What the member of `lanes`, `returns` or `buses` with that id is called as a path."""
    return {"returns": "return:", "buses": "bus:"}.get(group, "") + identifier


def path_names(session: Session) -> list[str]:
    """Names of all there are: lanes, returns, buses."""
    return [name_of_path(group, m.id) for group in ("lanes", "returns", "buses") for m in getattr(session, group)]


def find_path(session: Session, name: str) -> Path:
    """The path of that name; UnknownPlaceError when there is none."""
    kind, _, identifier = name.rpartition(":")
    lists: dict[str, tuple[Lane | Return | Bus, ...]] = {
        "": session.lanes,
        "lane": session.lanes,
        "return": session.returns,
        "bus": session.buses,
    }
    member = next((m for m in lists.get(kind, ()) if m.id == identifier), None)
    if member is None:
        raise UnknownPlaceError(f"there is no {kind or 'lane'} “{identifier}” in “{session.name}”")
    if isinstance(member, Lane):
        return Path(member, member.id, place_of(member.id), f"lanes/{member.id}", member)
    base = "returns" if isinstance(member, Return) else "buses"
    return Path(member, name, place_of(name), f"{base}/{member.id}", _sung_into(session, member))


def placed_stages(path: Path) -> list[tuple[Stage, str]]:
    """All stages of a path, those inside splits after their split, each with its place in the session."""
    found: list[tuple[Stage, str]] = []
    for stage in path.member.stages:
        place = f"{path.base}/stages/{stage.id}"
        found.append((stage, place))
        for branch in stage.forks():
            found += [(s, f"{place}/branches/{branch.id}/stages/{s.id}") for s in flat_stages(branch.stages)]
    return found


def find_stage(path: Path, stage_id: str) -> tuple[Stage, str]:
    """A stage of a path and where it is in the session; UnknownPlaceError when there is none of that id."""
    for stage, place in placed_stages(path):
        if stage.id == stage_id:
            return stage, place
    raise UnknownPlaceError(f"there is no stage “{stage_id}” on “{path.member.name}”")


def _sung_into(session: Session, member: Return | Bus) -> Lane | None:
    voices = [x for x in session.lanes if x.role != "music"]
    into = {bus.id: bus.into for bus in session.buses}

    def feeds(lane: Lane) -> bool:
        if isinstance(member, Return):
            return any(s.id == member.id for s in lane.sends)
        at: str | None = lane.bus
        while at is not None and at != member.id:
            at = into[at]
        return at is not None

    lead = next((x for x in voices if x.role == "lead"), None)
    return next((x for x in voices if feeds(x)), None) or lead or next(iter(voices), None)
