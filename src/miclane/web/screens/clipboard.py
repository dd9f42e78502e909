"""Copying and pasting: stages as a chain, sends as a list."""

from typing import Annotated, Any

from fastapi import Query, Request
from fastapi.responses import JSONResponse
from pydantic import BaseModel, Field

from ...core.errors import MicLaneError
from ...core.mix.chain import read_chain
from ...core.mix.edits import Remove
from ...core.mix.pasting import Pasted, copied_chain, paste_sends, paste_stages
from ...core.mix.paths import find_path, placed_stages
from ...store.state import State
from ...studio.studio import Studio
from ..hands import Router
from ..opened import Here
from .edits import told

router = Router()


@router.get("/s/{session_id}/copy/{name}")
def copy(request: Request, here: Here, name: str, stage: Annotated[list[str], Query()] = []) -> JSONResponse:  # noqa: B006
    """Stages of a path as a chain: those that are named, else all of the line."""
    chain = copied_chain(here.state.session, name, stage)
    if not chain.stages:
        raise MicLaneError("there is no stage here to copy")
    return JSONResponse({"what": "stages", "from": name, "of": here.state.id, "chain": chain.model_dump_json()})


@router.get("/s/{session_id}/copy/{name}/sends")
def copy_sends(request: Request, here: Here, name: str) -> JSONResponse:
    """What a lane sends, with the names of the returns."""
    session = here.state.session
    names = {r.id: r.name for r in session.returns}
    sends = [s.model_dump(mode="json") | {"name": names[s.id]} for s in find_path(session, name).lane.sends]
    if not sends:
        raise MicLaneError("this lane sends nothing that could be copied")
    return JSONResponse({"what": "sends", "from": name, "of": here.state.id, "sends": sends})


class Paste(BaseModel):
    """A chain that was copied, and the list of stages that it goes into."""

    path: str = Field(max_length=400)
    index: int = Field(ge=0, le=64)
    chain: str = Field(max_length=2_000_000)
    taken_from: str = Field("", max_length=80)
    of: str = Field("", max_length=80)


@router.post("/s/{session_id}/paste")
def paste(request: Request, here: Here, body: Paste) -> JSONResponse:
    """Put copied stages in. What cannot stand there is left out and named; 422 where nothing of it can."""
    studio, state = here
    chain = read_chain(body.chain, "what was copied")
    taken_from = body.taken_from if body.of == state.id else ""
    return _made(studio, state, paste_stages(state.session, body.path, body.index, chain, taken_from))


class Carrying(BaseModel):
    """Stages of a path that go to the end of another one; there they stay as well where they are copied."""

    of: str = Field(max_length=80)
    stages: list[str] = Field(min_length=1, max_length=64)
    to: str = Field(max_length=80)
    copied: bool = False


@router.post("/s/{session_id}/carry")
def carry(request: Request, here: Here, body: Carrying) -> JSONResponse:
    """Move stages to another lane, return or bus, or copy them there: one step. What cannot stand there stays."""
    studio, state = here
    path, target = find_path(state.session, body.of), find_path(state.session, body.to)
    done = paste_stages(
        state.session, f"{target.base}/stages", 64, copied_chain(state.session, body.of, body.stages), path.name
    )
    if not body.copied and not done.left_out:
        places = {s.id: place for s, place in placed_stages(path)}
        done.edits += [Remove(path=places[s]) for s in body.stages if s in places]
    elif not body.copied:
        raise MicLaneError(f"on “{target.member.name}” not all of it can stand: " + "; ".join(done.left_out))
    return _made(studio, state, done)


class PasteSends(BaseModel):
    """Sends that were copied."""

    sends: list[dict[str, Any]] = Field(max_length=32)
    taken_from: str = Field("", max_length=80)


@router.post("/s/{session_id}/paste/{name}/sends")
def paste_sends_to(request: Request, here: Here, name: str, body: PasteSends) -> JSONResponse:
    """Give a lane the sends that were copied."""
    studio, state = here
    return _made(studio, state, paste_sends(state.session, name, body.sends, body.taken_from))


def _made(studio: Studio, state: State, done: Pasted) -> JSONResponse:
    if not done.edits:
        raise MicLaneError("nothing of it can stand here: " + "; ".join(done.left_out))
    after = studio.edit(state.id, done.edits, None, where=state.where, alternative=state.alternative)
    return JSONResponse({**told(after), "left_out": done.left_out, "ids": done.ids})
