"""Scenes: parts as pages of rows, meshes, findings, and what the 3D view loads."""

from __future__ import annotations

import uuid
from typing import Annotated, Any, Literal, cast

import orjson
from fastapi import APIRouter, Query, Response
from fastapi.responses import StreamingResponse
from sqlalchemy import select, text
from sqlalchemy.orm import Session

from tidy_caravan.core.survey.base import Severity
from tidy_caravan.server.api.context import SessionDep, StateDep, found
from tidy_caravan.server.api.schemas import FindingOut, MeshesPage, PartOut, PartsPage, SceneOut
from tidy_caravan.server.db.models import FindingRow, SceneRow
from tidy_caravan.server.db.session import fetch
from tidy_caravan.server.problems import Problem
from tidy_caravan.server.store.scenes import load_scene

router = APIRouter(prefix="/api/scenes", tags=["scenes"])
FOREVER = {"Cache-Control": "private, max-age=31536000, immutable"}
FIELDS = {(f.alias or name): name for name, f in PartOut.model_fields.items()}
SORTS = {**{alias: f'"{name}"' for alias, name in FIELDS.items()}, "size": "greatest(size_x, size_y, size_z)"}
Sort = Literal[
    "node",
    "name",
    "path",
    "layer",
    "meshName",
    "mesh",
    "instances",
    "triangles",
    "vertices",
    "materials",
    "materialNames",
    "uvSets",
    "scale",
    "size",
    "sizeX",
    "sizeY",
    "sizeZ",
    "x",
    "y",
    "z",
    "findings",
    "mirrored",
]
SELECTED = ", ".join(f'"{name}" AS "{alias}"' for alias, name in FIELDS.items())


@router.get("/{scene_id}")
def read_scene(scene_id: uuid.UUID, session: SessionDep) -> SceneOut:
    return SceneOut.model_validate(found(session, SceneRow, scene_id, "scene"))


def like(search: str) -> str:
    return "%" + search.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_").replace("\0", "") + "%"


def whole_numbers(given: str, where: str) -> list[int]:
    try:
        return [int(n) for n in given.split(",") if abs(int(n)) < 2**31]
    except ValueError as error:
        raise Problem(422, "request.invalid", "Send whole numbers with commas between them.", where) from error


def rows_as_json(session: Session, query: str, values: dict[str, Any]) -> list[dict[str, Any]]:
    return [dict(r) for r in session.execute(text(query), values).mappings()]


@router.get("/{scene_id}/parts", responses={200: {"model": PartsPage}}, response_class=Response)
def list_parts(
    scene_id: uuid.UUID,
    session: SessionDep,
    sort: Sort = "node",
    descending: bool = False,
    search: Annotated[str, Query(max_length=200)] = "",
    mesh: int | None = None,
    finding: uuid.UUID | None = None,
    material: Annotated[str, Query(max_length=200)] = "",
    nodes: Annotated[str, Query(max_length=20_000, description="Node numbers, comma-separated")] = "",
    sources: Annotated[str, Query(max_length=20_000, description="Ids in the source, comma-separated")] = "",
    offset: Annotated[int, Query(ge=0, le=100_000_000)] = 0,
    limit: Annotated[int, Query(ge=1, le=1000)] = 200,
) -> Response:
    """One page of parts, sorted and filtered in the database."""
    conditions, values = ["scene_id = %(scene)s"], {"scene": scene_id, "offset": offset, "limit": limit}
    if search:
        conditions.append("(path ILIKE %(search)s OR mesh_name ILIKE %(search)s OR material_names ILIKE %(search)s)")
        values["search"] = like(search)
    if mesh is not None:
        conditions.append("mesh = %(mesh)s")
        values["mesh"] = mesh
    if material:
        conditions.append("material_names ILIKE %(material)s")
        values["material"] = like(material)
    for column, given in (("node", nodes), ("source", sources)):
        if given:
            values[column] = whole_numbers(given, column)
            conditions.append(f"{column} = ANY(%({column})s)")
    if finding is not None:
        conditions.append("node IN (SELECT unnest(parts) FROM finding WHERE id = %(finding)s AND scene_id = %(scene)s)")
        values["finding"] = finding
    where = " AND ".join(conditions)
    direction = "DESC" if descending else "ASC"
    order = f"{SORTS[sort]} {direction}, node" if sort != "node" else f"node {direction}"
    page = f"SELECT {SELECTED} FROM part WHERE {where} ORDER BY {order} OFFSET %(offset)s LIMIT %(limit)s"
    items = fetch(session, page, values)
    if len(conditions) == 1:  # the stored figure spares counting a hundred thousand rows
        known = fetch(session, "SELECT (counts->>'parts')::int AS n FROM scene WHERE id = %(scene)s", values)
        if not known:
            raise Problem(404, "scene.unknown", "There is no such scene. It may have been deleted.", str(scene_id))
        total = known[0]["n"]
    else:
        total = fetch(session, f"SELECT count(*) AS n FROM part WHERE {where}", values)[0]["n"]
    return Response(orjson.dumps({"total": total, "items": items}), media_type="application/json")


