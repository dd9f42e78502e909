"""The Lane screen: the phrase strip, the route, and the bench of the selected stage."""

from typing import Any

import numpy as np
from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse, Response

from ..core.engine.render import Range
from ..core.errors import UnknownPlaceError
from ..core.measure.spectrum import spectrogram_db
from ..core.measure.stages import level_histogram, read_stage
from ..core.mix.document import Bus, Lane, Session, flat_stages
from ..core.stages.base import Stage
from ..core.stages.compressor import Compressor
from ..core.stages.deess import Balanced
from ..core.stages.drive import Drive, harmonics_db
from ..core.stages.eq import Eq
from ..core.stages.eq_usual import usual_spans
from ..core.stages.limiter import Limiter
from ..core.stages.ride import Ride
from ..core.stages.trim import Trim
from ..store.sessions import State
from .pages import page
from .sound import Frame, check_range, opened, path_range
from .studio import Hear, Studio, find_lane
from .svg import PLOT, ZONES, eq_paths, hanging_path, lay_route, steps_path
from .trims import lay_trims

router = APIRouter()
OUT = "out"  # the end of the route: fader, pan, buses
TAKE = "take"  # its beginning: the raw take
SPECTROGRAM_HZ = np.geomspace(400, 16000, 150)
LOW_SPECTROGRAM_HZ = np.geomspace(20, 1000, 150)


def find_stage(session: Session, lane: Lane, stage_id: str) -> tuple[Stage, str]:
    """A stage of a lane and its path in the session; the first stage for no id."""
    base = f"lanes/{lane.id}/stages"
    for stage in lane.stages:
        if stage.id == stage_id:
            return stage, f"{base}/{stage.id}"
        for branch in getattr(stage, "branches", ()):
            for inner in branch.stages:
                if inner.id == stage_id:
                    return inner, f"{base}/{stage.id}/branches/{branch.id}/stages/{inner.id}"
    raise UnknownPlaceError(f"there is no stage “{stage_id}” on “{lane.name}”")


def choose_stage(lane: Lane, wanted: str) -> str:
    """The stage to show: the wanted one if it is there, else the take (of music, the first stage)."""
    ids = [s.id for s in flat_stages(lane.stages)]
    if wanted in ids or wanted in (OUT, TAKE):
        return wanted
    return TAKE if lane.role != "music" else ids[0] if ids else ""


def buses_after(session: Session, lane: Lane) -> list[Bus]:
    """The buses that a lane runs through, its own first, the mix last."""
    buses = {bus.id: bus for bus in session.buses}
    found, at = [], lane.bus
    while at:
        found.append(buses[at])
        at = buses[at].into or ""
    return found


def lane_data(studio: Studio, state: State, lane: Lane) -> dict[str, Any]:
    """What the scripts need of a lane: phrases with raw loudness, sibilants, length."""
    session = state.session
    phrases: list[dict[str, Any]] = []
    events: list[dict[str, Any]] = []
    if lane.sound:
        loud = studio.takes.phrase_loudness(lane, session.rate)
        phrases = [{**p.model_dump(), "lufs": round(v, 1)} for p, v in zip(lane.phrases, loud, strict=True)]
        events = studio.takes.sibilants(lane.sound, session.rate) if lane.role != "music" else []
    return {
        "session": state.id,
        "version": state.version,
        "screen": "lane",
        "lane": lane.id,
        "rate": session.rate,
        "frames": session.frames,
        "phrases": phrases,
        "events": events,
        "apart": [a.model_dump() for a in lane.apart],
        "breaths": [b.model_dump() for b in lane.breaths],
        "name": lane.name,
        "stages": [{"id": s.id, "name": s.label, "kind": s.kind, "on": s.on} for s in flat_stages(lane.stages)],
    }


@router.get("/s/{session_id}/lane/{lane_id}", response_class=HTMLResponse)
def lane_page(request: Request, session_id: str, lane_id: str, stage: str = "", band: int = 0) -> HTMLResponse:
    """The whole screen."""
    studio, state = opened(request, session_id)
    lane = find_lane(state.session, lane_id)
    context = bench_context(studio, state, lane, stage, band)
    return page(
        request,
        "lane.html",
        state,
        screen="lane",
        lane=lane,
        data=lane_data(studio, state, lane),
        route=lay_route(state.session, lane.id),
        **context,
    )


