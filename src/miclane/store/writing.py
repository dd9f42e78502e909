"""What an edit writes: the next version of a session, its step of the history, and what may clash with it."""

import json

from sqlalchemy import Connection, bindparam, delete, exists, insert, select, update
from sqlalchemy.orm import Session as Db

from ..core.errors import ConflictError, UnusableChainError
from ..core.mix.document import Bus, Lane, Return, Session, sounds_of
from ..core.mix.edits import EDITS, Edit, touches
from ..core.mix.upgrades import upgrade_edits
from ..core.same import once_each
from .tables import CHANGES, SESSIONS, SOUNDS, STEPS, ChangeRow, now

KEPT_CHANGES = 200  # an edit made against a state older than that may be refused
_SWEEP_EVERY = 16
_PRESENT = SESSIONS.c.id == bindparam("session"), SESSIONS.c.deleted == ""
_TAKEN = CHANGES.c.session_id == SESSIONS.c.id, CHANGES.c.token == bindparam("as_token")
# made once: an edit waits for each of these. The version, and which one an edit with this token has made
NEWEST = select(SESSIONS.c.version, select(CHANGES.c.version).where(*_TAKEN).limit(1).scalar_subquery().label("made"))
NEWEST = NEWEST.where(*_PRESENT)
_NEXT = update(SESSIONS).where(*_PRESENT, SESSIONS.c.version == bindparam("at"), ~exists().where(*_TAKEN))
_STEP = STEPS.c.session_id == bindparam("session"), STEPS.c.position == bindparam("at")
NEW_STEP, _CHANGE = insert(STEPS), insert(CHANGES)
LAST, AGAIN = select(STEPS).where(*_STEP), update(STEPS).where(*_STEP)
_HAS_SOUND = select(SOUNDS.c.digest).where(SOUNDS.c.digest == bindparam("digest"))


def write_next(
    db: Db | Connection,
    identifier: str,
    version: int,
    position: int,
    after: Session,
    asked: list[Edit],
    token: str = "",
) -> str:
    """Make `after` what comes next after a version; the time, or nothing where that is no longer the newest, or edits
    with this token have been made.

    Only what was `asked` for can clash with an edit from another window; what followed from it cannot.
    """
    values = {"document": document_of(after), "name": after.name, "updated": now(), "position": position}
    where = {"session": identifier, "at": version, "as_token": token or None}
    if not db.execute(_NEXT, {**where, **values, "version": version + 1}).rowcount:  # type: ignore[attr-defined]
        return ""
    change = {"session_id": identifier, "version": version + 1, "edits": as_json(asked), "token": token}
    db.execute(_CHANGE, change)
    if (version + 1) % _SWEEP_EVERY == 0:
        old = CHANGES.c.session_id == identifier, CHANGES.c.version <= version + 1 - KEPT_CHANGES
        db.execute(delete(CHANGES).where(*old))
    return str(values["updated"])


def document_of(session: Session) -> str:
    """A session as JSON. What it has of lanes, returns and buses is written once for as long as it stays as it is."""
    groups = {group: getattr(session, group) for group in ("lanes", "returns", "buses")}
    rest = session.model_dump_json(exclude=set(groups))
    written = (f'"{group}":[{",".join(map(_member, members))}]' for group, members in groups.items())
    return f"{rest[:-1]},{','.join(written)}}}"


@once_each(256)  # of the largest session (192) all; some 50 KB each
def _member(member: Lane | Return | Bus) -> str:
    return member.model_dump_json()


def check_sounds(db: Db | Connection, after: Session, before: Session | None) -> None:
    """UnusableChainError where a session needs a file that the store does not have, and did not need it before."""
    old = sounds_of(before) if before is not None else {}
    for digest, who in sounds_of(after).items():
        if digest not in old and db.execute(_HAS_SOUND, {"digest": digest}).first() is None:
            raise UnusableChainError(
                f"{who} needs the sound {digest[:12]}…, which is not in the store; import it first"
            )


def refuse_clash(db: Db, identifier: str, edits: list[Edit], base: int, newest: int) -> None:
    """ConflictError where edits made against version `base` touch what has changed since."""
    words = "this was changed in another window meanwhile; what you see now is the newest state"
    query = select(ChangeRow).where(ChangeRow.session_id == identifier, ChangeRow.version > base)
    since = list(db.scalars(query))
    if len(since) < newest - max(base, 1):
        raise ConflictError(words)  # what it was made against is too long ago to tell
    for change in since:
        if touches(read_edits(change.edits, change.document_version), edits):
            raise ConflictError(words)


def forget_after(db: Db | Connection, identifier: str, position: int) -> None:
    """What had been taken back cannot be made again."""
    db.execute(delete(STEPS).where(STEPS.c.session_id == identifier, STEPS.c.position > position))


def as_json(edits: list[Edit]) -> str:
    """Edits as they are stored."""
    return EDITS.dump_json(edits).decode()


def read_edits(text: str, version: int) -> list[Edit]:
    """Edits stored at a version of the document, brought up to date."""
    return EDITS.validate_python(upgrade_edits(json.loads(text), version))
