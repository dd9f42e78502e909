"""Chains that are kept for other lanes and other songs."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    op.create_table(
        "chains",
        sa.Column("id", sa.String, primary_key=True),
        sa.Column("name", sa.String, nullable=False),
        sa.Column("note", sa.Text, nullable=False, server_default=""),
        sa.Column("tags", sa.String, nullable=False, server_default=""),
        sa.Column("made", sa.Text, nullable=False, server_default="{}"),
        sa.Column("keeps", sa.String, nullable=False, server_default=""),
        sa.Column("document", sa.Text, nullable=False),
        sa.Column("created", sa.String, nullable=False),
        sa.Column("deleted", sa.String, nullable=False, server_default=""),
    )


def downgrade() -> None:
    op.drop_table("chains")