@router.get("/s/{session_id}/lane/{lane_id}/body", response_class=HTMLResponse)
def lane_body(request: Request, session_id: str, lane_id: str, stage: str = "", band: int = 0) -> HTMLResponse:
    """Route and bench alone, after a change of the chain."""
    studio, state = opened(request, session_id)
    lane = find_lane(state.session, lane_id)
    context = bench_context(studio, state, lane, stage, band)
    return page(
        request, "lane_body.html", state, screen="lane", lane=lane, route=lay_route(state.session, lane.id), **context
    )


def bench_context(studio: Studio, state: State, lane: Lane, stage_id: str, band: int) -> dict[str, Any]:
    """What the bench of a stage needs."""
    chosen = choose_stage(lane, stage_id)
    kinds = [
        {"kind": k, "title": cls.title, "summary": cls.summary}
        for k, cls in sorted(Stage.kinds.items())
        if cls.insertable and k not in ("duck", "reverb")
    ]
    context: dict[str, Any] = {
        "stage": None,
        "stage_path": "",
        "kinds": kinds,
        "band": 0,
        "out": False,
        "at_take": False,
    }
    if chosen == TAKE:
        return context | {"at_take": True}
    if chosen == OUT:
        return context | {"out": True, "buses_after": buses_after(state.session, lane)}
    if not chosen:
        return context
    stage, path = find_stage(state.session, lane, chosen)
    context |= {"stage": stage, "stage_path": path}
    if isinstance(stage, Trim):
        context["trims"] = lay_trims(studio, state, lane, stage)
    if isinstance(stage, Balanced):
        before = lane.stages[: next((k for k, s in enumerate(lane.stages) if s.id == stage.id), 0)]
        context["earlier"] = next((s.label for s in before if s.kind == "deess" and s.on), "")
        context["by_hand"] = [p.model_dump() for p in stage.by_hand]
    if isinstance(stage, Ride):
        context["ride_points"] = [p.model_dump() for p in stage.points]
    if isinstance(stage, Eq):
        context |= {
            "eq": eq_paths(stage, state.session.rate),
            "plot": PLOT,
            "zones": ZONES,
            "band": min(max(band, 0), max(0, len(stage.bands) - 1)),
            "usual": usual_spans(stage.bands[min(max(band, 0), len(stage.bands) - 1)], lane.role)
            if stage.bands
            else {},
        }
    return context


@router.get("/s/{session_id}/lane/{lane_id}/picture/{stage_id}")
def picture(
    request: Request,
    session_id: str,
    lane_id: str,
    stage_id: str,
    start: Frame,
    stop: Frame,
    first: Frame,
    last: Frame,
    hear: Hear = "lane",
) -> Response:
    """The measured part of a stage's picture over the loop [first, last), as an SVG fragment."""
    studio, state = opened(request, session_id)
    check_range(state, start, stop)
    lane = find_lane(state.session, lane_id)
    if stage_id not in {s.id for s in flat_stages(lane.stages)}:
        return Response(status_code=204)  # removed by a step that this window has not drawn yet
    stage, _ = find_stage(state.session, lane, stage_id)
    found, _ = path_range(studio, state, hear, f"lane:{lane_id}", start, stop)
    graph = studio.graph(state)
    before_key = graph.places[f"lane:{lane_id}:before:{stage_id}"]
    after_key = graph.places[f"lane:{lane_id}:stage:{stage_id}"]
    before, after = (sound_of(found, key, first, last) for key in (before_key, after_key))
    rate = state.session.rate
    trace = found.trace(after_key)
    reading = read_stage(trace, first, last) if trace else None
    context: dict[str, Any] = {"stage": stage, "reading": reading, "session_rate": rate}
    if isinstance(stage, Drive):
        return page(request, "picture_drive.svg", state, stage=stage, **drive_picture(stage, before, rate))
    context |= dynamics_picture(stage, before, after, trace, first, last, rate)
    return page(request, "picture_dynamics.svg", state, **context)


