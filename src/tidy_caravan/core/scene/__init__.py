"""The data model: nodes as columns, meshes by content hash, and nothing that computes a job."""

from tidy_caravan.core.scene.boxes import extreme_points
from tidy_caravan.core.scene.convention import GLTF, Axis, Convention, Handedness
from tidy_caravan.core.scene.identity import FILES, Identities
from tidy_caravan.core.scene.look import Image, Material, Sampler, Texture, TextureUse
from tidy_caravan.core.scene.mesh import Mesh, Morph, Recipe
from tidy_caravan.core.scene.nodes import HIDDEN, NO_LIGHTMAP, SCATTER, Nodes, make_nodes
from tidy_caravan.core.scene.provenance import MADE, Origin, Touched, joined
from tidy_caravan.core.scene.scene import Scene
from tidy_caravan.core.scene.things import OPEN, SHARP, Camera, Channel, Clip, Light, Note, Root, Skin, Travel

__all__ = [
    "FILES",
    "GLTF",
    "HIDDEN",
    "MADE",
    "NO_LIGHTMAP",
    "OPEN",
    "SCATTER",
    "SHARP",
    "Axis",
    "Camera",
    "Channel",
    "Clip",
    "Convention",
    "Handedness",
    "Identities",
    "Image",
    "Light",
    "Material",
    "Mesh",
    "Morph",
    "Nodes",
    "Note",
    "Origin",
    "Recipe",
    "Root",
    "Sampler",
    "Scene",
    "Skin",
    "Texture",
    "TextureUse",
    "Touched",
    "Travel",
    "extreme_points",
    "joined",
    "make_nodes",
]
