"""Sessions, steps, changes, sounds, prints."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None


def upgrade() -> None:
    op.create_table(
        "sessions",
        sa.Column("id", sa.String, primary_key=True),
        sa.Column("name", sa.String, nullable=False),
        sa.Column("document", sa.Text, nullable=False),
        sa.Column("version", sa.Integer, nullable=False),
        sa.Column("position", sa.Integer, nullable=False),
        sa.Column("created", sa.String, nullable=False),
        sa.Column("updated", sa.String, nullable=False),
    )
    owner = sa.ForeignKey("sessions.id", ondelete="CASCADE")
    op.create_table(
        "steps",
        sa.Column("session_id", sa.String, owner, primary_key=True),
        sa.Column("position", sa.Integer, primary_key=True),
        sa.Column("label", sa.String, nullable=False),
        sa.Column("gesture", sa.String, nullable=False),
        sa.Column("edits", sa.Text, nullable=False),
        sa.Column("inverses", sa.Text, nullable=False),
        sa.Column("created", sa.String, nullable=False),
    )
    op.create_table(
        "changes",
        sa.Column("session_id", sa.String, sa.ForeignKey("sessions.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("version", sa.Integer, primary_key=True),
        sa.Column("edits", sa.Text, nullable=False),
    )
    op.create_table(
        "sounds",
        sa.Column("digest", sa.String, primary_key=True),
        sa.Column("file_name", sa.String, nullable=False),
        sa.Column("suffix", sa.String, nullable=False),
        sa.Column("rate", sa.Integer, nullable=False),
        sa.Column("channels", sa.Integer, nullable=False),
        sa.Column("frames", sa.Integer, nullable=False),
        sa.Column("created", sa.String, nullable=False),
    )
    op.create_table(
        "prints",
        sa.Column("id", sa.String, primary_key=True),
        sa.Column("session_id", sa.String, sa.ForeignKey("sessions.id", ondelete="CASCADE"), nullable=False),
        sa.Column("version", sa.Integer, nullable=False),
        sa.Column("state", sa.String, nullable=False),
        sa.Column("message", sa.String, nullable=False),
        sa.Column("request", sa.Text, nullable=False),
        sa.Column("files", sa.Text, nullable=False),
        sa.Column("created", sa.String, nullable=False),
    )
    op.create_index("prints_by_session", "prints", ["session_id", "created"])


def downgrade() -> None:
    for table in ("prints", "sounds", "changes", "steps", "sessions"):
        op.drop_table(table)
