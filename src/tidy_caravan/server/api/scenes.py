"""Scenes: parts as pages of rows, meshes, findings, and what the 3D view loads."""

from __future__ import annotations

import uuid
from array import array
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated, Any, Literal

import orjson
from fastapi import Depends, Query, Request, Response
from fastapi.responses import StreamingResponse
from sqlalchemy.orm import Session

from tidy_caravan.core.scene.levels import at_level
from tidy_caravan.server.api.context import SessionDep, StateDep, at_once, found, looking, unknown
from tidy_caravan.server.api.findings import findings_of
from tidy_caravan.server.api.reading import SORTED, Boxes, ReadAs, as_read, check
from tidy_caravan.server.api.requests import router as new_router
from tidy_caravan.server.api.schemas import (
    FindingOut,
    GroupsPage,
    MaterialOut,
    MaterialsPage,
    MeshesPage,
    PartNames,
    PartOut,
    PartsNamed,
    PartsPage,
    Picked,
    SceneOut,
)
from tidy_caravan.server.db.models import SceneRow
from tidy_caravan.server.db.session import clean, fetch, fetch_page
from tidy_caravan.server.jobs.record import material_rows
from tidy_caravan.server.problems import Problem
from tidy_caravan.server.store.scenes import image_of, load_scene
from tidy_caravan.server.view import view_bytes

router = new_router("/api/scenes", "scenes")
FOREVER = {"Cache-Control": "private, max-age=31536000, immutable"}
FIELDS = {(f.alias or name): name for name, f in PartOut.model_fields.items()}
SORTS = {**{alias: f'"{name}"' for alias, name in FIELDS.items()}, "size": "greatest(size_x, size_y, size_z)"}
if TYPE_CHECKING:
    Sort = str
else:
    Sort = Literal[tuple(SORTS)]
SELECTED = ", ".join(f'"{name}" AS "{alias}"' for alias, name in FIELDS.items())


@router.get("/{scene_id}")
def read_scene(scene_id: uuid.UUID, session: SessionDep) -> SceneOut:
    """Figures, bounds, convention and notes of a scene."""
    return SceneOut.model_validate(found(session, SceneRow, scene_id, "scene"))


def like(search: str) -> str:
    return "%" + search.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_").replace("\0", "") + "%"


def whole_numbers(given: str, where: str) -> list[int]:
    try:
        return [int(n) for n in given.split(",") if abs(int(n)) < 2**31]
    except ValueError as error:
        raise Problem(422, "request.invalid", "Send whole numbers with commas between them.", where) from error


Offset = Annotated[int, Query(ge=0, le=100_000_000)]
Limit = Annotated[int, Query(ge=1, le=1000)]


@dataclass(frozen=True)
class Chosen:
    """Which parts a request is about; the conditions hold together."""

    search: Annotated[str, Query(max_length=200)] = ""
    mesh: int | None = None
    finding: uuid.UUID | None = None
    material: Annotated[int | None, Query(description="Number of a material of the scene")] = None
    layer: Annotated[str | None, Query(max_length=10_000)] = None
    under: Annotated[str, Query(max_length=20_000, description="Tree path; the node itself and all below it")] = ""
    nodes: Annotated[str, Query(max_length=20_000, description="Node numbers, comma-separated")] = ""
    sources: Annotated[str, Query(max_length=20_000, description="Ids in the source, comma-separated")] = ""

    def sql(self, session: Session, scene: uuid.UUID) -> tuple[str, dict[str, Any]]:
        """Condition and its values. Raises Problem for a material that is not there."""
        conditions: list[str] = ["scene_id = %(scene)s"]
        values: dict[str, Any] = {"scene": scene}
        if self.search:
            conditions.append(
                "(path ILIKE %(search)s OR mesh_name ILIKE %(search)s OR material_names ILIKE %(search)s)"
            )
            values["search"] = like(self.search)
        if self.mesh is not None:
            conditions.append("mesh = %(mesh)s")
            values["mesh"] = self.mesh
        if self.layer is not None:
            conditions.append("layer = %(layer)s")
            values["layer"] = self.layer.replace("\0", "")
        if self.under:
            conditions.append("(path = %(under)s OR starts_with(path, %(under)s || '/'))")
            values["under"] = self.under.replace("\0", "")
        if self.material is not None:
            known = {m["material"]: m["meshNumbers"] for m in found(session, SceneRow, scene, "scene").materials}
            if self.material not in known:
                raise Problem(404, "material.unknown", "There is no such material in the scene.", str(self.material))
            conditions.append("mesh = ANY(%(material)s)")
            values["material"] = known[self.material]
        for column, given in (("node", self.nodes), ("source", self.sources)):
            if given:
                values[column] = whole_numbers(given, column)
                conditions.append(f"{column} = ANY(%({column})s)")
        if self.finding is not None:
            conditions.append(
                "node IN (SELECT unnest(parts) FROM finding WHERE id = %(finding)s AND scene_id = %(scene)s)"
            )
            values["finding"] = self.finding
        return " AND ".join(conditions), values


