"""What is decided about a take's phrases: where they are, how loud each is to be, how a ride goes along them."""

from ..core.errors import UnknownPlaceError
from ..core.measure.phrases import Span
from ..core.measure.prepare import phrases_and_breaths
from ..core.measure.ride import ride_points
from ..core.mix.document import Lane
from ..core.mix.edits import Edit, Set
from ..core.stages.ride import Ride
from ..core.stages.trim import Trim
from ..store.state import State
from .studio import Studio

_SUNG_LUFS, _MOST_DB = -70.0, 24.0


def phrases_anew(studio: Studio, lane: Lane, rate: int) -> list[Edit]:
    """Phrases and breaths found anew; those that are where one was keep its words, section and trim."""
    if lane.sound is None:
        raise UnknownPlaceError(f"“{lane.name}” has no take")
    fresh, breaths = phrases_and_breaths(studio.sounds.middle(lane.sound.digest, rate), rate)
    kept = []
    for k, p in enumerate(fresh, 1):
        old = max(lane.phrases, key=lambda o: min(o.end, p.end) - max(o.start, p.start), default=None)
        known = old and min(old.end, p.end) - max(old.start, p.start) > 0.5 * (p.end - p.start)
        same = {"words": old.words, "section": old.section, "trim_db": old.trim_db} if old and known else {}
        kept.append({**p.model_dump(), "id": f"p{k}", **same})
    return [
        Set(path=f"lanes/{lane.id}/phrases", value=kept),
        Set(path=f"lanes/{lane.id}/breaths", value=[b.model_dump() for b in breaths]),
    ]


def trim_edits(studio: Studio, lane: Lane, rate: int, stage_id: str, share: float, section: str = "") -> list[Edit]:
    """Trims that bring the phrases (of a section) a share of the way to the trim stage's target."""
    stage = next((s for s in lane.stages if s.id == stage_id), None)
    if not isinstance(stage, Trim):
        raise UnknownPlaceError(f"there is no trim “{stage_id}” on “{lane.name}”")
    target = stage.target_lufs - stage.gain_db
    return [
        Set(
            path=f"lanes/{lane.id}/phrases/{p.id}/trim_db",
            value=round(min(_MOST_DB, max(-_MOST_DB, share * (target - v))), 1),
        )
        for p, v in zip(lane.phrases, studio.takes.phrase_loudness(lane, rate), strict=True)
        if v > _SUNG_LUFS and (not section or p.section == section)
    ]


def ride_edits(studio: Studio, state: State, lane: Lane, stage_id: str, clear: bool) -> list[Edit]:
    """What draws a ride from what comes into it now; points drawn by hand stay, unless `clear`."""
    ride = next((s for s in lane.stages if s.id == stage_id), None)
    if not isinstance(ride, Ride) or lane.sound is None:
        raise UnknownPlaceError(f"there is no ride “{stage_id}” on “{lane.name}”")
    graph = studio.graph(state)
    power = studio.takes.power_before(graph, lane, stage_id, studio.renderer(graph.rate))
    ride = ride.model_copy(update={"points": ()}) if clear else ride
    spans = [Span(p.start, p.end) for p in lane.phrases] or [Span(0, lane.sound.frames)]
    points = [p.model_dump() for p in ride_points(power, spans, state.session.rate, ride)]
    return [Set(path=f"lanes/{lane.id}/stages/{stage_id}/points", value=points)]
