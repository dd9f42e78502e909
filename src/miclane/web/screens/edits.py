"""Edits from the browser: applied, kept, answered with what follows from them."""

import asyncio
import time
from dataclasses import dataclass, replace
from typing import Annotated, Any

from fastapi import Request
from fastapi.responses import JSONResponse, Response, StreamingResponse
from pydantic import BaseModel, Field
from starlette.concurrency import run_in_threadpool

from ...core.engine.graph import Graph
from ...core.errors import ConflictError, MicLaneError
from ...core.mix.document import Session
from ...core.mix.edits import Edit, Insert, Set
from ...core.mix.paths import path_names
from ...core.mix.places import along, rule_at
from ...core.mix.sections import SONG, Where, where_of
from ...core.mix.together import spread
from ...core.stages.eq import Eq
from ...core.units import held, parse_value
from ...store.state import State
from ...studio.graphs import Hear
from ...studio.studio import Studio
from ..ahead import BYTES, Ahead, in_two, part
from ..drawing.eq import eq_paths
from ..hands import Router
from ..opened import check_range, studio_of
from .sound import side_by_side

router = Router()
MOST_EDITS = 400
OFF = ("off", "-inf", "−inf", "-∞", "−∞")
Version = Annotated[int | None, Field(ge=0, le=2**53)]


class Listening(BaseModel):
    """What a window is playing: frames [start, stop) under its playhead, of the loop [first, last)."""

    lane: str = Field(max_length=40)
    hear: Hear
    start: int = Field(ge=0)
    stop: int = Field(ge=0)
    first: int = Field(ge=0)
    last: int = Field(ge=0)


class EditRequest(BaseModel):
    """Edits made against version `base`; those of one drag share a `gesture`. A window that plays says what.

    A `token` names them: sent again with the same one, they are not made again. Those of one of the lanes in `also` are
    made on all of these. `where` (core.mix.sections.Where) and `alternative` are as what the session is seen.
    """

    edits: list[Edit] = Field(max_length=MOST_EDITS)
    base: Version = None
    gesture: str = Field("", max_length=400)
    token: str = Field("", max_length=60)
    also: list[str] = Field([], max_length=128)
    where: str = Field("", max_length=9000)
    alternative: str = Field("", max_length=40)
    listening: Listening | None = None


class TypedRequest(BaseModel):
    """What was typed for the number at `path`."""

    path: str = Field(max_length=400)
    text: str = Field(max_length=60)
    base: Version = None
    also: list[str] = Field([], max_length=128)
    where: str = Field("", max_length=9000)
    alternative: str = Field("", max_length=40)


def told(state: State, edits: list[Edit] | None = None) -> dict[str, Any]:
    """What a page must know after a change: version, history, and curves of the EQs that were touched."""
    asked = {e.path for e in edits or []} if state.where else set()
    followed = [(path, value) for e in state.followed for path, value in _set_there(state, e) if path not in asked]
    return {
        "version": state.version,
        "steps": state.steps,
        "ahead": state.ahead,
        "undo_label": state.undo_label,
        "redo_label": state.redo_label,
        "curves": curves(state.session, edits or []),
        "paths": path_names(state.session),
        "alternative_ids": [x.id for x in state.song.alternatives],
        "followed": [{"path": path, "value": value} for path, value in followed],
    }


def _set_there(state: State, edit: Edit) -> list[tuple[str, Any]]:
    """What an edit set where the session is looked at: path and value."""
    if state.alternative:
        return []
    if not state.where:
        return [(edit.path, edit.value)] if isinstance(edit, Set) else []
    parts = edit.path.split("/")
    if parts[0] != "local_values":
        return []
    name = edit.value["id"] if isinstance(edit, Insert) else parts[1]
    local = next((x for x in state.song.local_values if x.id == name), None)
    return [(local.path, local.value)] if local is not None and where_of(local) == state.where else []


def curves(session: Session, edits: list[Edit]) -> dict[str, Any]:
    """Paths of the EQ curves whose stage an edit reached into, by `path of the stage`."""
    found: dict[str, Any] = {}
    for edit in edits:
        for place, stage in along(session, edit.path):
            if isinstance(stage, Eq):
                found[place] = eq_paths(stage, session.rate)
    return found


@router.post("/s/{session_id}/edits")
async def edit(request: Request, session_id: str, body: EditRequest) -> Response:
    """Apply edits; 409 with the newest version when they clash with a change made elsewhere.

    To a window that plays the answer is one part or two, each of bytes: the length of the JSON (four, little-endian),
    the JSON filled up with spaces to a multiple of four, and new sound under its playhead as stereo floats, left before
    right, `bytes` of them. Where there are two, the first is what will be heard and comes before the edit is written;
    the last is what came of it, `refused` (a status) among it where it was not kept after all.
    """
    studio = studio_of(request)
    if body.listening is None:
        return await run_in_threadpool(_edited, studio, session_id, body)
    ahead = Ahead()
    work = asyncio.create_task(run_in_threadpool(_edited, studio, session_id, body, ahead))
    await asyncio.wait((work, ahead.part), return_when=asyncio.FIRST_COMPLETED)
    if not ahead.part.done():
        return await work
    return StreamingResponse(in_two(ahead, work), media_type=BYTES)


