"""What an EQ's bench shows of the sound: spectra of loop, phrase or moment, their peaks, and dynamic bands at work."""

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from fastapi import Request
from fastapi.responses import JSONResponse, Response

from ...core.axes import AXIS_HZ
from ...core.errors import UnknownPlaceError
from ...core.measure.phrases import Span
from ...core.measure.pitch import track_pitch
from ...core.measure.spectrum import find_peaks, long_term_db, moment_db
from ...core.mix.paths import Path, find_path, find_stage, place_of
from ...core.stages.eq import Band, Eq
from ...core.stages.eq_design import response
from ...core.units import note_name
from ...studio.looking import path_range, sound_of
from ...studio.recent import Recent
from ..drawing.eq import PLOT, spectrum_paths
from ..hands import Router
from ..opened import Frame, Here, Over
from ..pages import page

router = Router()
Of = Literal["loop", "phrase", "moment"]
MOMENT_S = 0.17
_HARMONICS = 10
_STEPS = 9


@dataclass(frozen=True)
class Comb:
    """The sung note as it stands on the axis: each harmonic from its lowest to its highest place."""

    note: str
    bars: list[dict[str, Any]]


# what comes into an EQ stays as it is while the EQ is set, and finding its pitch takes long
combs: Recent[Comb | None] = Recent(64)
coming_in: Recent[np.ndarray] = Recent(64)  # spectra


def eq_of(path: Path, stage_id: str) -> Eq:
    """The EQ of that id on a path; UnknownPlaceError where it is none."""
    stage, _ = find_stage(path, stage_id)
    if not isinstance(stage, Eq):
        raise UnknownPlaceError(f"“{stage.label}” is not an EQ")
    return stage


def comb_of(audio: np.ndarray, rate: int) -> Comb | None:
    """Harmonics of what is sung in (channels, frames); None where nothing is."""
    f0, _ = track_pitch(audio, rate)
    sung = f0[f0 > 0]
    if not len(sung):
        return None
    low, middle, high = (float(np.percentile(sung, p)) for p in (5, 50, 95))
    bars = [
        {"number": k, "from": round(float(PLOT.x(k * low)), 1), "to": round(float(PLOT.x(k * high)), 1)}
        for k in range(1, _HARMONICS + 1)
        if k * high < 18000
    ]
    wide = high / low > 1.03
    note = f"{low:.0f}–{high:.0f} Hz" if wide else f"{middle:.1f} Hz, {note_name(middle)}"
    return Comb(note, bars)


@router.get("/s/{session_id}/lane/{lane_id}/spectrum/{stage_id}")
def spectrum(
    request: Request, here: Here, over: Over, lane_id: str, stage_id: str, of: Of = "loop", at: Frame = 0
) -> Response:
    """Spectrum before and after an EQ over the loop [first, last), the phrase at `at`, or the moment there, as SVG."""
    (studio, state), (first, last, hear) = here, over
    path, rate = find_path(state.session, lane_id), state.session.rate
    eq_of(path, stage_id)
    found, _ = path_range(studio, state, hear, lane_id, first, last)
    graph = studio.graph(state)
    keys = [graph.places[f"{place_of(lane_id)}:{where}:{stage_id}"] for where in ("before", "stage")]
    before, after = (sound_of(found, key, first, last) for key in keys)
    at = min(max(at, first), last - 1) - first
    phrases = [
        Span(max(p.start, first) - first, min(p.end, last) - first)
        for p in (path.timed_by.phrases if path.timed_by else ())
    ]
    phrases = [p for p in phrases if p.end > p.start]
    whole = coming_in.get((keys[0], first, last, *phrases), lambda: long_term_db(before, rate, phrases))
    if of == "moment":
        half = round(MOMENT_S * rate / 2)
        a, b = max(0, at - half), min(before.shape[1], at + half)
        levels = [moment_db(x, rate, at) for x in (before, after)]
        heard, steady = before[:, a:b], after[:, a:b]
    else:
        chosen = phrases if of == "loop" else [p for p in phrases if p.start <= at < p.end] or phrases[:1]
        levels = [whole if of == "loop" else long_term_db(before, rate, chosen), long_term_db(after, rate, chosen)]
        parts = chosen or [Span(0, before.shape[1])]
        heard = np.concatenate([before[:, p.start : p.end] for p in parts], axis=1)
        steady = np.concatenate([after[:, p.start : p.end] for p in parts], axis=1)
    silent = bool(levels[0].max() < -110)
    paths = spectrum_paths(levels[0], levels[1], against=whole)
    peaks = [] if silent else _peaks(steady, rate, paths["offset"])
    place = keys[0], first, last, of, 0 if of == "loop" else at
    comb = None if silent else combs.get(place, lambda: comb_of(heard, rate))
    return page(request, "picture_eq.svg", state, **paths, peaks=peaks, comb=comb, plot=PLOT, silent=silent)


