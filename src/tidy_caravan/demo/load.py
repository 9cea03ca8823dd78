"""Puts the demo hauls into an empty database: one carried all the way, one large one to feel the scale."""

from __future__ import annotations

import time
import uuid
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

from sqlalchemy import func, select

from tidy_caravan.core.conventions.destinations import destination
from tidy_caravan.core.route import Route, as_json, default_route
from tidy_caravan.core.selection import PartSet, Rule, Treatment
from tidy_caravan.core.steps.base import Step, Where
from tidy_caravan.core.steps.clean_vertices import CleanVertices
from tidy_caravan.core.steps.combine_parts import CombineParts
from tidy_caravan.core.steps.find_compounds import FindCompounds
from tidy_caravan.core.steps.fit_content import FitContent
from tidy_caravan.core.steps.levels_of_detail import LevelsOfDetail
from tidy_caravan.core.steps.light_budget import LightBudget
from tidy_caravan.core.steps.light_pages import LightPages
from tidy_caravan.core.steps.match_units import FileUnit, MatchUnits
from tidy_caravan.core.steps.mend_geometry import DropDegenerates, MendNormals
from tidy_caravan.core.steps.mend_overlaps import MendOverlaps
from tidy_caravan.core.steps.names_and_tree import DropEmpties, TidyNames
from tidy_caravan.core.steps.part_edges import PartEdges
from tidy_caravan.core.steps.part_leaves import PartLeaves
from tidy_caravan.core.steps.place_pivots import PlacePivots
from tidy_caravan.core.steps.share_copies import ShareCopies
from tidy_caravan.core.steps.split_parts import SplitParts
from tidy_caravan.core.steps.texture_coordinates import FirstUvs, LightmapUvs
from tidy_caravan.core.steps.tidy_tree import TidyTree
from tidy_caravan.core.steps.turn_faces import TurnFaces
from tidy_caravan.core.steps.what_travels import WhatTravels
from tidy_caravan.core.survey.left import Left
from tidy_caravan.demo.ferry_landing import landing_files, large_files
from tidy_caravan.demo.three_trades import gates_obj, three_trades_files
from tidy_caravan.demo.work_yard import yard_files
from tidy_caravan.server.db.models import Haul, Job
from tidy_caravan.server.db.session import session_for
from tidy_caravan.server.jobs.tasks import perform
from tidy_caravan.server.settings import Settings
from tidy_caravan.server.store.blobs import Store


def demo_route() -> list[dict[str, Any]]:
    steps: list[Step] = [
        WhatTravels(helpers=True),
        MatchUnits(source_metres_per_unit=0.01),
        PartLeaves(),
        SplitParts(by="plane", axis="x", at_m=4.0, where=Where(names=["quay deck"])),
        ShareCopies(),
        FindCompounds(where=Where(names=["kiosk_*"])),
        CleanVertices(),
        DropDegenerates(),
        PartEdges(),
        TurnFaces(),
        MendOverlaps(),
        MendNormals(),
        PlacePivots(where=Where(names=["piling_*"])),
        FirstUvs(),
        FitContent(where=Where(names=["timetable_screen"])),
        CombineParts(by="parent", where=Where(names=["net_store_*"])),
        LightmapUvs(),
        LightBudget(texel_m=0.06, unseen=0.5),
        LightPages(),
        TidyNames(),
        DropEmpties(),
        LevelsOfDetail(error_mm=20.0, where=Where(names=["ferry_*"])),
    ]
    return [as_json(s) for s in steps]


def trades_route() -> list[dict[str, Any]]:
    gates = FileUnit(file="gates.obj", metres_per_unit=0.3048, up="Z", forward="Y")
    steps: list[Step] = [
        WhatTravels(),
        MatchUnits(files=[gates]),
        ShareCopies(where=Where(names=["ticket_gate_*"])),
        MendNormals(),
        FirstUvs(),
        LightmapUvs(resolution=128),
        TidyTree(),
        TidyNames(group_prefix="GRP_"),
    ]
    return [as_json(s) for s in steps]


def sets() -> list[PartSet]:
    """Sets of the three trades' landing, in order of precedence."""
    return [
        PartSet(
            id="doors",
            name="Doors",
            rules=[Rule(types=["IfcDoor"])],
            treatment=Treatment(may_move=True, collision="box"),
        ),
        PartSet(
            id="shingle",
            name="Strewn shingle",
            rules=[Rule(kinds=["scattered"])],
            treatment=Treatment(lightmapped=False),
        ),
        PartSet(
            id="upstairs",
            name="Gallery",
            rules=[Rule(layers=["Gallery"])],
            treatment=Treatment(lightmap_weight=0.5, collision="mesh"),
        ),
    ]


