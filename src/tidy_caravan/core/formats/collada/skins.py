"""COLLADA controllers in the pose of the file: skins by their joints, morphs by their weights (chapter 5 of 1.4.1).

A skinned vertex v stands at Σ wᵢ · world(jointᵢ) · inverseBindᵢ · bindShape · v, whatever node holds the controller.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from tidy_caravan.core.formats.collada.meshes import Geometry, Sources, Unreadable
from tidy_caravan.core.formats.collada.xml import Document, Element, numbers, text_of, whole_numbers
from tidy_caravan.core.geometry.pose import blended
from tidy_caravan.core.scene.arrays import F64, I64
from tidy_caravan.core.space.convert import cofactors


@dataclass(frozen=True)
class Posed:
    """A geometry as its controller draws it; `whole` is False where joints could not be found and the bind shape stands."""

    geometry: Geometry
    whole: bool


def source_geometry(document: Document, url: str | None, depth: int = 0) -> str:
    """Address of the geometry at the end of a chain of controllers; empty when there is none."""
    element = document.target(url)
    if element is None or depth > 8:
        return ""
    if element.tag == "geometry":
        return url or ""
    inner = element.find("skin") if element.find("skin") is not None else element.find("morph")
    return source_geometry(document, inner.get("source"), depth + 1) if inner is not None else ""


def posed(
    controller: Element, document: Document, base: Geometry, joint_rows: dict[str, int], world: F64, holder: int,
    others: Any, budget: Any,
) -> Posed:  # fmt: skip
    """The geometry under a controller, seen from the node `holder`. joint_rows: node row by sid, id or name.

    others(url): another geometry of the file, for morph targets. Raises Unreadable.
    """
    skin, morph = controller.find("skin"), controller.find("morph")
    if morph is not None:
        return Posed(morphed(morph, base, others, budget), True)
    if skin is None:
        raise Unreadable("it is neither skin nor morph")
    inner = document.target(skin.get("source"))
    if inner is not None and inner.tag == "controller" and inner.find("morph") is not None:
        base = morphed(inner.find("morph"), base, others, budget)
    shape = bind_shape(skin)
    found = influences(skin, len(base.points), joint_rows, budget)
    if found is None:
        return Posed(bound(controller, base), False)
    rows, inverse, joints, weights = found
    local = np.linalg.inv(world[holder]) if abs(np.linalg.det(world[holder, :3, :3])) > 1e-30 else np.eye(4)
    matrices = local @ world[rows] @ inverse @ shape
    return Posed(under(base, matrices, joints, weights), True)


def bind_shape(skin: Element) -> F64:
    """(4, 4) of a skin, the identity where it is missing or unusable."""
    try:
        given = numbers(skin.find("bind_shape_matrix"))
    except ValueError:
        return np.eye(4)
    good = given.size == 16 and bool(np.isfinite(given).all())
    return given.reshape(4, 4) if good else np.eye(4)


def bound(controller: Element, base: Geometry) -> Geometry:
    """The geometry in the shape that it was bound in."""
    skin = controller.find("skin")
    if skin is None:
        return base
    return under(base, bind_shape(skin)[None], np.zeros((len(base.points), 1), np.int64), None)


def under(base: Geometry, matrices: F64, joints: I64, weights: F64 | None) -> Geometry:
    """The geometry with its points and normals under blended matrices (J, 4, 4); joints (P, K), weights (P, K)."""
    table = np.ones(joints.shape) if weights is None else weights
    points, linear = blended(base.points + base.origin, matrices, joints, table)
    normals = base.normals
    if normals is not None:
        own = np.clip(base.corner, 0, len(points) - 1)
        moved = np.einsum("vij,vj->vi", cofactors(linear[own]), normals.astype(np.float64))
        length = np.linalg.norm(moved, axis=1, keepdims=True)
        normals = np.where(length > 0, moved / np.where(length > 0, length, 1.0), normals).astype(np.float32)
    return replace(base, points=points, normals=normals, origin=np.zeros(3))


def influences(skin: Element, count: int, joint_rows: dict[str, int], budget: Any) -> tuple[I64, F64, I64, F64] | None:
    """Node rows of the joints, their inverse bind matrices (J, 4, 4), joints (P, K) and weights (P, K) per point.

    None where a joint is not in the scene. Raises Unreadable.
    """
    sources = {s.get("id"): s for s in skin.findall("source")}
    holder = skin.find("joints")
    table = skin.find("vertex_weights")
    if holder is None or table is None:
        raise Unreadable("it has no joints or no weights")
    inputs = {i.get("semantic"): (i.get("source") or "").lstrip("#") for i in holder.findall("input")}
    names = sources.get(inputs.get("JOINT"))
    words: list[str] = []
    for tag in ("Name_array", "IDREF_array"):
        if names is not None and names.find(tag) is not None:
            words = text_of(names.find(tag)).split()
    if not words or any(w not in joint_rows for w in words):
        return None
    rows = np.array([joint_rows[w] for w in words], np.int64)
    reader = Sources(skin, budget)
    inverse = np.tile(np.eye(4), (len(rows), 1, 1))
    if "INV_BIND_MATRIX" in inputs:
        # one parameter of the accessor is a whole matrix, so the array is read as it stands
        holder = sources.get(inputs["INV_BIND_MATRIX"])
        flat = numbers(holder.find("float_array")) if holder is not None else np.zeros(0)
        if len(flat) < 16 * len(rows) or not np.isfinite(flat).all():
            raise Unreadable("it has too few inverse bind matrices")
        inverse = flat[: 16 * len(rows)].reshape(-1, 4, 4)
    per = whole_numbers(table.find("vcount"))[:count]
    listed = whole_numbers(table.find("v"))
    offsets = {i.get("semantic"): (int(i.get("offset") or 0), i.get("source")) for i in table.findall("input")}
    if "JOINT" not in offsets or "WEIGHT" not in offsets:
        raise Unreadable("its weights name no joints")
    stride = max(o for o, _ in offsets.values()) + 1
    pairs = listed[: len(listed) // stride * stride].reshape(-1, stride)
    if len(per) < count or (per < 0).any() or per.sum() > len(pairs):
        raise Unreadable("its weights do not fit its points")
    values = reader.get(offsets["WEIGHT"][1]).ravel()
    most = max(1, int(per.max(initial=1)))
    joints, weights = np.zeros((count, most), np.int64), np.zeros((count, most))
    point = np.repeat(np.arange(count), per)
    place = np.arange(len(point)) - np.repeat(np.cumsum(per) - per, per)
    chosen = pairs[: len(point)]
    joint, weight = chosen[:, offsets["JOINT"][0]], chosen[:, offsets["WEIGHT"][0]]
    # -1 is the bind shape itself by the letter of the format; it weighs nothing here
    good = (joint >= 0) & (joint < len(rows)) & (weight >= 0) & (weight < len(values))
    joints[point[good], place[good]] = joint[good]
    weights[point[good], place[good]] = np.nan_to_num(values[weight[good]])
    total = weights.sum(axis=1)
    weights[total == 0, 0] = 1.0
    return rows, inverse, joints, weights / np.where(total == 0, 1.0, total)[:, None]


def morphed(morph: Element, base: Geometry, others: Any, budget: Any) -> Geometry:
    """The geometry with its targets added at their weights (5.8, NORMALIZED and RELATIVE). Raises Unreadable."""
    inputs = {i.get("semantic"): (i.get("source") or "").lstrip("#") for i in morph.findall("targets/input")}
    sources = {s.get("id"): s for s in morph.findall("source")}
    named = sources.get(inputs.get("MORPH_TARGET"))
    if named is None or "MORPH_WEIGHT" not in inputs:
        raise Unreadable("the morph names no targets")
    holder = named.find("IDREF_array") if named.find("IDREF_array") is not None else named.find("Name_array")
    targets = text_of(holder).split()
    weights = Sources(morph, budget).get(inputs["MORPH_WEIGHT"]).ravel()
    total = base.points + base.origin
    out = total.copy()
    for target, weight in zip(targets, weights.tolist(), strict=False):
        if not weight:
            continue
        other = others(f"#{target}")
        if other is None or len(other.points) != len(base.points):
            raise Unreadable(f"the morph target “{target[:60]}” is not there or has other points")
        offset = other.points + other.origin
        out += weight * (offset if morph.get("method") == "RELATIVE" else offset - total)
    return replace(base, points=out, origin=np.zeros(3))
