"""Parts are named by identities: rows of scenes and arrivals hold them; what is there already is named at the start."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"


def upgrade() -> None:
    op.add_column("part", sa.Column("identity", sa.Text(), nullable=False, server_default=""))
    op.alter_column("part", "identity", server_default=None)
    op.add_column("arrival_row", sa.Column("identity", sa.Text(), nullable=False, server_default=""))
    # false for what is there already: server/db/naming.py goes through it once
    op.add_column("scene", sa.Column("named", sa.Boolean(), nullable=False, server_default=sa.false()))


def downgrade() -> None:
    op.drop_column("scene", "named")
    op.drop_column("arrival_row", "identity")
    op.drop_column("part", "identity")
