"""The SQLite file: WAL mode, every commit on the disk before it returns; readers never wait for writers."""

import sqlite3
import threading
from collections.abc import Iterator
from contextlib import closing, contextmanager
from datetime import datetime
from pathlib import Path
from typing import Any

from sqlalchemy import Connection, Engine, create_engine, event, inspect, text
from sqlalchemy.exc import DatabaseError, OperationalError
from sqlalchemy.orm import Session as Db

from ..core.errors import DamagedDataError, UnusableDataError
from ..logs import log
from .folder import prepare_folder

HEAD = "0004"
KNOWN = ("0001", "0002", "0003", "0004")
KEPT_BACKUPS = 7
_MIGRATIONS = Path(__file__).parent / "migrations"
_PRAGMAS = ("journal_mode=WAL", "synchronous=FULL", "foreign_keys=ON", "busy_timeout=30000")


class Database:
    """One file, read on as many connections as ask, written by one at a time."""

    def __init__(self, path: Path, migrate: bool = True) -> None:
        """Open or make the database at `path`.

        DamagedDataError where it is no sound SQLite file, UnusableDataError where it cannot be written, is of a newer
        version, or is older and `migrate` is not allowed.
        """
        self.path = path
        self.backups = path.parent / "backups"
        self._lock, self._look_lock = threading.Lock(), threading.Lock()
        self._look: Connection | None = None
        self._backed_up = ""
        prepare_folder(path.parent)
        try:
            path.touch(mode=0o600)
            path.chmod(0o600)
        except OSError as error:
            raise UnusableDataError(f"{path}: cannot be written ({error.strerror})") from error
        self._reader = _engine(path, "BEGIN", ("query_only=ON",))
        self._looker = _engine(path, "", ("query_only=ON",))  # no snapshot is kept from one look to the next
        self._writer = _engine(path, "BEGIN IMMEDIATE")
        try:
            self._bring_up_to_date(migrate)
        except DatabaseError as error:
            self.close()
            raise self._damaged(str(error.orig).splitlines()[-1]) from error

    @contextmanager
    def reading(self) -> Iterator[Db]:
        """A session on a snapshot; it never waits for a writer, and cannot write."""
        with Db(self._reader, expire_on_commit=False) as db:
            yield db

    @contextmanager
    def looking(self) -> Iterator[Connection]:
        """A connection that stays open, for one look at what is newest; one at a time."""
        with self._look_lock:
            if self._look is None:
                self._look = self._looker.connect()
            yield self._look

    @contextmanager
    def writing(self) -> Iterator[Db]:
        """A session that may write; only one at a time. What it does not commit is undone."""
        with self.changing() as connection, Db(connection, expire_on_commit=False) as db:
            yield db

    @contextmanager
    def changing(self) -> Iterator[Connection]:
        """As `writing`, for plain statements: without what rows as objects cost."""
        with self._lock, self._writer.connect() as connection:
            try:
                yield connection
            except OperationalError as error:
                raise UnusableDataError(
                    f"{self.path}: {_refusal(str(error.orig))}; nothing was kept of this"
                ) from error

    def faults(self) -> list[str]:
        """What SQLite itself finds wrong with the file; none when it is sound."""
        try:
            with closing(sqlite3.connect(self.path)) as connection:
                found = [str(row[0]) for row in connection.execute("PRAGMA integrity_check(20)")]
                found += [
                    f"row {r[1]} of {r[0]} refers to nothing" for r in connection.execute("PRAGMA foreign_key_check")
                ]
        except sqlite3.DatabaseError as error:
            return [str(error)]
        return [line for line in found if line != "ok"]

    def back_up(self, to: Path | None = None) -> Path:
        """A consistent copy while others read and write: to a file, or beside the database, the last seven kept."""
        target = to or self.backups / f"miclane-{datetime.now():%Y%m%d-%H%M%S}.sqlite"
        target.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        part = target.with_name(f".{target.name}.part")
        try:
            with closing(sqlite3.connect(self.path)) as source, closing(sqlite3.connect(part)) as copy:
                source.backup(copy)
            part.chmod(0o600)
            part.replace(target)
        except (sqlite3.Error, OSError) as error:
            raise UnusableDataError(f"{target}: the backup could not be written ({error})") from error
        finally:
            part.unlink(missing_ok=True)
        if to is None:
            for old in self.known_backups()[KEPT_BACKUPS:]:
                old.unlink(missing_ok=True)
        return target

    def back_up_daily(self) -> None:
        """A backup, unless one of today is there; where it cannot be written the work goes on without."""
        today = f"miclane-{datetime.now():%Y%m%d}-"
        if today == self._backed_up:
            return
        self._backed_up = today
        if not any(b.name.startswith(today) for b in self.known_backups()):
            try:
                self.back_up()
            except UnusableDataError as error:
                log.warning("backup failed", reason=str(error))

    def known_backups(self) -> list[Path]:
        """Backups beside the database, the newest first."""
        return sorted(self.backups.glob("miclane-*.sqlite"), reverse=True)

    def close(self) -> None:
        """Write what stands in the log into the file itself, and let go of it."""
        with self._look_lock:
            if self._look is not None:
                self._look.close()
                self._look = None
        for engine in (self._looker, self._reader, self._writer):
            engine.dispose()
        try:
            with closing(sqlite3.connect(self.path, timeout=2)) as connection:
                connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        except sqlite3.Error:
            return  # nothing is lost: the log is read at the next start

    def _bring_up_to_date(self, migrate: bool) -> None:
        with self._reader.connect() as connection:
            tables = inspect(connection).get_table_names()
            row = (
                connection.execute(text("SELECT version_num FROM alembic_version")).first()
                if "alembic_version" in tables
                else None
            )
            at = str(row[0]) if row else ""
            said = connection.execute(text("PRAGMA quick_check(5)")).scalars().all()
        if list(said) != ["ok"]:
            raise self._damaged(str(said[0]).splitlines()[-1])
        if at == HEAD:
            missing = {"sessions", "steps", "changes", "sounds", "prints", "snapshots", "hearings", "chains"} - set(
                tables
            )
            if missing:
                raise self._damaged(f"its table “{min(missing)}” is missing")
            return
        if at and at not in KNOWN:
            raise UnusableDataError(f"{self.path}: was written by a newer Mic Lane ({at}); update this one to open it")
        if not at and tables:
            raise self._damaged("it does not say its version")
        if not migrate:
            raise UnusableDataError(f"{self.path}: is of an older version; start `miclane serve` on it once")
        if at:
            self.back_up()
        _migrate(self._writer)

    def _damaged(self, why: str) -> DamagedDataError:
        backups = self.known_backups()
        way = (
            f"its newest backup is {backups[0]}: copy that to {self.path.name} in its place"
            if backups
            else "there is no backup of it"
        )
        return DamagedDataError(f"{self.path}: the database is damaged ({why}); {way}")


def _refusal(said: str) -> str:
    """What SQLite said, in words of ours."""
    known = {"full": "the disk is full", "I/O": "the disk is full, or gone", "readonly": "is read-only"}
    return next((words for part, words in known.items() if part in said), f"could not be written ({said})")


def _engine(path: Path, begin: str, pragmas: tuple[str, ...] = ()) -> Engine:
    engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": 30}, pool_size=8, max_overflow=40)

    @event.listens_for(engine, "connect")
    def _pragmas(connection: Any, _: Any) -> None:
        connection.isolation_level = None
        for pragma in (*_PRAGMAS, *pragmas):
            connection.execute(f"PRAGMA {pragma}")

    @event.listens_for(engine, "begin")
    def _begin(connection: Any) -> None:
        if begin:
            connection.exec_driver_sql(begin)

    return engine


def _migrate(engine: Engine) -> None:
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(_MIGRATIONS))
    with engine.connect() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "head")
        connection.commit()
