"""The Chains screen: stages kept under a name, searched, tried beside what is there, put on lanes, carried as files."""

from pathlib import PurePath
from typing import Annotated, Any, Literal
from urllib.parse import quote

from fastapi import File, Query, Request, UploadFile
from fastapi.responses import HTMLResponse, JSONResponse, Response
from pydantic import BaseModel, Field

from ...core.errors import MicLaneError
from ...core.mix.alternatives import told_of
from ...core.mix.chain import read_chain
from ...core.mix.document import Lane, Session
from ...core.mix.paths import Path
from ...core.mix.swapping import KEEPS, keeps_of_file
from ...store.chains import Kept
from ...studio.anew import anew
from ...studio.library import keep_chain, put_on, try_on
from ...studio.studio import find_lane
from ..drawing.route import Route, lay_route
from ..hands import Router, measuring
from ..opened import Here, Opened, studio_of
from ..pages import page
from . import Nav
from .edits import told
from .lane import page_data
from .passes import figure_of

router = Router()
NAV = Nav("chains", "Chains", 50, lambda session, lane: f"chains?to={lane}" if lane else "chains")
SCRIPT = "chains"
MOST_BYTES = 2_000_000
_WIDTH = 560.0


@router.get("/s/{session_id}/chains", response_class=HTMLResponse)
def chains_page(request: Request, here: Here, to: str = "", words: str = "") -> HTMLResponse:
    """The whole screen; `to` is the path that they are for."""
    data = page_data(here.studio, here.state, "chains")
    return page(request, "chains.html", here.state, data=data, **_context(here, to, words))


@router.get("/s/{session_id}/chains/body", response_class=HTMLResponse)
def chains_body(request: Request, here: Here, to: str = "", words: str = "") -> HTMLResponse:
    """What is in it, after a change or for other words."""
    return page(request, "chains_body.html", here.state, **_context(here, to, words))


def _context(here: Opened, to: str, words: str) -> dict[str, Any]:
    session = here.state.session
    targets = [(x.id, x.name) for x in session.lanes] + [(f"return:{r.id}", r.name) for r in session.returns]
    targets += [(f"bus:{b.id}", b.name) for b in session.buses]
    lead = next((x.id for x in session.lanes if x.role == "lead"), targets[0][0] if targets else "")
    chosen = to if to in dict(targets) else lead
    found = here.studio.chains.all(words)
    return {
        "screen": "chains",
        "lane": next((x for x in session.lanes if x.id == chosen), None),
        "targets": targets,
        "chosen": chosen,
        "words": words,
        "keeps": {name: says for name, (says, _) in KEEPS.items()},
        "cards": [
            {"kept": k, "route": _drawn(k), "measured": _measured(k), "keeps": keeps_of_file(k.keeps)} for k in found
        ],
        "any": bool(found) or bool(here.studio.chains.all()),
        "unreadable": here.studio.chains.unreadable(),
    }


def _drawn(kept: Kept) -> Route:
    lane = Lane(id="chain", name=kept.name, role="lead").model_copy(update={"stages": kept.chain.stages})
    return lay_route(Session(name=kept.name), Path(lane, "chain", "lane:chain", "lanes/chain", None), _WIDTH)


def _measured(kept: Kept) -> list[tuple[str, str]]:
    lines = kept.made.get("measured", [])
    return [(x["name"], f"{figure_of(x['unit'], x['first'])} → {figure_of(x['unit'], x['last'])}") for x in lines]


class Keeping(BaseModel):
    """What is kept: stages of a path, those that are named, else all; and what it is called."""

    path: str = Field(max_length=80)
    stages: list[str] = Field([], max_length=64)
    name: str = Field("", max_length=200)
    note: str = Field("", max_length=4000)
    tags: list[str] = Field([], max_length=12)


@router.post("/s/{session_id}/chains")
@measuring
def keep(request: Request, here: Here, body: Keeping) -> JSONResponse:
    """Keep a chain, with what it does measured."""
    kept = keep_chain(here.studio, here.state, body.path, body.stages, body.name, body.note, body.tags)
    return JSONResponse({"id": kept.id, "name": kept.name}, 201)


class Putting(BaseModel):
    """Where a chain goes, how, and what of what is there stays."""

    to: list[str] = Field(max_length=64)
    how: Literal["replace", "before", "after"] = "replace"
    keeps: list[str] = Field([], max_length=8)


