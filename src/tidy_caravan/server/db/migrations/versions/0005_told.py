"""What is wrong with a part on arrival, in sentences."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    op.add_column("arrival_row", sa.Column("told", sa.Text(), nullable=False, server_default=""))


def downgrade() -> None:
    op.drop_column("arrival_row", "told")
