"""Where the passes of a session stand, measured of the sound as it is now."""

from dataclasses import dataclass

from ..core.engine.giving_way import Cancel
from ..core.measure.pocket import WANTED
from ..core.measure.take import Take
from ..core.mix.document import Lane
from ..core.mix.voices import voices_of
from ..core.passes.aims import Aim, trails
from ..core.passes.order import PassId
from ..core.passes.trail import Rise, Trail
from ..store.state import State
from .fitting import clarity_along, fit_of, mean_clarity
from .studio import Studio

RETURNS_COST, BACKINGS_COST = 0.01, 0.03  # of the lead's clarity


@dataclass(frozen=True)
class Place:
    """Where a value was measured: after a stage of a path, or with a path in the mix; its name on the screen."""

    name: str
    path: str
    stage: str = ""


@dataclass(frozen=True)
class Aimed:
    """What a pass sets out to mend, its values from the beginning on, and the places after which they were measured."""

    aim: Aim
    trail: Trail
    places: tuple[Place, ...]

    def place_of(self, rise: Rise) -> Place:
        """What brought a rise about."""
        return self.places[rise.place]

    @property
    def by(self) -> tuple[tuple[Place, float], ...]:
        """What brought it back, and by how much, the most first."""
        return tuple((self.place_of(r), r.by) for r in self.trail.rises)


def passes_of_lane(studio: Studio, state: State, lane: Lane, cancel: Cancel | None = None) -> list[Aimed]:
    """Measure a lane raw and after each of its stages; what was measured before of the same sound is not again."""
    if not _measured(lane):
        return []
    graph = studio.graph(state)
    return _aimed(lane, studio.takes.along(graph, lane, studio.renderer(graph.rate), cancel or studio.newest(state)))


def known_of_lane(studio: Studio, state: State, lane: Lane) -> list[Aimed] | None:
    """The same where all of it has been measured already, else None."""
    if not _measured(lane):
        return []
    takes = studio.takes.along_known(studio.graph(state), lane)
    return None if takes is None else _aimed(lane, takes)


def _measured(lane: Lane) -> bool:
    return lane.sound is not None and lane.role != "music"


def _aimed(lane: Lane, takes: list[Take]) -> list[Aimed]:
    stages = [s for s in lane.stages if s.on]
    prepared = next((k for k, s in enumerate(stages) if not s.prepares), len(stages))
    places = (Place("raw", lane.id, "take"), *(Place(s.label, lane.id, s.id) for s in stages))
    return [Aimed(aim, trail, places) for aim, trail in trails(takes, lane.role, prepared)]


def passes_of_song(studio: Studio, state: State, cancel: Cancel | None = None) -> list[Aimed]:
    """The passes that are of all lanes together: what backings and returns cost the lead's clarity, and that itself."""
    lead = next(iter(voices_of(state.session, "")), None)
    if lead is None:
        return []
    cancel = cancel or studio.newest(state)

    def measure() -> list[Aimed]:
        first, last = 0, state.session.frames
        along = clarity_along(studio, state, "", first, last, cancel)
        if not along:
            return []
        names = {x.id: x.name for x in state.session.lanes} | {f"return:{r.id}": r.name for r in state.session.returns}
        split = next((k for k, (name, _) in enumerate(along) if name.startswith("return:")), len(along))
        found = [
            _cost("backings", "Clarity lost to the backings", BACKINGS_COST, along[:split], names),
            _cost("space", "Clarity lost to the returns", RETURNS_COST, along[max(0, split - 1) :], names),
        ]
        fitted = fit_of(studio, state, "", first, last)
        before = mean_clarity([s.before for s in fitted.phrases])
        if fitted.clarity is not None and before is not None:
            aim = Aim("clarity", "fit", "Clarity short of what is followed", "clarity", "clarity", 0.0, 0.01)
            trail = Trail((WANTED - before, WANTED - fitted.clarity), aim.good, aim.margin)
            found.append(Aimed(aim, trail, (Place("raw", lead.id, "take"), Place("as it is", lead.id))))
        return found

    found: list[Aimed] = studio.songs.get((state.seen_name, state.version), measure, cancel.check)
    return found


def known_of_song(studio: Studio, state: State) -> list[Aimed] | None:
    """The same where it has been measured already, else None."""
    found: list[Aimed] | None = studio.songs.held((state.seen_name, state.version))
    return found


def _cost(of: PassId, name: str, good: float, along: list[tuple[str, float]], names: dict[str, str]) -> Aimed:
    aim = Aim("clarity", of, name, "clarity", "clarity", good, good)
    trail = Trail(tuple(along[0][1] - clear for _, clear in along), good, good)
    places = tuple(Place(names.get(name, name), name) for name, _ in along)
    return Aimed(aim, trail, (Place("without", ""), *places[1:]))
