"""Sessions and their history: edits, undo, redo, and edits made against an older state."""

import threading
from collections.abc import Callable
from dataclasses import dataclass

from sqlalchemy import Engine, delete, func, select
from sqlalchemy.orm import Session as Db
from sqlalchemy.orm import defer

from ..core.errors import ConflictError, MicLaneError, UnknownPlaceError
from ..core.mix.document import Session
from ..core.mix.edits import EDITS, Edit, Set, apply, new_id, touches
from ..core.mix.labels import describe_edits
from .tables import ChangeRow, SessionRow, StepRow, now


@dataclass(frozen=True)
class State:
    """A session at one version. `steps` is how many can be undone, `ahead` how many redone."""

    id: str
    session: Session
    version: int
    steps: int
    ahead: int
    undo_label: str = ""
    redo_label: str = ""
    updated: str = ""


class SessionStore:
    """All sessions of a database. Every method that changes one returns when the change is on the disk."""

    def __init__(self, engine: Engine, follows: Callable[[Session, list[Edit]], list[Edit]] | None = None) -> None:
        """`follows(session, edits)` gives what must be set because of edits; it is part of their step."""
        self.engine = engine
        self.follows = follows
        self._held: dict[str, State] = {}
        self._lock = threading.Lock()

    def create(self, session: Session, identifier: str = "") -> State:
        """Keep a new session."""
        identifier = identifier or new_id("m")
        if self.follows:
            everywhere: list[Edit] = [Set(path=f"lanes/{lane.id}") for lane in session.lanes]
            session, _ = apply(session, self.follows(session, everywhere))
        with Db(self.engine) as db:
            db.add(SessionRow(id=identifier, name=session.name, document=session.model_dump_json(), version=1))
            db.commit()
        return self.get(identifier)

    def names(self) -> list[str]:
        """Ids of all sessions, the last edited first."""
        with Db(self.engine) as db:
            return list(db.scalars(select(SessionRow.id).order_by(SessionRow.updated.desc())))

    def get(self, identifier: str) -> State:
        """The newest state; UnknownPlaceError when there is no such session."""
        with Db(self.engine) as db:
            version = db.scalar(select(SessionRow.version).where(SessionRow.id == identifier))
            held = self._held.get(identifier)
            if held is not None and held.version == version:
                return held
            row = db.get(SessionRow, identifier)
            if row is None:
                raise UnknownPlaceError(f"there is no session “{identifier}”")
            return self._state(db, row, Session.model_validate_json(row.document))

    def remove(self, identifier: str) -> None:
        """Forget a session and its history; its sounds stay."""
        with Db(self.engine) as db:
            db.execute(delete(SessionRow).where(SessionRow.id == identifier))
            db.commit()
        self._held.pop(identifier, None)

    def edit(self, identifier: str, edits: list[Edit], base: int | None = None, gesture: str = "") -> State:
        """Apply edits made against version `base`.

        Merged where what has changed since touches other settings, else ConflictError. Edits that follow one another
        with the same `gesture` make one step.
        """
        with self._lock, Db(self.engine) as db:
            row = self._row(db, identifier)
            session = self._session(row)
            if base is not None and base < row.version:
                self._refuse_clash(db, row, edits, base)
            after, inverses = apply(session, edits)
            asked = edits
            if self.follows and (more := self.follows(after, edits)):
                after, undone = apply(after, more)
                edits, inverses = edits + more, undone + inverses
            held = self._held.get(identifier)
            ahead = held.ahead if held and held.version == row.version else self._ahead(db, row)
            label = describe_edits(after, asked)
            last = db.get(StepRow, (identifier, row.position)) if gesture else None
            if last is not None and last.gesture == gesture and ahead == 0:
                done, undone = EDITS.validate_json(last.edits), EDITS.validate_json(last.inverses)
                done, undone = _one_step(done, undone, edits, inverses)
                last.edits, last.inverses, last.label = _json(done), _json(undone), label
            else:
                if ahead:
                    later = StepRow.session_id == identifier, StepRow.position > row.position
                    db.execute(delete(StepRow).where(*later))
                row.position += 1
                db.add(
                    StepRow(
                        session_id=identifier,
                        position=row.position,
                        label=label,
                        gesture=gesture,
                        edits=_json(edits),
                        inverses=_json(inverses),
                    )
                )
            return self._commit(db, row, after, edits, asked, label)

    def undo(self, identifier: str) -> State:
        """Take the last step back; MicLaneError when there is none."""
        with self._lock, Db(self.engine) as db:
            row = self._row(db, identifier)
            step = db.get(StepRow, (identifier, row.position))
            if step is None:
                raise MicLaneError("there is nothing to undo")
            edits = EDITS.validate_json(step.inverses)
            after, _ = apply(self._session(row), edits)
            step.gesture = ""
            row.position -= 1
            return self._commit(db, row, after, edits, edits)

    def redo(self, identifier: str) -> State:
        """Make the step again that was taken back last; MicLaneError when there is none."""
        with self._lock, Db(self.engine) as db:
            row = self._row(db, identifier)
            step = db.get(StepRow, (identifier, row.position + 1))
            if step is None:
                raise MicLaneError("there is nothing to redo")
            edits = EDITS.validate_json(step.edits)
            after, inverses = apply(self._session(row), edits)
            step.inverses = _json(inverses)
            row.position += 1
            return self._commit(db, row, after, edits, edits)

    def history(self, identifier: str, most: int = 200) -> list[StepRow]:
        """The newest steps, newest first."""
        with Db(self.engine, expire_on_commit=False) as db:
            query = select(StepRow).where(StepRow.session_id == identifier).order_by(StepRow.position.desc())
            return list(db.scalars(query.limit(most)))

    def _row(self, db: Db, identifier: str) -> SessionRow:
        row = db.get(SessionRow, identifier, options=[defer(SessionRow.document)])
        if row is None:
            raise UnknownPlaceError(f"there is no session “{identifier}”")
        return row

    def _session(self, row: SessionRow) -> Session:
        held = self._held.get(row.id)
        return held.session if held and held.version == row.version else Session.model_validate_json(row.document)

    def _refuse_clash(self, db: Db, row: SessionRow, edits: list[Edit], base: int) -> None:
        query = select(ChangeRow.edits).where(ChangeRow.session_id == row.id, ChangeRow.version > base)
        for since in db.scalars(query):
            if touches(EDITS.validate_json(since), edits):
                raise ConflictError(
                    "this was changed in another window meanwhile; what you see now is the newest state"
                )

    def _ahead(self, db: Db, row: SessionRow) -> int:
        query = select(func.count()).where(StepRow.session_id == row.id, StepRow.position > row.position)
        return int(db.scalar(query) or 0)

    def _commit(
        self, db: Db, row: SessionRow, after: Session, edits: list[Edit], asked: list[Edit], label: str = ""
    ) -> State:
        """Keep what an edit made; with its `label` it is the newest step, and nothing lies ahead of it.

        Only what was `asked` for can clash with an edit from another window; what followed from it cannot.
        """
        row.document, row.name, row.updated = after.model_dump_json(), after.name, now()
        row.version += 1
        db.add(ChangeRow(session_id=row.id, version=row.version, edits=_json(asked)))
        if label:
            state = State(row.id, after, row.version, row.position, 0, label, "", row.updated)
        else:
            db.flush()
            state = self._make_state(db, row, after)
        db.commit()
        self._held[row.id] = state
        return state

    def _state(self, db: Db, row: SessionRow, session: Session) -> State:
        state = self._make_state(db, row, session)
        self._held[row.id] = state
        return state

    def _make_state(self, db: Db, row: SessionRow, session: Session) -> State:
        undo, redo = db.get(StepRow, (row.id, row.position)), db.get(StepRow, (row.id, row.position + 1))
        return State(
            row.id,
            session,
            row.version,
            row.position,
            self._ahead(db, row),
            undo.label if undo else "",
            redo.label if redo else "",
            row.updated,
        )


def _json(edits: list[Edit]) -> str:
    return EDITS.dump_json(edits).decode()


def _one_step(
    done: list[Edit], undone: list[Edit], edits: list[Edit], inverses: list[Edit]
) -> tuple[list[Edit], list[Edit]]:
    """Edits and inverses of a step with more edits of the same gesture: of a value set again only the last is kept."""
    if not all(isinstance(e, Set) for e in edits):
        return done + edits, inverses + undone
    other = [k for k, e in enumerate(done, 1) if not isinstance(e, Set)]
    head, tail = done[: max(other, default=0)], done[max(other, default=0) :]
    known = {e.path for e in tail}
    newest = {e.path: e for e in (*tail, *edits)}
    return head + list(newest.values()), [e for e in inverses if e.path not in known] + undone
