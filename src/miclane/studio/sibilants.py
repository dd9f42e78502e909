"""Sibilants and plosives of a lane, and what is decided about them: where to begin, what goes a path of its own."""

from collections.abc import Sequence
from typing import Any, Literal

import numpy as np

from ..core.errors import NothingThereError, UnknownPlaceError
from ..core.measure.events import SHARP, Sibilant, find_sibilants
from ..core.measure.sibilance import balance_db, deess_back, deess_start, plosive_start
from ..core.mix.document import Lane
from ..core.mix.edits import Edit, Insert, Remove, Set, new_id
from ..core.mix.paths import Path, find_stage
from ..core.stages.apart import Apart
from ..core.stages.deess import Balanced, Deess
from ..core.units import SILENT_DB
from ..store.state import State
from .graphs import Hear
from .inputs import coming_in, phrases_in
from .looking import path_range, sound_of
from .studio import Studio

Loop = tuple[int, int]


def sibilants_in(studio: Studio, lane: Lane, rate: int, first: int, last: int) -> list[Sibilant]:
    """Sibilants of a lane's raw take that reach into [first, last)."""
    if lane.sound is None or lane.role == "music":
        return []
    listed = studio.takes.sibilants(lane.sound, rate)
    return [Sibilant(**e) for e in listed if e["end"] > first and e["start"] < last]


def events_of(studio: Studio, path: Path, rate: int, low: bool, raw: np.ndarray, first: int) -> list[dict[str, Any]]:
    """Events of a lane's take; of a return or bus those of what comes into it in the loop."""
    if path.is_lane:
        if low:
            return studio.takes.plosives(path.lane, rate)
        return list(studio.takes.sibilants(path.sound, rate)) if path.sound else []
    if low:
        return []
    found = find_sibilants(raw, rate)
    return [
        {
            "start": e.start + first,
            "end": e.end + first,
            "centre_hz": round(e.centre_hz),
            "excess_db": round(e.excess_db, 1),
            "kind": e.kind,
        }
        for e in found
    ]


def balanced_stage(path: Path, stage_id: str) -> Balanced:
    """A stage that listens for sibilants or plosives; UnknownPlaceError for another."""
    stage, _ = find_stage(path, stage_id)
    if not isinstance(stage, Balanced):
        raise UnknownPlaceError(f"“{stage.label}” listens for neither sibilants nor plosives")
    return stage


def within(events: list[Sibilant], first: int, last: int) -> list[Sibilant]:
    """Sharp sibilants with their places counted from the first frame of a loop, cut to it."""
    return [
        Sibilant(max(e.start, first) - first, min(e.end, last) - first, e.centre_hz, e.excess_db, e.kind)
        for e in events
        if e.kind in SHARP
    ]


def begin_edits(studio: Studio, state: State, path: Path, stage_id: str, loop: Loop) -> list[Edit]:
    """What sets a de-esser or plosive stage from what comes into it: over the whole take, elsewhere over the loop.

    NothingThereError where nothing stands out.
    """
    stage, rate = balanced_stage(path, stage_id), state.session.rate
    audio = coming_in(studio, state, path, stage_id, loop)
    if isinstance(stage, Deess):
        found, none = deess_start(audio, rate), "no sibilant stands out of the voice here: there is nothing to tame"
    else:
        sound = path.sound or (path.timed_by.sound if path.timed_by else None)
        lowest = studio.takes.lowest_hz(sound, rate) if sound else 0.0
        found = plosive_start(audio, rate, phrases_in(path, loop), lowest)
        none = "no burst of air was found here: there is nothing to tame"
    return _set(path, stage_id, found, none)


