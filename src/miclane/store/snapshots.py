"""Named states of a session, each whole, as it was."""

from dataclasses import dataclass

from sqlalchemy import delete, select

from ..core.errors import UnknownPlaceError
from ..core.mix.chain import read_session
from ..core.mix.document import Session
from ..core.mix.edits import new_id
from .database import Database
from .state import State
from .tables import SnapshotRow, now

MOST_NAME, MOST_NOTE = 120, 4000


@dataclass(frozen=True)
class Snapshot:
    """A named state: when it was taken, and how many steps could be undone then."""

    id: str
    name: str
    note: str
    step: int
    created: str
    session: Session


class SnapshotStore:
    """The snapshots of all sessions. Every method that changes one returns when the change is on the disk."""

    def __init__(self, database: Database) -> None:
        self.database = database

    def take(self, state: State, name: str, note: str = "") -> Snapshot:
        """Keep a session as it is; one without a name is called by its step."""
        name = name.strip()[:MOST_NAME] or f"Step {state.steps}"
        row = SnapshotRow(id=new_id("n"), session_id=state.id, name=name, note=note.strip()[:MOST_NOTE])
        row.step, row.document, row.created = state.steps, state.song.model_dump_json(), now()
        with self.database.writing() as db:
            db.add(row)
            db.commit()
            return _read(row)

    def all(self, session_id: str) -> list[Snapshot]:
        """Those of a session, the newest first."""
        with self.database.reading() as db:
            query = select(SnapshotRow).where(SnapshotRow.session_id == session_id)
            return [_read(row) for row in db.scalars(query.order_by(SnapshotRow.created.desc(), SnapshotRow.id))]

    def get(self, session_id: str, identifier: str) -> Snapshot:
        """One of a session; UnknownPlaceError where it has none of that id, UnreadableError where it cannot be read."""
        with self.database.reading() as db:
            row = db.get(SnapshotRow, identifier)
            if row is None or row.session_id != session_id:
                raise UnknownPlaceError(f"there is no snapshot “{identifier}” of this session")
            return _read(row)

    def describe(self, session_id: str, identifier: str, name: str, note: str) -> None:
        """Give one another name and note."""
        self.get(session_id, identifier)
        with self.database.writing() as db:
            row = db.get(SnapshotRow, identifier)
            if row is not None:
                row.name, row.note = name.strip()[:MOST_NAME] or row.name, note.strip()[:MOST_NOTE]
            db.commit()

    def remove(self, session_id: str, identifier: str) -> None:
        """Forget one."""
        self.get(session_id, identifier)
        with self.database.writing() as db:
            db.execute(delete(SnapshotRow).where(SnapshotRow.id == identifier))
            db.commit()


def _read(row: SnapshotRow) -> Snapshot:
    return Snapshot(row.id, row.name, row.note, row.step, row.created, read_session(row.document, "the snapshot"))
