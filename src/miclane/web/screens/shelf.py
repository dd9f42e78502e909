"""The Shelf: all sessions, new ones, and files dropped to be imported."""

import secrets
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Annotated, Any, Literal

from fastapi import File, Form, Request, UploadFile
from fastapi.responses import FileResponse, HTMLResponse, JSONResponse, Response
from pydantic import BaseModel, Field
from starlette.background import BackgroundTask

from ...core.errors import CutShortError, MicLaneError
from ...core.mix.document import Session
from ...core.print_names import flat_path
from ...core.tonality import parse_key
from ...store.sessions import Unreadable
from ...studio.importing import Role, file_title, import_sound
from ...studio.importing import new_session as make_session
from ...studio.packing import pack
from ...studio.studio import Studio
from ...studio.unpacking import unpack
from ..drawing.paths import outline
from ..hands import Router, measuring
from ..opened import studio_of
from ..pages import page

router = Router()
SCRIPT = "shelf"


class NewSession(BaseModel):
    """Name and figures of a session to be made."""

    name: str = Field("Untitled", min_length=1, max_length=200)
    rate: Literal[44100, 48000, 88200, 96000] = 48000
    tempo_bpm: float = Field(92.0, ge=20, le=400)
    key: str = Field("", max_length=80)


@router.get("/", response_class=HTMLResponse)
def shelf(request: Request) -> HTMLResponse:
    """Every session with its lanes drawn small."""
    studio = studio_of(request)
    cards: list[dict[str, Any]] = []
    for state in studio.sessions.shelf():
        if isinstance(state, Unreadable):
            cards.append({"unreadable": state})
            continue
        try:
            cards.append({"state": state, "lanes": drawn_small(studio, state.session)})
        except MicLaneError as error:  # a sound of it is gone
            cards.append(
                {"unreadable": Unreadable(state.id, state.session.name, str(error), state.updated, state.steps)}
            )
    backups = [b.name for b in studio.database.known_backups()]
    return page(request, "shelf.html", None, screen="shelf", cards=cards, binned=studio.sessions.bin(), backups=backups)


@router.post("/sessions/{session_id}/delete")
def delete_session(request: Request, session_id: str) -> JSONResponse:
    """Put a session into the bin; `restore` takes it out again."""
    studio_of(request).sessions.remove(session_id)
    return JSONResponse({})


@router.post("/sessions/{session_id}/restore")
def restore_session(request: Request, session_id: str) -> JSONResponse:
    """Take a session out of the bin."""
    studio_of(request).sessions.restore(session_id)
    return JSONResponse({"address": f"/s/{session_id}"})


@router.post("/sessions/{session_id}/rescue")
def rescue_session(request: Request, session_id: str) -> JSONResponse:
    """Go back to the last state of a session that can be read."""
    state = studio_of(request).sessions.rescue(session_id)
    return JSONResponse({"address": f"/s/{state.id}"})


@router.get("/sessions/{session_id}/document")
def document(request: Request, session_id: str) -> Response:
    """A session's document as it is stored, whether it can be read or not."""
    text = studio_of(request).sessions.document(session_id)
    headers = {"content-disposition": f'attachment; filename="{flat_path(session_id)}.json"'}
    return Response(text, media_type="application/json", headers=headers)


def drawn_small(studio: Studio, session: Session, most: int = 8) -> list[dict[str, Any]]:
    """The first lanes of a session, each with its name, role and outline."""
    drawn = []
    frames = max(session.frames, 1)
    for lane in session.lanes[:most]:
        d = ""
        if lane.sound:
            low, high = studio.raw_envelope(lane.sound.digest, session.rate, 0, frames, 240)
            size = 7.5 / max(0.02, float(max(high.max(), -low.min())))
            d = outline(low, high, range(240), lambda v, size=size: 8 - v * size)
        drawn.append({"name": lane.name, "role": lane.role, "path": d})
    return drawn


@router.post("/sessions")
def new_session(request: Request, body: NewSession) -> JSONResponse:
    """Make an empty session with a plate that the lead ducks."""
    state = studio_of(request).sessions.create(make_session(body.name, body.rate, body.tempo_bpm, parse_key(body.key)))
    return JSONResponse({"id": state.id, "address": f"/s/{state.id}"}, 201)


@contextmanager
def received(studio: Studio, file: UploadFile) -> Iterator[tuple[Path, str]]:
    """An uploaded file on the disk while the block lasts, and its name."""
    name = file_title(file.filename or "file")
    folder = studio.data / "incoming"
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    with tempfile.NamedTemporaryFile(dir=folder, suffix=".part") as temporary:
        shutil.copyfileobj(file.file, temporary, 1 << 20)
        temporary.flush()
        yield Path(temporary.name), name


@router.get("/sessions/{session_id}/archive")
@measuring
def archive(request: Request, session_id: str) -> FileResponse:
    """All of a session as one file."""
    studio = studio_of(request)
    name = flat_path(studio.sessions.get(session_id).session.name)
    folder = studio.data / "incoming"
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    path = folder / f"{secrets.token_hex(8)}.zip.part"
    pack(studio, session_id, path)
    away = BackgroundTask(path.unlink, missing_ok=True)
    return FileResponse(path, filename=f"{name}.miclane.zip", media_type="application/zip", background=away)


@router.post("/sessions/archive")
@measuring
def open_archive(request: Request, file: Annotated[UploadFile, File()]) -> JSONResponse:
    """Open the archive of a session; what of it is missing or damaged is named, and the rest is there."""
    studio = studio_of(request)
    with received(studio, file) as (path, name):
        done = unpack(studio, path, name)
    told = {"id": done.state.id, "name": done.state.session.name, "missing": done.missing}
    return JSONResponse({**told, "address": f"/s/{done.state.id}"}, 201)


@router.post("/s/{session_id}/import")
@measuring
def import_file(
    request: Request,
    session_id: str,
    file: Annotated[UploadFile, File()],
    role: Annotated[Role | None, Form()] = None,
    short: Annotated[bool, Form()] = False,
) -> JSONResponse:
    """Take one sound file onto a lane of its own. Refused in words when it cannot be used; nothing else is touched.

    A file that is cut short is refused with `short`; sent again with it, what is there is taken.
    """
    studio = studio_of(request)
    studio.sessions.get(session_id)
    try:
        with received(studio, file) as (path, name):
            state, lane = import_sound(studio, session_id, path, name, role, short)
    except CutShortError as error:
        return JSONResponse({"error": str(error), "short": True}, 422)
    return JSONResponse(
        {
            "lane": lane["id"],
            "name": lane["name"],
            "role": lane["role"],
            "seconds": lane["sound"]["frames"] / state.session.rate,
            "version": state.version,
        },
        201,
    )
