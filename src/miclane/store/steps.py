"""Back and forth in the history of a session: one step, to any step, one step alone."""

import json
import threading
from abc import ABC, abstractmethod
from collections import defaultdict

from sqlalchemy import select
from sqlalchemy.orm import Session as Db

from ..core.errors import ConflictError, MicLaneError, UnreadableError
from ..core.mix.chain import read_session
from ..core.mix.document import Session
from ..core.mix.edits import Set, apply, touches
from ..core.mix.plain import apply_to_tree
from ..core.mix.upgrades import DOCUMENT_VERSION, upgrade_document
from .database import Database
from .state import State
from .tables import SessionRow, StepRow
from .writing import AGAIN, as_json, forget_after, read_edits, write_next

TRIES = 20


class Steps(ABC):
    """What a store of sessions can do with their steps."""

    database: Database
    _locks: defaultdict[str, threading.RLock]

    @abstractmethod
    def get(self, identifier: str) -> State:
        """The newest state."""

    @abstractmethod
    def _row(self, db: Db, identifier: str) -> SessionRow: ...

    @abstractmethod
    def _commit(self, db: Db, identifier: str, after: Session) -> State: ...

    def undo(self, identifier: str) -> State:
        """Take the last step back; MicLaneError when there is none."""
        return self._step(identifier, back=True)

    def redo(self, identifier: str) -> State:
        """Make the step again that was taken back last; MicLaneError when there is none."""
        return self._step(identifier, back=False)

    def rescue(self, identifier: str) -> State:
        """Take steps of a session that cannot be read back until it can; MicLaneError where none of them helps."""
        with self._locks[identifier], self.database.writing() as db:
            row = self._row(db, identifier)
            try:
                tree = upgrade_document(json.loads(row.document))
            except ValueError as error:
                raise MicLaneError("its document is damaged, so its history cannot be gone back through") from error
            position = row.position
            while position:
                step = db.get(StepRow, (identifier, position))
                if step is None:
                    break
                apply_to_tree(tree, read_edits(step.inverses, step.document_version))
                position -= 1
                try:
                    session = read_session(json.dumps(tree))
                except UnreadableError:
                    continue
                forget_after(db, identifier, position)
                write_next(db, identifier, row.version, position, session, [Set(path="lanes")])
                return self._commit(db, identifier, session)
        raise MicLaneError("no earlier state of it can be read; take its newest backup")

    def history(self, identifier: str, most: int = 200) -> list[StepRow]:
        """The newest steps, newest first, those that have been taken back among them."""
        with self.database.reading() as db:
            query = select(StepRow).where(StepRow.session_id == identifier).order_by(StepRow.position.desc())
            return list(db.scalars(query.limit(most)))

    def go_to(self, identifier: str, position: int) -> State:
        """Take steps back, or make them again, until so many can be undone."""
        with self._locks[identifier]:
            state = self.get(identifier)
            if not 0 <= position <= state.steps + state.ahead:
                raise MicLaneError(f"there is no step {position}")
            while state.steps != position:
                state = self._step(identifier, back=position < state.steps)
            return state

    def built_on(self, identifier: str, position: int) -> list[StepRow]:
        """The steps after one that touch what it has set, the oldest first: it cannot be taken back without them."""
        state = self.get(identifier)
        with self.database.reading() as db:
            query = select(StepRow).where(StepRow.session_id == identifier, StepRow.position <= state.steps)
            rows = list(db.scalars(query.where(StepRow.position >= position).order_by(StepRow.position)))
        if not rows or rows[0].position != position:
            raise MicLaneError(f"there is no step {position}")
        reached = read_edits(rows[0].edits, rows[0].document_version)
        found = []
        for row in rows[1:]:
            edits = read_edits(row.edits, row.document_version)
            if touches(reached, edits):
                found.append(row)
                reached += edits
        return found

    def _step(self, identifier: str, back: bool) -> State:
        way = "undo" if back else "redo"
        with self._locks[identifier]:
            for _ in range(TRIES):
                state = self.get(identifier)
                with self.database.reading() as db:
                    step = db.get(StepRow, (identifier, state.steps + (0 if back else 1)))
                if step is None:
                    raise MicLaneError(f"there is nothing to {way}")
                edits = read_edits(step.inverses if back else step.edits, step.document_version)
                try:
                    done = apply(state.session, edits)
                except MicLaneError as error:
                    raise MicLaneError(
                        f"“{step.label}” cannot be {way[:-1] if not back else 'und'}one: {error}"
                    ) from error
                with self.database.writing() as db:
                    position = state.steps + (-1 if back else 1)
                    if not write_next(db, identifier, state.version, position, done.session, edits):
                        continue
                    there, again = as_json(edits), as_json(done.inverses)  # the exact way back, whatever wrote it first
                    kept = {"edits": again if back else there, "inverses": there if back else again}
                    kept |= {"session": identifier, "gesture": ""}
                    db.execute(AGAIN, {**kept, "at": step.position, "document_version": DOCUMENT_VERSION})
                    return self._commit(db, identifier, done.session)
        raise ConflictError("this session is being changed from elsewhere all the time; try again")
