"""Sibilants and plosives on the Lane screen: events with their cuts, the balance along the chain, where to begin."""

from typing import Any, Literal

import numpy as np
from fastapi import Request
from fastapi.responses import JSONResponse
from pydantic import BaseModel, Field

from ...core.measure.events import KIND_NAMES, SHARP, Sibilant
from ...core.measure.sibilance import (
    LISP_DB,
    RAISED_DB,
    balance_db,
    excess_db,
    fallen,
    heard_by,
    stop_at_line,
)
from ...core.mix.paths import find_path
from ...core.units import show_time
from ...studio.graphs import Hear
from ...studio.looking import path_range, sound_of
from ...studio.sibilants import apart_edits, back_edits, balanced_stage, begin_edits, events_of, sibilants_in
from ...studio.studio import find_lane
from ..hands import Router, measuring
from ..opened import Frame, Here, Over, check_range
from .edits import told

router = Router()
COLUMNS = 620


@router.get("/s/{session_id}/lane/{lane_id}/balance")
def balance(request: Request, here: Here, over: Over, lane_id: str) -> JSONResponse:
    """Sibilant-to-voice balance over the loop [first, last) of the raw take and after every stage of the lane's route.

    `raised` names the stages that brought it up by a decibel or more.
    """
    (studio, state), (first, last, hear) = here, over
    rate, lane = state.session.rate, find_path(state.session, lane_id).lane
    events = [e for e in sibilants_in(studio, lane, rate, first, last) if e.kind in SHARP]
    if not events or lane.sound is None:
        return JSONResponse({"version": state.version, "stations": [], "raised": [], "events": 0})
    found, _ = path_range(studio, state, hear, lane_id, first, last)
    places = studio.graph(state).places
    keys = [places[f"lane:{lane_id}:raw"], *(places[f"lane:{lane_id}:stage:{s.id}"] for s in lane.stages)]
    known: dict[str, float] = {}
    for key in keys:
        if key not in known:
            studio.newest(state).check()
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
def events(request: Request, here: Here, over: Over, lane_id: str, stage_id: str) -> JSONResponse:
    """What a de-esser or plosive stage does to each event of the loop [first, last), and which fell too far.

    `over` is the band over the voice around it as the stage hears it, the greatest of each of 620 columns.
    """
    (studio, state), (first, last, hear) = here, over
    path, rate = find_path(state.session, lane_id), state.session.rate
    stage = balanced_stage(path, stage_id)
    found, _ = path_range(studio, state, hear, lane_id, first, last)
    places = studio.graph(state).places
    raw, before, after = (
        sound_of(found, places[f"{path.place}:{place}"], first, last)
        for place in ("raw", f"before:{stage_id}", f"stage:{stage_id}")
    )
    trace = found.trace(places[f"{path.place}:stage:{stage_id}"]) if stage.on else None
    low = stage.low_picture
    listed = events_of(studio, path, rate, low, raw, first)
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
    heard = heard_by(stage, before, rate)
    edges = np.linspace(0, max(len(heard) - 1, 1), COLUMNS + 1).astype(int)[:-1]
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
            "over": [round(float(v), 1) for v in np.maximum.reduceat(heard, edges)] if len(heard) else [],
        }
    )


@router.post("/s/{session_id}/lane/{lane_id}/begin/{stage_id}")
@measuring
def begin(
    request: Request,
    here: Here,
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
    studio, state = here
    path = find_path(state.session, lane_id)
    if back:
        check_range(state, first, last)
        edits = back_edits(studio, state, path, stage_id, hear, (first, last))
    else:
        edits = begin_edits(studio, state, path, stage_id, (first, last))
    return JSONResponse(told(studio.edit(state.id, edits, None, where=state.where, alternative=state.alternative)))


class ApartRequest(BaseModel):
    """Where the lane is split: after a stage of its own, or about a stage that the sibilants then skip.

    `events` (frames from, to) are those that go apart; where none are named, all.
    """

    stage: str = Field(max_length=40)
    how: Literal["after", "about"] = "after"
    events: list[tuple[int, int]] = Field([], max_length=2000)


@router.post("/s/{session_id}/lane/{lane_id}/apart")
def put_apart(request: Request, here: Here, lane_id: str, body: ApartRequest) -> JSONResponse:
    """Split the lane in time: sibilants go a path of their own, with their own level, stages and sends."""
    studio, state = here
    edits, split = apart_edits(studio, state, find_lane(state.session, lane_id), body.stage, body.how, body.events)
    return JSONResponse(
        {**told(studio.edit(state.id, edits, None, where=state.where, alternative=state.alternative)), "stage": split}
    )


def _round(value: float) -> float:
    return round(value, 1) if np.isfinite(value) else 0.0
