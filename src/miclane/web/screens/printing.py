"""The Print screen: what to print, how far it is, and what came out beside the raw take."""

import json
import math
from dataclasses import replace
from typing import Annotated, Any
from urllib.parse import quote

import numpy as np
from fastapi import Query, Request
from fastapi.responses import FileResponse, HTMLResponse, JSONResponse, Response, StreamingResponse

from ...core.errors import MicLaneError, UnknownPlaceError
from ...core.mix.document import Session
from ...core.print_names import FIELDS, flat_path
from ...core.print_targets import find_target, left_out
from ...core.printing import Format, PrintRequest
from ...core.units import SILENT_DB
from ...store.state import State
from ...store.tables import PrintRow
from ...studio.archives import zipped
from ...studio.importing import CEILING
from ...studio.prints import Printer
from ...studio.report import COLUMNS, as_csv, as_json
from ...studio.studio import Studio
from ..drawing.paths import outline
from ..hands import Router, measuring
from ..opened import studio_of
from ..pages import page
from . import Nav
from .lane import page_data

router = Router()
NAV = Nav("print", "Print", 90, lambda session, lane: "print")
SCRIPT = "printing"
_FULL_SCALE_DB = 0.0


def printer_of(request: Request) -> Printer:
    """The printer of the application."""
    printer: Printer = request.app.state.printer
    return printer


@router.get("/s/{session_id}/print", response_class=HTMLResponse)
def print_page(request: Request, session_id: str, snapshot: str = "") -> HTMLResponse:
    """The whole screen; of a snapshot where one is named."""
    studio = studio_of(request)
    state = studio.sessions.get(session_id)
    printed, of = _printed(studio, session_id, snapshot)
    lane = next(iter(state.session.lanes), None)
    data = page_data(studio, state, "print")
    session = printed.session
    offered = {"targets": _targets(session), "left_out": _left_out(session), **_ceiling(session)}
    shown = prints_context(request, state)
    offered |= {"snapshot": snapshot, "of": of, "snapshots": studio.snapshots.all(session_id), "fields": FIELDS}
    return page(request, "print.html", state, screen="print", data=data, lane=lane, **offered, **shown)


def _printed(studio: Studio, session_id: str, snapshot: str) -> tuple[State, str]:
    """The state that is printed, and the name of the snapshot where it is one's."""
    state = studio.sessions.get(session_id)
    if not snapshot:
        return state, ""
    kept = studio.snapshots.get(session_id, snapshot)
    return replace(state, session=kept.session, steps=kept.step), kept.name


def _targets(session: Session) -> list[dict[str, Any]]:
    """What can be printed beside the mix and the vocals, in groups; `stem` what a set of stems holds."""
    hushed = session.hushed
    lanes = [
        {
            "target": f"lane:{x.id}",
            "id": x.id,
            "name": x.name,
            "empty": x.sound is None,
            "stem": (heard := x.sound is not None and not x.mute and x.id not in hushed),
            "remark": "" if heard or x.sound is None else "not in the mix: muted" if x.mute else "not in the mix: solo",
        }
        for x in session.lanes
    ]
    rest = [
        {"target": f"{kind}:{x.id}", "name": x.name, "empty": False, "stem": kind == "return" and not x.mute}
        | {"remark": "not in the mix: muted" if x.mute else ""}
        for kind, found in (("return", session.returns), ("bus", session.buses))
        for x in found
        if kind == "return" or x.id not in ("mix", "vocals")
    ]
    groups = [("Lanes", lanes), ("Returns, wet", rest[: len(session.returns)]), ("Buses", rest[len(session.returns) :])]
    return [{"title": title, "members": members} for title, members in groups if members]


def _left_out(session: Session) -> list[str]:
    """Stages of buses that stems do not go through."""
    feeding = [f"lane:{x.id}" for x in session.lanes] + [f"return:{x.id}" for x in session.returns]
    return list(dict.fromkeys(name for target in feeding for name in left_out(session, target)))


def _ceiling(session: Session) -> dict[str, Any]:
    """Whether the mix ends with a ceiling that is on, and the edit that puts one there."""
    mix = next(bus for bus in session.buses if bus.id == "mix")
    on = [s for s in mix.stages if s.on]
    edit = {"op": "insert", "path": "buses/mix/stages", "index": len(mix.stages), "value": CEILING}
    return {"ceiling": bool(on) and bool(on[-1].ceiling), "add_ceiling": [edit]}


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
        asked = {"stems": False, "step": None, "of": "", **json.loads(row.request)}
        left, before = printer.left_s(row.id), printer.before(row.id) if row.state == "waiting" else 0
        shown.append({"row": row, "files": files, "request": asked, "share": printer.progress(row.id)})
        shown[-1] |= {"left": left, "before": before}
    busy = any(s["row"].state in ("waiting", "running") for s in shown)
    return {"prints": shown, "busy": busy}


def _turned_down(state: State, target: str, over_db: float) -> tuple[str, float] | None:
    """The fader of a target, and where it must stand for nothing to be over full scale; None where it cannot."""
    try:
        found = find_target(state.session, target)
    except MicLaneError:
        return None
    group = {"lane": "lanes", "return": "returns", "bus": "buses"}[found.kind]
    wanted = math.floor(10 * (found.member.fader_db - over_db)) / 10
    return (f"{group}/{found.member.id}/fader_db", wanted) if found.end == "out" and wanted > SILENT_DB else None


