"""Images of scenes that are not in the store as a whole, so that what arrived is shown with them."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0011"
down_revision = "0010"


def upgrade() -> None:
    op.add_column("scene", sa.Column("images", JSONB(), nullable=False, server_default="[]"))


def downgrade() -> None:
    op.drop_column("scene", "images")
