"""The Lane screen: the phrase strip, the route, and the bench of the selected stage."""

from typing import Any

import numpy as np
from fastapi import Request
from fastapi.responses import HTMLResponse, Response

from ...core.errors import UnknownPlaceError
from ...core.measure.spectrum import spectrogram_db
from ...core.measure.thresholds import SPREADS
from ...core.mix.alternatives import told_of
from ...core.mix.document import Bus, Return, Session
from ...core.mix.following import differences, followers_of, give_up_edits, leader_of, own_edits
from ...core.mix.paths import Path, find_path, find_stage, place_of
from ...core.mix.places import walk
from ...core.stages.base import Settings, Stage
from ...core.stages.deess import Balanced, Deess
from ...core.stages.eq import Eq
from ...core.stages.eq_usual import usual_spans
from ...core.stages.flat import flat_stages
from ...core.stages.help import HELP
from ...core.stages.multiband import Multiband
from ...core.stages.ride import Ride
from ...core.stages.trim import Trim
from ...core.stages.tune import Tune
from ...store.state import State
from ...studio import tuning
from ...studio.graphs import Hear
from ...studio.looking import path_range, sound_of
from ...studio.studio import Studio
from ..drawing.eq import PLOT, ZONES, eq_paths
from ..drawing.route import lay_route
from ..drawing.trims import lay_trims
from ..hands import Router
from ..opened import Frame, Here, check_range
from ..pages import page
from . import Nav
from .handles import handles_shown
from .local import level_lines, local_stages, marks
from .tune import tune_context

router = Router()
NAV = Nav("lane", "Lane", 20, lambda session, lane: f"lane/{lane or session.lanes[0].id}" if session.lanes else "")
SCRIPT = "lane"
OUT = "out"  # the end of the route: fader, pan, buses
_LISTS = ("phrases", "events", "apart", "breaths", "throws", "returns", "levels", "stages")
TAKE = "take"  # its beginning: the raw take
SPECTROGRAM_HZ = np.geomspace(400, 16000, 150)
LOW_SPECTROGRAM_HZ = np.geomspace(20, 1000, 150)


def choose_stage(path: Path, wanted: str) -> str:
    """The stage to show: the wanted one if it is there, else the take; of music the first; of a bus what feeds it."""
    ids = [s.id for s in flat_stages(path.member.stages)]
    if wanted in ids or wanted in (OUT, TAKE):
        return wanted
    if path.sung or (not ids and not path.is_lane):
        return TAKE
    return ids[0] if ids else ""


def buses_after(session: Session, path: Path) -> list[Bus]:
    """The buses that a path runs through, its own first, the mix last."""
    buses = {bus.id: bus for bus in session.buses}
    member = path.member
    found, at = [], member.into if isinstance(member, Bus) else member.bus
    while at:
        found.append(buses[at])
        at = buses[at].into or ""
    return found


def feeders(session: Session, path: Path) -> list[dict[str, Any]]:
    """What comes into a return or bus: name, the model whose level it is, its field and place, and its own address."""
    member, found = path.member, []
    if isinstance(member, Return):
        for lane in session.lanes:
            for send in lane.sends:
                if send.id == member.id:
                    found.append(_feeder(lane.name, send, "level_db", f"lanes/{lane.id}/sends/{send.id}", lane.id))
    elif isinstance(member, Bus):
        lanes, returns = ([x for x in several if x.bus == member.id] for several in (session.lanes, session.returns))
        found += [_feeder(x.name, x, "fader_db", f"lanes/{x.id}", x.id) for x in lanes]
        found += [_feeder(x.name, x, "fader_db", f"returns/{x.id}", f"return:{x.id}") for x in returns]
        buses = [x for x in session.buses if x.into == member.id]
        found += [_feeder(x.name, x, "fader_db", f"buses/{x.id}", f"bus:{x.id}") for x in buses]
    return found


def _feeder(name: str, model: Settings, field: str, place: str, address: str) -> dict[str, Any]:
    return {"name": name, "model": model, "field": field, "place": place, "address": address}


def page_data(studio: Studio, state: State, screen: str) -> dict[str, Any]:
    """What the scripts need of a screen of the whole session: the lead's phrases, or those of the first lane."""
    lanes = state.session.lanes
    lane = next((x for x in lanes if x.role == "lead"), None) or next(iter(lanes), None)
    if lane is not None:
        return lane_data(studio, state, find_path(state.session, lane.id)) | {"screen": screen}
    return {
        "session": state.id,
        "version": state.version,
        "screen": screen,
        "lane": "",
        "role": "",
        "phrases_of": "",
        "rate": state.session.rate,
        "frames": 0,
        **{name: [] for name in _LISTS},
        "alternatives": [],
        "name": "",
    }


