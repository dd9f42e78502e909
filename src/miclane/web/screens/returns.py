"""What is done to returns on the Space screen: ducks begun and copied, levels found, responses brought in."""

from typing import Annotated, Any

import numpy as np
from fastapi import APIRouter, File, Request, UploadFile
from fastapi.responses import HTMLResponse, JSONResponse, Response

from ...core.errors import UnknownPlaceError, UnusableSoundError
from ...core.impulses import OCTAVES_HZ
from ...core.measure.audible import heard_share, just_heard_db
from ...core.measure.decay import decays_s
from ...core.measure.ducking import duck_start
from ...core.measure.phrases import Span
from ...core.mix.document import Return, Session
from ...core.mix.edits import Edit, Set
from ...core.mix.links import copy_edits
from ...core.stages.delay import Echo
from ...core.stages.duck import Duck
from ...core.stages.impulse import Impulse
from ...core.stages.reverb import Reverb
from ...core.units import beat_ms
from ...store.sessions import State
from ...studio.recent import Recent
from ...studio.studio import Studio
from ..pages import page
from .edits import told
from .shelf import received
from .sound import Frame, check_range, opened

router = APIRouter()
LONGEST_RESPONSE_S = 30.0
_decays: Recent[list[float | None]] = Recent(64)


def return_of(session: Session, identifier: str) -> Return:
    """The return of that id; UnknownPlaceError when there is none."""
    found = next((r for r in session.returns if r.id == identifier), None)
    if found is None:
        raise UnknownPlaceError(f"there is no return “{identifier}” in “{session.name}”")
    return found


def _duck_of(ret: Return) -> tuple[str, Duck]:
    duck = next((s for s in ret.stages if isinstance(s, Duck)), None)
    if duck is None:
        raise UnknownPlaceError(f"“{ret.name}” has no ducker")
    return f"returns/{ret.id}/stages/{duck.id}", duck


@router.post("/s/{session_id}/space/{return_id}/duck/begin")
def begin(request: Request, session_id: str, return_id: str) -> JSONResponse:
    """Set a return's ducker from the phrasing of the lane that keys it; refused where nothing is sung."""
    studio, state = opened(request, session_id)
    place, duck = _duck_of(return_of(state.session, return_id))
    lane = next((x for x in state.session.lanes if x.id == duck.key.lane), None)
    if lane is None or lane.sound is None:
        raise UnknownPlaceError("no take keys this return: choose a key first")
    graph = studio.graph(state)
    tap = {"raw": "raw", "treated": "treated", "after_fader": "out"}[duck.key.tap]
    dry = studio.takes.whole(
        graph, graph.places[f"lane:{lane.id}:{tap}"], lane.sound.frames, studio.renderer(graph.rate)
    )
    phrases, breaths = ([Span(x.start, x.end) for x in several] for several in (lane.phrases, lane.breaths))
    found = duck_start(duck, dry, graph.rate, phrases, breaths, state.session.tempo_bpm)
    if not found:
        return JSONResponse({"error": f"nothing is sung on “{lane.name}”: there is no phrasing to begin from"}, 422)
    edits: list[Edit] = [Set(path=f"{place}/{name}", value=value) for name, value in found.items()]
    return JSONResponse(told(studio.sessions.edit(session_id, edits, None)))


@router.post("/s/{session_id}/space/{return_id}/duck/copy")
def copy(request: Request, session_id: str, return_id: str) -> JSONResponse:
    """Give every other return's ducker the settings of this one; returns without one get it, after their effect."""
    studio, state = opened(request, session_id)
    place, duck = _duck_of(return_of(state.session, return_id))
    edits = copy_edits(state.session, place)
    for ret in state.session.returns:
        if ret.stages and not any(isinstance(s, Duck) for s in ret.stages) and any(s.effect for s in ret.stages):
            value = {**duck.model_dump(mode="json"), "id": f"{ret.id}duck"[:40]}
            edits.append(
                Set(path=f"returns/{ret.id}/stages", value=[s.model_dump(mode="json") for s in ret.stages] + [value])
            )
    if edits:
        state = studio.sessions.edit(session_id, edits, None)
    return JSONResponse({**told(state), "copied": len({e.path.split("/")[1] for e in edits})})


@router.post("/s/{session_id}/space/{return_id}/heard")
def heard(request: Request, session_id: str, return_id: str, first: Frame, last: Frame) -> JSONResponse:
    """Bring a return to where it is just heard in the mix over the loop [first, last), and tell what was measured."""
    studio, state = opened(request, session_id)
    check_range(state, first, last)
    ret, rate = return_of(state.session, return_id), state.session.rate
    wet, others = _with_and_without(studio, state, ret, first, last)
    gain = just_heard_db(wet, others, rate)
    if gain is None:
        return JSONResponse({"error": f"“{ret.name}” is silent in this loop: send something to it first"}, 422)
    level = round(float(np.clip(ret.fader_db + gain, -60, 12)), 1)
    state = studio.sessions.edit(session_id, [Set(path=f"returns/{ret.id}/fader_db", value=level)], None)
    before = heard_share(wet, others, rate)
    return JSONResponse(
        {**told(state), "fader_db": level, "moved_db": round(level - ret.fader_db, 1), "before": before}
    )


