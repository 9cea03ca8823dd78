"""The list of hauls: one query for a page, whatever the number of hauls and findings."""

from __future__ import annotations

import uuid
from typing import Any

from sqlalchemy.orm import Session

from tidy_caravan.core.figures import Counts
from tidy_caravan.server.api.schemas import HaulsPage, HaulSummary, JobOut, Open
from tidy_caravan.server.db.session import fetch_page

PAGE = """
SELECT h.id, h.name, h.version, h.source_name, h.created, h.deleted, h.destination->>'title' AS destination_title,
  h.revision_id, h.run_id, h.package_id, h.arrival_id, h._all,
  s.id AS scene_id, s.counts, a.report AS report,
  f.serious, f.mendable, f.light,
  j.id AS job_id, j.kind, j.state, j.title, j.done, j.total, j.problem
FROM (
  SELECT *, count(*) OVER () AS _all FROM haul
  WHERE (%(id)s::uuid IS NULL OR id = %(id)s)
    AND (%(id)s::uuid IS NOT NULL OR (deleted IS NOT NULL) = %(deleted)s)
    AND (%(search)s = '' OR name ILIKE %(search)s OR source_name ILIKE %(search)s)
  ORDER BY created DESC, id OFFSET %(offset)s LIMIT %(limit)s
) h
LEFT JOIN revision v ON v.id = h.revision_id
LEFT JOIN scene s ON s.id = v.scene_id
LEFT JOIN run r ON r.id = h.run_id
LEFT JOIN arrival a ON a.id = h.arrival_id
LEFT JOIN LATERAL (
  SELECT count(*) FILTER (WHERE severity IN ('error', 'warning')) AS serious,
    count(*) FILTER (WHERE severity <> 'info' AND mend IS NOT NULL) AS mendable,
    count(*) FILTER (WHERE severity <> 'info' AND code = 'uv.second-missing') AS light
  FROM finding WHERE scene_id = coalesce(r.scene_id, v.scene_id) AND NOT (
    jsonb_path_exists(h.route::jsonb, '$.left[*] ? (@.code == $code && @.parts.size() == 0)', jsonb_build_object('code', code))
    OR (jsonb_path_exists(h.route::jsonb, '$.left[*] ? (@.code == $code)', jsonb_build_object('code', code))
      AND cardinality(parts) > 0 AND NOT EXISTS (
        SELECT 1 FROM unnest(parts) AS n(node) LEFT JOIN part p ON p.scene_id = finding.scene_id AND p.node = n.node
        WHERE NOT jsonb_path_exists(h.route::jsonb, '$.left[*] ? (@.code == $code && @.parts[*] == $name)',
          jsonb_build_object('code', code, 'name', coalesce(p.identity, '')))))
  )
) f ON true
LEFT JOIN LATERAL (
  SELECT * FROM job WHERE haul_id = h.id AND kind <> 'preview'
  ORDER BY state IN ('waiting', 'running') DESC, created DESC LIMIT 1
) j ON true
ORDER BY h.created DESC, h.id
"""


def hauls_page(session: Session, search: str, offset: int, limit: int, deleted: bool = False) -> HaulsPage:
    """One page, newest first, with how many there are in all. search: a LIKE pattern, empty for all. deleted: of those
    that were deleted and can be restored, instead of the others."""
    values = {"id": None, "search": search, "offset": offset, "limit": limit, "deleted": deleted}
    total, rows = fetch_page(session, PAGE, values)
    return HaulsPage(total=total, items=[summary(r) for r in rows])


def summary_of(session: Session, haul: uuid.UUID) -> HaulSummary:
    """The same of one haul, which is there."""
    values = {"id": haul, "search": "", "offset": 0, "limit": 1, "deleted": False}
    return summary(fetch_page(session, PAGE, values)[1][0])


def summary(r: dict[str, Any]) -> HaulSummary:
    report = r["report"]
    job = None
    if r["job_id"] is not None:
        job = JobOut(
            id=r["job_id"], haul_id=r["id"], kind=r["kind"], state=r["state"], title=r["title"], done=r["done"],
            total=r["total"], problem=r["problem"],
        )  # fmt: skip
    return HaulSummary(
        id=r["id"],
        name=r["name"],
        version=r["version"],
        deleted=r["deleted"],
        source_name=r["source_name"],
        destination_title=r["destination_title"],
        created=r["created"],
        counts=Counts.model_validate(r["counts"]) if r["counts"] else None,
        picture=f"/api/scenes/{r['scene_id']}/picture.png" if r["scene_id"] else None,
        open=open_of(r, report, r["serious"] or 0, r["mendable"] or 0, r["light"] or 0),
        job=job,
    )


def open_of(haul: Any, report: dict[str, Any] | None, serious: int, mendable: int, light: int) -> Open:
    """What is still open per station. haul: a row with the ids of its revision, run, package and arrival."""
    if haul["revision_id"] is None:
        state = "no source"
    elif report is not None:
        state = "arrived" if report["ok"] else "arrived with faults"
    elif haul["package_id"] is not None:
        state = "packed"
    elif haul["run_id"] is not None:
        state = "run"
    else:
        state = "surveyed"
    faults = 1
    if report is not None:
        faults = report["faulty"] + len(report["lost"]) + len(report["extra"]) + len(report["problems"])
    return Open(
        load=int(haul["revision_id"] is None),
        survey=serious,
        mend=mendable,
        light=light,
        pack=int(haul["package_id"] is None),
        arrive=faults,
        state=state,
    )