def lane_data(studio: Studio, state: State, path: Path) -> dict[str, Any]:
    """What the scripts need of a path: phrases with raw loudness, sibilants, length."""
    session, lane = state.session, path.timed_by
    phrases: list[dict[str, Any]] = []
    if lane and lane.sound:
        loud = studio.takes.phrase_loudness(lane, session.rate)
        phrases = [{**p.model_dump(), "lufs": round(v, 1)} for p, v in zip(lane.phrases, loud, strict=True)]
    own = path.lane if path.sung else None
    stages = flat_stages(path.member.stages)
    names = {r.id: r.name for r in session.returns}
    return {
        "session": state.id,
        "version": state.version,
        "screen": "lane",
        "lane": path.name,
        "role": path.role,
        "phrases_of": lane.id if lane else "",
        "rate": session.rate,
        "frames": session.frames,
        "phrases": phrases,
        "events": studio.takes.sibilants(own.sound, session.rate) if own and own.sound else [],
        "apart": [a.model_dump() for a in own.apart] if own else [],
        "breaths": [b.model_dump() for b in own.breaths] if own else [],
        "throws": [
            {
                "start": t.start_s * session.rate,
                "end": t.end_s * session.rate,
                "name": names.get(s.id, s.id),
                "path": f"{path.base}/sends/{s.id}/throws/{t.id}",
                "ramp_ms": s.ramp_ms,
                "send": f"{path.base}/sends/{s.id}",
            }
            for s in (path.lane.sends if path.is_lane else ())
            for t in s.throws
        ],
        "returns": [
            {"id": r.id, "name": r.name, "sent": any(s.id == r.id for s in path.lane.sends) if path.is_lane else False}
            for r in session.returns
        ],
        "name": path.member.name,
        "levels": level_lines(session, path.base),
        "alternatives": told_of(state.song),
        "stages": [{"id": s.id, "name": s.label, "kind": s.kind, "on": s.on} for s in stages],
    }


def _shown(request: Request, here: Here, name: str, stage: str, band: int, template: str) -> HTMLResponse:
    studio, state = here
    path = find_path(state.session, name)
    context = bench_context(studio, state, path, stage, band)
    if template == "lane.html":
        context["data"] = lane_data(studio, state, path)
    route = lay_route(state.session, path)
    lane = path.timed_by
    context |= _following(state.session, path, context["stage_path"])
    context |= {"otherwise": local_stages(state), "local": marks(state), "handles": handles_shown(state.session, path)}
    return page(request, template, state, screen="lane", path=path, lane=lane, route=route, **context)


def _following(session: Session, path: Path, stage_path: str) -> dict[str, Any]:
    """Whom a lane follows, and where it differs: stages, and what its leader has where a setting of the bench is its
    own (`ghosts`)."""
    nobody: dict[str, Any] = {"leader": None, "differing": set(), "ghosts": {}, "following": None}
    if not path.is_lane:
        return nobody
    lane = path.lane
    leader, told = leader_of(session, lane), differences(session, lane)
    base, ghosts = f"{path.base}/stages/", {}
    for one in told:
        if leader is not None and f"{base}{one.path}".startswith(f"{stage_path}/"):
            value = walk(session, f"lanes/{leader.id}/stages/{one.path}")[-1].value if "/" in one.path else None
            if isinstance(value, int | float) and not isinstance(value, bool):
                ghosts[f"{base}{one.path}"] = value
    following = {
        "leader": leader,
        "followers": followers_of(session, lane),
        "may_lead": [x for x in session.lanes if x.id != lane.id and not x.follows],
        "differences": [
            {"told": d, "edits": [e.model_dump(mode="json") for e in give_up_edits(session, lane, d.path)]}
            for d in told
        ],
        "own": [e.model_dump(mode="json") for e in own_edits(lane)],
    }
    differing = {part for d in told for part in d.path.split("/")[:1] + d.path.split("/")[4:5]}
    return {"leader": leader, "differing": differing, "ghosts": ghosts, "following": following}


@router.get("/s/{session_id}/lane/{lane_id}", response_class=HTMLResponse)
def lane_page(request: Request, here: Here, lane_id: str, stage: str = "", band: int = 0) -> HTMLResponse:
    """The whole screen of a lane, or of a return (`return:ID`) or bus (`bus:ID`)."""
    return _shown(request, here, lane_id, stage, band, "lane.html")


