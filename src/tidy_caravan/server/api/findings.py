"""Findings of a scene as rows, with what the haul's route leaves as it is."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from tidy_caravan.core.survey import Left
from tidy_caravan.core.survey.left import reasons, without
from tidy_caravan.server.db.models import FindingRow
from tidy_caravan.server.db.session import fetch


def findings_of(session: Session, scene_id: uuid.UUID, left: Sequence[Left] = ()) -> list[dict[str, Any]]:
    """Columns of the findings in their order, and `part_count`, `left`, `left_parts`; mends are for what is not left."""
    columns = [c for c in FindingRow.__table__.columns if c.name not in ("parts", "places")]
    rows = session.execute(
        select(FindingRow).where(FindingRow.scene_id == scene_id).order_by(FindingRow.rank)
    ).scalars()
    out = []
    for row in rows:
        why, gone = reasons(left, row.code, lambda r=row: names_of(session, scene_id, r.parts))  # type: ignore[misc]
        values = {c.name: getattr(row, c.name) for c in columns}
        values |= {
            "part_count": len(row.parts),
            "place_count": len(row.places),
            "left": why,
            "left_parts": len(gone),
            "mend": without(row.mend, gone),
        }
        out.append(values)
    return out


def names_of(session: Session, scene_id: uuid.UUID, parts: Sequence[int]) -> list[str]:
    """What each of the nodes is called; those that draw nothing are not known here."""
    query = "SELECT node, identity FROM part WHERE scene_id = %(scene)s AND node = ANY(%(nodes)s)"
    known = {r["node"]: r["identity"] for r in fetch(session, query, {"scene": scene_id, "nodes": list(parts)})}
    return [known.get(i, "") for i in parts]
