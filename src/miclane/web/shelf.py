"""The Shelf: all sessions, new ones, and files dropped to be imported."""

import re
import tempfile
from pathlib import Path
from typing import Annotated, Any, Literal

from fastapi import APIRouter, File, Form, Request, UploadFile
from fastapi.responses import HTMLResponse, JSONResponse
from pydantic import BaseModel, Field

from ..core.errors import UnusableSoundError
from ..core.mix.document import Session, Sound
from ..core.mix.edits import Insert, new_id
from ..core.mix.prepare import phrases_and_breaths
from .pages import page
from .sound import studio_of
from .studio import Studio
from .svg import path_of

router = APIRouter()
LARGEST_BYTES = 1 << 30
Role = Literal["lead", "backing", "music"]
_BACKING = re.compile(r"double|dbl|harm|back|bv|choir|adlib", re.I)
_MUSIC = re.compile(r"music|inst|drum|brush|bass|pad|guitar|gtr|piano|keys|string|pluck|stem|mix|beat|synth|perc", re.I)


class NewSession(BaseModel):
    """Name and figures of a session to be made."""

    name: str = Field("Untitled", min_length=1, max_length=200)
    rate: Literal[44100, 48000, 88200, 96000] = 48000
    tempo_bpm: float = Field(92.0, ge=20, le=400)
    key: str = Field("", max_length=40)


@router.get("/", response_class=HTMLResponse)
def shelf(request: Request) -> HTMLResponse:
    """Every session with its lanes drawn small."""
    studio = studio_of(request)
    cards = []
    for identifier in studio.sessions.names():
        state = studio.sessions.get(identifier)
        cards.append({"state": state, "lanes": _small(studio, state.session)})
    return page(request, "shelf.html", None, screen="shelf", cards=cards)


def _small(studio: Studio, session: Session) -> list[dict[str, Any]]:
    drawn = []
    frames = max(session.frames, 1)
    for lane in session.lanes[:8]:
        d = ""
        if lane.sound:
            low, high = studio.raw_envelope(lane.sound.digest, session.rate, 0, frames, 240)
            size = 7.5 / max(0.02, float(max(high.max(), -low.min())))
            up = path_of(range(240), 8 - high * size)
            d = up + "L" + path_of(range(239, -1, -1), 8 - low[::-1] * size)[1:] + "Z"
        drawn.append({"name": lane.name, "role": lane.role, "path": d})
    return drawn


@router.post("/sessions")
def new_session(request: Request, body: NewSession) -> JSONResponse:
    """Make an empty session with a plate that the lead ducks."""
    returns = [
        {
            "id": "plate",
            "name": "Plate",
            "bus": "vocals",
            "stages": [
                {"kind": "reverb", "id": "reverb", "name": "Plate"},
                {"kind": "duck", "id": "duck", "name": "Duck"},
            ],
        }
    ]
    session = Session.model_validate({**body.model_dump(), "returns": returns})
    state = studio_of(request).sessions.create(session)
    return JSONResponse({"id": state.id, "address": f"/s/{state.id}"}, 201)


@router.get("/s/{session_id}", response_class=HTMLResponse)
def session_page(request: Request, session_id: str) -> HTMLResponse:
    """A session's files: what is on its lanes, and where to drop more."""
    studio = studio_of(request)
    state = studio.sessions.get(session_id)
    return page(request, "session.html", state, screen="session", drawn=_small(studio, state.session))


def received(studio: Studio, file: UploadFile, rate: int) -> tuple[Sound, str]:
    """An uploaded file taken into the store, and its name; UnusableSoundError, in words, where it cannot be used."""
    name = Path((file.filename or "file").replace("\\", "/")).name[:200] or "file"
    with tempfile.NamedTemporaryFile(dir=_incoming(studio), suffix=".part") as temporary:
        size = 0
        while block := file.file.read(1 << 20):
            size += len(block)
            if size > LARGEST_BYTES:
                raise UnusableSoundError(f"{name}: is larger than {LARGEST_BYTES >> 30} GiB")
            temporary.write(block)
        temporary.flush()
        sound = studio.sounds.add(Path(temporary.name), name, rate)
    return sound, name


@router.post("/s/{session_id}/import")
def import_file(
    request: Request,
    session_id: str,
    file: Annotated[UploadFile, File()],
    role: Annotated[Role | None, Form()] = None,
) -> JSONResponse:
    """Take one sound file onto a lane of its own. Refused in words when it cannot be used; nothing else is touched."""
    studio = studio_of(request)
    state = studio.sessions.get(session_id)
    sound, name = received(studio, file, state.session.rate)
    lane = _lane_for(studio, state.session, sound, name, role)
    edit = Insert(path="lanes", index=len(state.session.lanes), value=lane)
    state = studio.sessions.edit(session_id, [edit], None)
    return JSONResponse(
        {
            "lane": lane["id"],
            "name": lane["name"],
            "role": lane["role"],
            "seconds": sound.frames / state.session.rate,
            "version": state.version,
        },
        201,
    )


def _incoming(studio: Studio) -> Path:
    folder = studio.data / "incoming"
    folder.mkdir(parents=True, exist_ok=True)
    return folder


def guess_role(session: Session, file_name: str, channels: int) -> Role:
    """What a file probably is, by its name, its channels, and what is there already."""
    stem = Path(file_name).stem
    if _MUSIC.search(stem) and not re.search("lead|vox|voc", stem, re.I):
        return "music"
    if _BACKING.search(stem):
        return "backing"
    if any(lane.role == "lead" for lane in session.lanes):
        return "music" if channels == 2 else "backing"
    return "lead"


def _lane_for(studio: Studio, session: Session, sound: Sound, file_name: str, role: Role | None) -> dict[str, Any]:
    chosen = role or guess_role(session, file_name, sound.channels)
    title = re.sub(r"[_\-]+", " ", Path(file_name).stem).strip()[:120] or "Take"
    title = title[0].upper() + title[1:]
    taken = {lane.id for lane in session.lanes}
    identifier = re.sub(r"[^a-z0-9]+", "_", title.lower()).strip("_")[:30] or "take"
    identifier = identifier if identifier not in taken else new_id("l")
    phrases: list[dict[str, Any]] = []
    breaths: list[dict[str, Any]] = []
    if chosen != "music":
        audio = studio.sounds.reader(session.rate)(sound.digest, 0, sound.frames)
        found = phrases_and_breaths(audio, session.rate)
        phrases, breaths = ([x.model_dump() for x in part] for part in found)
    wanted = {"lead": "lead", "backing": "backings", "music": "music"}[chosen]
    buses = {bus.id for bus in session.buses}
    return {
        "id": identifier,
        "name": title,
        "note": "",
        "role": chosen,
        "bus": wanted if wanted in buses else "mix",
        "sound": sound.model_dump(),
        "phrases": phrases,
        "breaths": breaths,
        "sends": [{"id": r.id} for r in session.returns] if chosen != "music" else [],
    }