@router.get("/s/{session_id}/lane/{lane_id}/body", response_class=HTMLResponse)
def lane_body(request: Request, here: Here, lane_id: str, stage: str = "", band: int = 0) -> HTMLResponse:
    """Route and bench alone, after a change of the chain."""
    return _shown(request, here, lane_id, stage, band, "lane_body.html")


def bench_context(studio: Studio, state: State, path: Path, stage_id: str, band: int) -> dict[str, Any]:
    """What the bench of a stage needs."""
    chosen = choose_stage(path, stage_id)
    kinds = [
        {"kind": kind, "title": cls.title, "summary": cls.summary, "fresh": cls.fresh, "in_branches": cls.in_branches}
        for kind, cls in sorted(Stage.kinds.items())
        if cls.insertable and (path.is_lane or not cls.takes_lane) and (path.role == "return" or not cls.for_returns)
    ]
    context: dict[str, Any] = {
        "stage": None,
        "stage_path": "",
        "help": None,
        "kinds": kinds,
        "band": 0,
        "out": False,
        "at_take": False,
        "feeders": [],
        "beside": [],
        "spreads": SPREADS,
    }
    if chosen == TAKE:
        beside = tuning.beside_lead(studio, state, path.lane) if path.is_lane else []
        return context | {"at_take": True, "feeders": feeders(state.session, path), "beside": beside}
    if chosen == OUT:
        return context | {"out": True, "buses_after": buses_after(state.session, path)}
    if not chosen:
        return context
    stage, place = find_stage(path, chosen)
    context |= {"stage": stage, "stage_path": place, "help": HELP.get(stage.kind)}
    if isinstance(stage, Trim) and path.is_lane:
        context["trims"] = lay_trims(studio, state, path.lane, stage)
    if isinstance(stage, Balanced):
        stages = path.member.stages
        before = stages[: next((k for k, s in enumerate(stages) if s.id == stage.id), 0)]
        context["earlier"] = next((s.label for s in before if isinstance(s, Deess) and s.on), "")
        context["by_hand"] = [p.model_dump() for p in stage.by_hand]
    if isinstance(stage, Ride):
        context["ride_points"] = [p.model_dump() for p in stage.points]
    if isinstance(stage, Tune):
        context |= tune_context(stage, place, state.session.key, band, tuning.sung_notes(studio, state))
    if isinstance(stage, Multiband):
        context |= {"band": min(max(band, 0), len(stage.bands) - 1), "edges": stage.edges_hz(state.session.rate)}
    if isinstance(stage, Eq):
        context |= {
            "eq": eq_paths(stage, state.session.rate),
            "plot": PLOT,
            "zones": ZONES,
            "band": min(max(band, 0), max(0, len(stage.bands) - 1)),
            "usual": usual_spans(stage.bands[min(max(band, 0), len(stage.bands) - 1)], path.role)
            if stage.bands
            else {},
        }
    return context


@router.get("/s/{session_id}/lane/{lane_id}/spectrogram/{stage_id}")
def spectrogram(
    request: Request,
    here: Here,
    lane_id: str,
    stage_id: str,
    start: Frame,
    stop: Frame,
    first: Frame,
    last: Frame,
    hear: Hear = "lane",
    treated: bool = False,
    low: bool = False,
) -> Response:
    """Levels of the loop before (or after) a stage as bytes, 150 rows from high to low by 660 columns; 0 is −110 dB.

    From 400 Hz to 16 kHz, or (`low`) from 20 Hz to 1 kHz.
    """
    studio, state = here
    check_range(state, start, stop)
    found, _ = path_range(studio, state, hear, lane_id, start, stop)
    place = "stage" if treated else "before"
    key = studio.graph(state).places.get(f"{place_of(lane_id)}:{place}:{stage_id}")
    if key is None:
        raise UnknownPlaceError(f"there is no stage “{stage_id}” on this lane")
    audio, rate = sound_of(found, key, first, last), state.session.rate
    axis, size = (LOW_SPECTROGRAM_HZ, 6000) if low else (SPECTROGRAM_HZ, 1024)
    table = spectrogram_db(audio, rate, 660, axis, size)[::-1]
    shades = np.clip((table + 110) / 90 * 255, 0, 255).astype(np.uint8)
    return Response(shades.tobytes(), media_type="application/octet-stream")
