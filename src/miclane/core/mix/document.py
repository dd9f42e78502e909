"""One song's vocal mix as an immutable document."""

from typing import Annotated, Any, Literal, Union

from pydantic import Field, model_validator

from ..same import once_each
from ..stages.base import Key, Settings, Stage, load_kinds, no_twins, rule
from ..stages.flat import branches_of, files_of, not_its_own, treated_keys
from ..stages.split import Send
from ..units import SILENT_DB
from .handle import MOST, Handle, Identifier

load_kinds()
_kinds: Any = tuple(cls for _, cls in sorted(Stage.kinds.items()))
AnyStage = Annotated[Union[_kinds], Field(discriminator="kind")]  # noqa: UP007  (made from the registry)
Stages = Annotated[tuple[AnyStage, ...], Field(max_length=64)]
Handles = Annotated[tuple[Handle, ...], Field(max_length=MOST)]
Rate = Literal[44100, 48000, 88200, 96000]


class Phrase(Settings):
    """A stretch of singing between silences, in frames of the session's rate."""

    id: Identifier
    start: int = Field(ge=0)
    end: int = Field(gt=0)
    words: str = Field("", max_length=400)
    section: str = Field("", max_length=60)
    trim_db: float = rule(0.0, "Trim", "dB", -24, 24, usual=(-6, 6))


class Breath(Settings):
    """An intake of breath, in frames of the session's rate, with the gain that a gate leaves it."""

    id: Identifier
    start: int = Field(ge=0)
    end: int = Field(gt=0)
    gain_db: float = rule(0.0, "Breath", "dB", -60, 12, usual=(-12, 0))


class Stretch(Settings):
    """A stretch of a lane, in frames of the session's rate."""

    id: Identifier
    start: int = Field(ge=0)
    end: int = Field(gt=0)


class Sound(Settings):
    """The file a lane plays: its content hash and what it holds at the session's rate."""

    digest: str = Field(pattern=r"^[0-9a-f]{64}$")
    file_name: str = Field("", max_length=300)
    channels: int = Field(ge=1, le=2)
    frames: int = Field(ge=1)


Stretches = tuple[Phrase | Breath | Stretch, ...]


def _check_order(lane: str, what: str, members: Stretches) -> None:
    if (fault := _out_of_order(members)) is None:
        return
    number, is_so = fault
    raise ValueError(f"{what} {number} of “{lane}” {is_so}" if number else f"two {what}s of “{lane}” have the same id")


@once_each(2048)
def _out_of_order(members: Stretches) -> tuple[int, str] | None:
    """The first of these that stands where it must not, counted from 1, and how; 0 where two have the same id."""
    last = 0
    for k, member in enumerate(members, 1):
        if member.end <= member.start:
            return k, "ends before it begins"
        if member.start < last:
            return k, "begins before the one before it ends"
        last = member.end
    return (0, "") if len({m.id for m in members}) < len(members) else None


class Lane(Settings):
    """One vocal part, or one stem of the music, from take to bus. A send's id is its return's."""

    id: Identifier
    name: str = Field(max_length=120)
    note: str = Field("", max_length=200)
    role: Literal["lead", "backing", "music"] = "lead"
    sound: Sound | None = None
    stages: Stages = ()
    handles: Handles = ()
    fader_db: float = rule(0.0, "Fader", "dB", SILENT_DB, 12, usual=(-12, 0), off=SILENT_DB)
    pan: float = rule(0.0, "Pan", "pan", -1, 1, step=0.01)
    mute: bool = False
    solo: bool = False
    bus: Identifier = "mix"
    sends: tuple[Send, ...] = Field((), max_length=32)
    phrases: tuple[Phrase, ...] = Field((), max_length=2000)
    breaths: tuple[Breath, ...] = Field((), max_length=4000)
    apart: tuple[Stretch, ...] = Field((), max_length=8000)
    follows: Identifier | None = None  # the lane whose stages it has (core.mix.following)
    differs: tuple[str, ...] = Field((), max_length=2000)  # places below `stages` that are its own all the same

    @model_validator(mode="after")
    def _phrases_follow_one_another(self) -> "Lane":
        no_twins(self.sends, f"sends of “{self.name}” go to the return")
        _check_order(self.name, "phrase", self.phrases)
        _check_order(self.name, "breath", self.breaths)
        _check_order(self.name, "sibilant apart", self.apart)
        return self


class Return(Settings):
    """A shared effect path."""

    id: Identifier
    name: str = Field(max_length=120)
    stages: Stages = ()
    handles: Handles = ()
    fader_db: float = rule(0.0, "Fader", "dB", SILENT_DB, 12, usual=(-12, 0), off=SILENT_DB)
    mute: bool = False
    bus: Identifier = "mix"

    @property
    def on_space(self) -> bool:
        """Whether it is a space: it has an effect, or is held down; else it is a branch that lanes share."""
        return any(s.effect or s.ducks for s in self.stages)


