"""The Work screen: snapshots and what differs between them, and the steps of the history."""

import itertools
from typing import Any

from fastapi import Request
from fastapi.responses import HTMLResponse, JSONResponse
from pydantic import BaseModel, Field

from ...core.errors import MicLaneError
from ...core.mix.differing import Line, lines_between
from ...core.mix.document import Session
from ...store.state import State
from ...studio.blind import Blind
from ...studio.studio import Studio
from ..hands import Router
from ..opened import Here, Opened
from ..pages import page
from . import Nav
from .edits import told
from .lane import page_data

router = Router()
NAV = Nav("work", "Work", 60, lambda session, lane: "work")
SCRIPT = "versions"
NOW = "now"
_MOST_STEPS = 200


class Named(BaseModel):
    """What a snapshot is called, and what is to be remembered of it."""

    name: str = Field("", max_length=200)
    note: str = Field("", max_length=4000)


class Taking(BaseModel):
    """What is taken of a snapshot: the line of that place, or "" for all of it."""

    path: str = Field("", max_length=400)
    version: int = Field(ge=0)


@router.get("/s/{session_id}/work", response_class=HTMLResponse)
def work_page(request: Request, here: Here) -> HTMLResponse:
    """The whole screen."""
    studio, state = here
    lane = next(iter(state.session.lanes), None)
    data = page_data(studio, state, "work")
    return page(request, "versions.html", state, screen="work", data=data, lane=lane, **_context(here))


@router.get("/s/{session_id}/work/body", response_class=HTMLResponse)
def work_body(request: Request, here: Here) -> HTMLResponse:
    """What is in it, after a change."""
    return page(request, "versions_body.html", here.state, screen="work", **_context(here))


def _context(here: Opened) -> dict[str, Any]:
    studio, state, blind = *here, Blind(here.studio)
    steps = studio.sessions.history(state.id, _MOST_STEPS + 1)
    return {
        "snapshots": studio.snapshots.all(state.id),
        "steps": steps[:_MOST_STEPS],
        "more": max(0, state.steps + state.ahead - _MOST_STEPS),
        "hearings": blind.kept(state.id),
    }


@router.post("/s/{session_id}/snapshots")
def take_snapshot(here: Here, body: Named) -> JSONResponse:
    """Keep the session as it is under a name."""
    made = here.studio.snapshots.take(here.state, body.name, body.note)
    return JSONResponse({"id": made.id, "name": made.name}, 201)


@router.post("/s/{session_id}/snapshots/{snapshot_id}/describe")
def describe_snapshot(here: Here, snapshot_id: str, body: Named) -> JSONResponse:
    """Give a snapshot another name and note."""
    here.studio.snapshots.describe(here.state.id, snapshot_id, body.name, body.note)
    return JSONResponse({"id": snapshot_id})


@router.post("/s/{session_id}/snapshots/{snapshot_id}/delete")
def delete_snapshot(here: Here, snapshot_id: str) -> JSONResponse:
    """Forget a snapshot."""
    here.studio.snapshots.remove(here.state.id, snapshot_id)
    return JSONResponse({"id": snapshot_id})


@router.post("/s/{session_id}/snapshots/{snapshot_id}/take")
def take_back(here: Here, snapshot_id: str, body: Taking) -> JSONResponse:
    """Make the session as it was in a snapshot, or one line of it; a step that can be undone."""
    studio, state = here
    kept = studio.snapshots.get(state.id, snapshot_id)
    lines = lines_between(state.song, kept.session)
    label = f"back to “{kept.name}”"
    if body.path:
        lines = [x for x in lines if x.path == body.path]
        if not lines:
            raise MicLaneError(f"this does not differ from “{kept.name}” any more")
        label = f"{lines[0].text}, from “{kept.name}”"
    edits = [e for line in lines for e in line.edits]
    if not edits:
        raise MicLaneError(f"the session is as it was in “{kept.name}”")
    after = studio.sessions.edit(state.id, edits, body.version, label=label[:400], follow=bool(body.path))
    return JSONResponse(told(after))


@router.get("/s/{session_id}/work/lines", response_class=HTMLResponse)
def lines(request: Request, here: Here, one: str = NOW, other: str = NOW) -> HTMLResponse:
    """What differs from one snapshot (or `now`) to another, as lines grouped by lane."""
    studio, state = here
    sides = [_side(studio, state, which) for which in (one, other)]
    found = lines_between(sides[0][1], sides[1][1])
    groups = [(name, list(group)) for name, group in itertools.groupby(_ordered(found), key=lambda x: x.group)]
    context: dict[str, Any] = {"groups": groups, "names": [name for name, _ in sides], "count": len(found)}
    takes = other if one == NOW and other != NOW else ""
    return page(request, "versions_lines.html", state, screen="work", takes=takes, **context)


def _side(studio: Studio, state: State, which: str) -> tuple[str, Session]:
    if which == NOW:
        return "now", state.song
    kept = studio.snapshots.get(state.id, which)
    return kept.name, kept.session


def _ordered(found: list[Line]) -> list[Line]:
    """Those of one lane together, in the order in which they first come."""
    order = list(dict.fromkeys(x.group for x in found))
    return sorted(found, key=lambda x: order.index(x.group))


@router.post("/s/{session_id}/steps/{position}")
def go_to_step(here: Here, position: int) -> JSONResponse:
    """Take steps back, or make them again, until that one is the last."""
    return JSONResponse(told(here.studio.sessions.go_to(here.state.id, position)))


@router.get("/s/{session_id}/steps/{position}/built")
def built_on(here: Here, position: int) -> JSONResponse:
    """The labels of the steps that go with one when it is taken back alone."""
    rows = here.studio.sessions.built_on(here.state.id, position)
    return JSONResponse({"labels": [row.label for row in rows]})


@router.post("/s/{session_id}/steps/{position}/without")
def undo_step(here: Here, position: int) -> JSONResponse:
    """Take back one step, with those that were built on it, and leave all others."""
    return JSONResponse(told(here.studio.sessions.undo_alone(here.state.id, position)))
