"""Sibilants and plosives on the Lane screen: events with their cuts, the balance along the chain, where to begin."""

from typing import Any, Literal

import numpy as np
from fastapi import APIRouter, Request
from fastapi.responses import JSONResponse
from pydantic import BaseModel, Field

from ...core.errors import UnknownPlaceError
from ...core.measure.events import KIND_NAMES, SHARP, Sibilant, find_sibilants
from ...core.measure.sibilance import (
    LISP_DB,
    RAISED_DB,
    balance_db,
    deess_back,
    deess_start,
    excess_db,
    fallen,
    heard_by,
    plosive_start,
    stop_at_line,
)
from ...core.mix.document import Lane
from ...core.mix.edits import Edit, Insert, Remove, Set, new_id
from ...core.mix.paths import Path, find_path
from ...core.stages.deess import Balanced, Deess
from ...core.stages.plosive import Plosive
from ...core.stages.split import SILENT_DB, Split
from ...core.units import show_time
from ...studio.studio import Hear, Studio, find_lane
from ..measuring import measuring
from .edits import told
from .lane import find_stage, sound_of
from .sound import Frame, check_range, opened, path_range

router = APIRouter()
COLUMNS = 620


@router.get("/s/{session_id}/lane/{lane_id}/balance")
def balance(
    request: Request, session_id: str, lane_id: str, first: Frame, last: Frame, hear: Hear = "lane"
) -> JSONResponse:
    """Sibilant-to-voice balance over the loop [first, last) of the raw take and after every stage of the lane's route.

    `raised` names the stages that brought it up by a decibel or more.
    """
    studio, state = opened(request, session_id)
    check_range(state, first, last)
    rate, lane = state.session.rate, find_path(state.session, lane_id).lane
    events = [e for e in _sibilants(studio, lane, rate, first, last) if e.kind in SHARP]
    if not events or lane.sound is None:
        return JSONResponse({"version": state.version, "stations": [], "raised": [], "events": 0})
    found, _ = path_range(studio, state, hear, lane_id, first, last)
    places = studio.graph(state).places
    keys = [places[f"lane:{lane_id}:raw"], *(places[f"lane:{lane_id}:stage:{s.id}"] for s in lane.stages)]
    known: dict[str, float] = {}
    for key in keys:
        if key not in known:
            span = (key, first, last)
            audio = sound_of(found, key, first, last)
            known[key] = studio.sibilance.get(span, lambda a=audio: balance_db(a, rate, events, first))  # type: ignore[misc]
    levels = [known[key] for key in keys]
    stations = [{"id": "take", "name": "Take", "db": _round(levels[0])}]
    stations += [{"id": s.id, "name": s.label, "db": _round(v)} for s, v in zip(lane.stages, levels[1:], strict=True)]
    raised = [
        {"id": s.id, "name": s.label, "by": _round(after - before)}
        for s, before, after in zip(lane.stages, levels[:-1], levels[1:], strict=True)
        if after - before >= RAISED_DB
    ]
    return JSONResponse({"version": state.version, "stations": stations, "raised": raised, "events": len(events)})


