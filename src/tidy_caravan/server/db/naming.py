"""Names what was stored before parts had identities: rows of scenes, and what was picked by hand by its number."""

from __future__ import annotations

import logging
import uuid
from typing import Any

from sqlalchemy import select, text
from sqlalchemy.orm import Session

from tidy_caravan.core.scene import Identities
from tidy_caravan.server.db.models import FindingRow, Haul, Revision, Run, SceneRow
from tidy_caravan.server.db.session import clean
from tidy_caravan.server.store.blobs import Store
from tidy_caravan.server.store.scenes import load_scene

log = logging.getLogger(__name__)


def name_parts(session: Session, store: Store) -> int:
    """How many scenes were named. Costs one query when there is nothing to do."""
    waiting = list(session.scalars(select(SceneRow).where(SceneRow.named.is_(False))))
    if not waiting:
        return 0
    known: dict[uuid.UUID, Identities | None] = {}

    def of(scene: uuid.UUID | None) -> Identities | None:
        if scene is not None and scene not in known:
            row = session.get(SceneRow, scene)
            try:
                known[scene] = load_scene(store, row.store_key).identities if row and row.store_key else None
            except (FileNotFoundError, ValueError, KeyError) as error:
                log.warning("the parts of scene %s cannot be named: %s", scene, error)
                known[scene] = None
        return known.get(scene) if scene is not None else None

    for row in waiting:
        names = of(source_of(session, row))
        if names is not None:
            session.execute(
                text(
                    "UPDATE part SET identity = n.name FROM unnest(CAST(:names AS text[])) WITH ORDINALITY AS n(name, at)"
                    " WHERE part.scene_id = :scene AND part.source = n.at - 1"
                ),
                {"names": [clean(n) for n in names.names], "scene": row.id},
            )
            for finding in session.scalars(select(FindingRow).where(FindingRow.scene_id == row.id)):
                if finding.mend is not None:
                    finding.mend = {**finding.mend, **with_names(finding.mend, names)}
        row.named = True
    for haul in session.scalars(select(Haul)):
        revision = session.get(Revision, haul.revision_id) if haul.revision_id else None
        names = of(revision.scene_id if revision else None) or Identities(())
        haul.route = {
            **haul.route,
            "steps": [{**s, **with_names(s, names)} for s in haul.route.get("steps") or []],
            "sets": [set_named(s, names) for s in haul.route.get("sets") or []],
        }
    for run in session.scalars(select(Run)):
        revision = session.get(Revision, run.revision_id)
        names = of(revision.scene_id if revision else None) or Identities(())
        run.records = [
            {**r, "changes": [{**c, "parts": named(c.get("parts") or [], names)} for c in r.get("changes") or []]}
            for r in run.records
        ]
    session.execute(
        text(
            "UPDATE arrival_row a SET identity = p.identity FROM arrival r, package k, run, revision v, part p"
            " WHERE a.arrival_id = r.id AND r.package_id = k.id AND k.run_id = run.id AND run.revision_id = v.id"
            " AND p.scene_id = v.scene_id AND p.source = a.source_id AND a.identity = ''"
        )
    )
    return len(waiting)


def source_of(session: Session, row: SceneRow) -> uuid.UUID | None:
    """The scene of the source that a scene with rows goes back to."""
    if row.kind == "source":
        return row.id if row.store_key else None
    run = session.scalar(select(Run).where(Run.scene_id == row.id))
    revision = session.get(Revision, run.revision_id) if run else None
    return revision.scene_id if revision else None


def named(ids: list[Any], names: Identities) -> list[str]:
    """Identities of what was picked by its number; what has one already keeps it."""
    out = [names.names[i] if isinstance(i, int) and 0 <= i < len(names.names) else i for i in ids]
    return [clean(n) for n in out if isinstance(n, str)]


def with_names(step: dict[str, Any], names: Identities) -> dict[str, Any]:
    where = step.get("where")
    if not isinstance(where, dict) or not where.get("parts"):
        return {}
    now = named(where["parts"], names)
    # a step whose parts cannot be named would be for every part
    return {"where": {**where, "parts": now}, **({} if now else {"enabled": False})}


def set_named(one: dict[str, Any], names: Identities) -> dict[str, Any]:
    rules = [{**r, "parts": named(r["parts"], names)} if r.get("parts") else r for r in one.get("rules") or []]
    hands = {k: named(one.get(k) or [], names) for k in ("added", "removed")}
    return {**one, "rules": rules, **hands}
