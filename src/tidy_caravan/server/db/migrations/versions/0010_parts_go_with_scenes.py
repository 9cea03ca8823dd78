"""Parts go with their scene by one trigger a scene instead of a foreign key, which asked for the scene once for each of a
hundred thousand parts that are recorded in the very transaction that made it."""

from __future__ import annotations

from alembic import op

revision = "0010"
down_revision = "0009"


def upgrade() -> None:
    op.drop_constraint("part_scene_id_fkey", "part", type_="foreignkey")
    op.execute(
        "CREATE FUNCTION parts_of_scene_go() RETURNS trigger LANGUAGE plpgsql AS "
        "$$ BEGIN DELETE FROM part WHERE scene_id = OLD.id; RETURN OLD; END $$"
    )
    op.execute("CREATE TRIGGER parts_go AFTER DELETE ON scene FOR EACH ROW EXECUTE FUNCTION parts_of_scene_go()")


def downgrade() -> None:
    op.execute("DROP TRIGGER parts_go ON scene")
    op.execute("DROP FUNCTION parts_of_scene_go()")
    op.create_foreign_key("part_scene_id_fkey", "part", "scene", ["scene_id"], ["id"], ondelete="CASCADE")
