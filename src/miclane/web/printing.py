"""The Print screen: what to print, how far it is, and what came out beside the raw take."""

import json
import shutil
import threading
from collections.abc import Callable
from typing import Any

import numpy as np
from fastapi import APIRouter, Request
from fastapi.responses import FileResponse, HTMLResponse, JSONResponse
from sqlalchemy import select

from ..core.audio import read_sound
from ..core.engine.render import Cancel
from ..core.errors import CancelledError, MicLaneError, UnknownPlaceError
from ..core.measure.loudness import measure_loudness
from ..core.mix.edits import new_id
from ..core.mix.paths import find_path
from ..core.printing import PrintRequest, name_of, place_of, print_session
from ..store.sessions import State
from ..store.tables import PrintRow
from .lane import lane_data
from .pages import page
from .sound import studio_of
from .studio import Studio, envelope
from .svg import path_of

router = APIRouter()
COLUMNS = 700


class Printer:
    """Runs prints one after another in the background; what came of each is kept."""

    def __init__(self, studio: Studio) -> None:
        self.studio = studio
        self.folder = studio.data / "prints"
        self._progress: dict[str, float] = {}
        self._cancels: dict[str, Cancel] = {}
        self._turn = threading.Lock()
        with studio.database.writing() as db:
            for row in db.scalars(select(PrintRow).where(PrintRow.state.in_(("waiting", "running")))):
                row.state, row.message = "failed", "the server stopped before it was done; print it again"
            db.commit()

    def start(self, state: State, request: PrintRequest) -> str:
        """Begin a print; its id."""
        for target in request.targets:
            place_of(state.session, target)
        if not any(lane.sound for lane in state.session.lanes):
            raise MicLaneError("there is no sound to print yet")
        identifier = new_id("w")
        with self.studio.database.writing() as db:
            db.add(
                PrintRow(
                    id=identifier,
                    session_id=state.id,
                    version=state.version,
                    state="waiting",
                    request=request.model_dump_json(),
                )
            )
            db.commit()
        self._cancels[identifier] = Cancel()
        threading.Thread(target=self._run, args=(identifier, state, request), daemon=True).start()
        return identifier

    def cancel(self, identifier: str) -> None:
        """Give a print up; what it wrote goes."""
        cancel = self._cancels.get(identifier)
        if cancel is not None:
            cancel.set()

    def progress(self, identifier: str) -> float:
        """Share done, 0 to 1."""
        return self._progress.get(identifier, 0.0)

    def rows(self, session_id: str) -> list[PrintRow]:
        """Prints of a session, newest first."""
        with self.studio.database.reading() as db:
            query = select(PrintRow).where(PrintRow.session_id == session_id).order_by(PrintRow.created.desc())
            return list(db.scalars(query.limit(20)))

    def row(self, identifier: str) -> PrintRow:
        """A print; UnknownPlaceError when there is none."""
        with self.studio.database.reading() as db:
            row = db.get(PrintRow, identifier)
        if row is None:
            raise UnknownPlaceError(f"there is no print “{identifier}”")
        return row

    def _set(self, identifier: str, **values: Any) -> None:
        with self.studio.database.writing() as db:
            row = db.get(PrintRow, identifier)
            if row is not None:
                for name, value in values.items():
                    setattr(row, name, value)
                db.commit()

    def _run(self, identifier: str, state: State, request: PrintRequest) -> None:
        folder = self.folder / identifier
        with self._turn:
            try:
                self._cancels[identifier].check()
                self._set(identifier, state="running")
                read = self.studio.sounds.reader(state.session.rate)
                files = print_session(
                    state.session, request, folder, read, self._tell(identifier), self._cancels[identifier]
                )
                told = [self._report(f.target, name_of(state.session, f.target), f.path.name, folder) for f in files]
                self._set(identifier, state="done", files=json.dumps(told))
            except CancelledError:
                shutil.rmtree(folder, ignore_errors=True)
                self._set(identifier, state="cancelled", message="cancelled; nothing was kept")
            except (MicLaneError, OSError) as error:
                shutil.rmtree(folder, ignore_errors=True)
                self._set(identifier, state="failed", message=str(error))
            finally:
                self._progress.pop(identifier, None)

    def _tell(self, identifier: str) -> Callable[[float], None]:
        def tell(share: float) -> None:
            self._progress[identifier] = share

        return tell

    def _report(self, target: str, title: str, name: str, folder: Any) -> dict[str, Any]:
        clip = read_sound(folder / name)
        loud = measure_loudness(clip.audio, clip.rate)
        low, high = envelope(clip.audio, COLUMNS)
        return {
            "target": target,
            "title": title,
            "name": name,
            "seconds": clip.seconds,
            "bytes": (folder / name).stat().st_size,
            "lufs": loud.integrated_lufs,
            "range_lu": loud.range_lu,
            "true_peak_dbtp": loud.true_peak_dbtp,
            "momentary_max_lufs": loud.momentary_max_lufs,
            "short_term_max_lufs": loud.short_term_max_lufs,
            "low": [round(float(v), 3) for v in low],
            "high": [round(float(v), 3) for v in high],
        }


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
    data = lane_data(studio, state, find_path(state.session, lane.id)) | {"screen": "print"} if lane else {}
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
            file["raw"] = _raw_outline(printer.studio, state, file["target"], file["seconds"])
        shown.append(
            {"row": row, "files": files, "request": json.loads(row.request), "share": printer.progress(row.id)}
        )
    busy = any(s["row"].state in ("waiting", "running") for s in shown)
    return {"prints": shown, "busy": busy}


def _outline(low: np.ndarray, high: np.ndarray) -> str:
    x = np.arange(len(low), dtype=float)
    up = path_of(x, 30 - np.clip(high, -1, 1) * 29)
    return up + "L" + path_of(x[::-1], 30 - np.clip(low, -1, 1)[::-1] * 29)[1:] + "Z"


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
    printer_of(request).row(print_id)
    printer_of(request).cancel(print_id)
    return JSONResponse({})


@router.get("/s/{session_id}/prints/{print_id}/{index}")
def download(request: Request, session_id: str, print_id: str, index: int) -> FileResponse:
    """A printed file."""
    printer = printer_of(request)
    files = json.loads(printer.row(print_id).files)
    if not 0 <= index < len(files):
        raise UnknownPlaceError("there is no such file in this print")
    name = files[index]["name"]
    path = printer.folder / print_id / name
    if not path.is_file():
        raise UnknownPlaceError(f"{name} is no longer in the data folder; print it again")
    return FileResponse(path, filename=name)
