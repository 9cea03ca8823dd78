"""Light that parts have from before: what did not change keeps it when other parts are moved, added or taken away.

Light of a part depends on everything else, if only a little. What stands near to a change is traced anew; the rest keeps what
it has, and is told as being from before, until somebody asks for all of it anew.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from tidy_caravan.core.bake.mix import GROUPS
from tidy_caravan.core.bake.textures import image_of
from tidy_caravan.core.scene import HIDDEN, Scene
from tidy_caravan.core.scene.arrays import F32, F64, U64, AnyArray, Bool
from tidy_caravan.core.surroundings.world import likenesses
from tidy_caravan.core.work.heavy import Done, Piece, Work, Workshop, key_of

KEPT = Work("light of parts", 4, "", replaced=True)
NEAR = 1.0
"""How near to something that changed light is traced anew, in its own sizes."""
MOST_CHANGES = 500
"""Changed parts from which on all light is traced anew."""
MOST_TEXELS = 8_000_000
"""Texels of which light is kept like this."""
LAMPS = ("lamp_kind", "lamp_place", "lamp_way", "lamp_power", "lamp_limits", "panel_corners", "panel_emission")


@dataclass
class Kept:
    """Sums over the samples of a part: light (T, groups, 3), squares (T, groups), behind (T,); leaks (T,). world: the one it
    was traced in. box: (2, 3) of its places, metres."""

    light: F32
    squares: F32
    behind: F32
    leaks: Bool
    samples: int
    world: bytes
    box: F64


@dataclass
class Shelf:
    """What is kept of one subject's light. parts: (P, 2) what tells its parts apart; boxes: (P, 2, 3) metres. lamps: what all
    lamps and glowing surfaces are. changed: (C, 2, 3) boxes of what came, went or moved since, None for too much to tell.
    asked: what was looked for last."""

    workshop: Workshop
    slot: str
    world: bytes
    lamps: bytes
    parts: U64
    boxes: F64
    entries: dict[bytes, Kept]
    changed: F64 | None
    asked: list[bytes] = field(default_factory=list)

    @classmethod
    def of(
        cls, scene: Scene, arrays: Mapping[str, AnyArray], world: bytes, workshop: Workshop, divide: int, bounces: int
    ) -> Shelf:
        nodes, metre = scene.nodes, scene.convention.metres_per_unit
        shown = np.flatnonzero((nodes.flags[nodes.parts] & HIDDEN) == 0)
        rows = nodes.parts[shown]
        parts = likenesses(scene, rows, [looks_of(scene)[nodes.mesh[rows]]])
        boxes = scene.part_bounds[shown] * metre - arrays["centre"]
        glows = np.flatnonzero(arrays["emission"].any(axis=1))
        digest = hashlib.blake2b(digest_size=16)
        for one in (
            *(arrays[name] for name in LAMPS),
            arrays["points"][arrays["faces"][glows]],
            arrays["emission"][glows],
        ):
            digest.update(np.ascontiguousarray(one).tobytes())
        slot = key_of(KEPT, Piece(workshop.subject, {}, {"divide": divide, "bounces": bounces}))
        out = cls(workshop, slot, world, digest.digest(), parts, boxes, {}, None)
        out.open()
        return out

    def open(self) -> None:
        """Reads what is there, and what changed since."""
        found = self.workshop.results.find(KEPT, [self.slot]).get(self.slot)
        if not isinstance(found, Done) or bytes.fromhex(found.figures["lamps"]) != self.lamps:
            return
        a = found.arrays
        for k, (own, world, samples) in enumerate(zip(a["own"], a["world"], a["samples"].tolist(), strict=True)):
            rows = slice(int(a["begin"][k]), int(a["begin"][k + 1]))
            self.entries[own.tobytes()] = Kept(
                a["light"][rows], a["squares"][rows], a["behind"][rows], a["leaks"][rows], samples, world.tobytes(),
                a["own_boxes"][k],
            )  # fmt: skip
        gone, come = apart(a["parts"], self.parts), apart(self.parts, a["parts"])
        changed = np.concatenate([a["boxes"][gone], self.boxes[come]])
        if len(changed) <= MOST_CHANGES:
            self.changed = changed

    def find(self, sheets: Sequence[tuple[F64, F64]], samples: int, keep: bool) -> list[Kept | None]:
        """What there is of sheets (places, normals), with as many samples at least: light of this very world, and with `keep`
        that from before."""
        self.asked = [
            hashlib.blake2b(places.tobytes() + normals.tobytes(), digest_size=16).digest() for places, normals in sheets
        ]
        found = [self.entries.get(own) for own in self.asked]
        return [
            one if one and one.samples >= samples and (one.world == self.world or (keep and self.holds(one))) else None
            for one in found
        ]

    def had(self, sheets: Sequence[tuple[F64, F64]]) -> list[Kept | None]:
        """What there is of other sheets (places, normals), however many samples of it, that holds still."""
        each = (
            hashlib.blake2b(places.tobytes() + normals.tobytes(), digest_size=16).digest() for places, normals in sheets
        )
        found = [self.entries.get(own) for own in each]
        return [one if one and one.samples and self.holds(one) else None for one in found]

    def holds(self, one: Kept) -> bool:
        """Whether light of this world or another is to go by still: nothing changed near to it."""
        if one.world == self.world:
            return True
        if self.changed is None:
            return False
        reach = NEAR * np.linalg.norm(self.changed[:, 1] - self.changed[:, 0], axis=1, keepdims=True)
        near = (one.box[0] <= self.changed[:, 1] + reach) & (one.box[1] >= self.changed[:, 0] - reach)
        return not bool(near.all(axis=1).any())

    def keep(self, every: Sequence[Kept]) -> None:
        """Puts the light of the sheets that were asked for behind that of other parts which holds still: what changed is told
        against this world from now on."""
        made = {own: k for own, k in zip(self.asked, every, strict=True) if k.samples}
        entries = {own: k for own, k in self.entries.items() if own not in made and self.holds(k)} | made
        texels, chosen = 0, []
        for own in reversed(entries):  # the newest are kept first
            texels += len(entries[own].behind)
            if texels > MOST_TEXELS:
                break
            chosen.append(own)
        kept = [entries[own] for own in reversed(chosen)]
        none = np.zeros((0, GROUPS, 3), np.float32)
        arrays: dict[str, AnyArray] = {
            "own": np.frombuffer(b"".join(reversed(chosen)), np.uint8).reshape(-1, 16),
            "world": np.frombuffer(b"".join(e.world for e in kept), np.uint8).reshape(-1, 16),
            "samples": np.array([e.samples for e in kept], np.int64),
            "begin": np.cumsum([0, *(len(e.behind) for e in kept)]),
            "light": np.concatenate([none, *(e.light for e in kept)]),
            "squares": np.concatenate([none[..., 0], *(e.squares for e in kept)]),
            "behind": np.concatenate([none[:, 0, 0], *(e.behind for e in kept)]),
            "leaks": np.concatenate([np.zeros(0, np.bool_), *(e.leaks for e in kept)]),
            "own_boxes": np.array([e.box for e in kept]).reshape(-1, 2, 3),
            "parts": self.parts,
            "boxes": self.boxes,
        }
        self.workshop.results.keep(KEPT, {self.slot: Done(arrays, {"lamps": self.lamps.hex()})})


def apart(some: U64, others: U64) -> Bool:
    """(N,) True for rows (N, 2) that are not among others (M, 2)."""
    known = np.sort(others[:, 0])
    if not len(known):
        return np.ones(len(some), np.bool_)
    at = np.minimum(np.searchsorted(known, some[:, 0]), len(known) - 1)
    out: Bool = known[at] != some[:, 0]
    return out


def number_of(told: str) -> int:
    return int.from_bytes(hashlib.blake2b(told.encode(), digest_size=8).digest(), "little")


def looks_of(scene: Scene) -> U64:
    """(M,) a number for how each mesh looks: its materials, the images that they show, and the colours of its vertices."""
    images = [hashlib.blake2b(i.data or b"", digest_size=16).hexdigest() for i in scene.images]
    images.append("")  # of what shows none
    told = [f"{m!r} {[images[image_of(scene, u)] for u in m.uses()]}" for m in scene.materials]
    number = {slot: number_of(text) for slot, text in enumerate(told)} | {-1: 0}
    return np.array(
        [number_of(repr(([number[s] for s in m.slots], m.colors and m.id))) for m in scene.meshes], np.uint64
    )
