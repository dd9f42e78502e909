"""The dynamics pass on the Lane screen: where to begin, makeup by loudness, word starts, share of the work."""

from typing import Any

import numpy as np
from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse, JSONResponse, Response

from ...core.errors import UnknownPlaceError
from ...core.measure.blend import Told, normalised, tell
from ...core.measure.loudness import SILENCE_LUFS, integrated_lufs
from ...core.measure.onsets import find_onsets, onset_change, recovery
from ...core.measure.phrases import Span
from ...core.measure.share import Share, share_of_work
from ...core.measure.starts import SPREADS, Spread, after, compressor_start, lift_start, makeup_db, multiband_start
from ...core.mix.document import flat_stages
from ...core.mix.edits import Edit, Set
from ...core.mix.paths import Path, find_path
from ...core.stages.base import Stage
from ...core.stages.compressor import Compressor
from ...core.stages.lift import Lift
from ...core.stages.limiter import Limiter
from ...core.stages.multiband import Multiband
from ...store.sessions import State
from ...studio.studio import Hear, Studio, envelope
from ..drawing.dynamics import words_over
from ..drawing.paths import outline
from ..measuring import measuring
from ..pages import page
from .edits import told
from .lane import find_stage, sound_of
from .sound import Frame, check_range, opened, path_range

router = APIRouter()
ATTACKS_MS = (0.3, 1.0, 3.0, 10.0, 30.0)
_WIDE, _DEEP, _PER_DB = 640.0, 24.0, 5.0


@router.post("/s/{session_id}/lane/{lane_id}/start/{stage_id}")
@measuring
def start(
    request: Request,
    session_id: str,
    lane_id: str,
    stage_id: str,
    first: Frame,
    last: Frame,
    spread: Spread = "natural",
    hear: Hear = "lane",
) -> JSONResponse:
    """Set a compressor, lift or multiband from what comes into it: over the whole take, on a bus over the loop."""
    studio, state = opened(request, session_id)
    path, rate = find_path(state.session, lane_id), state.session.rate
    stage, place = find_stage(path, stage_id)
    check_range(state, first, last)
    audio = studio.coming_in(state, path, stage_id, (first, last))
    phrases = studio.phrases_in(path, (first, last))
    found: dict[str, Any]
    if isinstance(stage, Compressor):
        found = compressor_start(stage, audio, rate, phrases, spread)
    elif isinstance(stage, Lift):
        found = lift_start(stage, audio, rate, phrases)
    elif isinstance(stage, Multiband):
        several = multiband_start(stage, audio, rate, phrases)
        found = {f"bands/{k}/{name}": value for k, each in several.items() for name, value in each.items()}
    else:
        raise UnknownPlaceError(f"“{stage.label}” has no start of its own")
    if not found:
        return JSONResponse({"error": "nothing is sung here: there is nothing to begin from"}, 422)
    edits: list[Edit] = [Set(path=f"{place}/{name}", value=value) for name, value in found.items()]
    return JSONResponse(told(studio.sessions.edit(session_id, edits, None)))


@router.post("/s/{session_id}/lane/{lane_id}/makeup/{stage_id}")
def makeup(
    request: Request,
    session_id: str,
    lane_id: str,
    stage_id: str,
    first: Frame,
    last: Frame,
    hear: Hear = "lane",
    gesture: str = "",
) -> JSONResponse:
    """Set a compressor's makeup so that the loop comes out as loud as it goes in (integrated loudness)."""
    studio, state = opened(request, session_id)
    check_range(state, first, last)
    path = find_path(state.session, lane_id)
    stage, place = find_stage(path, stage_id)
    if not isinstance(stage, Compressor):
        raise UnknownPlaceError(f"“{stage.label}” has no makeup")
    before = _pair(studio, state, path, stage, hear, first, last)[0]
    by = makeup_db(stage, before, state.session.rate)
    if by is None:
        return JSONResponse({"error": "the loop is silent here: nothing tells how loud it should be"}, 422)
    wanted = round(float(np.clip(stage.makeup_db + by, -24, 36)), 1)
    if abs(wanted - stage.makeup_db) < 0.05:
        return JSONResponse(told(state) | {"makeup_db": stage.makeup_db, "changed": False})
    state = studio.sessions.edit(session_id, [Set(path=f"{place}/makeup_db", value=wanted)], None, gesture)
    return JSONResponse(told(state) | {"makeup_db": wanted, "changed": True})


