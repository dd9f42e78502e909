"""Prints in the background, one after another; what came of each is kept."""

import json
import shutil
import threading
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

from sqlalchemy import delete, select

from ..core.cues import phrases_of
from ..core.engine.giving_way import Cancel
from ..core.errors import CancelledError, MicLaneError, UnknownPlaceError
from ..core.mix.edits import new_id
from ..core.print_targets import find_target, left_out
from ..core.printing import PrintRequest, peaks_dbfs, print_session, sounds_of
from ..logs import log
from ..store.state import State
from ..store.tables import PrintRow
from .recent import Recent
from .report import report_of
from .studio import Studio

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
        self._begun: dict[str, float] = {}
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
        return self.start_all([(state, of)], request)

    def start_all(self, states: list[tuple[State, str]], request: PrintRequest) -> str:
        """Begin a print of several states of a session in one go, each with the name of its snapshot, "" for now.

        MicLaneError, in words, where there is no sound, or one of them has nothing of a target's name.
        """
        for state, of in states:
            try:
                for target in request.targets:
                    find_target(state.session, target)
            except MicLaneError as error:
                raise MicLaneError(f"in the snapshot “{of}” {error}" if of else str(error)) from error
            if not any(lane.sound for lane in state.session.lanes):
                raise MicLaneError("there is no sound to print yet")
        state, of = states[0]
        identifier = new_id("w")
        names = [name or "now" for _, name in states]
        told = {"step": state.steps, "of": of if len(states) == 1 else ", ".join(names)}
        with self.studio.database.writing() as db:
            row = PrintRow(id=identifier, session_id=state.id, version=state.version, state="waiting")
            row.request = json.dumps({**request.model_dump(mode="json"), **told})
            db.add(row)
            db.commit()
        self._cancels[identifier] = Cancel()
        thread = threading.Thread(
            target=self._run, args=(identifier, states, request), name=f"print {identifier}", daemon=True
        )
        self._threads.add(thread)
        thread.start()
        return identifier

    def peaks_dbfs(self, state: State, request: PrintRequest) -> dict[str, float]:
        """The highest sample that each target would have in a print, by its name, in dB of full scale."""
        check = self.studio.newest(state)
        read = self.studio.sounds.reader(state.session.rate)
        names = [find_target(state.session, target).title for target in request.targets]
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

    def left_s(self, identifier: str) -> float | None:
        """Seconds that a print under way will still take, by how it got on so far; None where that is not known yet."""
        share, begun = self.progress(identifier), self._begun.get(identifier)
        spent = time.monotonic() - begun if begun is not None else 0.0
        return spent * (1 - share) / share if share > 0.02 and spent > 0.5 else None

    def before(self, identifier: str) -> int:
        """How many prints are to be made before this one that waits."""
        order = list(self._cancels)
        return order.index(identifier) if identifier in order else 0

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
        found = [self.file(session_id, identifier, k) for k in range(count)]
        beside = [path.with_suffix(".vtt") for path, _ in found]  # where their phrases are
        return found + [(p, p.name) for p in dict.fromkeys(beside) if p.is_file() and not p.is_symlink()]

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

    def _run(self, identifier: str, states: list[tuple[State, str]], request: PrintRequest) -> None:
        folder = self.folder / identifier
        outcome: dict[str, Any]
        with self._turn:
            try:
                self._cancels[identifier].check()
                self._begun[identifier] = time.monotonic()
                self._set(identifier, state="running")
                log.info("print begins", print=identifier, targets=len(request.targets), format=request.format)
                outcome = {"state": "done", "files": json.dumps(self._print(identifier, states, request, folder))}
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
            self.told(states[0][0].id)
        self._threads.discard(threading.current_thread())

    def _finish(self, identifier: str, outcome: dict[str, Any]) -> None:
        try:
            self._set(identifier, **outcome)
        except MicLaneError as error:  # the next start marks it as stopped
            log.error("print could not be marked", print=identifier, reason=str(error))
        self._progress.pop(identifier, None)
        self._cancels.pop(identifier, None)
        self._begun.pop(identifier, None)

    def _print(
        self, identifier: str, states: list[tuple[State, str]], request: PrintRequest, folder: Path
    ) -> list[dict[str, Any]]:
        tell, told = self._tell(identifier, states[0][0].id), list[dict[str, Any]]()
        for k, (state, of) in enumerate(states):
            session = state.session
            if of and "{snapshot}" not in request.naming:
                session = session.model_copy(update={"name": f"{session.name}, {of}"[:200]})
            read, cancel = self.studio.sounds.reader(session.rate), self._cancels[identifier]
            done = partial(_share, tell, k, len(states))
            taken = tuple(Path(f["name"]).stem for f in told)
            for file in print_session(session, request, folder, read, done, cancel, of, taken):
                title = find_target(session, file.target).title + (f", {of}" if of and len(states) > 1 else "")
                found = report_of(file, title, phrases_of(session, file.target))
                told.append(found | {"left_out": left_out(session, file.target) if request.stems else []})
        return told

    def _tell(self, identifier: str, session: str) -> Callable[[float], None]:
        latest = 0.0

        def tell(share: float) -> None:
            nonlocal latest
            self.studio.hurries()
            self._progress[identifier] = share
            if time.monotonic() > latest + TOLD_EVERY_S:
                latest = time.monotonic()
                self.told(session)

        return tell


def _share(tell: Callable[[float], None], done: int, count: int, share: float) -> None:
    tell((done + share) / count)
