"""A whole session as one archive: document, sounds, history, snapshots, blind results, chains; opened on any machine.

The archive is a ZIP file. `archive.json` names every member with its SHA-256; what is small comes first, so that of a
file that was cut short the session itself is still there.
"""

import hashlib
import json
import zipfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session as Db

from ..core.errors import MicLaneError, UnknownPlaceError, UnusableDataError
from ..core.mix.chain import read_session
from ..core.mix.document import sounds_of
from ..core.print_names import file_names
from ..store.tables import ChainRow, HearingRow, SessionRow, SnapshotRow, SoundRow, StepRow, now
from .studio import Studio

FORMAT, HISTORY_FORMAT, VERSION = "mic-lane/archive", "mic-lane/history", 1
INDEX, SESSION, HISTORY, ABOUT = "archive.json", "session.json", "history.json", "chains/about.json"
STEP = ("label", "gesture", "edits", "inverses", "document_version", "created")
SNAPSHOT = ("name", "note", "step", "created")
HEARING = ("question", "first", "last", "created")
_EPOCH = (1980, 1, 1, 0, 0, 0)


@dataclass(frozen=True)
class _Record:
    """What the database has of a session: members of the archive as text, and its sounds."""

    name: str
    texts: dict[str, str]
    sounds: list[SoundRow]
    needed_by: dict[str, str]


def pack(studio: Studio, session_id: str, to: Path) -> int:
    """Write the archive of a session to a file; how many bytes it has.

    UnknownPlaceError where there is no such session, UnusableSoundError where a sound of it is gone or damaged,
    UnusableDataError where the file cannot be written; nothing is left then.
    """
    with studio.database.reading() as db:
        record = _record(db, session_id)
    files = {f"sounds/{row.digest}{row.suffix}": studio.sounds.original(row.digest) for row in record.sounds}
    members = {name: _told(text.encode()) for name, text in record.texts.items()}
    members |= {
        n: {"sha256": r.digest, "bytes": files[n].stat().st_size} for n, r in zip(files, record.sounds, strict=True)
    }
    sounds = {
        r.digest: {"file_name": r.file_name, "rate": r.rate, "channels": r.channels, "frames": r.frames}
        | {"needed_by": record.needed_by.get(r.digest, "its history")}
        for r in record.sounds
    }
    index = {"format": FORMAT, "version": VERSION, "name": record.name, "session": session_id, "made": now()}
    part = to.with_name(f".{to.name}.part")
    try:
        with zipfile.ZipFile(part, "w", zipfile.ZIP_STORED) as archive:
            _write(archive, INDEX, json.dumps({**index, "members": members, "sounds": sounds}, indent=1))
            for name, text in record.texts.items():
                _write(archive, name, text)
            for name, path in files.items():
                archive.write(path, name)
        part.replace(to)
    except OSError as error:
        raise UnusableDataError(f"{to}: the archive could not be written ({error.strerror})") from error
    finally:
        part.unlink(missing_ok=True)
    return to.stat().st_size


def _write(archive: zipfile.ZipFile, name: str, text: str) -> None:
    archive.writestr(zipfile.ZipInfo(name, _EPOCH), text.encode(), zipfile.ZIP_DEFLATED)


def _told(data: bytes) -> dict[str, Any]:
    return {"sha256": hashlib.sha256(data).hexdigest(), "bytes": len(data)}


def _record(db: Db, session_id: str) -> _Record:
    row = db.get(SessionRow, session_id)
    if row is None or row.deleted:
        raise UnknownPlaceError(f"there is no session “{session_id}”")
    steps = db.scalars(select(StepRow).where(StepRow.session_id == session_id).order_by(StepRow.position))
    snapshots = db.scalars(
        select(SnapshotRow).where(SnapshotRow.session_id == session_id).order_by(SnapshotRow.created)
    )
    hearings = db.scalars(select(HearingRow).where(HearingRow.session_id == session_id).order_by(HearingRow.created))
    history = {
        "format": HISTORY_FORMAT,
        "version": VERSION,
        "position": row.position,
        "document": json.loads(row.document),  # once more: one damaged spot does not lose it
        "steps": [{"position": s.position, **_fields(s, STEP)} for s in steps],
        "snapshots": [{**_fields(s, SNAPSHOT), "document": json.loads(s.document)} for s in snapshots],
        "hearings": [{**_fields(h, HEARING), "told": json.loads(h.told)} for h in hearings],
    }
    chains = [
        c
        for c in db.scalars(select(ChainRow).where(ChainRow.deleted == "").order_by(ChainRow.created))
        if json.loads(c.made).get("of") == session_id
    ]
    titles = [f"chains/{name}.chain.json" for name in file_names([c.name for c in chains])]
    about = {
        title: {"name": c.name, "note": c.note, "tags": c.tags, "keeps": c.keeps, "created": c.created}
        | {"made": json.loads(c.made)}
        for title, c in zip(titles, chains, strict=True)
    }
    texts = {SESSION: row.document, HISTORY: json.dumps(history)}
    texts |= {title: c.document for title, c in zip(titles, chains, strict=True)}
    if chains:
        texts[ABOUT] = json.dumps(about, indent=1)
    everything = "\n".join(texts.values())
    sounds = [s for s in db.scalars(select(SoundRow).order_by(SoundRow.digest)) if s.digest in everything]
    return _Record(row.name, texts, sounds, _needed_by(row.document))


def _needed_by(document: str) -> dict[str, str]:
    try:
        return sounds_of(read_session(document))
    except MicLaneError:
        return {}


def _fields(row: Any, names: tuple[str, ...]) -> dict[str, Any]:
    return {name: getattr(row, name) for name in names}
