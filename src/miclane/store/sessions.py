"""Sessions and their history: edits, undo, redo, and edits made against an older state."""

import json
import threading
from collections import defaultdict
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from functools import partial

from sqlalchemy import Connection, func, select
from sqlalchemy.orm import Session as Db

from ..core.errors import ConflictError, MicLaneError, UnknownPlaceError, UnreadableError
from ..core.mix.chain import read_session
from ..core.mix.document import Session
from ..core.mix.edits import Applied, Edit, Set, apply, apply_with, new_id
from ..core.mix.labels import describe_edits
from ..core.mix.local import check
from ..core.mix.upgrades import DOCUMENT_VERSION, LEVEL_FOUND
from .database import Database
from .foresight import Sight, foresee
from .history import LastStep, one_step
from .state import State
from .steps import TRIES, Steps
from .tables import SessionRow, StepRow, now
from .writing import (
    AGAIN,
    LAST,
    NEW_STEP,
    NEWEST,
    as_json,
    check_sounds,
    document_of,
    forget_after,
    read_edits,
    refuse_clash,
    write_next,
)


@dataclass(frozen=True)
class Unreadable:
    """A session that cannot be read, and why."""

    id: str
    name: str
    reason: str
    updated: str
    steps: int


class SessionStore(Steps):
    """All sessions of a database. Every method that changes one returns when the change is on the disk."""

    def __init__(
        self,
        database: Database,
        follows: Callable[..., list[Edit]] | None = None,
        upgraded: Callable[[Session], list[Edit]] | None = None,
    ) -> None:
        """`follows(session, edits, gesture)` gives what must be set because of edits; it is part of their step.

        `upgraded(session)` gives what must be set in one of a time when that was found while it played.
        """
        self.database = database
        self.follows = follows
        self.upgraded = upgraded
        self.changed: Callable[[str, int], None] = lambda identifier, version: None
        self._held: dict[str, State] = {}
        self._last: dict[str, LastStep] = {}
        self._locks: defaultdict[str, threading.RLock] = defaultdict(threading.RLock)

    def create(self, session: Session, identifier: str = "") -> State:
        """Keep a new session."""
        identifier = identifier or new_id("m")
        if self.follows:
            everywhere: list[Edit] = [Set(path=f"lanes/{lane.id}") for lane in session.lanes]
            session = apply(session, self.follows(session, everywhere, "")).session
            check(session)
        with self.database.writing() as db:
            check_sounds(db, session, None)
            db.add(SessionRow(id=identifier, name=session.name, document=document_of(session), version=1))
            db.commit()
        return self.get(identifier)

    def names(self) -> list[str]:
        """Ids of all sessions, the last edited first."""
        with self.database.reading() as db:
            query = select(SessionRow.id).where(SessionRow.deleted == "")
            return list(db.scalars(query.order_by(SessionRow.updated.desc())))

    def shelf(self) -> list[State | Unreadable]:
        """All sessions, the last edited first; one that cannot be read stands among them with the reason."""
        found: list[State | Unreadable] = []
        for identifier in self.names():
            try:
                found.append(self.get(identifier))
            except UnreadableError as error:
                with self.database.reading() as db:
                    row = self._row(db, identifier)
                    found.append(Unreadable(row.id, row.name, str(error), row.updated, row.position))
            except UnknownPlaceError:
                continue  # deleted meanwhile
        return found

    def get(self, identifier: str) -> State:
        """The newest state; UnknownPlaceError when there is no such session, UnreadableError when it cannot be read."""
        return self._newest(identifier)[0]

    def _newest(self, identifier: str, token: str = "") -> tuple[State, bool]:
        """The newest state, and whether edits with this token are in it."""
        with self.database.looking() as look:
            newest = look.execute(NEWEST, {"session": identifier, "as_token": token or None}).first()
        held = self._held.get(identifier)
        if newest is not None and held is not None and held.version == newest.version:
            return held, newest.made is not None
        with self.database.reading() as db:
            row = self._row(db, identifier)
            newest = db.execute(NEWEST, {"session": identifier, "as_token": token or None}).one()
            return self._state(db, row, self._read(row.document)), newest.made is not None

    def _read(self, document: str) -> Session:
        session = read_session(document)
        if self.upgraded is not None and json.loads(document)["version"] < LEVEL_FOUND:
            session = apply(session, self.upgraded(session)).session
        return session

    def forget(self) -> None:
        """Read every session anew when it is next asked for."""
        self._held.clear()
        self._last.clear()

    def document(self, identifier: str) -> str:
        """A session as it is stored, readable or not."""
        with self.database.reading() as db:
            return self._row(db, identifier).document

    def remove(self, identifier: str) -> None:
        """Put a session into the bin, from which `restore` takes it; its sounds stay."""
        self._mark(identifier, now())

    def restore(self, identifier: str) -> None:
        """Take a session out of the bin."""
        self._mark(identifier, "")

    def bin(self) -> list[tuple[str, str, str]]:
        """What is in the bin: id, name, when; the newest first."""
        with self.database.reading() as db:
            query = select(SessionRow.id, SessionRow.name, SessionRow.deleted).where(SessionRow.deleted != "")
            return [(a, b, c) for a, b, c in db.execute(query.order_by(SessionRow.deleted.desc()))]

    def edit(
        self,
        identifier: str,
        edits: list[Edit],
        base: int | None = None,
        gesture: str = "",
        token: str = "",
        label: str = "",
        follow: bool = True,
        foreseen: Callable[[State], None] | None = None,
    ) -> State:
        """Apply edits made against version `base`.

        Merged where what has changed since touches other settings, else ConflictError. Edits that follow one another
        with the same `gesture` make one step. Edits with a `token` that was taken already are not made again. `label`
        is what the step is called; not to `follow`, nothing but the edits is set. `foreseen` is told of the state that
        will be before it is written, where none is known that is newer than `base`; should it be refused after all,
        or come out otherwise, the session of the state that is returned is another.
        """
        following = partial(self.follows, gesture=gesture) if follow and self.follows else None
        sight = foresee(self._held.get(identifier), edits, base, following) if foreseen is not None else Sight()
        if foreseen is not None and sight.after is not None:
            foreseen(sight.after)

        def kept(state: State) -> State | None:
            if base is not None and base < state.version:
                with self.database.reading() as db:
                    refuse_clash(db, identifier, edits, base, state.version)
            done = sight.of(state) or apply_with(state.session, edits, following, check if following else None)
            return self._keep(state, done, edits, gesture, token, label)

        with self._locks[identifier]:
            held = self._held.get(identifier)
            with suppress(MicLaneError):  # where it is not the newest, nothing is written, and it is looked for
                if held is not None and (after := kept(held)) is not None:
                    return after
            for _ in range(TRIES):
                state, made = self._newest(identifier, token)
                if made:
                    return state
                if (after := kept(state)) is not None:
                    return after
        raise ConflictError("this session is being changed from elsewhere all the time; try again")

    def settle(self, identifier: str, gesture: str, resting: Callable[[Session], list[Edit]]) -> State:
        """Set what `resting(session)` says as a part of the last step, if that is still the one of a gesture.

        `resting` may take its time: no edit waits for it. Where one came meanwhile, nothing is set.
        """
        state = self.get(identifier)
        with self.database.reading() as db:
            step = db.get(StepRow, (identifier, state.steps))
        edits = resting(state.session) if step is not None and step.gesture == gesture and not state.ahead else []
        if not edits:
            return state
        with self._locks[identifier]:
            now = self.get(identifier)
            if now.version != state.version:
                return now
            return self._keep(now, apply(now.session, edits), [], gesture, "") or now

    def undo_alone(self, identifier: str, position: int) -> State:
        """Take back one step of the history, with those that were built on it, as a step of its own."""
        with self._locks[identifier]:
            built = self.built_on(identifier, position)
            with self.database.reading() as db:
                row = db.get(StepRow, (identifier, position))
            if row is None:
                raise MicLaneError(f"there is no step {position}")
            edits = [e for r in [*reversed(built), row] for e in read_edits(r.inverses, r.document_version)]
            return self.edit(identifier, edits, None, label=f"without “{row.label}”"[:400], follow=False)

    def _keep(
        self, state: State, done: Applied, asked: list[Edit], gesture: str, token: str, label: str = ""
    ) -> State | None:
        """Write what edits of a state made as its next version; None where it is no longer the newest."""
        self.database.back_up_daily()
        label = label or describe_edits(done.session, asked)
        with self.database.changing() as db:
            check_sounds(db, done.session, state.session)
            last = self._last_step(db, state) if gesture and not state.ahead else None
            joins = last is not None and last.gesture == gesture
            position = state.steps if joins else state.steps + 1
            made, undone = done.made, done.inverses
            if joins and last is not None:
                made, undone = one_step(last.edits, last.inverses, made, undone)
                label = label if asked else last.label
            nothing = joins and _leaves_nothing(done.session, asked, undone)
            position -= nothing
            updated = write_next(db, state.id, state.version, position, done.session, asked, token)
            if not updated:
                with self.database.reading() as there:
                    self._row(there, state.id)
                return None
            if not joins and state.ahead:
                forget_after(db, state.id, state.steps)
            step = {"label": label, "gesture": gesture, "edits": as_json(made), "inverses": as_json(undone)}
            if nothing:
                forget_after(db, state.id, position)
                step_before = db.execute(LAST, {"session": state.id, "at": position}).first()
                label = step_before.label if step_before else ""
            elif joins:
                where = {"session": state.id, "at": state.steps}
                db.execute(AGAIN, {**where, **step, "document_version": DOCUMENT_VERSION})
            else:
                db.execute(NEW_STEP, {**step, "session_id": state.id, "position": position})
            followed = tuple(done.made[len(asked) :])
            after = State(state.id, done.session, state.version + 1, position, 0, label, "", updated, followed)
            db.commit()
            self._held[state.id] = after
            self._last[state.id] = LastStep(after.version if not nothing else -1, label, gesture, made, undone)
        self.changed(after.id, after.version)
        return after

    def _last_step(self, db: Connection, state: State) -> LastStep | None:
        """The last step of a state; as it was written, where that was here and nothing has come after it."""
        held = self._last.get(state.id)
        if held is not None and held.version == state.version:
            return held
        row = db.execute(LAST, {"session": state.id, "at": state.steps}).first()
        if row is None:
            return None
        edits, inverses = (read_edits(text, row.document_version) for text in (row.edits, row.inverses))
        return LastStep(state.version, row.label, row.gesture, edits, inverses)

    def _mark(self, identifier: str, deleted: str) -> None:
        with self._locks[identifier], self.database.writing() as db:
            row = db.get(SessionRow, identifier)
            if row is None:
                raise UnknownPlaceError(f"there is no session “{identifier}”")
            row.deleted = deleted
            db.commit()
        self._held.pop(identifier, None)
        self._last.pop(identifier, None)

    def _row(self, db: Db, identifier: str) -> SessionRow:
        row = db.get(SessionRow, identifier)
        if row is None or row.deleted:
            raise UnknownPlaceError(f"there is no session “{identifier}”")
        return row

    def _ahead(self, db: Db, row: SessionRow) -> int:
        query = select(func.count()).where(StepRow.session_id == row.id, StepRow.position > row.position)
        return int(db.scalar(query) or 0)

    def _commit(self, db: Db, identifier: str, after: Session) -> State:
        """Keep what was written; the state that it made."""
        row = db.get(SessionRow, identifier, populate_existing=True)
        if row is None:
            raise UnknownPlaceError(f"there is no session “{identifier}”")
        state = self._make_state(db, row, after)
        db.commit()
        self._held[identifier] = state
        self.changed(identifier, state.version)
        return state

    def _state(self, db: Db, row: SessionRow, session: Session) -> State:
        state = self._make_state(db, row, session)
        self._held[row.id] = state
        return state

    def _make_state(self, db: Db, row: SessionRow, session: Session) -> State:
        undo, redo = db.get(StepRow, (row.id, row.position)), db.get(StepRow, (row.id, row.position + 1))
        labels = undo.label if undo else "", redo.label if redo else ""
        return State(row.id, session, row.version, row.position, self._ahead(db, row), *labels, row.updated)


def _leaves_nothing(session: Session, edits: list[Edit], inverses: list[Edit]) -> bool:
    """Whether a gesture has ended where it began, by taking away again what it had put in."""
    return any(e.op == "remove" for e in edits) and apply(session, inverses).session == session