class Bus(Settings):
    """A sum with stages that feeds another bus; the mix feeds none."""

    id: Identifier
    name: str = Field(max_length=120)
    stages: Stages = ()
    handles: Handles = ()
    fader_db: float = rule(0.0, "Fader", "dB", SILENT_DB, 12, usual=(-12, 0), off=SILENT_DB)
    mute: bool = False
    solo: bool = False  # what feeds it is heard alone
    into: Identifier | None = "mix"


def usual_buses() -> tuple[Bus, ...]:
    """Lead and backings into vocals, vocals and music into the mix."""
    return (
        Bus(id="lead", name="Lead bus", into="vocals"),
        Bus(id="backings", name="Backings", into="vocals"),
        Bus(id="vocals", name="Vocals", into="mix"),
        Bus(id="music", name="Music", into="mix"),
        Bus(id="mix", name="Mix", into=None),
    )


class LocalValue(Settings):
    """Another value of a setting in all sections of a name, or in some phrases of one lane (see core.mix.sections).

    `path` as of an edit. Where it begins and ends it gives way in the gap between phrases: `begins_ms` and `ends_ms`
    move the middles of that, and a ramp that is not 0 is how long it takes.
    """

    id: Identifier
    path: str = Field(min_length=1, max_length=400)
    value: Any = None
    section: str = Field("", max_length=60)
    lane: str = Field("", max_length=40)
    phrases: tuple[Identifier, ...] = Field((), max_length=200)
    begins_ms: float = rule(0.0, "Begins", "ms", -60_000, 60_000, usual=(-500, 500))
    ends_ms: float = rule(0.0, "Ends", "ms", -60_000, 60_000, usual=(-500, 500))
    ramp_in_ms: float = rule(0.0, "Ramp in", "ms", 0, 30_000, usual=(30, 1000), off=0.0)
    ramp_out_ms: float = rule(0.0, "Ramp out", "ms", 0, 30_000, usual=(30, 1000), off=0.0)

    @model_validator(mode="after")
    def _is_somewhere(self) -> "LocalValue":
        if bool(self.section) == bool(self.phrases) or bool(self.phrases) != bool(self.lane):
            raise ValueError(f"“{self.id}” must name a section, or a lane and phrases of it")
        return self


class Alternative(Settings):
    """Another way of a part of the mix (see core.mix.alternatives): `edits` of the one `beneath`, else of the session.

    `scope` is what it is of: the path of a stage, lane, return or bus; "" of the whole mix.
    """

    id: Identifier
    name: str = Field(min_length=1, max_length=60)
    scope: str = Field("", max_length=400)
    beneath: Identifier | None = None
    edits: tuple[Any, ...] = Field((), max_length=2000)


