"""Steps and changes say for which version of documents they are; changes name their edit; sessions have a bin."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    for table in ("steps", "changes"):
        op.add_column(table, sa.Column("document_version", sa.Integer, nullable=False, server_default="1"))
    op.add_column("changes", sa.Column("token", sa.String, nullable=False, server_default=""))
    op.add_column("sessions", sa.Column("deleted", sa.String, nullable=False, server_default=""))


def downgrade() -> None:
    for table, column in (
        ("steps", "document_version"),
        ("changes", "document_version"),
        ("changes", "token"),
        ("sessions", "deleted"),
    ):
        op.drop_column(table, column)
