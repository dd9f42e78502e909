"""A data folder kept sound: what is orphaned, what is damaged, what of it can be mended; a copy of all of it."""

import contextlib
import json
import shutil
import time
import zipfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import partial
from pathlib import Path

from sqlalchemy import delete, select

from ..core import audio
from ..core.errors import MicLaneError, UnusableDataError
from ..core.mix.chain import read_session
from ..core.mix.document import sounds_of
from ..logs import log
from ..store.database import Database
from ..store.sessions import Unreadable
from ..store.tables import ChainRow, PrintRow, SessionRow, SnapshotRow, SoundRow, StepRow
from .studio import Studio

BIN_DAYS = 30
_RESTS_S = 3600.0  # what is younger may belong to an import under way


@dataclass(frozen=True)
class Fault:
    """Something that is not as it should be: in words, and what mends it, where something does."""

    words: str
    mend: Callable[[], None] | None = None


def find_faults(studio: Studio, young_too: bool = False) -> Iterator[Fault]:
    """Everything that is damaged or orphaned in a data folder. `young_too`: also what was written in the last hour."""
    for line in studio.database.faults():
        yield Fault(f"database: {line}")
    for state in studio.sessions.shelf():
        if isinstance(state, Unreadable):
            yield Fault(f"session “{state.name}” cannot be read: {state.reason}")
    yield from (Fault(why) for why in studio.chains.unreadable())
    yield from _sounds(studio, young_too)
    yield from _prints(studio)


def _sounds(studio: Studio, young_too: bool) -> Iterator[Fault]:
    needed, folder = sounds_needed(studio.database), studio.sounds.folder
    with studio.database.reading() as db:
        rows = list(db.scalars(select(SoundRow)))
    for row in rows:
        if row.digest not in needed and (young_too or _rests(row.created)):
            yield Fault(
                f"sound {row.file_name} is not needed by any session", partial(forget_sound, studio, row.digest)
            )
            continue
        try:
            studio.sounds.original(row.digest)
        except MicLaneError as error:
            yield Fault(str(error))
    known = {row.digest for row in rows}
    for path in folder.rglob("*"):
        if (
            path.is_file()
            and path.name[:64] not in known
            and (young_too or time.time() - path.stat().st_mtime > _RESTS_S)
        ):
            yield Fault(
                f"file {path.relative_to(folder.parent)} belongs to no sound", partial(path.unlink, missing_ok=True)
            )
    for path in folder.glob("frames/*/*.f32"):
        if path.name[:64] in known and not _frames_sound(path):
            yield Fault(f"frames {path.name} are damaged; they are made anew when wanted", partial(_drop_frames, path))


def _prints(studio: Studio) -> Iterator[Fault]:
    with studio.database.reading() as db:
        rows = {row.id: row for row in db.scalars(select(PrintRow))}
    folder = studio.data / "prints"
    for path in folder.glob("*"):
        if path.name not in rows:
            yield Fault(f"print {path.name} belongs to no session", partial(shutil.rmtree, path, ignore_errors=True))
    for row in rows.values():
        for file in json.loads(row.files):
            if row.state == "done" and not (folder / row.id / file["name"]).is_file():
                yield Fault(f"print {file['name']} is no longer there; print it again")


def sounds_needed(database: Database) -> set[str]:
    """Hashes of all sounds that a session, deleted ones included, needs now, in a snapshot or anywhere in its
    history, or a chain that is kept."""
    needed: set[str] = set()
    with database.reading() as db:
        texts: list[str] = []
        for document in db.scalars(select(SessionRow.document)):
            with contextlib.suppress(MicLaneError):
                needed |= set(sounds_of(read_session(document)))
            texts.append(document)
        texts += db.scalars(select(SnapshotRow.document))
        texts += db.scalars(select(ChainRow.document))  # the impulses in them
        for edits, inverses in db.execute(select(StepRow.edits, StepRow.inverses)):
            texts += [edits, inverses]
        everything = "\n".join(texts)
        for digest in db.scalars(select(SoundRow.digest)):
            if digest in everything:
                needed.add(digest)
    return needed


def forget_sound(studio: Studio, digest: str) -> None:
    """Take a sound and all that was made of it out of the store."""
    with studio.database.writing() as db:
        db.execute(delete(SoundRow).where(SoundRow.digest == digest))
        db.commit()
    for path in studio.sounds.folder.rglob(f"{digest}*"):
        path.unlink(missing_ok=True)


def tidy(studio: Studio) -> None:
    """What is done by itself some time after the start: the bin is emptied, what nothing refers to goes."""
    try:
        before = (datetime.now(UTC) - timedelta(days=BIN_DAYS)).isoformat()
        with studio.database.writing() as db:
            db.execute(delete(SessionRow).where(SessionRow.deleted != "", SessionRow.deleted < before))
            db.commit()
        needed = sounds_needed(studio.database)
        with studio.database.reading() as db:
            orphans = [r.digest for r in db.scalars(select(SoundRow)) if r.digest not in needed and _rests(r.created)]
        for digest in orphans:
            forget_sound(studio, digest)
        with studio.database.reading() as db:
            prints = set(db.scalars(select(PrintRow.id)))
        for path in (studio.data / "prints").glob("*"):
            if path.name not in prints:
                shutil.rmtree(path, ignore_errors=True)
        if orphans:
            log.info("tidied", sounds=len(orphans))
    except Exception:
        log.exception("tidying failed")


def back_up_all(studio: Studio, to: Path) -> int:
    """Database and original sounds as one ZIP file, consistent while others work; how many bytes it has."""
    part = to.with_name(f".{to.name}.part")
    copy = to.with_name(f".{to.name}.sqlite.part")
    try:
        studio.database.back_up(copy)
        with zipfile.ZipFile(part, "w", zipfile.ZIP_STORED) as archive:
            archive.write(copy, "miclane.sqlite")
            for path in sorted(studio.sounds.folder.glob("originals/*/*")):
                if path.is_file() and not path.name.startswith("."):
                    archive.write(path, f"sounds/{path.relative_to(studio.sounds.folder)}")
        part.replace(to)
    except OSError as error:
        raise UnusableDataError(f"{to}: the backup could not be written ({error.strerror})") from error
    finally:
        part.unlink(missing_ok=True)
        copy.unlink(missing_ok=True)
    return to.stat().st_size


def _rests(created: str) -> bool:
    return datetime.fromisoformat(created) < datetime.now(UTC) - timedelta(seconds=_RESTS_S)


def _frames_sound(path: Path) -> bool:
    try:
        note = json.loads(path.with_suffix(".json").read_bytes())
        return bool(audio.content_hash(path) == note["sha256"])
    except (OSError, ValueError, KeyError, TypeError):
        return False


def _drop_frames(path: Path) -> None:
    path.unlink(missing_ok=True)
    path.with_suffix(".json").unlink(missing_ok=True)
