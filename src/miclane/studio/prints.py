"""Prints in the background, one after another; what came of each is kept."""

import json
import shutil
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import structlog
from sqlalchemy import delete, select

from ..core.audio import read_sound
from ..core.engine.render import Cancel
from ..core.errors import CancelledError, MicLaneError, UnknownPlaceError
from ..core.measure.loudness import measure_loudness
from ..core.mix.edits import new_id
from ..core.printing import (
    Printed,
    PrintRequest,
    left_out,
    name_of,
    peaks_dbfs,
    place_of,
    print_session,
    sounds_of,
)
from ..store.sessions import State
from ..store.tables import PrintRow
from .recent import Recent
from .studio import Studio, envelope

log = structlog.get_logger()
COLUMNS = 700
TOLD_EVERY_S = 0.3
STOPPED = "Mic Lane was stopped before it was done; print it again"
FAULT = "failed by a fault of Mic Lane's own, which the log tells of; nothing was kept"


class Printer:
    """Runs prints one after another in the background. It belongs to the program that owns the data folder."""

    def __init__(self, studio: Studio) -> None:
        self.studio = studio
        self.folder = studio.data / "prints"
        self._progress: dict[str, float] = {}
        self._cancels: dict[str, Cancel] = {}
        self.told: Callable[[str], None] = lambda session: None  # its prints have got on
        self._threads: set[threading.Thread] = set()
        self._turn = threading.Lock()
        self._peaks: Recent[tuple[float, ...]] = Recent(64)
        self._stopping = False
        if studio.owner:
            self._sweep()

    def _sweep(self) -> None:
        """Prints that an earlier run left unfinished are marked so, and what they wrote goes."""
        with self.studio.database.writing() as db:
            for row in db.scalars(select(PrintRow).where(PrintRow.state.in_(("waiting", "running")))):
                row.state, row.message = "failed", STOPPED
            done = set(db.scalars(select(PrintRow.id).where(PrintRow.state == "done")))
            db.commit()
        for folder in self.folder.glob("*"):
            if folder.name not in done:
                shutil.rmtree(folder, ignore_errors=True)

    def start(self, state: State, request: PrintRequest, of: str = "") -> str:
        """Begin a print, `of` a snapshot where that is named; its id."""
        for target in request.targets:
            place_of(state.session, target)
        if not any(lane.sound for lane in state.session.lanes):
            raise MicLaneError("there is no sound to print yet")
        identifier = new_id("w")
        with self.studio.database.writing() as db:
            row = PrintRow(id=identifier, session_id=state.id, version=state.version, state="waiting")
            row.request = json.dumps({**request.model_dump(mode="json"), "step": state.steps, "of": of})
            db.add(row)
            db.commit()
        self._cancels[identifier] = Cancel()
        thread = threading.Thread(
            target=self._run, args=(identifier, state, request), name=f"print {identifier}", daemon=True
        )
        self._threads.add(thread)
        thread.start()
        return identifier

    def peaks_dbfs(self, state: State, request: PrintRequest) -> dict[str, float]:
        """The highest sample that each target would have in a print, by its name, in dB of full scale."""
        check = self.studio.newest(state)
        read = self.studio.sounds.reader(state.session.rate)
        names = [name_of(state.session, target) for target in request.targets]
        found = self._peaks.get(
            sounds_of(state.session, request), lambda: peaks_dbfs(state.session, request, read, check), check.check
        )
        return dict(zip(names, found, strict=True))

    def cancel(self, identifier: str) -> None:
        """Give a print up; what it wrote goes."""
        cancel = self._cancels.get(identifier)
        if cancel is not None:
            cancel.set()

    def close(self, wait_s: float = 1.5) -> None:
        """Stop every print; each is marked as stopped."""
        self._stopping = True
        for cancel in list(self._cancels.values()):
            cancel.set()
        self.wait(wait_s)

    def wait(self, longest_s: float | None = None) -> None:
        """Until all prints under way have ended, or for some seconds each."""
        for thread in list(self._threads):
            thread.join(longest_s)

    def progress(self, identifier: str) -> float:
        """Share done, 0 to 1."""
        return self._progress.get(identifier, 0.0)

    def rows(self, session_id: str) -> list[PrintRow]:
        """Prints of a session, newest first."""
        with self.studio.database.reading() as db:
            query = select(PrintRow).where(PrintRow.session_id == session_id).order_by(PrintRow.created.desc())
            return list(db.scalars(query.limit(20)))

    def row(self, session_id: str, identifier: str) -> PrintRow:
        """A print of a session; UnknownPlaceError when it has none of that id."""
        with self.studio.database.reading() as db:
            row = db.get(PrintRow, identifier)
        if row is None or row.session_id != session_id:
            raise UnknownPlaceError(f"there is no print “{identifier}” of this session")
        return row

    def file(self, session_id: str, identifier: str, index: int) -> tuple[Path, str]:
        """A printed file and its name; UnknownPlaceError where it is not there, or no longer what was written."""
        files = json.loads(self.row(session_id, identifier).files)
        if not 0 <= index < len(files):
            raise UnknownPlaceError("there is no such file in this print")
        name = files[index]["name"]
        path = self.folder / identifier / name
        if path.is_symlink() or path.parent.is_symlink() or not path.is_file():
            raise UnknownPlaceError(f"{name} is no longer in the data folder; print it again")
        return path, name

    def files(self, session_id: str, identifier: str) -> list[tuple[Path, str]]:
        """All files of a print that are still there, with their names."""
        count = len(json.loads(self.row(session_id, identifier).files))
        return [self.file(session_id, identifier, k) for k in range(count)]

    def delete(self, session_id: str, identifier: str) -> None:
        """Forget a print that is not under way, and take its files away."""
        row = self.row(session_id, identifier)
        if row.state in ("waiting", "running"):
            raise MicLaneError("this print is under way; cancel it first")
        with self.studio.database.writing() as db:
            db.execute(delete(PrintRow).where(PrintRow.id == identifier))
            db.commit()
        shutil.rmtree(self.folder / identifier, ignore_errors=True)
        log.info("print deleted", print=identifier)

    def _set(self, identifier: str, **values: Any) -> None:
        with self.studio.database.writing() as db:
            row = db.get(PrintRow, identifier)
            if row is not None:
                for name, value in values.items():
                    setattr(row, name, value)
                db.commit()

    def _run(self, identifier: str, state: State, request: PrintRequest) -> None:
        folder = self.folder / identifier
        outcome: dict[str, Any]
        with self._turn:
            try:
                self._cancels[identifier].check()
                self._set(identifier, state="running")
                log.info("print begins", print=identifier, targets=len(request.targets), format=request.format)
                outcome = {"state": "done", "files": json.dumps(self._print(identifier, state, request, folder))}
            except CancelledError:
                message = STOPPED if self._stopping else "cancelled; nothing was kept"
                outcome = {"state": "failed" if self._stopping else "cancelled", "message": message}
            except MicLaneError as error:
                outcome = {"state": "failed", "message": str(error)}
            except OSError as error:
                outcome = {"state": "failed", "message": f"could not be written: {error.strerror or error}"}
            except BaseException:
                log.exception("print failed", print=identifier)
                outcome = {"state": "failed", "message": FAULT}
            if outcome["state"] != "done":
                shutil.rmtree(folder, ignore_errors=True)
            log.info("print ends", print=identifier, state=outcome["state"])
            self._finish(identifier, outcome)
            self.told(state.id)
        self._threads.discard(threading.current_thread())

    def _finish(self, identifier: str, outcome: dict[str, Any]) -> None:
        try:
            self._set(identifier, **outcome)
        except MicLaneError as error:  # the next start marks it as stopped
            log.error("print could not be marked", print=identifier, reason=str(error))
        self._progress.pop(identifier, None)
        self._cancels.pop(identifier, None)

    def _print(self, identifier: str, state: State, request: PrintRequest, folder: Path) -> list[dict[str, Any]]:
        read = self.studio.sounds.reader(state.session.rate)
        cancel = self._cancels[identifier]
        files = print_session(state.session, request, folder, read, self._tell(identifier, state.id), cancel)
        missing = {f.target: left_out(state.session, f.target) if request.stems else [] for f in files}
        return [report_of(f, name_of(state.session, f.target)) | {"left_out": missing[f.target]} for f in files]

    def _tell(self, identifier: str, session: str) -> Callable[[float], None]:
        latest = 0.0

        def tell(share: float) -> None:
            nonlocal latest
            self._progress[identifier] = share
            if time.monotonic() > latest + TOLD_EVERY_S:
                latest = time.monotonic()
                self.told(session)

        return tell


def report_of(printed: Printed, title: str) -> dict[str, Any]:
    """What was printed, measured from the file: loudness, true peak, its outline; what was clipped."""
    path = printed.path
    clip = read_sound(path)
    loud = measure_loudness(clip.audio, clip.rate)
    low, high = envelope(clip.audio, COLUMNS)
    return {
        "target": printed.target,
        "clipped": printed.clipped,
        "over_db": printed.over_db,
        "title": title,
        "name": path.name,
        "seconds": clip.seconds,
        "bytes": path.stat().st_size,
        "lufs": loud.integrated_lufs,
        "range_lu": loud.range_lu,
        "true_peak_dbtp": loud.true_peak_dbtp,
        "momentary_max_lufs": loud.momentary_max_lufs,
        "short_term_max_lufs": loud.short_term_max_lufs,
        "low": _rounded(low),
        "high": _rounded(high),
    }


def _rounded(values: np.ndarray) -> list[float]:
    return [round(float(v), 3) for v in values]
