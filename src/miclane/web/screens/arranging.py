"""A session's own screen: name, key and tempo; its lanes, returns and buses, their order, their files."""

from typing import Annotated, Any

from fastapi import File, Request, UploadFile
from fastapi.responses import HTMLResponse, JSONResponse
from pydantic import BaseModel, Field

from ...core.mix.edits import Edit, Set
from ...core.mix.members import bus_edits, copy_edits, removal_edits
from ...core.tonality import parse_key
from ...store.state import State
from ...studio.arranging import copy_session, replace_take, role_edits
from ...studio.importing import Role
from ...studio.studio import Studio
from ..hands import Router, measuring
from ..opened import Here, studio_of
from ..pages import page
from .edits import told
from .lane import page_data
from .shelf import drawn_small, received

router = Router()
SCRIPT = "arranging"
_ROLES: dict[Role, str] = {"lead": "lead", "backing": "backing", "music": "music"}


def _context(studio: Studio, state: State) -> dict[str, Any]:
    return {"screen": "session", "drawn": drawn_small(studio, state.session, 128), "roles": _ROLES}


@router.get("/s/{session_id}", response_class=HTMLResponse)
def session_page(request: Request, here: Here) -> HTMLResponse:
    """The whole screen."""
    studio, state = here
    data = page_data(studio, state, "session")
    return page(request, "session.html", state, data=data, **_context(studio, state))


@router.get("/s/{session_id}/members", response_class=HTMLResponse)
def members(request: Request, here: Here) -> HTMLResponse:
    """What may change of it alone."""
    return page(request, "session_again.html", here.state, **_context(*here))


class KeyTyped(BaseModel):
    """The key of the song, as it was typed."""

    text: str = Field(max_length=80)


@router.post("/s/{session_id}/key")
def set_key(request: Request, here: Here, body: KeyTyped) -> JSONResponse:
    """Set the key from what was typed: `Dm`, `F# dorian`, `D E F G A`; refused in words where it is none."""
    key: list[Edit] = [Set(path="key", value=parse_key(body.text))]
    return JSONResponse(told(here.studio.sessions.edit(here.state.id, key, None)))


@router.post("/s/{session_id}/members/{name}/delete")
def delete_member(request: Request, here: Here, name: str) -> JSONResponse:
    """Take a lane, a return (`return:ID`) or a bus (`bus:ID`) away; undo takes it back."""
    state = here.studio.sessions.edit(here.state.id, removal_edits(here.state.session, name), None)
    return JSONResponse(told(state))


@router.post("/s/{session_id}/members/{name}/copy")
def copy_member(request: Request, here: Here, name: str) -> JSONResponse:
    """Put a copy of a lane, return or bus beside it."""
    edits, copied = copy_edits(here.state.session, name)
    return JSONResponse({**told(here.studio.sessions.edit(here.state.id, edits, None)), "name": copied})


class NewBus(BaseModel):
    """A bus between some lanes and what they feed."""

    name: str = Field("New bus", min_length=1, max_length=120)
    lanes: list[str] = Field([], max_length=128)


@router.post("/s/{session_id}/buses")
def new_bus(request: Request, here: Here, body: NewBus) -> JSONResponse:
    """Put a bus between lanes and the bus that they feed."""
    known = {lane.id for lane in here.state.session.lanes}
    edits, identifier = bus_edits(here.state.session, body.name, [x for x in body.lanes if x in known])
    return JSONResponse({**told(here.studio.sessions.edit(here.state.id, edits, None)), "name": f"bus:{identifier}"})


class NewRole(BaseModel):
    """What a lane is."""

    role: Role


@router.post("/s/{session_id}/lane/{lane_id}/role")
@measuring
def set_role(request: Request, here: Here, lane_id: str, body: NewRole) -> JSONResponse:
    """Make a lane a lead, a backing or music."""
    edits = role_edits(here.studio, here.state.session, lane_id, body.role)
    return JSONResponse(told(here.studio.sessions.edit(here.state.id, edits, None)))


@router.post("/s/{session_id}/lane/{lane_id}/take")
@measuring
def set_take(
    request: Request,
    session_id: str,
    lane_id: str,
    file: Annotated[UploadFile, File()],
) -> JSONResponse:
    """Put another file on a lane and keep its chain. Refused as an import is, one that is cut short too."""
    studio = studio_of(request)
    with received(studio, file) as (path, name):
        return JSONResponse(told(replace_take(studio, session_id, lane_id, path, name)))


@router.post("/sessions/{session_id}/copy")
def copy_whole(request: Request, session_id: str) -> JSONResponse:
    """A session of its own that begins where this one is."""
    state = copy_session(studio_of(request), session_id)
    return JSONResponse({"id": state.id, "address": f"/s/{state.id}"}, 201)
