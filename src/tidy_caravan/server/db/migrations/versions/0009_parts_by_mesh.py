"""Parts are not looked up by mesh through an index of their own: filling it took a third of recording a scene, and the
parts of one scene, which stand together, are read as fast."""

from __future__ import annotations

from alembic import op

revision = "0009"
down_revision = "0008"


def upgrade() -> None:
    op.drop_index("part_mesh", table_name="part")


def downgrade() -> None:
    op.create_index("part_mesh", "part", ["scene_id", "mesh"], unique=False)
