"""The Fit screen: how clear the words are in the mix, what stands over them, and whose doing it is."""

import json
from typing import Any

import numpy as np
from fastapi import Request
from fastapi.responses import HTMLResponse, Response

from ...core.errors import MicLaneError
from ...core.measure.hearing import ERB_EDGES_HZ, ERBS
from ...core.measure.masking import Stands
from ...core.measure.pocket import WANTED
from ...core.measure.spectrum import long_term_db
from ...core.mix.document import Session
from ...core.mix.paths import find_path
from ...core.mix.voices import voices_of
from ...studio.answers import answers
from ...studio.fitting import Fit, fit_of, mean_clarity, sounds_of_phrase
from ...studio.pockets import held_db, pockets
from ...studio.room import rooms
from ..drawing.eq import spectrum_paths
from ..drawing.fit import AXES, PLOT, share_of
from ..hands import Router, measuring
from ..opened import LONGEST_S, Frame, Here, check_range
from ..pages import page
from . import Nav
from .lane import lane_data, page_data

router = Router()
NAV = Nav("fit", "Fit", 40, lambda session, lane: "fit")
SCRIPT = "fit"
_LOST = 0.35  # clarity of a word under which it is not understood
_FLOOR_DB = -40.0  # of the voice under its loudest place, where it is not drawn any more
_MOST_STANDS = 12


def voices(session: Session) -> list[tuple[str, str]]:
    """What may be the voice: path and name; the lead's lane first, then all other sung lanes and what they feed."""
    sung = [x for x in session.lanes if x.role != "music" and x.sound is not None]
    lanes = [(x.id, x.name) for x in sorted(sung, key=lambda x: x.role != "lead")]
    fed = {bus.id for x in sung for bus in session.buses_from(x.bus) if bus.id != "mix"}
    return lanes + [(f"bus:{b.id}", b.name) for b in session.buses if b.id in fed]


def _check(session: Session, first: int, last: int) -> None:
    if not first < last <= session.frames + session.rate:
        raise MicLaneError(f"from {first} to {last} is not a stretch of the song")


@router.get("/s/{session_id}/fit", response_class=HTMLResponse)
def fit_page(request: Request, here: Here, voice: str = "") -> HTMLResponse:
    """The whole screen."""
    studio, state = here
    chosen = voices_of(state.session, voice)
    lane = chosen[0] if chosen else None
    data = page_data(studio, state, "fit")
    if lane is not None:
        data = lane_data(studio, state, find_path(state.session, lane.id))
    data |= {"screen": "fit", "voice": voice}
    context: dict[str, Any] = {
        "voices": voices(state.session),
        "voice": voice or (lane.id if lane else ""),
        "lane": lane,
    }
    return page(request, "fit.html", state, screen="fit", data=data, **context)


@router.get("/s/{session_id}/fit/words", response_class=HTMLResponse)
@measuring
def words(request: Request, here: Here, first: Frame, last: Frame, voice: str = "") -> HTMLResponse:
    """The phrases of [first, last) with their words as clear as they are, and what stands over them."""
    studio, state = here
    _check(state.session, first, last)
    found = fit_of(studio, state, voice, first, last)
    context: dict[str, Any] = {
        "found": found,
        "left": lambda frame: round(100 * share_of(frame, first, last), 2),
        "lost": _LOST,
        "stands": [_told(found, s) for s in found.stands[:_MOST_STANDS]],
        "more": max(0, len(found.stands) - _MOST_STANDS),
        "mean": found.clarity,
        "mean_before": mean_clarity([s.before for s in found.phrases]),
        "music": any(name not in {x.id for x in voices_of(state.session, voice)} for name in found.masked.names),
    }
    return page(request, "fit_words.html", state, screen="fit", **context)


def _told(found: Fit, one: Stands) -> dict[str, Any]:
    """A line on what stands over a phrase."""
    sung = found.phrases[one.phrase]
    return {
        "name": found.names.get(one.name, one.name),
        "path": one.name,
        "number": sung.number,
        "words": sung.phrase.words or f"phrase {sung.number + 1}",
        "over_db": one.over_db,
        "low_hz": _round_hz(one.low_hz),
        "high_hz": _round_hz(one.high_hz),
        "lost": one.lost,
    }


def _round_hz(frequency_hz: float) -> str:
    return f"{round(frequency_hz / 10) * 10}" if frequency_hz < 1000 else f"{frequency_hz / 1000:.1f}k"


@router.get("/s/{session_id}/fit/answers", response_class=HTMLResponse)
@measuring
def fit_answers(request: Request, here: Here, first: Frame, last: Frame, voice: str = "") -> HTMLResponse:
    """What would let the words through, each measured, the smallest that is enough first."""
    studio, state = here
    _check(state.session, first, last)
    found = fit_of(studio, state, voice, first, last)
    told = answers(studio, state, voice, found)
    slips = [{"answer": a, "edits": [e.model_dump(mode="json") for e in a.edits]} for a in told.found]
    over = [s.over_rest_db for s in found.phrases if s.over_rest_db is not None]
    context: dict[str, Any] = {
        "slips": slips,
        "down": told.music_down_db,
        "wanted": WANTED,
        "clarity": found.clarity,
        "under_db": -float(np.mean(over)) if over else None,
    }
    return page(request, "fit_answers.html", state, screen="fit", **context)


