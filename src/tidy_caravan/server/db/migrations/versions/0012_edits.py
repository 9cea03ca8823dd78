"""What was changed in a haul, so that it can be undone and done again; older changes are not known."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB, UUID

revision = "0012"
down_revision = "0011"


def upgrade() -> None:
    op.create_table(
        "edit",
        sa.Column("id", UUID(as_uuid=True), primary_key=True),
        sa.Column("haul_id", UUID(as_uuid=True), sa.ForeignKey("haul.id", ondelete="CASCADE"), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("undone", sa.Boolean(), nullable=False),
        sa.Column("what", sa.Text(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("destination", JSONB(), nullable=False),
        sa.Column("route", JSONB(), nullable=False),
    )
    op.create_index("ix_edit_haul_id", "edit", ["haul_id"])


def downgrade() -> None:
    op.drop_table("edit")