def _with_and_without(
    studio: Studio, state: State, ret: Return, first: int, last: int
) -> tuple[np.ndarray, np.ndarray]:
    """What a return adds to the mix over a loop, and the mix without it."""
    returns = tuple(r.model_copy(update={"mute": r.id == ret.id or r.mute}) for r in state.session.returns)
    others = studio.mix_of(state.session.model_copy(update={"returns": returns}), first, last)
    return studio.mix_of(state.session, first, last) - others, others


@router.post("/s/{session_id}/space/{return_id}/impulse/{stage_id}")
def bring(
    request: Request, session_id: str, return_id: str, stage_id: str, file: Annotated[UploadFile, File()]
) -> JSONResponse:
    """Take a sound file in as the response of an impulse stage; refused in words, and then nothing is changed."""
    studio, state = opened(request, session_id)
    ret = return_of(state.session, return_id)
    if not any(s.id == stage_id and isinstance(s, Impulse) for s in ret.stages):
        raise UnknownPlaceError(f"there is no impulse response “{stage_id}” on “{ret.name}”")
    with received(studio, file) as (path, name):
        sound = studio.sounds.add(path, name, state.session.rate)
    if sound.frames > LONGEST_RESPONSE_S * state.session.rate:
        raise UnusableSoundError(f"{name}: an impulse response is at most {LONGEST_RESPONSE_S:.0f} s long")
    place = f"returns/{return_id}/stages/{stage_id}"
    edits: list[Edit] = [
        Set(path=f"{place}/response", value=sound.digest),
        Set(path=f"{place}/response_name", value=name),
    ]
    return JSONResponse(told(studio.sessions.edit(session_id, edits, None)))


@router.get("/s/{session_id}/space/{return_id}/effect/{stage_id}", response_class=HTMLResponse)
def effect(request: Request, session_id: str, return_id: str, stage_id: str) -> Response:
    """What an effect does, drawn: decay of each octave as set and as measured, or repeats against the beat."""
    _, state = opened(request, session_id)
    ret, rate = return_of(state.session, return_id), state.session.rate
    stage = next((s for s in ret.stages if s.id == stage_id), None)
    if stage is None:
        return Response(status_code=204)
    if isinstance(stage, Echo):
        timed = stage.at_tempo(state.session.tempo_bpm)
        assert isinstance(timed, Echo)
        return page(request, "picture_repeats.svg", state, **repeats(timed, state.session.tempo_bpm))
    if not isinstance(stage, Reverb | Impulse):
        return Response(status_code=204)
    measured = _decays.get(
        (stage.model_dump_json(exclude={"id", "name", "on", "mix"}), rate), lambda: measure(stage, rate)
    )
    wanted = [stage.decay_at(f, rate) for f in OCTAVES_HZ] if isinstance(stage, Reverb) else []
    top = max([0.3, *(x for x in (*measured, *wanted) if x)]) * 1.1
    bars = [
        {
            "x": 34 + k * 44,
            "name": f"{f}" if f < 1000 else f"{f // 1000}k",
            "measured": m,
            "height": 62 * (m or 0) / top,
            "wanted_y": 74 - 62 * wanted[k] / top if wanted else None,
        }
        for k, (f, m) in enumerate(zip(OCTAVES_HZ, measured, strict=True))
    ]
    return page(request, "picture_decay.svg", state, bars=bars)


def measure(stage: Reverb | Impulse, rate: int) -> list[float | None]:
    """Decay of each octave of what a stage makes of an impulse, all cuts open."""
    open_ = stage.model_copy(update={"mix": 1.0, "predelay_ms": 0.0, "low_cut_hz": 20.0, "high_cut_hz": 20000.0})
    if isinstance(open_, Impulse):
        return decays_s(open_.response_at(rate), rate)
    x = np.zeros((1, round((1.5 * open_.decay_s + 0.5) * rate)))
    x[0, 0] = 1.0
    return decays_s(open_.build(rate, 1).process(x), rate)


def repeats(stage: Echo, tempo_bpm: float) -> dict[str, Any]:
    """Places and levels of the repeats over four beats, left and right."""
    beat = beat_ms("1/4", tempo_bpm)
    shown: list[dict[str, Any]] = []
    for side, step in (
        ("left", stage.time_ms),
        ("right", stage.other_ms if stage.sides == "two times" else stage.time_ms),
    ):
        for k in range(1, 33):
            level = 0.0 if k == 1 else 20 * np.log10(max(stage.feedback, 1e-4)) * (k - 1)
            at = k * step / (4 * beat)
            if at > 1 or level < -36:
                break
            if stage.sides == "alternating" and (k % 2 == 1) != (side == "left"):
                continue
            shown.append({"x": 8 + at * 320, "side": side, "height": 26 * (1 + level / 36), "db": level})
    return {"repeats": shown, "beats": [8 + k * 80 for k in range(5)], "ms": stage.time_ms, "beat_ms": beat}
