"""Named states of a session, and what was heard blind."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    op.create_table(
        "snapshots",
        sa.Column("id", sa.String, primary_key=True),
        sa.Column("session_id", sa.String, sa.ForeignKey("sessions.id", ondelete="CASCADE"), nullable=False),
        sa.Column("name", sa.String, nullable=False),
        sa.Column("note", sa.Text, nullable=False, server_default=""),
        sa.Column("step", sa.Integer, nullable=False, server_default="0"),
        sa.Column("document", sa.Text, nullable=False),
        sa.Column("created", sa.String, nullable=False),
    )
    op.create_index("snapshots_by_session", "snapshots", ["session_id", "created"])
    op.create_table(
        "hearings",
        sa.Column("id", sa.String, primary_key=True),
        sa.Column("session_id", sa.String, sa.ForeignKey("sessions.id", ondelete="CASCADE"), nullable=False),
        sa.Column("question", sa.String, nullable=False),
        sa.Column("first", sa.Integer, nullable=False),
        sa.Column("last", sa.Integer, nullable=False),
        sa.Column("told", sa.Text, nullable=False),
        sa.Column("created", sa.String, nullable=False),
    )
    op.create_index("hearings_by_session", "hearings", ["session_id", "created"])


def downgrade() -> None:
    op.drop_table("hearings")
    op.drop_table("snapshots")
