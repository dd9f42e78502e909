"""The notes of a tune: found, moved, cut and joined; the scale they go to."""

from typing import Annotated, Any

from fastapi import Query, Request
from fastapi.responses import JSONResponse

from ...core.errors import UnknownPlaceError
from ...core.measure.key import key_of
from ...core.measure.notes import cut_note, join_notes
from ...core.mix.edits import Edit, Set
from ...core.mix.paths import find_path
from ...core.stages.tune import SungNote, Tune
from ...core.tonality import name_of_class
from ...core.units import note_of
from ...studio.tuning import note_edits, tune_of
from ..hands import Router, measuring
from ..opened import Here
from .edits import told

router = Router()
NATURALS = (0, 2, 4, 5, 7, 9, 11)


def tune_context(stage: Tune, place: str, key: str, chosen: int, sung: list[SungNote]) -> dict[str, Any]:
    """What the bench of a tune needs: the notes of an octave, which are allowed, and the note that is chosen.

    `sung` are notes of all that is sung and known, which tell the key.
    """
    placed = stage.in_key(key)
    assert isinstance(placed, Tune)
    allowed = placed.allowed
    note = stage.notes[chosen] if 0 <= chosen < len(stage.notes) else None
    context: dict[str, Any] = {
        "scale_notes": [
            {
                "name": name_of_class(c),
                "on": c in allowed,
                "natural": c in NATURALS,
                "without": _spelt([x for x in allowed if x != c] if c in allowed else sorted((*allowed, c))),
                "last": c in allowed and len(allowed) <= 3,
            }
            for c in range(12)
        ],
        "scale_own": bool(stage.scale),
        "scale_is": stage.scale or key or "all twelve notes",
        "song_key": key,
        "sung_key": key_of(sung),
        "moved": sum(placed.active(n) for n in stage.notes),
        "left": _left(placed),
        "note": None,
    }
    if note is not None:
        context |= {
            "band": chosen,
            "note": note,
            "note_path": f"{place}/notes/{note.id or chosen}",
            "note_is": note_of(note.pitch),
            "note_to": note_of(placed.goes_to(note)),
            "note_target": placed.target(note),
            "note_why": WHY.get(placed.why_not(note), ""),
            "note_next": chosen + 1 < len(stage.notes) and stage.notes[chosen + 1].start_s - note.end_s < 0.15,
            "note_steps": _steps(placed, note),
        }
    return context


WHY = {
    "short": "too short to be told surely: left alone",
    "rough": "rough or breathy: left alone",
    "fast": "moves too fast to be one note: left alone",
    "brief": "shorter than what is tuned",
    "in tune": "near enough: left alone",
    "by hand": "left alone by hand",
}


def _left(stage: Tune) -> list[str]:
    """How many notes are left alone for what reason, in words."""
    names = {"short": "too short", "fast": "too fast"}
    found = [stage.why_not(n) for n in stage.notes]
    return [f"{found.count(why)} {names.get(why, why)}" for why in WHY if why in found]


def _steps(stage: Tune, note: SungNote) -> dict[str, float]:
    """The allowed notes next above and below where a note goes."""
    at = stage.target(note) if stage.active(note) or note.to is not None else note.pitch
    allowed = [m for m in range(20, 111) if m % 12 in stage.allowed]
    return {
        "up": next((m for m in allowed if m > at + 0.01), 110),
        "down": next((m for m in reversed(allowed) if m < at - 0.01), 20),
    }


def _spelt(classes: Any) -> str:
    return " ".join(name_of_class(c) for c in classes)


@router.post("/s/{session_id}/lane/{lane_id}/notes/{stage_id}")
@measuring
def find(
    request: Request, here: Here, lane_id: str, stage_id: str, clear: Annotated[bool, Query()] = False
) -> JSONResponse:
    """Find the notes of what comes in; those set by hand stay, unless `clear`."""
    studio, state = here
    edits = note_edits(studio, state, find_path(state.session, lane_id), stage_id, clear)
    if edits:
        state = studio.edit(state.id, edits, None, where=state.where, alternative=state.alternative)
    return JSONResponse(told(state))


@router.post("/s/{session_id}/lane/{lane_id}/notes/{stage_id}/{note_id}")
def change(
    request: Request, here: Here, lane_id: str, stage_id: str, note_id: str, does: str, at_s: float = 0.0
) -> JSONResponse:
    """Cut a note in two at a moment, join it with the next, or have it as it was found (`cut`, `join`, `found`)."""
    studio, state = here
    stage, place = tune_of(find_path(state.session, lane_id), stage_id)
    k = next((k for k, n in enumerate(stage.notes) if (n.id or str(k)) == note_id), None)
    if k is None:
        raise UnknownPlaceError(f"there is no note “{note_id}” in “{stage.label}”")
    if does == "cut":
        notes = cut_note(stage.notes, k, at_s)
    elif does == "join":
        notes = join_notes(stage.notes, k)
    elif does == "found":
        plain = {"to": None, "vibrato": 1.0, "drift": 1.0, "off": False}
        notes = (*stage.notes[:k], stage.notes[k].model_copy(update=plain), *stage.notes[k + 1 :])
    else:
        raise UnknownPlaceError(f"nothing is called “{does}” that a note could do")
    edits: list[Edit] = [Set(path=f"{place}/notes", value=[n.model_dump(exclude_defaults=True) for n in notes])]
    return JSONResponse(told(studio.edit(state.id, edits, None, where=state.where, alternative=state.alternative)))