@router.get("/s/{session_id}/lane/{lane_id}/work", response_class=HTMLResponse)
def work(
    request: Request, session_id: str, lane_id: str, first: Frame, last: Frame, hear: Hear = "lane"
) -> HTMLResponse:
    """How much a path is turned down in each phrase of the loop [first, last), and by which stage."""
    studio, state = opened(request, session_id)
    check_range(state, first, last)
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
def control(
    request: Request, session_id: str, lane_id: str, stage_id: str, first: Frame, last: Frame, hear: Hear = "lane"
) -> Response:
    """What a compressor does to word starts and whether it lets go before the next; what normalising would do instead
    of a limiter; what share of its path's work a stage does."""
    studio, state = opened(request, session_id)
    check_range(state, first, last)
    path, rate = find_path(state.session, lane_id), state.session.rate
    if stage_id not in {s.id for s in flat_stages(path.member.stages)}:
        return Response(status_code=204)
    stage, place = find_stage(path, stage_id)
    before, now = _pair(studio, state, path, stage, hear, first, last)
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
        loudness = [integrated_lufs(x, rate) for x in (before, now)]
        context["quieter_db"] = loudness[0] - loudness[1] if min(loudness) > SILENCE_LUFS else 0.0
    if isinstance(stage, Limiter):
        plain = normalised(before, rate, stage.ceiling_dbtp)
        context["instead"] = [_sketch("Limited", now, rate), _sketch("Normalised instead", plain, rate)]
    if stage.levels and any(s.id == stage_id for s in path.member.stages):
        share = share_of(studio, state, path, hear, first, last)
        mine = next((w for w in share.works if w.id == stage_id), None)
        remark = next((r for r in share.remarks if r.id == stage_id), None)
        context |= {"share": share, "mine": mine, "remark": _remark_words(remark) if remark else ""}
    return page(request, "control.html", state, path=path, spreads=SPREADS, **context)


def share_of(studio: Studio, state: State, path: Path, hear: Hear, first: int, last: int) -> Share:
    """Share of the work of the stages in a row on a path over a loop."""
    found, _ = path_range(studio, state, hear, path.name, first, last)
    places = studio.graph(state).places
    stages = []
    for s in path.member.stages:
        trace = found.trace(places[f"{path.place}:stage:{s.id}"]) if s.on and s.levels else None
        if trace is not None:
            stages.append((s.id, s.label, trace, isinstance(s, Multiband)))
    phrases = [Span(p.start, p.end) for p in (path.timed_by.phrases if path.timed_by else ())]
    return share_of_work(stages, phrases, first, last)


def _pair(
    studio: Studio, state: State, path: Path, stage: Stage, hear: Hear, first: int, last: int
) -> tuple[np.ndarray, np.ndarray]:
    """What comes into a stage and what comes out over the loop."""
    found, _ = path_range(studio, state, hear, path.name, first, last)
    places = studio.graph(state).places
    keys = [places[f"{path.place}:{where}:{stage.id}"] for where in ("before", "stage")]
    return sound_of(found, keys[0], first, last), sound_of(found, keys[1], first, last)


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
    onsets = find_onsets(before, rate, spans or [Span(0, before.shape[1])])
    change = onset_change(before, now, rate, onsets)
    found, _ = path_range(studio, state, hear, path.name, first, last)
    trace = found.trace(studio.graph(state).places[f"{path.place}:stage:{stage.id}"])
    tried = []
    for ms in ATTACKS_MS if change else ():
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
    figures: Told = tell(audio, rate)
    return {"name": name, "path": outline(low, high, x, lambda v: 24 - 22 * np.clip(v, -1, 1)), "told": figures}


def _remark_words(remark: Any) -> str:
    if remark.what == "alone":
        return f"{remark.name} turns down {remark.figure:.1f} dB alone: let another stage do a part of it"
    if remark.what == "most":
        return f"{remark.name} does {remark.figure:.0%} of all: share it out, or take the others away"
    return f"{remark.name} never works in this loop"
