"""Writes what a job made into the database: scenes with their parts and findings, packages, arrivals."""

from __future__ import annotations

import dataclasses
import hashlib
import uuid
from collections.abc import Sequence
from typing import Any

import numpy as np
import orjson
from sqlalchemy.orm import Session

from tidy_caravan.core.arrival.report import ArrivalReport
from tidy_caravan.core.conventions.evidence import units_json
from tidy_caravan.core.figures import bounds_metres, count
from tidy_caravan.core.formats.shared.images import sniff_image
from tidy_caravan.core.picture import picture
from tidy_caravan.core.scene import Note, Scene
from tidy_caravan.core.survey import Finding
from tidy_caravan.server.columns import PartFacts, part_columns
from tidy_caravan.server.db.models import FindingRow, SceneRow
from tidy_caravan.server.db.session import clean, clean_json, copy_columns, copying
from tidy_caravan.server.store.blobs import Store
from tidy_caravan.server.store.scenes import save_scene
from tidy_caravan.server.view import view_bytes

ROLES = {
    "base_color": "base colour",
    "metallic_roughness": "metallic, roughness",
    "normal": "normal",
    "occlusion": "occlusion",
    "emissive": "emissive",
}
AS_THEY_ARE = (
    "source_id",
    "node",
    "identity",
    "path",
    "rotation_deg",
    "normal_deg",
    "pivot_mm",
    "triangles_source",
    "triangles_arrived",
    "told",
)
MOST_NOTES = 2000
BRACES = str.maketrans("[]", "{}")
BOUNDED = ("position_mm", "size_ratio", "surface_mm")
"""Figures that may be infinite."""


def record_scene(
    session: Session,
    store: Store,
    haul: uuid.UUID,
    kind: str,
    scene: Scene,
    findings: list[Finding],
    whole: bool = True,
) -> uuid.UUID:
    """Row of a scene; with `whole` also its parts and findings. Returns the row's id."""
    if not whole:
        row = scene_row(uuid.uuid4(), store, haul, kind, scene, False)
        row.images = shown_images(store, scene)
        session.add(row)
        session.flush()
        return row.id
    number = uuid.uuid4()
    # the database takes the parts in while the files are written; the session is not touched meanwhile
    with copying(session, "part", part_values(number, scene, findings)):
        row = scene_row(number, store, haul, kind, scene, True)
        rows = finding_values(number, findings)
    session.add(row)
    session.flush()
    copy_columns(session, FindingRow.__tablename__, rows)
    return row.id


def scene_row(number: uuid.UUID, store: Store, haul: uuid.UUID, kind: str, scene: Scene, whole: bool) -> SceneRow:
    """The row, with its files in the store; with `whole` also what is listed of the scene."""
    box = bounds_metres(scene)
    row = SceneRow(
        id=number,
        haul_id=haul,
        kind=kind,
        store_key=save_scene(store, scene) if whole else "",
        view_key=store.put_blob(view_bytes(scene)),
        picture_key=picture_key(store, scene),
        counts=count(scene).model_dump(by_alias=True),
        bounds={"min": box[0].tolist(), "max": box[1].tolist()},
        convention=scene.convention.as_json(),
        notes=clean_json(note_rows(scene.notes)),
    )
    if whole:
        row.materials = clean_json(material_rows(scene))
        row.travel = clean_json([dataclasses.asdict(t) for t in scene.travel])
        if kind == "source":
            row.units, files = clean_json(units_json(scene))
            row.convention = {**row.convention, **({"files": files} if files else {})}
    return row


def note_rows(notes: Sequence[Note]) -> list[dict[str, str]]:
    """Notes as they are kept: the first MOST_NOTES, and how many more there were."""
    told = [{"kind": n.kind, "code": n.code, "where": n.where, "text": n.text} for n in notes[:MOST_NOTES]]
    if len(notes) > MOST_NOTES:
        more = f"And {len(notes) - MOST_NOTES} more notes on this scene."
        told.append({"kind": "damaged", "code": "import.more", "where": "", "text": more})
    return told


def shown_images(store: Store, scene: Scene) -> list[list[str] | None]:
    """[media type, key] of each image that a base colour is read from, None for the others."""
    uses = [m.base_color_texture for m in scene.materials]
    shown = {scene.textures[use.texture].image for use in uses if use}
    out: list[list[str] | None] = []
    for i, image in enumerate(scene.images):
        data = image.data if i in shown else None
        mime = sniff_image(data or b"")  # what a package calls it is nothing to tell a browser
        out.append([mime, store.put_blob(data)] if data and mime else None)
    return out


