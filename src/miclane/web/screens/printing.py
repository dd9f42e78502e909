"""The Print screen: what to print, how far it is, and what came out beside the raw take."""

import json
import math
from typing import Any

import numpy as np
from fastapi import APIRouter, Request
from fastapi.responses import FileResponse, HTMLResponse, JSONResponse

from ...core.errors import MicLaneError
from ...core.printing import PrintRequest, members, place_of
from ...core.units import SILENT_DB
from ...store.sessions import State
from ...studio.prints import COLUMNS, Printer
from ...studio.studio import Studio
from ..drawing.paths import outline
from ..opened import studio_of
from ..pages import page
from . import Nav
from .lane import page_data

router = APIRouter()
NAV = Nav("print", "Print", 90, lambda session, lane: "print")
SCRIPT = "printing"


def printer_of(request: Request) -> Printer:
    """The printer of the application."""
    printer: Printer = request.app.state.printer
    return printer


@router.get("/s/{session_id}/print", response_class=HTMLResponse)
def print_page(request: Request, session_id: str) -> HTMLResponse:
    """The whole screen."""
    studio = studio_of(request)
    state = studio.sessions.get(session_id)
    lane = next(iter(state.session.lanes), None)
    data = page_data(studio, state, "print")
    return page(request, "print.html", state, screen="print", data=data, lane=lane, **prints_context(request, state))


@router.get("/s/{session_id}/prints", response_class=HTMLResponse)
def prints(request: Request, session_id: str) -> HTMLResponse:
    """The list alone, while something is running."""
    state = studio_of(request).sessions.get(session_id)
    return page(request, "prints.html", state, screen="print", **prints_context(request, state))


def prints_context(request: Request, state: State) -> dict[str, Any]:
    """Prints of a session with their drawings."""
    printer = printer_of(request)
    shown = []
    for row in printer.rows(state.id):
        files = json.loads(row.files)
        for file in files:
            file["path"] = _outline(np.array(file["low"]), np.array(file["high"]))
            file["turned_down"] = _turned_down(state, file["target"], file.get("over_db", 0.0))
            file["raw"] = _raw_outline(printer.studio, state, file["target"], file["seconds"])
        shown.append(
            {"row": row, "files": files, "request": json.loads(row.request), "share": printer.progress(row.id)}
        )
    busy = any(s["row"].state in ("waiting", "running") for s in shown)
    return {"prints": shown, "busy": busy}


def _turned_down(state: State, target: str, over_db: float) -> tuple[str, float] | None:
    """The fader of a target, and where it must stand for nothing to be over full scale; None where it cannot."""
    try:
        kind, name, _ = place_of(state.session, target).split(":")
    except MicLaneError:
        return None
    group = {"lane": "lanes", "return": "returns", "bus": "buses"}[kind]
    fader = next(x.fader_db for x in members(state.session, kind) if x.id == name)
    wanted = math.floor(10 * (fader - over_db)) / 10
    return (f"{group}/{name}/fader_db", wanted) if wanted > SILENT_DB else None


def _outline(low: np.ndarray, high: np.ndarray) -> str:
    return outline(low, high, range(len(low)), lambda v: 30 - np.clip(v, -1, 1) * 29)


def _raw_outline(studio: Studio, state: State, target: str, seconds: float) -> str:
    kind, _, name = target.partition(":")
    wanted = (
        [x for x in state.session.lanes if x.id == name]
        if kind == "lane"
        else [x for x in state.session.lanes if x.role == "lead"]
    )
    if kind == "return" or not wanted or wanted[0].sound is None:
        return ""
    stop = round(seconds * state.session.rate)
    low, high = studio.raw_envelope(wanted[0].sound.digest, state.session.rate, 0, stop, COLUMNS)
    return _outline(low, high)


@router.post("/s/{session_id}/prints")
def start_print(request: Request, session_id: str, body: PrintRequest) -> JSONResponse:
    """Begin a print of the session as it is now."""
    state = studio_of(request).sessions.get(session_id)
    return JSONResponse({"id": printer_of(request).start(state, body)}, 201)


@router.post("/s/{session_id}/prints/{print_id}/cancel")
def cancel_print(request: Request, session_id: str, print_id: str) -> JSONResponse:
    """Give a print up."""
    printer_of(request).row(session_id, print_id)
    printer_of(request).cancel(print_id)
    return JSONResponse({})


@router.get("/s/{session_id}/prints/{print_id}/{index}")
def download(request: Request, session_id: str, print_id: str, index: int) -> FileResponse:
    """A printed file."""
    path, name = printer_of(request).file(session_id, print_id, index)
    return FileResponse(path, filename=name)
