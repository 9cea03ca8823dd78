"""Notes about polygons that lie in no plane or cross themselves, by the mesh that they became part of."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from tidy_caravan.core.formats.shared.many import tell, tell_rest
from tidy_caravan.core.geometry.folds import Folds
from tidy_caravan.core.scene import Mesh, Note
from tidy_caravan.core.scene.arrays import I32
from tidy_caravan.core.words import plural


def tell_folds(
    notes: list[Note], found: Mapping[int, Folds], meshes: Sequence[Mesh], mesh_of: I32 | Sequence[int], where: str
) -> None:
    """Of each mesh that has such polygons, the worst first, with the nodes (N,) that draw it."""
    drawn, told = np.asarray(mesh_of), dict[str, int]()
    for number in sorted(found, key=lambda k: (-found[k].crossing, -found[k].degrees, k)):
        folds, name = found[number], f"{where}: “{meshes[number].name[:60]}”"
        nodes = tuple(np.flatnonzero(drawn == number).tolist())
        if folds.crossing:
            text = (
                f"{plural(folds.crossing, 'polygon crosses itself or is', 'polygons cross themselves or are')} folded back. Cut into triangles, "
                "parts of them face the other way or lie on each other: draw them anew where they were modelled."
            )
            tell(notes, told, Note("damaged", "faces.crossing", name, text, nodes))
        if folds.folded:
            text = (
                f"{plural(folds.folded, 'polygon leans', 'polygons lean')} out of {'its' if folds.folded == 1 else 'their'} plane by up to "
                f"{folds.degrees:.0f}°. The file does not say along which diagonal to cut; have triangles written where it matters."
            )
            tell(notes, told, Note("guess", "faces.folded", name, text, nodes))
    tell_rest(notes, told, where)
