"""What is done to returns on the Space screen: ducks begun and copied, levels found, responses brought in."""

from typing import Annotated, Any

import numpy as np
from fastapi import File, Request, UploadFile
from fastapi.responses import HTMLResponse, JSONResponse, Response

from ...core.errors import UnknownPlaceError, UnusableSoundError
from ...core.impulses import OCTAVES_HZ
from ...core.measure.decay import decays_s
from ...core.mix.edits import Edit, Set
from ...core.stages.delay import Echo
from ...core.stages.impulse import Impulse
from ...core.stages.reverb import Reverb
from ...core.units import beat_ms
from ...studio.ducking import copied_edits, just_heard, phrasing_edits, return_of
from ...studio.recent import Recent
from ..hands import Router
from ..opened import Frame, Here, check_range
from ..pages import page
from .edits import told
from .shelf import received

router = Router()
LONGEST_RESPONSE_S = 30.0
_decays: Recent[list[float | None]] = Recent(64)


@router.post("/s/{session_id}/space/{return_id}/duck/begin")
def begin(request: Request, here: Here, return_id: str) -> JSONResponse:
    """Set a return's ducker from the phrasing of the lane that keys it; refused where nothing is sung."""
    studio, state = here
    edits = phrasing_edits(studio, state, return_of(state.session, return_id))
    return JSONResponse(told(studio.edit(state.id, edits, None, where=state.where, alternative=state.alternative)))


@router.post("/s/{session_id}/space/{return_id}/duck/copy")
def copy(request: Request, here: Here, return_id: str) -> JSONResponse:
    """Give every other return's ducker the settings of this one; returns without one get it, after their effect."""
    studio, state = here
    edits = copied_edits(state.session, return_of(state.session, return_id))
    if edits:
        state = studio.edit(state.id, edits, None, where=state.where, alternative=state.alternative)
    return JSONResponse({**told(state), "copied": len({e.path.split("/")[1] for e in edits})})


@router.post("/s/{session_id}/space/{return_id}/heard")
def heard(request: Request, here: Here, return_id: str, first: Frame, last: Frame) -> JSONResponse:
    """Bring a return to where it is just heard in the mix over the loop [first, last), and tell what was measured."""
    studio, state = here
    check_range(state, first, last)
    ret = return_of(state.session, return_id)
    level, before = just_heard(studio, state, ret, (first, last))
    state = studio.edit(
        state.id,
        [Set(path=f"returns/{ret.id}/fader_db", value=level)],
        None,
        where=state.where,
        alternative=state.alternative,
    )
    return JSONResponse(
        {**told(state), "fader_db": level, "moved_db": round(level - ret.fader_db, 1), "before": before}
    )


@router.post("/s/{session_id}/space/{return_id}/impulse/{stage_id}")
def bring(
    request: Request, here: Here, return_id: str, stage_id: str, file: Annotated[UploadFile, File()]
) -> JSONResponse:
    """Take a sound file in as the response of an impulse stage; refused in words, and then nothing is changed."""
    studio, state = here
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
    return JSONResponse(told(studio.edit(state.id, edits, None, where=state.where, alternative=state.alternative)))


@router.get("/s/{session_id}/space/{return_id}/effect/{stage_id}", response_class=HTMLResponse)
def effect(request: Request, here: Here, return_id: str, stage_id: str) -> Response:
    """What an effect does, drawn: decay of each octave as set and as measured, or repeats against the beat."""
    _, state = here
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
