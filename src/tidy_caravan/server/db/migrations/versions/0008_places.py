"""Findings know where they are: lines in the world, the worst places first; older ones have none."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0008"
down_revision = "0007"


def upgrade() -> None:
    op.add_column("finding", sa.Column("places", JSONB(), nullable=False, server_default=sa.text("'[]'")))
    op.alter_column("finding", "places", server_default=None)


def downgrade() -> None:
    op.drop_column("finding", "places")