def drive_picture(stage: Drive, before: np.ndarray, rate: int) -> dict[str, Any]:
    """Harmonics that a tone as loud as the quiet and as the loud words of a loop would get, as bars."""
    hop = rate // 100
    n = before.shape[1] // hop
    peaks = np.abs(before[:, : n * hop]).reshape(before.shape[0], n, hop).max(axis=(0, 2)) if n else np.zeros(1)
    sung = peaks[peaks > max(peaks.max() * 0.05, 1e-5)]
    if not len(sung):
        return {"bars": []}
    levels = [20 * np.log10(float(np.quantile(sung, q))) for q in (0.3, 0.98)]
    quiet, loud = (harmonics_db(stage, round(v)) for v in levels)
    bars = [
        {"number": k, "quiet": 30 + 2.2 * min(-q, 90.0), "loud": 30 + 2.2 * min(-v, 90.0), "db": v}
        for k, (q, v) in enumerate(zip(quiet, loud, strict=True), 1)
    ]
    return {"bars": bars, "levels": levels}


def sound_of(found: Range, key: str, first: int, last: int) -> np.ndarray:
    """Frames [first, last) of a node of a rendered range."""
    return found.nodes[key].cut(first, last)


def dynamics_picture(
    stage: Stage, before: np.ndarray, after: np.ndarray, trace: Any, first: int, last: int, rate: int
) -> dict[str, Any]:
    """Histograms of level before and after, and the reduction over the loop, as paths."""
    hop = rate // 200
    levels = []
    for audio in (before, after):
        n = audio.shape[1] // hop
        squares = audio[:, : n * hop].reshape(audio.shape[0], n, hop) ** 2
        levels.append(squares.max(axis=(0, 2)) if isinstance(stage, Limiter) else squares.mean(axis=(0, 2)))
    counts = [level_histogram(x, -66, 0, 66) for x in levels]
    top = max(0.02, *(float(c.max()) for c in counts))
    reduction = np.zeros(2)
    if trace is not None and trace.gain_db is not None:
        a, b = (first - trace.start) // hop, (last - trace.start) // hop
        reduction = trace.gain_db[a:b]
        reduction = (
            np.minimum.reduceat(reduction, np.linspace(0, len(reduction), 481).astype(int)[:-1])
            if len(reduction) > 500
            else reduction
        )
    threshold = getattr(stage, "threshold_db", getattr(stage, "ceiling_dbtp", None))
    return {
        "before": steps_path(counts[0] / top, 40, 480, 200, 168),
        "after": steps_path(counts[1] / top, 40, 480, 200, 168),
        "threshold": threshold,
        "threshold_x": 40 + (min(max(threshold, -66), 0) + 66) / 66 * 440 if threshold is not None else None,
        "hanging": hanging_path(reduction, 40, 700, 244, 4.0),
        "deepest": float(-reduction.min()) if len(reduction) else 0.0,
        "curve": static_curve(stage) if isinstance(stage, Compressor) else None,
        "quiet_up": _share_gain(levels, 0.25),
        "loud_up": _share_gain(levels, 0.98),
    }


def _share_gain(levels: list[np.ndarray], share: float) -> float:
    """By how many dB the level below which a share of the sung hops lie has changed."""
    sung = levels[0] > levels[0].max() * 1e-4
    if not sung.any():
        return 0.0
    low, high = (10 * np.log10(max(float(np.quantile(x[sung], share)), 1e-12)) for x in levels)
    return high - low


def static_curve(stage: Compressor) -> str:
    """Static curve, level in to level out, as a path in a square of 160."""
    level = np.linspace(-66, 0, 67)
    out = level + np.array([stage.curve_db(float(v)) for v in level])
    points = zip(level, out, strict=True)
    return "M" + "L".join(f"{530 + (a + 66) / 66 * 168:.1f} {200 - (b + 66) / 66 * 168:.1f}" for a, b in points)


@router.get("/s/{session_id}/lane/{lane_id}/spectrogram/{stage_id}")
def spectrogram(
    request: Request,
    session_id: str,
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
    studio, state = opened(request, session_id)
    check_range(state, start, stop)
    found, _ = path_range(studio, state, hear, f"lane:{lane_id}", start, stop)
    place = "stage" if treated else "before"
    key = studio.graph(state).places.get(f"lane:{lane_id}:{place}:{stage_id}")
    if key is None:
        raise UnknownPlaceError(f"there is no stage “{stage_id}” on this lane")
    audio, rate = sound_of(found, key, first, last), state.session.rate
    axis, size = (LOW_SPECTROGRAM_HZ, 6000) if low else (SPECTROGRAM_HZ, 1024)
    table = spectrogram_db(audio, rate, 660, axis, size)[::-1]
    shades = np.clip((table + 110) / 90 * 255, 0, 255).astype(np.uint8)
    return Response(shades.tobytes(), media_type="application/octet-stream")