def _outline(low: np.ndarray, high: np.ndarray) -> str:
    return outline(low, high, range(len(low)), lambda v: 30 - np.clip(v, -1, 1) * 29)


def _raw_outline(studio: Studio, state: State, target: str, seconds: float) -> str:
    kind, _, name = target.partition(":")
    wanted = (
        [x for x in state.session.lanes if x.id == name]
        if kind in ("lane", "wet", "raw")
        else [x for x in state.session.lanes if x.role == "lead"]
    )
    if kind == "return" or not wanted or wanted[0].sound is None:
        return ""
    stop = round(seconds * state.session.rate)
    low, high = studio.raw_envelope(wanted[0].sound.digest, state.session.rate, 0, stop, COLUMNS)
    return _outline(low, high)


@router.get("/s/{session_id}/prints/peaks", response_class=HTMLResponse)
@measuring
def peaks(
    request: Request, session_id: str, target: Annotated[list[str], Query(min_length=1, max_length=200)],
    format: Format = "wav-24", stems: bool = False, snapshot: str = "",
) -> HTMLResponse:  # fmt: skip
    """What would go over full scale, and by how much, before it is printed."""
    state, _ = _printed(studio_of(request), session_id, snapshot)
    wanted = PrintRequest(targets=tuple(target), stems=stems, format=format)
    found = printer_of(request).peaks_dbfs(state, wanted) if state.session.frames else {}
    over = {name: peak for name, peak in found.items() if peak > _FULL_SCALE_DB}
    return page(
        request, "print_peaks.html", state, screen="print", over=over, found=found, held=format in ("wav-32", "ogg")
    )


@router.post("/s/{session_id}/prints")
def start_print(
    request: Request,
    session_id: str,
    body: PrintRequest,
    snapshot: Annotated[list[str] | None, Query(max_length=40)] = None,
) -> JSONResponse:
    """Begin a print of the session as it is now ("") or as it was in a snapshot, or of several of these in one go."""
    states = [_printed(studio_of(request), session_id, name) for name in dict.fromkeys(snapshot or [""])]
    return JSONResponse({"id": printer_of(request).start_all(states, body)}, 201)


@router.post("/s/{session_id}/prints/{print_id}/cancel")
def cancel_print(request: Request, session_id: str, print_id: str) -> JSONResponse:
    """Give a print up."""
    printer_of(request).row(session_id, print_id)
    printer_of(request).cancel(print_id)
    return JSONResponse({})


@router.post("/s/{session_id}/prints/{print_id}/delete")
def delete_print(request: Request, session_id: str, print_id: str) -> JSONResponse:
    """Forget a print and take its files away."""
    printer_of(request).delete(session_id, print_id)
    return JSONResponse({})


@router.get("/s/{session_id}/prints/{print_id}/report", response_class=HTMLResponse)
def report_page(request: Request, session_id: str, print_id: str) -> HTMLResponse:
    """The loudness report: each file whole and phrase by phrase."""
    state, row, files = _reported(request, session_id, print_id)
    data = page_data(studio_of(request), state, "print")
    return page(request, "print_report.html", state, screen="print", data=data, lane=None, row=row, files=files)


@router.get("/s/{session_id}/prints/{print_id}/report.json")
def report_json(request: Request, session_id: str, print_id: str) -> JSONResponse:
    """The report as data."""
    state, row, files = _reported(request, session_id, print_id)
    return JSONResponse(as_json(state.session.name, row.created, files), headers=_saved(state, "json"))


@router.get("/s/{session_id}/prints/{print_id}/report.csv")
def report_csv(request: Request, session_id: str, print_id: str) -> Response:
    """The report as a table."""
    state, _, files = _reported(request, session_id, print_id)
    return Response(as_csv(files), media_type="text/csv; charset=utf-8", headers=_saved(state, "csv"))


def _reported(request: Request, session_id: str, print_id: str) -> tuple[State, PrintRow, list[dict[str, Any]]]:
    state = studio_of(request).sessions.get(session_id)
    row = printer_of(request).row(session_id, print_id)
    if row.state != "done":
        raise UnknownPlaceError("this print is not done, so there is no report of it")
    return state, row, json.loads(row.files)


def _saved(state: State, suffix: str) -> dict[str, str]:
    name = quote(f"{flat_path(state.session.name)} - loudness.{suffix}")
    return {"content-disposition": f"attachment; filename*=UTF-8''{name}"}


@router.get("/s/{session_id}/prints/{print_id}/all.zip")
def download_all(request: Request, session_id: str, print_id: str) -> StreamingResponse:
    """All files of a print in one archive."""
    files = printer_of(request).files(session_id, print_id)
    name = flat_path(studio_of(request).sessions.get(session_id).session.name)
    headers = {"content-disposition": f"attachment; filename*=UTF-8''{quote(name)}.zip"}
    return StreamingResponse(zipped(files), media_type="application/zip", headers=headers)


@router.get("/s/{session_id}/prints/{print_id}/{index}")
def download(request: Request, session_id: str, print_id: str, index: int) -> FileResponse:
    """A printed file."""
    path, name = printer_of(request).file(session_id, print_id, index)
    return FileResponse(path, filename=name)
