"""Tables. What is looked up stands in columns; documents and edits are JSON."""

from datetime import UTC, datetime
from typing import cast

from sqlalchemy import ForeignKey, Index, Table, Text
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column

from ..core.mix.upgrades import DOCUMENT_VERSION


def now() -> str:
    """The time in UTC as ISO 8601."""
    return datetime.now(UTC).isoformat(timespec="milliseconds")


class Base(DeclarativeBase):
    """Base of all tables."""


class SessionRow(Base):
    """A session at its newest: `version` counts every change, `position` the steps that undo would take back."""

    __tablename__ = "sessions"
    id: Mapped[str] = mapped_column(primary_key=True)
    name: Mapped[str]
    document: Mapped[str] = mapped_column(Text)
    version: Mapped[int] = mapped_column(default=0)
    position: Mapped[int] = mapped_column(default=0)
    created: Mapped[str] = mapped_column(default=now)
    updated: Mapped[str] = mapped_column(default=now)
    deleted: Mapped[str] = mapped_column(default="")  # when it was put into the bin


class StepRow(Base):
    """One step of the history: its edits and the edits that take it back."""

    __tablename__ = "steps"
    session_id: Mapped[str] = mapped_column(ForeignKey("sessions.id", ondelete="CASCADE"), primary_key=True)
    position: Mapped[int] = mapped_column(primary_key=True)
    label: Mapped[str]
    gesture: Mapped[str] = mapped_column(default="")
    edits: Mapped[str] = mapped_column(Text)
    inverses: Mapped[str] = mapped_column(Text)
    document_version: Mapped[int] = mapped_column(default=DOCUMENT_VERSION)
    created: Mapped[str] = mapped_column(default=now)


class ChangeRow(Base):
    """What each of the newest versions changed, for edits made against an older state; `token` names the edit."""

    __tablename__ = "changes"
    session_id: Mapped[str] = mapped_column(ForeignKey("sessions.id", ondelete="CASCADE"), primary_key=True)
    version: Mapped[int] = mapped_column(primary_key=True)
    edits: Mapped[str] = mapped_column(Text)
    document_version: Mapped[int] = mapped_column(default=DOCUMENT_VERSION)
    token: Mapped[str] = mapped_column(default="")


class SoundRow(Base):
    """A sound file, kept once by the hash of its bytes."""

    __tablename__ = "sounds"
    digest: Mapped[str] = mapped_column(primary_key=True)
    file_name: Mapped[str]
    suffix: Mapped[str]
    rate: Mapped[int]
    channels: Mapped[int]
    frames: Mapped[int]
    created: Mapped[str] = mapped_column(default=now)


class PrintRow(Base):
    """A print that was asked for: what, how far, and the files it made."""

    __tablename__ = "prints"
    __table_args__ = (Index("prints_by_session", "session_id", "created"),)
    id: Mapped[str] = mapped_column(primary_key=True)
    session_id: Mapped[str] = mapped_column(ForeignKey("sessions.id", ondelete="CASCADE"))
    version: Mapped[int]
    state: Mapped[str]
    message: Mapped[str] = mapped_column(default="")
    request: Mapped[str] = mapped_column(Text)
    files: Mapped[str] = mapped_column(Text, default="[]")
    created: Mapped[str] = mapped_column(default=now)


class SnapshotRow(Base):
    """A named state of a session, made when `step` of its steps could be undone."""

    __tablename__ = "snapshots"
    __table_args__ = (Index("snapshots_by_session", "session_id", "created"),)
    id: Mapped[str] = mapped_column(primary_key=True)
    session_id: Mapped[str] = mapped_column(ForeignKey("sessions.id", ondelete="CASCADE"))
    name: Mapped[str]
    note: Mapped[str] = mapped_column(Text, default="")
    step: Mapped[int] = mapped_column(default=0)
    document: Mapped[str] = mapped_column(Text)
    created: Mapped[str] = mapped_column(default=now)


class ChainRow(Base):
    """A chain that is kept: its file (JSON), where it was made and what it did there (JSON), what a swap keeps."""

    __tablename__ = "chains"
    id: Mapped[str] = mapped_column(primary_key=True)
    name: Mapped[str]
    note: Mapped[str] = mapped_column(Text, default="")
    tags: Mapped[str] = mapped_column(default="")  # with commas between
    made: Mapped[str] = mapped_column(Text, default="{}")
    keeps: Mapped[str] = mapped_column(default="")  # with commas between
    document: Mapped[str] = mapped_column(Text)
    created: Mapped[str] = mapped_column(default=now)
    deleted: Mapped[str] = mapped_column(default="")


class HearingRow(Base):
    """What was heard blind over frames [first, last): the question, and what was `told` (JSON)."""

    __tablename__ = "hearings"
    __table_args__ = (Index("hearings_by_session", "session_id", "created"),)
    id: Mapped[str] = mapped_column(primary_key=True)
    session_id: Mapped[str] = mapped_column(ForeignKey("sessions.id", ondelete="CASCADE"))
    question: Mapped[str]
    first: Mapped[int]
    last: Mapped[int]
    told: Mapped[str] = mapped_column(Text)
    created: Mapped[str] = mapped_column(default=now)


SESSIONS, STEPS, CHANGES, SOUNDS = (cast(Table, row.__table__) for row in (SessionRow, StepRow, ChangeRow, SoundRow))
