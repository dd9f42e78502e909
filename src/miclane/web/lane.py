"""The Lane screen: the phrase strip, the route, and the bench of the selected stage."""

from functools import lru_cache, partial
from hashlib import blake2b
from typing import Any

import numpy as np
from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse, Response

from ..core.engine.render import Range, SoundReader
from ..core.errors import UnknownPlaceError
from ..core.measure.events import find_sibilants
from ..core.measure.loudness import integrated_lufs
from ..core.measure.phrases import Span
from ..core.measure.spectrum import long_term_db, spectrogram_db
from ..core.measure.stages import level_histogram, read_stage
from ..core.mix.document import Bus, Lane, Session, flat_stages
from ..core.stages.base import Stage
from ..core.stages.compressor import Compressor
from ..core.stages.eq import Eq
from ..core.stages.limiter import Limiter
from ..core.warm import fingerprint
from ..store.sessions import State
from .pages import page
from .sound import Frame, check_range, opened, path_range, studio_of
from .studio import Hear, Studio, find_lane
from .svg import PLOT, ZONES, eq_paths, hanging_path, lay_route, spectrum_paths, steps_path

router = APIRouter()
OUT = "out"  # the end of the route: fader, pan, buses
SPECTROGRAM_HZ = np.geomspace(400, 16000, 150)
_phrase_loudness: dict[tuple[str, int, int, int], float] = {}
_events: dict[tuple[str, int], list[dict[str, Any]]] = {}


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
    """The stage to show: the wanted one if it is there, else the first EQ, else the first."""
    ids = [s.id for s in flat_stages(lane.stages)]
    if wanted in ids or wanted == OUT:
        return wanted
    first_eq = next((s.id for s in lane.stages if s.kind == "eq"), "")
    return first_eq or (ids[0] if ids else "")


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
    phrases, events = [], []
    if lane.sound:
        read = studio.sounds.reader(session.rate)
        for p in lane.phrases:
            key = (lane.sound.digest, p.start, p.end, session.rate)
            if key not in _phrase_loudness:
                _phrase_loudness[key] = studio.sounds.kept(
                    lane.sound.digest,
                    f"loudness-{p.start}-{p.end}-{session.rate}-{_measures()}",
                    partial(_loudness, read, *key),
                )
            phrases.append(
                {"id": p.id, "start": p.start, "end": p.end, "words": p.words, "lufs": round(_phrase_loudness[key], 1)}
            )
        events = sibilants(studio, session, lane)
    return {
        "session": state.id,
        "version": state.version,
        "screen": "lane",
        "lane": lane.id,
        "rate": session.rate,
        "frames": session.frames,
        "phrases": phrases,
        "events": events,
        "name": lane.name,
        "stages": [{"id": s.id, "name": s.label, "kind": s.kind, "on": s.on} for s in flat_stages(lane.stages)],
    }


def _loudness(read: SoundReader, digest: str, start: int, stop: int, rate: int) -> float:
    return integrated_lufs(read(digest, start, stop), rate)


def sibilants(studio: Studio, session: Session, lane: Lane) -> list[dict[str, Any]]:
    """Sibilants of the raw take, found once."""
    if lane.sound is None or lane.role == "music":
        return []
    sound, key = lane.sound, (lane.sound.digest, session.rate)

    def find() -> list[dict[str, Any]]:
        audio = studio.sounds.reader(session.rate)(sound.digest, 0, sound.frames)
        return [
            {"start": e.start, "end": e.end, "centre_hz": round(e.centre_hz), "excess_db": round(e.excess_db, 1)}
            for e in find_sibilants(audio, session.rate)
        ]

    if key not in _events:
        _events[key] = studio.sounds.kept(sound.digest, f"sibilants-{session.rate}-{_measures()}", find)
    return _events[key]


@lru_cache(maxsize=1)
def _measures() -> str:
    """Changes with the code that measures."""
    return blake2b(fingerprint().encode(), digest_size=6).hexdigest()


@router.get("/s/{session_id}/lane/{lane_id}", response_class=HTMLResponse)
def lane_page(request: Request, session_id: str, lane_id: str, stage: str = "", band: int = 0) -> HTMLResponse:
    """The whole screen."""
    studio, state = opened(request, session_id)
    lane = find_lane(state.session, lane_id)
    context = bench_context(state, lane, stage, band)
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
    state = studio_of(request).sessions.get(session_id)
    lane = find_lane(state.session, lane_id)
    context = bench_context(state, lane, stage, band)
    return page(
        request, "lane_body.html", state, screen="lane", lane=lane, route=lay_route(state.session, lane.id), **context
    )


def bench_context(state: State, lane: Lane, stage_id: str, band: int) -> dict[str, Any]:
    """What the bench of a stage needs."""
    chosen = choose_stage(lane, stage_id)
    kinds = [
        {"kind": k, "title": cls.title, "summary": cls.summary}
        for k, cls in sorted(Stage.kinds.items())
        if cls.insertable and k not in ("duck", "reverb")
    ]
    context: dict[str, Any] = {"stage": None, "stage_path": "", "kinds": kinds, "band": 0, "out": False}
    if chosen == OUT:
        return context | {"out": True, "buses_after": buses_after(state.session, lane)}
    if not chosen:
        return context
    stage, path = find_stage(state.session, lane, chosen)
    context |= {"stage": stage, "stage_path": path}
    if isinstance(stage, Eq):
        context |= {
            "eq": eq_paths(stage, state.session.rate),
            "plot": PLOT,
            "zones": ZONES,
            "band": min(max(band, 0), max(0, len(stage.bands) - 1)),
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
    if isinstance(stage, Eq):
        spans = [
            Span(max(p.start, first) - first, min(p.end, last) - first)
            for p in lane.phrases
            if p.start < last and p.end > first
        ]
        paths = spectrum_paths(long_term_db(before, rate, spans), long_term_db(after, rate, spans))
        return page(request, "picture_eq.svg", state, before=paths["before"], after=paths["after"])
    trace = found.trace(after_key)
    reading = read_stage(trace, first, last) if trace else None
    context: dict[str, Any] = {"stage": stage, "reading": reading, "session_rate": rate}
    context |= dynamics_picture(stage, before, after, trace, first, last, rate)
    return page(request, "picture_dynamics.svg", state, **context)


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
) -> Response:
    """Levels of the loop before (or after) a stage as bytes, 150 rows from high to low by 660 columns; 0 is −110 dB."""
    studio, state = opened(request, session_id)
    check_range(state, start, stop)
    found, _ = path_range(studio, state, hear, f"lane:{lane_id}", start, stop)
    place = "stage" if treated else "before"
    key = studio.graph(state).places.get(f"lane:{lane_id}:{place}:{stage_id}")
    if key is None:
        raise UnknownPlaceError(f"there is no stage “{stage_id}” on this lane")
    table = spectrogram_db(sound_of(found, key, first, last), state.session.rate, 660, SPECTROGRAM_HZ)[::-1]
    shades = np.clip((table + 110) / 90 * 255, 0, 255).astype(np.uint8)
    return Response(shades.tobytes(), media_type="application/octet-stream")