def picture_key(store: Store, scene: Scene) -> str:
    """Key of the scene's picture; made only when something that is seen in it is new."""
    parts = scene.nodes.parts
    digest = hashlib.blake2b(digest_size=20)
    for array in (scene.nodes.world[parts], scene.nodes.mesh[parts], scene.nodes.flags[parts]):
        digest.update(np.ascontiguousarray(array).data)
    digest.update(
        repr(
            ["of what is near", scene.convention, [m.id for m in scene.meshes], [m.base_color for m in scene.materials]]
        ).encode()
    )
    kept = f"cache/{digest.hexdigest()[:2]}/{digest.hexdigest()}.picture"
    try:
        found = store.get(kept).decode()
        store.get(found)
        return found
    except FileNotFoundError:
        made = store.put_blob(picture(scene))
        store.put(kept, made.encode())
        return made


def finding_values(scene_id: uuid.UUID, findings: list[Finding]) -> dict[str, Sequence[Any]]:
    """All columns of the findings' table; lists and documents as the text that COPY takes for them."""

    def document(value: Any) -> str | None:
        return None if value is None else orjson.dumps(clean_json(value)).decode()

    plain = ("severity", "title", "count", "value", "limit", "unit", "guess")
    return {
        "id": [str(uuid.uuid4()) for _ in findings],
        "scene_id": [str(scene_id)] * len(findings),
        "rank": list(range(len(findings))),
        "code": [clean(f.code) for f in findings],
        "text": [clean(f.text) for f in findings],
        **{name: [getattr(f, name) for f in findings] for name in plain},
        "mend": [document(f.mend) for f in findings],
        "parts": [orjson.dumps(f.parts).decode().translate(BRACES) for f in findings],
        "places": [
            orjson.dumps([{**p.model_dump(), "text": clean(p.text)} for p in f.places]).decode() for f in findings
        ],  # all else in them are numbers and units of ours
    }


def part_values(scene_id: uuid.UUID, scene: Scene, findings: list[Finding]) -> dict[str, Sequence[Any]]:
    """All columns of the parts' table; everything computed per column, not per part."""
    facts = PartFacts(scene, findings)
    own = {column.name: column.of(facts) for column in part_columns()}
    return {"scene_id": [str(scene_id)] * len(facts.parts), "node": facts.parts.tolist(), **own}


def material_rows(scene: Scene) -> list[dict[str, Any]]:
    """What the ledger shows per material; O(meshes · slots)."""
    instances = scene.instance_counts.tolist()
    numbers: list[list[int]] = [[] for _ in scene.materials]
    parts, triangles = [0] * len(scene.materials), [0] * len(scene.materials)
    for i, mesh in enumerate(scene.meshes):
        slots, faces = np.unique(mesh.material, return_counts=True)
        for slot, count_of in zip(slots.tolist(), faces.tolist(), strict=True):
            if slot >= 0 and instances[i]:
                numbers[slot].append(i)
                parts[slot] += instances[i]
                triangles[slot] += count_of * instances[i]
    out = []
    for i, m in enumerate(scene.materials):
        roles = {role: getattr(m, f"{role}_texture") for role in ROLES}
        images = {r: scene.textures[u.texture].image for r, u in roles.items() if u is not None}
        missing = [r for r, n in images.items() if n < 0 or scene.images[n].data is None]
        out.append(
            {
                "material": i,
                "name": m.name or f"material {i}",
                "parts": parts[i],
                "meshes": len(numbers[i]),
                "meshNumbers": numbers[i],
                "triangles": triangles[i],
                "textures": [ROLES[r] for r in images],
                "textureCount": len(images),
                "missing": [ROLES[r] for r in missing],
                "baseColor": list(m.base_color),
                "doubleSided": m.double_sided,
                "alpha": m.alpha_mode.lower(),
            }
        )
    return out


def record_arrival_rows(session: Session, arrival: uuid.UUID, report: ArrivalReport) -> None:
    rows = report.rows
    finite = float(np.finfo(np.float64).max)
    columns: dict[str, Sequence[Any]] = {
        "arrival_id": [str(arrival)] * len(rows),
        "rank": range(len(rows)),
        **{name: [getattr(r, name) for r in rows] for name in AS_THEY_ARE},
        **{name: [min(getattr(r, name), finite) for r in rows] for name in BOUNDED},
        "faults": [", ".join(r.faults) for r in rows],
    }
    copy_columns(session, "arrival_row", columns)