ChosenDep = Annotated[Chosen, Depends(at_once(Chosen))]


@dataclass(frozen=True)
class Lasting:
    """Answers about a scene, made once: its rows are written with it and never change. Raises a 404 when it is gone.

    The session is opened where it is used: as a dependency it would take two more turns in the thread pool, which
    cost more than an answer that is kept.
    """

    scene_id: uuid.UUID
    request: Request
    state: StateDep

    def answer(self, make: Callable[[Session], Any]) -> Response:
        """What `make` returns as JSON; the address with its query is the key."""
        with looking(self.state) as session:
            if not fetch(session, "SELECT 1 AS n FROM scene WHERE id = %(scene)s", {"scene": self.scene_id}):
                raise unknown("scene", self.scene_id)
            key = f"{self.request.url.path}?{self.request.url.query}"
            return Response(self.kept(key, lambda: orjson.dumps(make(session))), media_type="application/json")

    def kept(self, key: str, make: Callable[[], bytes]) -> bytes:
        """What `make` returned the first time, for as long as there is room for it."""
        return self.state.answers.once(key, make)


LastingDep = Annotated[Lasting, Depends(at_once(Lasting))]


def page_of(session: Session, query: str, values: dict[str, Any]) -> dict[str, Any]:
    total, items = fetch_page(session, query, values)
    return {"total": total, "items": items}


@router.get("/{scene_id}/parts", responses={200: {"model": PartsPage}}, response_class=Response)
def list_parts(
    scene_id: uuid.UUID,
    lasting: LastingDep,
    chosen: ChosenDep,
    sort: Sort = "node",
    descending: bool = False,
    offset: Offset = 0,
    limit: Limit = 200,
    read: ReadAs = "",
) -> Response:
    """One page of parts, sorted and filtered in the database. The order is kept for the other pages."""

    # sorting takes ten times as long as fetching a page
    def nodes(session: Session) -> bytes:
        where, values = chosen.sql(session, scene_id)
        if read and sort in SORTED and (boxes := Boxes.asked(lasting.state, session, scene_id, read)):
            query = f"SELECT ARRAY(SELECT node FROM part WHERE {where}) AS nodes"
            return array("i", boxes.order(fetch(session, query, values)[0]["nodes"], sort, descending)).tobytes()
        direction = "DESC" if descending else "ASC"
        order = f"{SORTS[sort]} {direction}, node" if sort != "node" else f"node {direction}"
        query = f"SELECT ARRAY(SELECT node FROM part WHERE {where} ORDER BY {order}) AS nodes"
        return array("i", fetch(session, query, values)[0]["nodes"]).tobytes()

    def page(session: Session) -> dict[str, Any]:
        key = f"order {scene_id} {sort} {descending} {chosen} {read}"
        inside = array("i", lasting.kept(key, lambda: nodes(session)))
        asked = inside[offset : offset + limit].tolist()
        # row by row through the key: on a table whose statistics are not made yet the planner would read all of it
        query = (
            "SELECT p.* FROM unnest(%(asked)s::int[]) WITH ORDINALITY AS n(number, rank) CROSS JOIN LATERAL"
            f" (SELECT {SELECTED} FROM part WHERE scene_id = %(scene)s AND node = number LIMIT 1) p ORDER BY rank"
        )
        items = fetch(session, query, {"scene": scene_id, "asked": asked})
        if boxes := Boxes.asked(lasting.state, session, scene_id, read):
            boxes.put(items)
        return {"total": len(inside), "items": items}

    return lasting.answer(page)