def _edited(studio: Studio, session_id: str, body: EditRequest, ahead: Ahead | None = None) -> Response:
    begun = time.perf_counter()
    foresight: list[Foreseen] = []

    def sounds_ahead(state: State) -> None:
        assert body.listening is not None and ahead is not None
        applied = time.perf_counter()
        studio.newest(state)
        seen = state.seen(SONG, body.alternative)
        graph = studio.graphs.foreseen(seen)
        if sound := _soon(studio, seen, body.listening, graph):
            foresight.append(Foreseen(state, seen, graph))
            ahead.send(part({"version": state.version, **_spent(begun, applied)}, sound))

    with studio.gate.urgent():
        try:
            edits = body.edits
            if len(body.also) > 1:
                edits = spread(studio.sessions.get(session_id).seen(SONG, body.alternative).session, edits, body.also)
            where = Where.read(body.where)
            foreseen = sounds_ahead if ahead is not None else None
            state = studio.edit(
                session_id, edits, body.base, body.gesture, body.token, where, body.alternative, foreseen
            )
            state = replace(state, followed=(*edits[len(body.edits) :], *state.followed))
        except ConflictError as error:
            return clash(studio, session_id, error)
        studio.newest(state)
        answer = told(state.seen(where, body.alternative), body.edits)
        if body.listening is None:
            return JSONResponse(answer)
        if foresight and foresight[0].state.session is state.session:
            studio.graphs.keep(foresight[0].seen, foresight[0].graph)
            return Response(part(answer), media_type=BYTES)
        applied = time.perf_counter()
        sound = _soon(studio, state.seen(SONG, body.alternative), body.listening)
        return Response(part(answer | _spent(begun, applied), sound), media_type=BYTES)


@dataclass(frozen=True)
class Foreseen:
    """A state whose sound went out before it was kept, and as it is heard."""

    state: State
    seen: State
    graph: Graph


def _spent(begun: float, applied: float) -> dict[str, float]:
    return {"applied_ms": 1000 * (applied - begun), "render_ms": 1000 * (time.perf_counter() - applied)}


def _soon(studio: Studio, state: State, at: Listening, graph: Graph | None = None) -> bytes:
    """The new sound under the playhead; nothing where there is none to be had (the edit is kept all the same)."""
    try:
        check_range(state, at.start, at.stop)
        check_range(state, at.first, at.last)
        loop = at.first, at.last
        return side_by_side(studio.preview(state, at.hear, at.lane, at.start, at.stop, loop, graph=graph))
    except MicLaneError:
        return b""


def clash(studio: Studio, session_id: str, error: ConflictError) -> JSONResponse:
    """The refusal of an edit that clashes, with the newest state, so that the next one does not."""
    return JSONResponse({"error": str(error), **told(studio.sessions.get(session_id))}, 409)


@router.post("/s/{session_id}/typed")
def typed(request: Request, session_id: str, body: TypedRequest) -> JSONResponse:
    """Set a number from what was typed: `1.5k`, `c5`, `1/8`, `−3,5 dB`, `-inf`. Refused in words beyond its ends."""
    studio = studio_of(request)
    where = Where.read(body.where)
    session = studio.sessions.get(session_id).seen(where, body.alternative).session
    rule = rule_at(session, body.path)
    if rule["off"] is not None and body.text.strip().lower().removesuffix("db").strip() in OFF:
        value = rule["off"]
    else:
        value = parse_value(body.text, rule["unit"], session.tempo_bpm)
        value = held(value, rule["low"], rule["high"], rule["unit"], rule["label"])
    change: list[Edit] = [Set(path=body.path, value=value)]
    if len(body.also) > 1:
        change = spread(session, change, body.also)
    try:
        state = studio.edit(session_id, change, body.base, where=where, alternative=body.alternative)
        state = replace(state, followed=(*change[1:], *state.followed))
    except ConflictError as error:
        return clash(studio, session_id, error)
    return JSONResponse({**told(state.seen(where, body.alternative), change), "value": value})


@router.post("/s/{session_id}/undo")
def undo(request: Request, session_id: str) -> JSONResponse:
    """Take the last step back."""
    return JSONResponse(told(studio_of(request).sessions.undo(session_id)))


@router.post("/s/{session_id}/redo")
def redo(request: Request, session_id: str) -> JSONResponse:
    """Make the step again that was taken back last."""
    return JSONResponse(told(studio_of(request).sessions.redo(session_id)))


@router.get("/s/{session_id}/version")
def version(request: Request, session_id: str) -> JSONResponse:
    """The newest version, for windows that look whether another one has changed something."""
    return JSONResponse(told(studio_of(request).sessions.get(session_id)))
