"""Figures that heavy work found out, by the content they are about."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    op.create_table(
        "kept_figures",
        sa.Column("key", sa.Text(), primary_key=True),
        sa.Column("figures", JSONB(), nullable=False),
        sa.Column("used", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.now()),
    )
    op.create_index("ix_kept_figures_used", "kept_figures", ["used"])


def downgrade() -> None:
    op.drop_table("kept_figures")
