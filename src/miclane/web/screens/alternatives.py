"""Alternatives: made, renamed, kept, dropped, put into one another; how loud each of them is."""

from typing import Any

from fastapi import Request
from fastapi.responses import JSONResponse
from pydantic import BaseModel, Field

from ...core.measure.equal import gains_db
from ...core.mix.alternatives import alternative_of, drop_edits, keep_edits, make_edits, put_edits, told_of
from ...core.mix.edits import Set
from ...core.mix.sections import SONG
from ...studio.figures import loudness
from ...studio.graphs import Hear
from ..hands import Router, measuring
from ..opened import Here, Over
from .edits import told

router = Router()


class Making(BaseModel):
    """What an alternative is of (a path, "" for the mix), what it lies over, what it is called."""

    scope: str = Field("", max_length=400)
    under: str = Field("", max_length=40)
    name: str = Field("", max_length=60)


class Putting(BaseModel):
    """A difference by its place, and the alternative into which it is put ("" the session)."""

    path: str = Field(max_length=400)
    target: str = Field("", max_length=40)


@router.get("/s/{session_id}/alternatives")
def alternatives(here: Here) -> JSONResponse:
    """All of them with their lines."""
    return JSONResponse(told_of(here.state.song))


@router.post("/s/{session_id}/alternatives")
def make(here: Here, body: Making) -> JSONResponse:
    """Make one of what is there."""
    edits, identifier = make_edits(here.state.song, body.scope, body.under, body.name)
    after = here.studio.sessions.edit(here.state.id, edits, None, label=f"alternative {_name(edits)}")
    return JSONResponse({**told(after), "id": identifier, "alternatives": told_of(after.session)}, 201)


def _name(edits: list[Any]) -> str:
    return str(edits[0].value["name"])


@router.post("/s/{session_id}/alternatives/{identifier}/keep")
def keep(here: Here, identifier: str) -> JSONResponse:
    """Make the session what it is with one."""
    return _done(here, keep_edits(here.state.song, identifier), identifier, "kept")


@router.post("/s/{session_id}/alternatives/{identifier}/drop")
def drop(here: Here, identifier: str) -> JSONResponse:
    """Take one away."""
    return _done(here, drop_edits(here.state.song, identifier), identifier, "dropped")


def _done(here: Here, edits: list[Any], identifier: str, word: str) -> JSONResponse:
    name = alternative_of(here.state.song, identifier).name
    after = here.studio.sessions.edit(here.state.id, edits, None, label=f"alternative {name} {word}", follow=False)
    return JSONResponse(told(after))


@router.post("/s/{session_id}/alternatives/{identifier}/name")
def rename(here: Here, identifier: str, body: Making) -> JSONResponse:
    """Call one otherwise."""
    alternative_of(here.state.song, identifier)
    edit = Set(path=f"alternatives/{identifier}/name", value=body.name.strip()[:60] or "?")
    return JSONResponse(told(here.studio.sessions.edit(here.state.id, [edit], None)))


@router.post("/s/{session_id}/alternatives/{identifier}/put")
def put(here: Here, identifier: str, body: Putting) -> JSONResponse:
    """Put one difference of an alternative into another, or into the session."""
    edits = put_edits(here.state.song, identifier, body.path, body.target)
    return JSONResponse(told(here.studio.sessions.edit(here.state.id, edits, None)))


@router.get("/s/{session_id}/alternatives/levels")
@measuring
def levels(request: Request, here: Here, over: Over, lane: str = "", hear: Hear = "mix") -> JSONResponse:
    """Of what is heard over a loop, by alternative: `lufs`, and the `gain_db` to be as loud as "", the session."""
    studio, state = here
    found: dict[str, float] = {}
    for identifier in ("", *(x.id for x in state.song.alternatives)):
        seen = state.seen(SONG, identifier) if identifier else state
        graph = studio.graph(seen)
        key = studio.target(graph, hear, lane)

        def heard(seen: Any = seen) -> Any:
            return studio.sound(seen, hear, lane, over.first, over.last)

        found[identifier] = loudness(studio, key, (over.first, over.last), graph.rate, heard)
    gains = gains_db(found, "")
    return JSONResponse({k: {"lufs": round(v, 2), "gain_db": round(gains[k], 3)} for k, v in found.items()})
