"""The dynamics pass on the Lane screen: where to begin, makeup by loudness, word starts, share of the work."""

from functools import partial
from typing import Any

import numpy as np
from fastapi import Request
from fastapi.responses import HTMLResponse, JSONResponse, Response

from ...core.errors import UnknownPlaceError
from ...core.measure.level_change import LevelSummary, normalised, summarise
from ...core.measure.loudness import SILENCE_LUFS
from ...core.measure.onsets import find_onsets, onset_change, recovery
from ...core.measure.phrases import Span
from ...core.measure.thresholds import SPREADS, Spread, after
from ...core.mix.paths import Path, find_path, find_stage
from ...core.stages.compressor import Compressor
from ...core.stages.flat import flat_stages
from ...core.stages.limiter import Limiter
from ...store.state import State
from ...studio.beginnings import match_edits, noticed_edits, start_edits
from ...studio.figures import loudness
from ...studio.graphs import Hear
from ...studio.looking import in_and_out, path_range, share_of
from ...studio.studio import Studio, envelope
from ..drawing.dynamics import words_over
from ..drawing.paths import outline
from ..hands import Router, measuring
from ..opened import Here, Over
from ..pages import page
from .edits import told

router = Router()
ATTACKS_MS = (0.3, 1.0, 3.0, 10.0, 30.0)
_WIDE, _DEEP, _PER_DB = 640.0, 24.0, 5.0


@router.post("/s/{session_id}/lane/{lane_id}/start/{stage_id}")
@measuring
def start(
    request: Request, here: Here, over: Over, lane_id: str, stage_id: str, spread: Spread = "natural"
) -> JSONResponse:
    """Set a compressor, lift or multiband from what comes into it: over the whole take, on a bus over the loop."""
    (studio, state), (first, last, _) = here, over
    edits = start_edits(studio, state, find_path(state.session, lane_id), stage_id, (first, last), spread)
    return JSONResponse(told(studio.edit(state.id, edits, None, where=state.where, alternative=state.alternative)))


@router.post("/s/{session_id}/lane/{lane_id}/makeup/{stage_id}")
def makeup(request: Request, here: Here, over: Over, lane_id: str, stage_id: str, gesture: str = "") -> JSONResponse:
    """Set a stage's makeup so that the loop comes out as loud as it goes in (integrated loudness)."""
    (studio, state), (first, last, hear) = here, over
    path = find_path(state.session, lane_id)
    stage, place = find_stage(path, stage_id)
    if not stage.makes_up:
        raise UnknownPlaceError(f"“{stage.label}” has no makeup")
    before = in_and_out(studio, state, path, stage, hear, first, last)[0]
    edits = match_edits(stage, place, before, state.session.rate)
    if edits:
        state = studio.edit(state.id, edits, None, gesture, where=state.where, alternative=state.alternative)
    now, _ = find_stage(find_path(state.session, lane_id), stage_id)
    return JSONResponse(told(state) | {"makeup_db": getattr(now, "makeup_db", 0.0), "changed": bool(edits)})


@router.post("/s/{session_id}/lane/{lane_id}/noticed/{stage_id}")
@measuring
def noticed(request: Request, here: Here, over: Over, lane_id: str, stage_id: str) -> JSONResponse:
    """Turn a stage until what it does to the loop is just noticed."""
    (studio, state), (first, last, hear) = here, over
    path, rate = find_path(state.session, lane_id), state.session.rate
    stage, place = find_stage(path, stage_id)
    if not stage.noticed_by[0]:
        raise UnknownPlaceError(f"“{stage.label}” has nothing that is turned until it is just noticed")
    before = in_and_out(studio, state, path, stage, hear, first, last)[0]
    edits = noticed_edits(stage.at_tempo(state.session.tempo_bpm), place, before, rate, first)
    return JSONResponse(told(studio.edit(state.id, edits, None, where=state.where, alternative=state.alternative)))


@router.get("/s/{session_id}/lane/{lane_id}/work", response_class=HTMLResponse)
def work(request: Request, here: Here, over: Over, lane_id: str) -> HTMLResponse:
    """How much a path is turned down in each phrase of the loop [first, last), and by which stage."""
    (studio, state), (first, last, hear) = here, over
    path = find_path(state.session, lane_id)
    share = share_of(studio, state, path, hear, first, last)
    words = words_over(path, first, last, 0, _WIDE) or [{"x": 0, "width": _WIDE, "words": ""}]
    columns = []
    for k, w in enumerate(words[: len(share.totals_db)]):
        y, parts = 18.0, []
        for row, stage in enumerate(share.works):
            height = min(stage.phrases_db[k], _DEEP) * _PER_DB
            parts.append({"y": round(y, 1), "height": round(height, 1), "row": row, "db": stage.phrases_db[k]})
            y += height
        columns.append({**w, "parts": parts, "total_db": share.totals_db[k], "end": round(y, 1)})
    return page(request, "work.html", state, path=path, share=share, columns=columns, wide=_WIDE, say_of=_remark_words)


