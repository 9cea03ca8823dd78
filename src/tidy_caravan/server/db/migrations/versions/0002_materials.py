"""Materials of a scene with what carries them."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    op.add_column(
        "scene", sa.Column("materials", postgresql.JSONB(astext_type=sa.Text()), server_default="[]", nullable=False)
    )


def downgrade() -> None:
    op.drop_column("scene", "materials")
