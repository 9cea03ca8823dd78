"""What a format can hold, and so what an arrival in it can prove; the rest is named as not provable."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

Look = Literal["gltf", "usd", "collada", "obj", "none"]
"""By whose model of surfaces a material is written."""


@dataclass(frozen=True)
class Ability:
    """tree, sharing, pivots, names, parts: kept apart and found again. uv_sets: how many.
    color_channels: of the first set of vertex colours. look: by whose model
    materials are written. two_sided_meshes: two-sidedness belongs to meshes. visible: parts may be
    switched off. declares: unit and up axis stand in the file. lights, cameras: what of them is kept.
    laid_out: coordinates are written as the main image reads them. encoded_lights: colours of lights are sRGB.
    poses: skins and morph targets; where not, they are baked. lists: copies as one list of transforms. data: what the source says of a node.
    labels: of what it holds names (NAMES) and data beside those of nodes; said: and gives them back as they are. layers: which
    a node is on. attributes: of vertices, of whatever name. filters: how images are read from near and from afar.
    pages: where the lightmap of a part lies on a page that several share.
    """

    tree: bool = True
    sharing: bool = True
    pivots: bool = True
    names: bool = True
    parts: bool = True
    normals: bool = True
    uv_sets: int = 8
    color_channels: int = 4
    tangents: bool = False
    look: Look = "gltf"
    two_sided_meshes: bool = False
    visible: bool = False
    declares: bool = False
    scenes: bool = False
    laid_out: bool = False
    encoded_lights: bool = False
    poses: bool = False
    data: bool = False
    labels: frozenset[str] = field(default_factory=frozenset)
    said: bool = False
    layers: bool = False
    attributes: bool = False
    filters: bool = False
    lists: bool = False
    pages: bool = False
    clips: bool = False
    lights: frozenset[str] = field(default_factory=frozenset)
    cameras: frozenset[str] = field(default_factory=frozenset)

    @property
    def flat(self) -> bool:
        """Parts placed in the world, and neither tree nor sharing."""
        return not self.tree

    def unproven(self) -> list[str]:
        """What this format cannot prove, in words."""
        told = {
            "tree": self.tree,
            "sharing of meshes": self.sharing,
            "pivots and rotations": self.pivots,
            "names of parts": self.names,
            "which triangles belong to which part": self.parts,
            "smooth normals": self.normals,
            "tangents": self.tangents,
            "UV sets": self.uv_sets > 0,
            "UV sets after the first": self.uv_sets > 1 or self.uv_sets == 0,
            "materials": self.look != "none",
            "lights": bool(self.lights),
            "cameras": bool(self.cameras),
            "clips": self.clips,
            "data of nodes": self.data,
            "names and data of meshes, lights and cameras": self.said,
            "places on shared lightmap pages": self.pages,
            "vertex colours": self.color_channels > 0,
            "parts that are switched off": self.visible,
        }
        return [what for what, there in told.items() if not there]


LENSES = frozenset({"kind", "angle", "aspect", "width", "height", "near", "far"})
NAMES = "names"
"""Of meshes, lights and cameras."""
LABELS = frozenset({NAMES, "meshes", "materials", "images", "lights", "cameras", "scenes", "the file", "copyright"})
POINTS = frozenset({"kind", "light", "range", "inner cone", "cone"})
"""Of lights that are points or spots."""
EVERYTHING = Ability(
    visible=True,
    poses=True,
    data=True,
    labels=LABELS,
    said=True,
    layers=True,
    attributes=True,
    filters=True,
    lists=True,
    pages=True,
    tangents=True,
    scenes=True,
    clips=True,
    lights=POINTS | {"surface", "surface size"},
    cameras=LENSES,
)
"""What a scene in memory holds, as the result of a route is."""