@router.get("/{scene_id}/meshes", responses={200: {"model": MeshesPage}}, response_class=Response)
def list_meshes(
    scene_id: uuid.UUID,
    session: SessionDep,
    sort: Literal["mesh", "name", "instances", "triangles", "trianglesDrawn", "materials", "uvSets"] = "trianglesDrawn",
    descending: bool = True,
    search: Annotated[str, Query(max_length=200)] = "",
    offset: Annotated[int, Query(ge=0, le=100_000_000)] = 0,
    limit: Annotated[int, Query(ge=1, le=1000)] = 200,
) -> Response:
    """Unique meshes with how often they are used and what they cost."""
    found(session, SceneRow, scene_id, "scene")
    values = {"scene": scene_id, "offset": offset, "limit": limit, "search": like(search)}
    grouped = (
        'SELECT mesh, min(mesh_name) AS "name", count(*)::int AS instances, min(triangles) AS triangles, min(vertices) AS vertices,'
        ' min(materials) AS materials, min(material_names) AS "materialNames", min(uv_sets) AS "uvSets",'
        ' sum(triangles)::bigint AS "trianglesDrawn", sum(materials)::int AS "drawCalls"'
        " FROM part WHERE scene_id = :scene AND mesh_name ILIKE :search GROUP BY mesh"
    )
    direction = "DESC" if descending else "ASC"
    items = rows_as_json(
        session, f'SELECT * FROM ({grouped}) g ORDER BY "{sort}" {direction}, mesh OFFSET :offset LIMIT :limit', values
    )
    total = session.execute(text(f"SELECT count(*) FROM ({grouped}) g"), values).scalar_one()
    return Response(orjson.dumps({"total": total, "items": items}), media_type="application/json")


@router.get("/{scene_id}/findings")
def list_findings(scene_id: uuid.UUID, session: SessionDep) -> list[FindingOut]:
    found(session, SceneRow, scene_id, "scene")
    rows = session.scalars(select(FindingRow).where(FindingRow.scene_id == scene_id).order_by(FindingRow.rank))
    return [
        FindingOut(
            id=f.id,
            code=f.code,
            severity=cast(Severity, f.severity),
            title=f.title,
            text=f.text,
            count=f.count,
            value=f.value,
            limit=f.limit,
            unit=f.unit,
            guess=f.guess,
            mend=f.mend,
            part_count=len(f.parts),
        )
        for f in rows
    ]


@router.get("/{scene_id}/findings/{finding_id}/parts")
def finding_parts(scene_id: uuid.UUID, finding_id: uuid.UUID, session: SessionDep) -> list[int]:
    """Node numbers of a finding's parts."""
    row = found(session, FindingRow, finding_id, "finding")
    return row.parts if row.scene_id == scene_id else []


@router.get("/{scene_id}/view", response_class=Response)
def view(scene_id: uuid.UUID, session: SessionDep, state: StateDep) -> Response:
    """The binary file that the 3D view loads (see server/view.py)."""
    row = found(session, SceneRow, scene_id, "scene")
    data = state.store.get(row.view_key)

    def pieces() -> Any:
        for at in range(0, len(data), 1 << 20):
            yield data[at : at + (1 << 20)]

    return StreamingResponse(
        pieces(), media_type="application/octet-stream", headers={**FOREVER, "Content-Length": str(len(data))}
    )


@router.get("/{scene_id}/picture.png", response_class=Response)
def picture(scene_id: uuid.UUID, session: SessionDep, state: StateDep) -> Response:
    row = found(session, SceneRow, scene_id, "scene")
    return Response(state.store.get(row.picture_key), media_type="image/png", headers=FOREVER)


@router.get("/{scene_id}/images/{index}", response_class=Response)
def image(scene_id: uuid.UUID, index: int, session: SessionDep, state: StateDep) -> Response:
    """A picture of the scene's materials, as it is stored."""
    row = found(session, SceneRow, scene_id, "scene")
    if not row.store_key:
        raise Problem(404, "image.unknown", "The arrived scene keeps its pictures in the package.", str(index))
    images = load_scene(state.store, row.store_key).images
    if not 0 <= index < len(images) or images[index].data is None:
        raise Problem(404, "image.unknown", "There is no such picture in the scene.", str(index))
    return Response(images[index].data, media_type=images[index].mime, headers=FOREVER)