@router.get("/{scene_id}/picked", responses={200: {"model": Picked}}, response_class=Response)
def picked(scene_id: uuid.UUID, session: SessionDep, state: StateDep, chosen: ChosenDep, read: ReadAs = "") -> Response:
    """Ids in the source of the parts behind a figure, and the box around them, for the view to go there."""
    where, values = chosen.sql(session, scene_id)
    if boxes := Boxes.asked(state, session, scene_id, read):
        rows = fetch(session, f"SELECT node, source FROM part WHERE {where}", values)
        low, high = boxes.around([r["node"] for r in rows])
        body = {"sources": [r["source"] for r in rows], "min": low.tolist(), "max": high.tolist()}
        return Response(orjson.dumps(body), media_type="application/json")
    box = ", ".join(
        f"{f}({c} {sign} size_{c} / 2) AS {f}_{c}" for f, sign in (("min", "-"), ("max", "+")) for c in "xyz"
    )
    row = fetch(session, f"SELECT array_agg(source) AS sources, {box} FROM part WHERE {where}", values)[0]
    corner = {f: [row[f"{f}_{c}"] or 0.0 for c in "xyz"] for f in ("min", "max")}
    return Response(orjson.dumps({"sources": row["sources"] or [], **corner}), media_type="application/json")


@router.post("/{scene_id}/parts/named", responses={200: {"model": PartsNamed}}, response_class=Response)
def named_parts(scene_id: uuid.UUID, request: PartNames, session: SessionDep) -> Response:
    """The parts of these identities; what a person picked is found again by them in every version of the source."""
    found(session, SceneRow, scene_id, "scene")
    asked = list(dict.fromkeys(clean(p) for p in request.parts))
    query = f"SELECT {SELECTED} FROM part WHERE scene_id = %(scene)s AND identity = ANY(%(asked)s) ORDER BY node"
    items = fetch(session, query, {"scene": scene_id, "asked": asked})
    there = {i["identity"] for i in items}
    body = {"items": items, "gone": [p for p in asked if p not in there]}
    return Response(orjson.dumps(body), media_type="application/json")


@router.get("/{scene_id}/groups", responses={200: {"model": GroupsPage}}, response_class=Response)
def list_groups(
    scene_id: uuid.UUID,
    lasting: LastingDep,
    chosen: ChosenDep,
    by: Literal["tree", "layer"] = "layer",
    sort: Literal["name", "parts", "meshes", "triangles", "drawCalls", "drawCallsInstanced", "findings"] = "triangles",
    descending: bool = True,
    offset: Offset = 0,
    limit: Limit = 200,
) -> Response:
    """Parts grouped by layer, or by the next level of the tree below `under`, with what each group costs."""
    rest = "substr(path, %(skip)s)"
    name, below = ("layer", "false") if by == "layer" else (f"split_part({rest}, '/', 1)", f"strpos({rest}, '/') > 0")
    direction = "DESC" if descending else "ASC"
    order = f'ORDER BY "{sort}" {direction}, name OFFSET %(offset)s LIMIT %(limit)s'

    def page(session: Session) -> dict[str, Any]:
        where, values = chosen.sql(session, scene_id)
        values |= {"offset": offset, "limit": limit, "skip": len(chosen.under) + 2 if chosen.under else 1}
        grouped = (
            "SELECT name, sum(n)::int AS parts, count(*)::int AS meshes, sum(t)::bigint AS triangles,"
            ' sum(c)::int AS "drawCalls", sum(i)::int AS "drawCallsInstanced", sum(f)::int AS findings,'
            " bool_or(b) AS below"
            " FROM (SELECT name, mesh, count(*) AS n, sum(triangles) AS t, sum(materials) AS c, min(materials) AS i,"
            " sum(findings) AS f, bool_or(below) AS b FROM"
            f" (SELECT {name} AS name, mesh, triangles, materials, findings, {below} AS below FROM part WHERE {where}) p"
            " GROUP BY name, mesh) m GROUP BY name"
        )
        return page_of(session, f"SELECT *, count(*) OVER () AS _all FROM ({grouped}) g {order}", values)

    return lasting.answer(page)


@router.get("/{scene_id}/materials")
def list_materials(
    scene_id: uuid.UUID,
    session: SessionDep,
    state: StateDep,
    sort: Literal["material", "name", "parts", "meshes", "triangles", "textures"] = "triangles",
    descending: bool = True,
    search: Annotated[str, Query(max_length=200)] = "",
    offset: Offset = 0,
    limit: Limit = 200,
) -> MaterialsPage:
    """Materials with the parts, meshes and triangles that carry them."""
    row = found(session, SceneRow, scene_id, "scene")
    rows = row.materials
    if not rows and row.counts["materials"] and row.store_key:
        rows = material_rows(load_scene(state.store, row.store_key))  # a scene from before they were kept
    fitting = [m for m in rows if search.lower() in m["name"].lower()]
    key = "textureCount" if sort == "textures" else sort
    fitting.sort(key=lambda m: m[key].lower() if sort == "name" else m[key], reverse=descending)
    items = [MaterialOut.model_validate(m) for m in fitting[offset : offset + limit]]
    return MaterialsPage(total=len(fitting), items=items)