def landing_sets() -> list[PartSet]:
    """Sets of the landing that is carried all the way."""
    return [
        PartSet(
            id="beach",
            name="Beach stones",
            rules=[Rule(names=["stone_*"])],
            treatment=Treatment(lightmapped=False),
        )
    ]


def load_demo(settings: Settings, say: Callable[[str], None] = lambda text: None) -> None:
    """Does nothing when there is any haul already that is not deleted."""
    with session_for(settings.database) as session:
        empty = not session.scalar(select(func.count()).select_from(Haul).where(Haul.deleted.is_(None)))
    if empty:
        add_demo(settings, say)


def add_demo(settings: Settings, say: Callable[[str], None] = lambda text: None) -> None:
    """The demo hauls, whatever is there already, two at a time. Raises RuntimeError when one cannot be carried."""
    store = Store(settings.store)
    default = [as_json(s) for s in default_route().steps]
    chain = ["import", "run", "pack", "arrive"]
    sizes = Left(code="scale.left", because="the stones are strewn in different sizes on purpose")
    joints = Left(
        code="gaps.leak",
        because="door leaves keep their clearance, stones lie loose, the slit in the net store’s roof is planted",
    )
    say("demo: all stages of the landing, 20 000 parts")
    say(
        "demo: the landing from three trades: hall as IFC, quay as COLLADA, beach as OpenUSD, and gates that say no unit"
    )
    say("demo: the fitters’ yard, one of every fault, for a route to be proposed")
    say("demo: Pellwick Ferry Landing, carried all the way")
    hauls = [
        Demo("Landing, all stages (20 000 parts)", "metre-y-up-right", large_files(), default, ["import"]),
        Demo(
            "Landing from three trades", "metre-z-up-right", {**three_trades_files(), **gates_obj()}, trades_route(),
            chain, sets(),
        ),
        Demo("Fitters’ yard", "centimetre-z-up-left", yard_files(), default, ["import"]),
        Demo(
            "Pellwick Ferry Landing", "metre-z-up-right", landing_files(), demo_route(), chain, landing_sets(),
            [sizes, joints],
        ),
    ]  # fmt: skip
    jobs = [(add(settings, store, haul), haul.name) for haul in hauls]
    # what takes longest begins first: much of it is in child processes, beside which the others are read and looked over
    pool = ThreadPoolExecutor(2, "demo")
    try:
        for made in [pool.submit(carry, settings, *job) for job in reversed(jobs)]:
            made.result()
    finally:
        # who interrupts does not wait for what is under way: the workers of the next start go on with it
        pool.shutdown(wait=False, cancel_futures=True)


@dataclass(frozen=True)
class Demo:
    """A haul that is there from the start. chain: what is done with it. left: findings that are left as they are."""

    name: str
    to: str
    files: dict[str, bytes]
    steps: list[dict[str, Any]]
    chain: list[str]
    sets: Sequence[PartSet] = ()
    left: Sequence[Left] = ()


def add(settings: Settings, store: Store, demo: Demo) -> uuid.UUID:
    """The haul with its work still to be done; the number of that work."""
    stored = [[path, store.put_blob(data)] for path, data in demo.files.items()]
    route = Route.model_validate({"steps": demo.steps, "sets": list(demo.sets), "left": list(demo.left)})
    with session_for(settings.database) as session:
        haul = Haul(
            id=uuid.uuid4(),
            name=demo.name,
            destination=destination(demo.to).model_dump(by_alias=True, mode="json"),
            route=route.model_dump(by_alias=True, mode="json"),
            version=1,
            source_name=next(iter(demo.files)),
        )
        job = Job(
            id=uuid.uuid4(),
            haul_id=haul.id,
            kind=demo.chain[-1],
            state="waiting",
            title="",
            done=0,
            total=0,
            cancel=False,
            attempts=0,
            arguments={"files": stored, "chain": demo.chain, "format": "glb"},
        )
        session.add(haul)
        session.flush()
        session.add(job)
        return job.id


def carry(settings: Settings, job: uuid.UUID, name: str) -> None:
    """Works through a haul here and now, or waits until a worker has done so. Raises RuntimeError when that fails."""
    while perform(str(job), settings.database, settings.store, settings.upload_bytes) in ("held", "again"):
        time.sleep(0.2)
    with session_for(settings.database) as session:
        row = session.get_one(Job, job)
        if row.state != "done":
            raise RuntimeError(f"the demo haul “{name}” ended {row.state}: {row.problem}")
