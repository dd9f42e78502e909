"""What can be printed: places of the graph by names that people and addresses use."""

from dataclasses import dataclass

from .engine.builder import Builder
from .engine.graph import Graph
from .errors import UnusableChainError
from .mix.document import Bus, Lane, Return, Session

_LANE_ENDS = {"lane": ("out", ""), "wet": ("wet", ", with its returns"), "raw": ("raw", ", raw")}


@dataclass(frozen=True)
class Target:
    """What one name means: `end` is `out`, of a lane also `raw` (the take as it came) or `wet` (with its returns)."""

    kind: str
    member: Lane | Return | Bus
    end: str
    title: str

    @property
    def place(self) -> str:
        """Where it is in the graph; what is wet has one of its own."""
        return f"{self.kind}:{self.member.id}:{self.end}"


def find_target(session: Session, name: str) -> Target:
    """What a name means: `mix`, `vocals`, `lane:ID`, `wet:ID`, `raw:ID`, `return:ID`, `bus:ID`.

    UnusableChainError when the session has none of that name, or a lane has no take to print raw.
    """
    kind, _, identifier = name.partition(":")
    if name in ("mix", "vocals"):
        kind, identifier = "bus", name
    end, more = _LANE_ENDS.get(kind, ("out", ""))
    group = "lane" if kind in _LANE_ENDS else kind
    member = next((x for x in members(session, group) if x.id == identifier), None)
    if member is None:
        raise UnusableChainError(f"there is nothing called “{name}” to print")
    if end == "raw" and isinstance(member, Lane) and member.sound is None:
        raise UnusableChainError(f"there is no take on “{member.name}” to print")
    return Target(group, member, end, member.name + more)


def members(session: Session, kind: str) -> tuple[Lane | Return | Bus, ...]:
    """All lanes, returns or buses; none for another kind."""
    return {"lane": session.lanes, "return": session.returns, "bus": session.buses}.get(kind, ())  # type: ignore[return-value]


def buses_after(session: Session, target: str) -> list[Bus]:
    """The buses that a target goes through on its way to the mix, in order."""
    member = find_target(session, target).member
    return session.buses_from(member.into if isinstance(member, Bus) else member.bus)


def left_out(session: Session, target: str) -> list[str]:
    """What a stem does not go through on its way to the mix, since it does not act on each part by itself."""
    return [
        f"{stage.label} of {bus.name}"
        for bus in buses_after(session, target)
        for stage in bus.stages
        if stage.on and not stage.linear
    ]


def nodes_of(session: Session, names: tuple[str, ...], stems: bool) -> tuple[Graph, list[str]]:
    """The graph of a session, and the node of each target; as `stems` each as it comes out of the mix.

    UnusableChainError where something is to be a stem that is no part of the mix by itself.
    """
    builder = Builder(session)
    graph = builder.build()
    keys = []
    for name in names:
        target = find_target(session, name)
        if stems and target.end != "out":
            raise UnusableChainError(f"“{target.title}” is no stem: what is in it is in others, too, or is not mixed")
        if target.end == "wet":
            other = Builder(_wet(session, target.member.id)).build()
            for node in other.nodes.values():
                graph.add(node)
            keys.append(other.places["bus:mix:out"])
        elif stems and (way := buses_after(session, name)):
            keys.append(builder.stem(target.place, way[0].id))
        else:
            keys.append(graph.places[target.place])
    return graph, keys


def _wet(session: Session, lane_id: str) -> Session:
    """The session with one lane alone, its returns, and buses that do nothing: all others are heard by keys alone."""
    lanes = tuple(
        x.model_copy(update={"solo": x.id == lane_id, "mute": x.mute and x.id != lane_id}) for x in session.lanes
    )
    plain = {"stages": (), "handles": (), "fader_db": 0.0, "mute": False, "solo": False}
    buses = tuple(b.model_copy(update=plain) for b in session.buses)
    local = tuple(v for v in session.local_values if not v.path.startswith("buses/"))
    return session.model_copy(update={"lanes": lanes, "buses": buses, "local_values": local})
