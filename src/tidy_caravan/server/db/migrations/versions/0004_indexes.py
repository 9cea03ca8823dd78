"""Indexes on the keys that deletes cascade along, and on what the list of hauls sorts and joins by."""

from __future__ import annotations

from alembic import op

revision = "0004"
down_revision = "0003"
INDEXES = (
    ("revision", ["scene_id"]),
    ("run", ["revision_id"]),
    ("run", ["scene_id"]),
    ("run", ["read_scene_id"]),
    ("package", ["run_id"]),
    ("arrival", ["package_id"]),
    ("arrival", ["scene_id"]),
    ("haul", ["created"]),
)


def upgrade() -> None:
    for table, columns in INDEXES:
        op.create_index(f"ix_{table}_{'_'.join(columns)}", table, columns)


def downgrade() -> None:
    for table, columns in INDEXES:
        op.drop_index(f"ix_{table}_{'_'.join(columns)}", table)