@router.post("/s/{session_id}/chains/{chain_id}/put")
def put(request: Request, here: Here, chain_id: str, body: Putting) -> JSONResponse:
    """Put a chain on lanes, returns or buses: one step."""
    studio, state = here
    after, left_out = put_on(studio, state, studio.chains.get(chain_id), body.to, body.how, tuple(body.keeps))
    return JSONResponse({**told(after), "left_out": left_out})


@router.post("/s/{session_id}/chains/{chain_id}/try")
def try_it(request: Request, here: Here, chain_id: str, body: Putting) -> JSONResponse:
    """Make an alternative of the first of the paths with the chain on it."""
    studio, state = here
    if not body.to:
        raise MicLaneError("say where it is tried: a lane, a return or a bus")
    after, identifier, left_out = try_on(studio, state, studio.chains.get(chain_id), body.to[0], tuple(body.keeps))
    more = {"id": identifier, "alternatives": told_of(after.song), "left_out": left_out}
    return JSONResponse({**told(after), **more}, 201)


@router.get("/s/{session_id}/chains/anew", response_class=HTMLResponse)
@measuring
def measured_anew(request: Request, here: Here, to: Annotated[list[str], Query(max_length=64)]) -> HTMLResponse:
    """What the stages of lanes would be set to from their own takes, as lines, with the edits that do it."""
    studio, state = here
    found = [(find_lane(state.session, name), anew(studio, state, name)) for name in to]
    edits = [e.model_dump(mode="json") for _, told in found for e in told.edits]
    several = len(found) > 1
    lines = [f"{lane.name}, {x.text}" if several else x.text for lane, told in found for x in told.lines]
    called = ", ".join(lane.name for lane, _ in found)
    return page(request, "chains_anew.html", state, screen="chains", lines=lines, edits=edits, called=called)


@router.get("/chains/{chain_id}/file")
def chain_file(request: Request, chain_id: str) -> Response:
    """The chain as a file."""
    kept = studio_of(request).chains.get(chain_id)
    headers = {"content-disposition": f"attachment; filename*=UTF-8''{quote(kept.name)}.chain.json"}
    return Response(kept.file.model_dump_json(indent=1), media_type="application/json", headers=headers)


@router.post("/chains/file")
def from_file(request: Request, file: Annotated[UploadFile, File()]) -> JSONResponse:
    """Keep the chain of a file; what is not one is refused with the place of what is wrong."""
    name = file.filename or "chain file"
    data = file.file.read(MOST_BYTES + 1)
    if len(data) > MOST_BYTES:
        raise MicLaneError(f"{name}: a chain file has up to {MOST_BYTES // 1_000_000} MB")
    chain = read_chain(data, name)
    title = chain.name or PurePath(name).name.removesuffix(".json").removesuffix(".chain")
    kept = studio_of(request).chains.keep(chain, title, made={"file": name})
    return JSONResponse({"id": kept.id, "name": kept.name}, 201)


class Describing(BaseModel):
    """What a chain is called, and what is to be remembered of it."""

    name: str = Field("", max_length=200)
    note: str = Field("", max_length=4000)
    tags: list[str] = Field([], max_length=12)


@router.post("/chains/{chain_id}/describe")
def describe(request: Request, chain_id: str, body: Describing) -> JSONResponse:
    """Call one otherwise."""
    kept = studio_of(request).chains.describe(chain_id, body.name, body.note, body.tags)
    return JSONResponse({"id": kept.id, "name": kept.name, "tags": kept.tags})


@router.post("/chains/{chain_id}/copy")
def copy(request: Request, chain_id: str) -> JSONResponse:
    """Another one like it."""
    kept = studio_of(request).chains.copy(chain_id)
    return JSONResponse({"id": kept.id, "name": kept.name}, 201)


@router.post("/chains/{chain_id}/delete")
def delete(request: Request, chain_id: str) -> JSONResponse:
    """Take one away."""
    studio_of(request).chains.remove(chain_id)
    return JSONResponse({"id": chain_id})


@router.post("/chains/{chain_id}/restore")
def restore(request: Request, chain_id: str) -> JSONResponse:
    """Bring back one that was taken away."""
    kept = studio_of(request).chains.restore(chain_id)
    return JSONResponse({"id": kept.id, "name": kept.name})