@router.get("/s/{session_id}/lane/{lane_id}/control/{stage_id}", response_class=HTMLResponse)
def control(request: Request, here: Here, over: Over, lane_id: str, stage_id: str) -> Response:
    """What a compressor does to word starts and whether it lets go before the next; what normalising would do instead
    of a limiter; what share of its path's work a stage does."""
    (studio, state), (first, last, hear) = here, over
    path, rate = find_path(state.session, lane_id), state.session.rate
    if stage_id not in {s.id for s in flat_stages(path.member.stages)}:
        return Response(status_code=204)
    stage, place = find_stage(path, stage_id)
    before, now = in_and_out(studio, state, path, stage, hear, first, last)
    context: dict[str, Any] = {
        "stage": stage,
        "stage_path": place,
        "onsets": None,
        "listened": isinstance(stage, Compressor) and stage.on,
        "instead": None,
        "mine": None,
        "quieter_db": None,
    }
    if isinstance(stage, Compressor) and stage.on:
        context |= _word_starts(studio, state, path, stage, before, now, hear, first, last)
        places = studio.graph(state).places
        keys = [places[f"{path.place}:{where}:{stage.id}"] for where in ("before", "stage")]
        heard = zip(keys, (before, now), strict=True)
        loud = [loudness(studio, key, (first, last), rate, partial(np.asarray, x)) for key, x in heard]
        context["quieter_db"] = loud[0] - loud[1] if min(loud) > SILENCE_LUFS else 0.0
    if isinstance(stage, Limiter):
        plain = normalised(before, rate, stage.ceiling_dbtp)
        context["instead"] = [_sketch("Limited", now, rate), _sketch("Normalised instead", plain, rate)]
    if stage.levels and any(s.id == stage_id for s in path.member.stages):
        share = share_of(studio, state, path, hear, first, last)
        mine = next((w for w in share.works if w.id == stage_id), None)
        remark = next((r for r in share.remarks if r.id == stage_id), None)
        context |= {"share": share, "mine": mine, "remark": _remark_words(remark) if remark else ""}
    return page(request, "control.html", state, path=path, spreads=SPREADS, **context)


def _word_starts(
    studio: Studio,
    state: State,
    path: Path,
    stage: Compressor,
    before: np.ndarray,
    now: np.ndarray,
    hear: Hear,
    first: int,
    last: int,
) -> dict[str, Any]:
    rate = state.session.rate
    phrases = path.timed_by.phrases if path.timed_by else ()
    spans = [
        Span(max(p.start - first, 0), min(p.end, last) - first) for p in phrases if p.start < last and p.end > first
    ]
    spans = spans or [Span(0, before.shape[1])]
    of = (
        studio.graph(state).places[f"{path.place}:before:{stage.id}"],
        first,
        last,
        *((s.start, s.end) for s in spans),
    )
    onsets = studio.onsets.get(of, lambda: find_onsets(before, rate, spans), studio.newest(state).check)
    change = onset_change(before, now, rate, onsets)
    found, _ = path_range(studio, state, hear, path.name, first, last)
    trace = found.trace(studio.graph(state).places[f"{path.place}:stage:{stage.id}"])
    tried = []
    for ms in ATTACKS_MS if change else ():
        studio.newest(state).check()
        other = after(stage.model_copy(update={"attack_ms": ms}), before, rate)
        would = onset_change(before, other, rate, onsets)
        if would:
            tried.append({"ms": ms, "db": would.change_db})
    back = recovery(trace, rate, [o + first for o in onsets]) if trace else None
    return {"onsets": change, "tried": tried, "back": back}


def _sketch(name: str, audio: np.ndarray, rate: int) -> dict[str, Any]:
    """A small waveform with its figures."""
    low, high = envelope(audio, 300)
    x = np.linspace(0, 300, 300)
    figures: LevelSummary = summarise(audio, rate)
    return {"name": name, "path": outline(low, high, x, lambda v: 24 - 22 * np.clip(v, -1, 1)), "told": figures}


def _remark_words(remark: Any) -> str:
    if remark.what == "alone":
        return f"{remark.name} turns down {remark.figure:.1f} dB alone: let another stage do a part of it"
    if remark.what == "most":
        return f"{remark.name} does {remark.figure:.0%} of all: share it out, or take the others away"
    return f"{remark.name} never works in this loop"