def back_edits(studio: Studio, state: State, path: Path, stage_id: str, hear: Hear, loop: Loop) -> list[Edit]:
    """What sets a de-esser so that in a loop sibilants stand to the voice as they did after the first one of its lane.

    NothingThereError where they do already.
    """
    stage, rate, lane = balanced_stage(path, stage_id), state.session.rate, path.lane
    earlier = next((s for s in lane.stages if isinstance(s, Deess) and s.on and s.id != stage_id), None)
    if earlier is None or not isinstance(stage, Deess):
        raise UnknownPlaceError(f"there is no other de-esser before “{stage.label}”")
    first, last = loop
    ranged, _ = path_range(studio, state, hear, path.name, first, last)
    places = studio.graph(state).places
    then = sound_of(ranged, places[f"{path.place}:stage:{earlier.id}"], first, last)
    now = sound_of(ranged, places[f"{path.place}:before:{stage_id}"], first, last)
    sharp = within(sibilants_in(studio, lane, rate, first, last), first, last)
    found = deess_back(now, rate, sharp, stage, balance_db(then, rate, sharp))
    return _set(
        path, stage_id, found, f"in this loop the sibilants already stand no higher than after “{earlier.label}”"
    )


def _set(path: Path, stage_id: str, found: dict[str, Any], none: str) -> list[Edit]:
    if not found:
        raise NothingThereError(none)
    _, place = find_stage(path, stage_id)
    return [Set(path=f"{place}/{name}", value=value) for name, value in found.items()]


def apart_edits(
    studio: Studio,
    state: State,
    lane: Lane,
    stage_id: str,
    how: Literal["after", "about"],
    events: Sequence[tuple[int, int]] = (),
) -> tuple[list[Edit], str]:
    """What splits a lane in time, after a stage of its main path or about it, and the id of the split.

    Sibilants then go a path of their own, with their own level, stages and sends: those `events` (frames) beside those
    that do already, or where none are named all of the take.
    """
    index = next((k for k, s in enumerate(lane.stages) if s.id == stage_id), None)
    if index is None:
        raise UnknownPlaceError(f"“{stage_id}” is not a stage on the main path of “{lane.name}”")
    stage = lane.stages[index]
    if how == "about" and stage.splits:
        raise UnknownPlaceError(f"“{stage.label}” is a split: sibilants cannot skip it as a whole")
    edits: list[Edit] = []
    inner: list[dict[str, Any]] = []
    if how == "about":
        inner = [stage.model_dump(mode="json")]
        edits.append(Remove(path=f"lanes/{lane.id}/stages/{stage.id}"))
    sends = [{"id": r.id, "level_db": SILENT_DB} for r in state.session.returns]
    split = {
        "kind": "split",
        "id": new_id("s"),
        "name": "Apart",
        "dry_db": SILENT_DB,
        "branches": [_branch("Voice", "rest", inner, []), _branch("Sibilants", "sibilants", [], sends)],
    }
    at = index if how == "about" else index + 1
    edits.append(Insert(path=f"lanes/{lane.id}/stages", index=at, value=split))
    if events:
        apart = [a.model_dump() for a in lane.apart if not any(a.start < e and a.end > s for s, e in events)]
        apart += [{"id": new_id("a"), "start": s, "end": e} for s, e in events]
        edits.append(Set(path=f"lanes/{lane.id}/apart", value=sorted(apart, key=lambda a: a["start"])))
        if _splits_apart(lane):
            return edits[-1:], _splits_apart(lane)
    elif not lane.apart:
        sharp = [e for e in sibilants_in(studio, lane, state.session.rate, 0, state.session.frames) if e.kind in SHARP]
        spans = [{"id": f"a{k}", "start": e.start, "end": e.end} for k, e in enumerate(sharp, 1)]
        edits.append(Set(path=f"lanes/{lane.id}/apart", value=spans))
    return edits, str(split["id"])


def _splits_apart(lane: Lane) -> str:
    """The id of a split on the lane's main path that lets sibilants go apart already; "" where there is none."""
    return next((s.id for s in lane.stages for b in s.forks() if any(isinstance(i, Apart) for i in b.stages)), "")


def _branch(name: str, part: str, inner: list[dict[str, Any]], sends: list[dict[str, Any]]) -> dict[str, Any]:
    window = {
        "kind": "apart",
        "id": new_id("s"),
        "part": part,
        "name": "S alone" if part == "sibilants" else "The rest",
    }
    return {"id": new_id("b"), "name": name, "blend_db": 0.0, "stages": [window, *inner], "sends": sends}