class Session(Settings):
    """Everything about a song's vocal mix but the sound itself."""

    format: Literal["mic-lane/session"] = "mic-lane/session"
    version: Literal[6] = 6
    name: str = Field(min_length=1, max_length=200)
    rate: Rate = 48000
    tempo_bpm: float = rule(92.0, "Tempo", "bpm", 20, 400)
    key: str = Field("", max_length=40)
    listening_db_spl: float = rule(73.0, "Listened to at", "dB SPL", 40, 100, usual=(65, 80), step=1)  # at −20 LUFS
    lanes: tuple[Lane, ...] = Field((), max_length=128)
    returns: tuple[Return, ...] = Field((), max_length=32)
    buses: tuple[Bus, ...] = Field(default_factory=usual_buses, max_length=32)
    local_values: tuple[LocalValue, ...] = Field((), max_length=400)
    alternatives: tuple[Alternative, ...] = Field((), max_length=8)

    @property
    def paths(self) -> tuple["Lane | Return | Bus", ...]:
        """Everything that has stages."""
        return (*self.lanes, *self.returns, *self.buses)

    @model_validator(mode="after")
    def _hangs_together(self) -> "Session":
        lanes, returns = [x.id for x in self.lanes], [x.id for x in self.returns]
        buses = {x.id: x.into for x in self.buses}
        for what, ids in (("lane", lanes), ("return", returns), ("bus", [x.id for x in self.buses])):
            for i in ids:
                if ids.count(i) > 1:
                    raise ValueError(f"two things are called {what} “{i}”")
        if buses.get("mix", "") is not None:
            raise ValueError("there must be a bus “mix” that feeds no other")
        for bus in self.buses:
            at, seen = bus.id, set()
            while at != "mix":
                if at in seen:
                    raise ValueError(f"bus “{bus.id}” feeds itself")
                seen.add(at)
                into = buses.get(at)
                if into is None or into not in buses:
                    raise ValueError(f"bus “{at}” feeds “{into}”, which is not there")
                at = into
        feeding: list[Lane | Return] = [*self.lanes, *self.returns]
        for path in feeding:
            if path.bus not in buses:
                raise ValueError(f"“{path.id}” feeds bus “{path.bus}”, which is not there")
        for lane in self.lanes:
            for send in lane.sends:
                if send.id not in returns:
                    raise ValueError(f"lane “{lane.id}” sends to “{send.id}”, which is not there")
        for member in self.paths:
            for branch in branches_of(member.stages):
                if any(send.id not in returns for send in branch.sends):
                    raise ValueError(f"“{branch.name}” of “{member.id}” sends to a return that is not there")
                if branch.sends and not isinstance(member, Lane):
                    raise ValueError(f"“{branch.name}” of “{member.id}” cannot send: only a lane's branches can")
        no_twins(self.local_values, "local values are called")
        no_twins(self.alternatives, "alternatives are called")
        self._keys_do_not_run_in_circles()
        self._followers_do_not_lead()
        for member in self.paths:
            no_twins(member.handles, f"handles of “{member.name}” are called")
            if (named := not_its_own(member.stages)) is not None:
                raise ValueError(f"stages of “{member.id}” need ids of their own; “{named}” is not")
        return self

    def _followers_do_not_lead(self) -> None:
        by_id = {x.id: x for x in self.lanes}
        for lane in self.lanes:
            leader = by_id.get(lane.follows or "")
            if leader is lane:
                raise ValueError(f"“{lane.name}” cannot follow itself")
            if leader is not None and leader.follows:
                raise ValueError(
                    f"“{lane.name}” cannot follow “{leader.name}”, which itself follows another lane: follow that one"
                )

    def _keys_do_not_run_in_circles(self) -> None:
        """A lane that listens to another's treated sound must not, by any way, be listened to by it.

        (A stage keyed by its own lane hears what comes into it.)
        """
        hears = {lane.id: self.hears(lane.stages) - {lane.id} for lane in self.lanes}
        done: set[str] = set()
        for start in hears:
            stack: list[tuple[str, tuple[str, ...]]] = [(start, (start,))]
            while stack:
                at, way = stack.pop()
                for other in hears.get(at, ()):
                    if other in way:
                        names = {lane.id: lane.name for lane in self.lanes}
                        raise ValueError(
                            f"“{names[at]}” and “{names[other]}” would listen to one another; key from raw"
                        )
                    if other not in done:
                        stack.append((other, (*way, other)))
            done.add(start)

    @property
    def hushed(self) -> frozenset[str]:
        """Lanes that are not heard since others, or buses that they do not feed, are on solo."""
        alone = {bus.id for bus in self.buses if bus.solo}
        if not alone and not any(lane.solo for lane in self.lanes):
            return frozenset()
        return frozenset(
            x.id for x in self.lanes if not x.solo and not alone.intersection(b.id for b in self.buses_from(x.bus))
        )

    def buses_from(self, identifier: str | None) -> list[Bus]:
        """The bus of that id, the one it feeds, and so on to the mix."""
        known = {bus.id: bus for bus in self.buses}
        found: list[Bus] = []
        while identifier is not None:
            found.append(known[identifier])
            identifier = known[identifier].into
        return found

    def meant_by(self, key: Key) -> list[str]:
        """Ids of the lanes that a key means: the one it names, or all that feed the bus it names."""
        if not key.lane.startswith("bus:"):
            return [key.lane]
        bus = key.lane.removeprefix("bus:")
        return [x.id for x in self.lanes if bus in {b.id for b in self.buses_from(x.bus)}]

    def hears(self, stages: tuple[Stage, ...]) -> set[str]:
        """Lanes whose treated sound these stages listen to."""
        return {lane for key in treated_keys(stages) for lane in self.meant_by(key)}

    @property
    def frames(self) -> int:
        """Length of the longest sound."""
        return max((lane.sound.frames for lane in self.lanes if lane.sound), default=0)

    def lane(self, identifier: str) -> Lane:
        """Lane by id; KeyError when there is none."""
        return {x.id: x for x in self.lanes}[identifier]


def sounds_of(session: Session) -> dict[str, str]:
    """Content hashes of all files a session needs, each with what needs it."""
    found = {lane.sound.digest: f"lane “{lane.name}”" for lane in session.lanes if lane.sound}
    for member in session.paths:
        found |= {digest: f"“{label}” of “{member.name}”" for digest, label in files_of(member.stages)}
    return found