@router.get("/s/{session_id}/lane/{lane_id}/events/{stage_id}")
def events(
    request: Request, session_id: str, lane_id: str, stage_id: str, first: Frame, last: Frame, hear: Hear = "lane"
) -> JSONResponse:
    """What a de-esser or plosive stage does to each event of the loop [first, last), and which fell too far.

    `over` is the band over the voice around it as the stage hears it, the greatest of each of 620 columns.
    """
    studio, state = opened(request, session_id)
    check_range(state, first, last)
    path, rate = find_path(state.session, lane_id), state.session.rate
    stage = _balanced(path, stage_id)
    found, _ = path_range(studio, state, hear, lane_id, first, last)
    places = studio.graph(state).places
    raw, before, after = (
        sound_of(found, places[f"{path.place}:{place}"], first, last)
        for place in ("raw", f"before:{stage_id}", f"stage:{stage_id}")
    )
    trace = found.trace(places[f"{path.place}:stage:{stage_id}"]) if stage.on else None
    low = isinstance(stage, Plosive)
    listed = _listed(studio, path, rate, low, raw, first)
    shown: list[dict[str, Any]] = []
    for e in listed:
        if e["end"] <= first or e["start"] >= last or e.get("kind") == "breath":
            continue
        cut = 0.0
        if trace is not None and trace.gain_db is not None:
            a = max(0, (e["start"] - trace.start) // trace.hop)
            part = trace.gain_db[a : max(a + 1, (e["end"] - trace.start) // trace.hop + 1)]
            cut = float(part.min()) if len(part) else 0.0
        hand = next(
            (p.gain_db for p in stage.by_hand if p.start_s * rate < e["end"] and p.end_s * rate > e["start"]), None
        )
        name = "plosive" if low else KIND_NAMES[e["kind"]]
        apart = any(a.start < e["end"] and a.end > e["start"] for a in (path.lane.apart if path.is_lane else ()))
        shown.append({**e, "cut_db": _round(cut), "hand_db": hand, "name": name, "apart": apart})
    inside = [
        Sibilant(max(0, e["start"] - first), min(e["end"], last) - first, e["centre_hz"], e["excess_db"], e["kind"])
        for e in shown
        if not low
    ]
    now = excess_db(after, rate, inside)
    for e, v in zip(shown, now, strict=False):
        e["after_db"] = _round(float(v))
    fell = fallen(raw, after, rate, inside) if not low else []
    over = heard_by(stage, before, rate)
    edges = np.linspace(0, max(len(over) - 1, 1), COLUMNS + 1).astype(int)[:-1]
    return JSONResponse(
        {
            "version": state.version,
            "first": first,
            "last": last,
            "events": shown,
            "line_db": LISP_DB,
            "fallen": [
                {"at": show_time((f.start + first) / rate), "start": f.start + first, "under_db": _round(f.under_db)}
                for f in fell
            ],
            "offer": stop_at_line(raw, before, rate, inside, stage) if fell and stage.on else None,
            "over": [round(float(v), 1) for v in np.maximum.reduceat(over, edges)] if len(over) else [],
        }
    )


@router.post("/s/{session_id}/lane/{lane_id}/begin/{stage_id}")
@measuring
def begin(
    request: Request,
    session_id: str,
    lane_id: str,
    stage_id: str,
    back: bool = False,
    first: Frame = 0,
    last: Frame = 0,
    hear: Hear = "lane",
) -> JSONResponse:
    """Set a de-esser or plosive stage from what comes into it; refused where nothing stands out.

    Over the whole take on a lane, over the loop [first, last) on a return or bus.

    With `back` a de-esser is set so that in the loop [first, last) sibilants stand to the voice as they did after the
    first one on the lane.
    """
    studio, state = opened(request, session_id)
    path, rate = find_path(state.session, lane_id), state.session.rate
    stage = _balanced(path, stage_id)
    _, place = find_stage(path, stage_id)
    graph = studio.graph(state)
    key = graph.places[f"{path.place}:before:{stage_id}"]

    def coming_in() -> np.ndarray:
        return studio.coming_in(state, path, stage_id, (first, last))

    if isinstance(stage, Deess) and back:
        check_range(state, first, last)
        lane = path.lane
        earlier = next((s for s in lane.stages if s.kind == "deess" and s.on and s.id != stage_id), None)
        if earlier is None:
            raise UnknownPlaceError(f"there is no other de-esser before “{stage.label}”")
        ranged, _ = path_range(studio, state, hear, lane_id, first, last)
        then = sound_of(ranged, graph.places[f"lane:{lane_id}:stage:{earlier.id}"], first, last)
        sharp = [
            Sibilant(max(e.start, first) - first, min(e.end, last) - first, e.centre_hz, e.excess_db, e.kind)
            for e in _sibilants(studio, lane, rate, first, last)
            if e.kind in SHARP
        ]
        now = sound_of(ranged, key, first, last)
        found = deess_back(now, rate, sharp, stage, balance_db(then, rate, sharp))
        none = f"in this loop the sibilants already stand no higher than after “{earlier.label}”"
    elif isinstance(stage, Deess):
        found, none = (
            deess_start(coming_in(), rate),
            "no sibilant stands out of the voice here: there is nothing to tame",
        )
    else:
        sound = path.sound or (path.timed_by.sound if path.timed_by else None)
        lowest = studio.takes.lowest_hz(sound, rate) if sound else 0.0
        phrases = studio.phrases_in(path, (first, last))
        found = plosive_start(coming_in(), rate, phrases, lowest)
        none = "no burst of air was found here: there is nothing to tame"
    if not found:
        return JSONResponse({"error": none}, 422)
    edits: list[Edit] = [Set(path=f"{place}/{name}", value=value) for name, value in found.items()]
    return JSONResponse(told(studio.sessions.edit(session_id, edits, None)))


class ApartRequest(BaseModel):
    """Where the lane is split: after a stage of its own, or about a stage that the sibilants then skip."""

    stage: str = Field(max_length=40)
    how: Literal["after", "about"] = "after"


@router.post("/s/{session_id}/lane/{lane_id}/apart")
def put_apart(request: Request, session_id: str, lane_id: str, body: ApartRequest) -> JSONResponse:
    """Split the lane in time: sibilants go a path of their own, with their own level, stages and sends."""
    studio, state = opened(request, session_id)
    lane, rate = find_lane(state.session, lane_id), state.session.rate
    index = next((k for k, s in enumerate(lane.stages) if s.id == body.stage), None)
    if index is None:
        raise UnknownPlaceError(f"“{body.stage}” is not a stage on the main path of “{lane.name}”")
    stage = lane.stages[index]
    if body.how == "about" and isinstance(stage, Split):
        raise UnknownPlaceError(f"“{stage.label}” is a split: sibilants cannot skip it as a whole")
    edits: list[Edit] = []
    inner: list[dict[str, Any]] = []
    if body.how == "about":
        inner = [stage.model_dump(mode="json")]
        edits.append(Remove(path=f"lanes/{lane_id}/stages/{stage.id}"))
    sends = [{"id": r.id, "level_db": SILENT_DB} for r in state.session.returns]
    value = {
        "kind": "split",
        "id": new_id("s"),
        "name": "Apart",
        "dry_db": SILENT_DB,
        "branches": [
            _branch("Voice", "rest", inner, []),
            _branch("Sibilants", "sibilants", [], sends),
        ],
    }
    at = index if body.how == "about" else index + 1
    edits.append(Insert(path=f"lanes/{lane_id}/stages", index=at, value=value))
    if not lane.apart:
        sharp = [e for e in _sibilants(studio, lane, rate, 0, state.session.frames) if e.kind in SHARP]
        spans = [{"id": f"a{k}", "start": e.start, "end": e.end} for k, e in enumerate(sharp, 1)]
        edits.append(Set(path=f"lanes/{lane_id}/apart", value=spans))
    return JSONResponse({**told(studio.sessions.edit(session_id, edits, None)), "stage": value["id"]})


def _branch(name: str, part: str, inner: list[dict[str, Any]], sends: list[dict[str, Any]]) -> dict[str, Any]:
    window = {
        "kind": "apart",
        "id": new_id("s"),
        "part": part,
        "name": "S alone" if part == "sibilants" else "The rest",
    }
    return {"id": new_id("b"), "name": name, "blend_db": 0.0, "stages": [window, *inner], "sends": sends}


def _listed(studio: Studio, path: Path, rate: int, low: bool, raw: np.ndarray, first: int) -> list[dict[str, Any]]:
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
            "excess_db": _round(e.excess_db),
            "kind": e.kind,
        }
        for e in found
    ]


def _balanced(path: Path, stage_id: str) -> Balanced:
    stage, _ = find_stage(path, stage_id)
    if not isinstance(stage, Balanced):
        raise UnknownPlaceError(f"“{stage.label}” listens for neither sibilants nor plosives")
    return stage


def _sibilants(studio: Studio, lane: Lane, rate: int, first: int, last: int) -> list[Sibilant]:
    """Sibilants of a lane's raw take that reach into [first, last)."""
    if lane.sound is None or lane.role == "music":
        return []
    listed = studio.takes.sibilants(lane.sound, rate)
    return [Sibilant(**e) for e in listed if e["end"] > first and e["start"] < last]


def _round(value: float) -> float:
    return round(value, 1) if np.isfinite(value) else 0.0