@router.get("/s/{session_id}/fit/map")
@measuring
def fit_map(request: Request, here: Here, first: Frame, last: Frame, voice: str = "") -> Response:
    """What stands over the voice in [first, last), as bytes.

    The length of the JSON (four bytes, little-endian), the JSON {bands, places, edges_hz, names}, filled up with
    spaces to a multiple of four, and then three planes of bytes with a sign (bands, places): by how many half decibels
    all else stands over the voice (−128 where it does not sing), whose that is (the number in `names`, −1 nobody's),
    and the voice itself in half decibels under its loudest place. After them a row of bytes (places) for each band of
    each of the `pockets`: its gain in quarters of a decibel.
    """
    studio, state = here
    _check(state.session, first, last)
    found = fit_of(studio, state, voice, first, last)
    over = np.clip(np.nan_to_num(2 * found.masked.over_db, neginf=-128), -128, 127).astype(np.int8)
    own = 10 * np.log10(np.maximum(found.voice[ERBS], 1e-14)) if len(found.voice) else np.zeros(over.shape)
    own = np.clip(2 * (own - own.max(initial=-200.0)), 2 * _FLOOR_DB, 0).astype(np.int8)
    names = [
        {"path": name, "name": found.names.get(name, name), "kind": _kind(state.session, name)}
        for name in found.masked.names
    ]
    short = last - first <= LONGEST_S * state.session.rate
    taken = [p for p in pockets(studio, state, first, last) if p.stage.on] if short else []
    rows = [np.clip(4 * _fitted(b.gain_db, over.shape[1]), -128, 127).astype(np.int8) for p in taken for b in p.bands]
    head = {
        "version": state.version,
        "bands": over.shape[0],
        "places": over.shape[1],
        "edges_hz": [round(float(f), 1) for f in ERB_EDGES_HZ],
        "names": names,
        "pockets": [
            {"path": p.path, "stage": p.stage.id, "bands": [[round(b.low_hz), round(b.high_hz)] for b in p.bands]}
            for p in taken
        ],
    }
    text = json.dumps(head).encode()
    text += b" " * (-len(text) % 4)
    planes = b"".join(plane.tobytes() for plane in (over, found.masked.whose.astype(np.int8), own, *rows))
    return Response(len(text).to_bytes(4, "little") + text + planes, media_type="application/octet-stream")


@router.get("/s/{session_id}/fit/room", response_class=HTMLResponse)
@measuring
def room(request: Request, here: Here, first: Frame, last: Frame) -> HTMLResponse:
    """How full every bus is over the loop, and who fills it."""
    studio, state = here
    check_range(state, first, last)

    def minus(value: float, digits: int) -> str:
        return f"{value:.{digits}f}".replace("-", "\u2212").replace("\u22120.0", "0.0")

    return page(request, "fit_room.html", state, screen="fit", rooms=rooms(studio, state, first, last), minus=minus)


def _fitted(row: np.ndarray, count: int) -> np.ndarray:
    """A row cut to so many places, its last value held where it is shorter."""
    return np.pad(row, (0, max(0, count - len(row))), mode="edge")[:count]


def _kind(session: Session, name: str) -> str:
    return "space" if ":" in name else "music" if session.lane(name).role == "music" else "voice"


@router.get("/s/{session_id}/fit/both", response_class=HTMLResponse)
def both(
    request: Request, here: Here, first: Frame, last: Frame, number: int, name: str, voice: str = ""
) -> HTMLResponse:
    """Spectra of the voice and of what stands over it, as they come out of the mix, over a phrase."""
    studio, state = here
    session, lead = state.session, next(iter(voices_of(state.session, voice)), None)
    if lead is None or not 0 <= number < len(lead.phrases):
        raise MicLaneError(f"there is no phrase {number + 1} of a voice")
    phrase = lead.phrases[number]
    own, other = sounds_of_phrase(studio, state, voice, name, max(phrase.start, first), min(phrase.end, last))
    levels = [long_term_db(x, session.rate) for x in (other, own)]
    paths = spectrum_paths(levels[0], levels[1], PLOT, against=np.maximum(*levels))
    mine = [p for p in pockets(studio, state, first, last) if p.path == name]
    held = {(p.stage.id, b.number): held_db(b) for p in mine for b in p.bands}
    context: dict[str, Any] = {
        "pockets": mine,
        "held": held,
        "plot": PLOT,
        "axes": AXES,
        "other": find_path(session, name).member.name,
        "own": lead.name,
        "kind": _kind(session, name),
    }
    words_of = phrase.words or f"phrase {number + 1}"
    return page(request, "fit_both.svg", state, words=words_of, paths=paths, path=name, **context)