def _peaks(audio: np.ndarray, rate: int, offset: float) -> list[dict[str, Any]]:
    """The highest peaks of the drawn spectrum with their names, none over another."""
    shown: list[dict[str, Any]] = []
    for p in find_peaks(audio, rate):
        x = float(PLOT.x(p.frequency_hz))
        if any(abs(x - s["x"]) < 58 for s in shown) or len(shown) == 4 or not PLOT.left + 26 < x < PLOT.right - 30:
            continue
        name = f"{p.frequency_hz:.0f}" if p.frequency_hz < 1000 else f"{p.frequency_hz / 1000:.2f}k"
        y = float(PLOT.y((p.level_db + 4.5 * np.log2(p.frequency_hz / 1000) - offset) / 2.2 + 8))
        shown.append(
            {"x": round(x, 1), "y": round(max(PLOT.top + 32, y - 5), 1), "hz": name, "note": note_name(p.frequency_hz)}
        )
    return shown


@router.get("/s/{session_id}/lane/{lane_id}/motion/{stage_id}")
def motion(request: Request, here: Here, over: Over, lane_id: str, stage_id: str) -> JSONResponse:
    """What the dynamic bands of an EQ do over the loop: their gains, and curves to draw them with.

    `gains` holds a list of dB for each moving band, `points_per_s` of them; `curves` for each moving band the
    response in dB on the axis of the drawing at nine gains from none to the whole change.
    """
    (studio, state), (first, last, hear) = here, over
    path, rate = find_path(state.session, lane_id), state.session.rate
    eq = eq_of(path, stage_id)
    found, _ = path_range(studio, state, hear, lane_id, first, last)
    trace = found.trace(studio.graph(state).places[f"{place_of(lane_id)}:stage:{stage_id}"])
    if not eq.on or trace is None or trace.parts_db is None:
        return JSONResponse({"version": state.version, "gains": [], "curves": [], "first": first})
    a, b = ((frame - trace.start) // trace.hop for frame in (first, last))
    channels = studio.graph(state).nodes[studio.graph(state).places[f"{place_of(lane_id)}:before:{stage_id}"]].channels
    moving = [k for k, band in enumerate(eq.bands) if band in eq.moving_bands and _acts(band, channels)]
    axis = AXIS_HZ[::4]
    still = Eq(bands=tuple(x.model_copy(update={"dynamic": None}) for x in eq.bands)).response_db(axis, rate)
    return JSONResponse(
        {
            "version": state.version,
            "first": first,
            "points_per_s": rate / trace.hop,
            "bands": moving,
            "gains": [[round(float(v), 2) for v in row] for row in trace.parts_db[:, a:b]],
            "changes": [eq.bands[k].dynamic.change_db for k in moving],  # type: ignore[union-attr]
            "x": [round(float(v), 1) for v in PLOT.x(axis)],
            "still": [round(float(v), 2) for v in still],
            "curves": [_curves(eq.bands[k], axis, rate) for k in moving],
        }
    )


def _acts(band: Band, channels: int) -> bool:
    return channels == 2 or band.target in ("stereo", "middle")


def _curves(band: Band, axis: np.ndarray, rate: int) -> list[list[float]]:
    assert band.dynamic is not None
    gains = np.linspace(0, band.dynamic.change_db, _STEPS)
    rows = [20 * np.log10(np.maximum(np.abs(response(band.moving(float(g), rate), axis, rate)), 1e-6)) for g in gains]
    return [[round(float(v), 2) for v in row] for row in rows]
