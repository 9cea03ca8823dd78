"""Textures as light sees them: pixels in linear light, small, all in one table, and where each triangle shows them."""

from __future__ import annotations

import io

import numpy as np

from tidy_caravan.core.geometry.rays import PLASTIC
from tidy_caravan.core.scene import Material, Mesh, Scene, TextureUse
from tidy_caravan.core.scene.arrays import F32, F64, I64, U8, AnyArray
from tidy_caravan.core.scene.look import channel_of
from tidy_caravan.core.space.srgb import linear

MOST_SIDE = 256
"""Texels of a side; larger textures are made smaller, since light blurs what they show."""
MIRRORED, TO_THE_EDGE = 33648, 33071
LINEAR: F32 = linear(np.arange(256) / 255).astype(np.float32)
LOOKS = 256
"""Places of a triangle that its glow is the mean of."""
AT_ONCE = 10_000


class Textures:
    """Those that the materials of a scene use. missing: materials by name whose image could not be read, with the role."""

    def __init__(self, scene: Scene, looks: list[Material]) -> None:
        self.scene, self.looks = scene, looks
        self.missing: list[str] = []
        self.kept: dict[int, AnyArray | None] = {}

    def pixels_of(self, use: TextureUse | None, name: str = "") -> AnyArray | None:
        """(H, W, 4) bytes of a texture, made smaller when it is large."""
        if use is None:
            return None
        image = image_of(self.scene, use)
        if image not in self.kept:
            data = self.scene.images[image].data if image >= 0 else None
            self.kept[image] = None if data is None else decoded(data)
        if self.kept[image] is None:
            self.missing.append(name)
        return self.kept[image]

    def base(self) -> tuple[I64, U8]:
        """(M, 5) of each material where its base colour begins among the texels, −1 without, width, height and how it goes on
        across and down; (P, 4) texels, colour as sRGB and alpha."""
        table = np.zeros((len(self.looks), 5), np.int64)
        table[:, 0] = -1
        rows: list[AnyArray] = []
        begin, at = 0, dict[int, int]()
        for m, look in enumerate(self.looks):
            use = look.base_color_texture
            found = self.pixels_of(use, look.name)
            if use is None or found is None:
                continue
            image = self.scene.textures[use.texture].image
            if image not in at:
                at[image], begin = begin, begin + found.shape[0] * found.shape[1]
                rows.append(found.reshape(-1, 4))
            table[m] = [at[image], found.shape[1], found.shape[0], *self.goes_on(use)]
        return table, np.concatenate([*rows, np.zeros((1, 4), np.uint8)])  # compiled code is given some in any case

    def goes_on(self, use: TextureUse) -> tuple[int, int]:
        """How a texture goes on beyond its border, across and down, as the kernels have it."""
        sampler = self.scene.textures[use.texture].sampler
        return (0, 0) if sampler is None else (goes_on(sampler.wrap_s), goes_on(sampler.wrap_t))

    def metallic(self, look: Material) -> float:
        """How metallic a material is on the whole."""
        found = self.pixels_of(look.metallic_roughness_texture, look.name)
        return look.metallic * (1.0 if found is None else float(found[..., 2].mean()) / 255)

    def coordinates(self, meshes: tuple[Mesh, ...], role: str) -> F32:
        """(F, 3, 2) of the triangles of all meshes, one after the other: where each shows its material's texture."""
        uses = [getattr(look, role) for look in self.looks]
        out = []
        for mesh in meshes:
            own = np.zeros((mesh.triangles, 3, 2), np.float32)
            for slot in mesh.slots:
                use = uses[slot] if slot >= 0 else None
                channel = 0 if use is None else channel_of(use)
                if use is not None and channel < len(mesh.uvs):
                    rows = np.flatnonzero(mesh.material == slot)
                    own[rows] = moved(mesh.uvs[channel].astype(np.float64)[mesh.indices[rows]], use)
            out.append(own)
        return np.concatenate([np.zeros((0, 3, 2), np.float32), *out])

    def glow(self, material: I64, coordinates: F32) -> F32:
        """(F, 3) what of its material's emission each triangle gives: the mean of its texture over it."""
        out = np.ones((len(material), 3), np.float32)
        for m, look in enumerate(self.looks):
            use = look.emissive_texture if any(look.emissive) else None
            found = self.pixels_of(use, look.name)
            if use is None or found is None or not (rows := np.flatnonzero(material == m)).size:
                continue
            u, v = ((0.5 + np.arange(1, LOOKS + 1)[:, None] * np.array(PLASTIC)) % 1.0).T
            root = np.sqrt(u)
            corners = np.stack([1 - root, root * (1 - v), root * v], axis=1)
            height, width = found.shape[:2]
            across, down = self.goes_on(use)
            for some in np.array_split(rows, -(-len(rows) // AT_ONCE)):
                places = np.einsum("pk,fkc->fpc", corners, np.nan_to_num(coordinates[some].astype(np.float64)))
                x, y = texels(places[..., 0], width, across), texels(places[..., 1], height, down)
                out[some] = LINEAR[found[y, x, :3]].mean(axis=1)
        return out


def image_of(scene: Scene, use: TextureUse) -> int:
    """Number of the image that is shown, -1 where there is none."""
    image = scene.textures[use.texture].image if 0 <= use.texture < len(scene.textures) else -1
    return image if image < len(scene.images) else -1


def decoded(data: bytes) -> AnyArray | None:
    """(H, W, 4) bytes of an image file, None for what is none."""
    import PIL.Image

    try:
        with PIL.Image.open(io.BytesIO(data)) as image:
            larger = -(-max(image.size) // MOST_SIDE)
            small = image.convert("RGBA")
            return np.asarray(small.reduce(larger) if larger > 1 else small)
    except (OSError, ValueError, SyntaxError, PIL.Image.DecompressionBombError):
        return None


def goes_on(code: int) -> int:
    """How a texture goes on beyond its border, as the kernels have it."""
    return 1 if code == MIRRORED else 2 if code == TO_THE_EDGE else 0


def texels(places: F64, size: int, how: int) -> I64:
    """Numbers of the texels at these places along one axis of a texture of `size`; how: see `goes_on`."""
    at = np.floor(places * size).astype(np.int64)
    if how == 2:
        return np.clip(at, 0, size - 1)
    at %= size if how == 0 else 2 * size
    return np.where(at < size, at, 2 * size - 1 - at)


def moved(uv: F64, use: TextureUse) -> F64:
    """Coordinates (…, 2) as a material reads them: offset + rotation · scale · uv (KHR_texture_transform)."""
    c, s = np.cos(use.rotation), np.sin(use.rotation)
    turn = np.array([[c, s], [-s, c]])
    out: F64 = (uv * np.array(use.scale)) @ turn.T + np.array(use.offset)
    return out