@router.get("/{scene_id}/meshes", responses={200: {"model": MeshesPage}}, response_class=Response)
def list_meshes(
    scene_id: uuid.UUID,
    lasting: LastingDep,
    sort: Literal[
        "mesh", "name", "instances", "triangles", "trianglesDrawn", "vertices", "materials", "drawCalls", "uvSets"
    ] = "trianglesDrawn",
    descending: bool = True,
    search: Annotated[str, Query(max_length=200)] = "",
    offset: Offset = 0,
    limit: Limit = 200,
) -> Response:
    """Unique meshes with how often they are used and what they cost."""
    values = {"scene": scene_id, "offset": offset, "limit": limit, "search": like(search)}
    fitting = " AND mesh_name ILIKE %(search)s" if search else ""
    grouped = (
        'SELECT mesh, min(mesh_name) AS "name", count(*)::int AS instances, min(triangles) AS triangles, min(vertices) AS vertices,'
        ' min(materials) AS materials, min(material_names) AS "materialNames", min(uv_sets) AS "uvSets",'
        ' sum(triangles)::bigint AS "trianglesDrawn", sum(materials)::int AS "drawCalls"'
        f" FROM part WHERE scene_id = %(scene)s{fitting} GROUP BY mesh"
    )
    direction = "DESC" if descending else "ASC"
    order = f'ORDER BY "{sort}" {direction}, mesh OFFSET %(offset)s LIMIT %(limit)s'
    return lasting.answer(
        lambda session: page_of(session, f"SELECT *, count(*) OVER () AS _all FROM ({grouped}) g {order}", values)
    )


@router.get("/{scene_id}/findings", responses={200: {"model": list[FindingOut]}}, response_class=Response)
def list_findings(scene_id: uuid.UUID, lasting: LastingDep) -> Response:
    """What the survey found in the scene, the worst first."""

    def rows(session: Session) -> list[dict[str, Any]]:
        found = findings_of(session, scene_id)
        return [FindingOut.model_validate(r).model_dump(by_alias=True, mode="json") for r in found]

    return lasting.answer(rows)


@router.get("/{scene_id}/view", response_class=Response)
def view(
    scene_id: uuid.UUID,
    session: SessionDep,
    state: StateDep,
    level: Annotated[int, Query(ge=0, le=16)] = 0,
    read: ReadAs = "",
) -> Response:
    """The binary file that the 3D view loads (see server/view.py), whole or at a level of detail."""
    row = found(session, SceneRow, scene_id, "scene")
    if read:
        check(session, row, read)
    if level and level > row.counts.get("levels", 0):
        raise Problem(404, "level.unknown", "The scene has no such level of detail.", str(level))
    if read:
        data = view_bytes(as_read(state, session, row))
    else:
        data = view_bytes(at_level(state.scene(row.store_key), level)) if level else state.store.get(row.view_key)

    def pieces() -> Any:
        for at in range(0, len(data), 1 << 20):
            yield data[at : at + (1 << 20)]

    return StreamingResponse(
        pieces(), media_type="application/octet-stream", headers={**FOREVER, "Content-Length": str(len(data))}
    )


@router.get("/{scene_id}/picture.png", response_class=Response)
def picture(scene_id: uuid.UUID, session: SessionDep, state: StateDep) -> Response:
    """A small picture of the whole scene."""
    row = found(session, SceneRow, scene_id, "scene")
    return Response(state.store.get(row.picture_key), media_type="image/png", headers=FOREVER)


@router.get("/{scene_id}/images/{index}", response_class=Response)
def image(scene_id: uuid.UUID, index: int, session: SessionDep, state: StateDep) -> Response:
    """A picture of the scene's materials, as it is stored."""
    row = found(session, SceneRow, scene_id, "scene")
    if row.store_key:
        kept = image_of(state.store, row.store_key, index)
    else:
        entry = row.images[index] if 0 <= index < len(row.images) else None
        kept = (entry[0], state.store.get(entry[1])) if entry else None
    if kept is None:
        raise Problem(404, "image.unknown", "There is no such image in the scene.", str(index))
    mime, data = kept
    return Response(data, media_type=mime, headers=FOREVER)
