"""Changes of sources and destinations can be undone, too; what is deleted can be restored for some time."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0013"
down_revision = "0012"


def upgrade() -> None:
    op.add_column("haul", sa.Column("deleted", sa.DateTime(timezone=True)))
    op.add_column("destination", sa.Column("deleted", sa.DateTime(timezone=True)))
    op.add_column("edit", sa.Column("state", JSONB()))
    op.execute("UPDATE edit SET state = jsonb_build_object('name', name, 'destination', destination, 'route', route)")
    op.alter_column("edit", "state", nullable=False)
    for column in ("name", "destination", "route"):
        op.drop_column("edit", column)
    op.alter_column("edit", "haul_id", nullable=True)
    op.add_column("edit", sa.Column("own", sa.Text(), sa.ForeignKey("destination.name", ondelete="CASCADE")))
    op.create_index("ix_edit_own", "edit", ["own"])


def downgrade() -> None:
    op.execute("DELETE FROM edit WHERE own IS NOT NULL")
    # older programs know no change of the source: what would be undone across one does not fit the haul any more
    op.execute(
        "DELETE FROM edit e USING haul h WHERE e.haul_id = h.id AND e.number <= ("
        " SELECT max(number) FROM edit o WHERE o.haul_id = h.id"
        " AND o.state->>'revision' IS DISTINCT FROM h.revision_id::text AND o.state ? 'revision')"
    )
    op.drop_index("ix_edit_own", "edit")
    op.drop_column("edit", "own")
    for column, kind in (("name", sa.Text()), ("destination", JSONB()), ("route", JSONB())):
        op.add_column("edit", sa.Column(column, kind))
        op.execute(f"UPDATE edit SET {column} = state->{'>' if column == 'name' else ''}'{column}'")
        op.alter_column("edit", column, nullable=False)
    op.drop_column("edit", "state")
    op.alter_column("edit", "haul_id", nullable=False)
    op.execute("DELETE FROM haul WHERE deleted IS NOT NULL")
    op.execute("DELETE FROM destination WHERE deleted IS NOT NULL")
    op.drop_column("haul", "deleted")
    op.drop_column("destination", "deleted")
