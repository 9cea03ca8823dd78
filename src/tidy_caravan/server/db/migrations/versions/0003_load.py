"""Files of a revision, travel list and unit evidence of a scene."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    for table, column in (("scene", "travel"), ("scene", "units"), ("revision", "files")):
        op.add_column(
            table, sa.Column(column, postgresql.JSONB(astext_type=sa.Text()), server_default="[]", nullable=False)
        )


def downgrade() -> None:
    for table, column in (("revision", "files"), ("scene", "units"), ("scene", "travel")):
        op.drop_column(table, column)
