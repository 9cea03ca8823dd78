"""Tables. Names as in docs/architecture.md, Words."""

from __future__ import annotations

import uuid
from datetime import datetime
from typing import Any

from sqlalchemy import ARRAY, Boolean, Column, DateTime, Float, ForeignKey, Index, Integer, Table, Text, false, func
from sqlalchemy.dialects.postgresql import JSONB, UUID
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column

from tidy_caravan.server.columns import part_columns


class Base(DeclarativeBase):
    type_annotation_map = {dict[str, Any]: JSONB, list[Any]: JSONB, uuid.UUID: UUID(as_uuid=True), str: Text}


def key() -> Mapped[uuid.UUID]:
    return mapped_column(primary_key=True, default=uuid.uuid4)


class Haul(Base):
    """One transfer project. version counts edits, for optimistic locking. deleted: when, while it can be restored."""

    __tablename__ = "haul"

    id: Mapped[uuid.UUID] = key()
    name: Mapped[str]
    destination: Mapped[dict[str, Any]]
    route: Mapped[dict[str, Any]]
    version: Mapped[int] = mapped_column(default=1)
    created: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now(), index=True)
    source_name: Mapped[str] = mapped_column(default="")
    revision_id: Mapped[uuid.UUID | None]
    run_id: Mapped[uuid.UUID | None]
    package_id: Mapped[uuid.UUID | None]
    arrival_id: Mapped[uuid.UUID | None]
    deleted: Mapped[datetime | None] = mapped_column(DateTime(timezone=True))


class Edit(Base):
    """A change of a haul, or of a destination of the user's own. state: as it was before, or, once it is undone, after
    it (see server/edits.py). number: its turn."""

    __tablename__ = "edit"

    id: Mapped[uuid.UUID] = key()
    haul_id: Mapped[uuid.UUID | None] = mapped_column(ForeignKey("haul.id", ondelete="CASCADE"), index=True)
    own: Mapped[str | None] = mapped_column(ForeignKey("destination.name", ondelete="CASCADE"), index=True)
    number: Mapped[int]
    undone: Mapped[bool]
    what: Mapped[str]
    state: Mapped[dict[str, Any]]


class SceneRow(Base):
    """A scene in the store with its figures: a revision, what a run made, or what a receiver read."""

    __tablename__ = "scene"

    id: Mapped[uuid.UUID] = key()
    haul_id: Mapped[uuid.UUID] = mapped_column(ForeignKey("haul.id", ondelete="CASCADE"), index=True)
    kind: Mapped[str]
    store_key: Mapped[str]
    view_key: Mapped[str]
    picture_key: Mapped[str]
    counts: Mapped[dict[str, Any]]
    bounds: Mapped[dict[str, Any]]
    convention: Mapped[dict[str, Any]]
    """With `files`: the same of each of several, and what speaks for which unit."""
    notes: Mapped[list[Any]]
    materials: Mapped[list[Any]] = mapped_column(default=list, server_default="[]")
    travel: Mapped[list[Any]] = mapped_column(default=list, server_default="[]")
    units: Mapped[list[Any]] = mapped_column(default=list, server_default="[]")
    images: Mapped[list[Any]] = mapped_column(default=list, server_default="[]")
    """Of a scene that is not in the store as a whole: [media type, key] of each image that is shown, else None."""
    named: Mapped[bool] = mapped_column(default=True, server_default=false())
    """Its parts hold their identities (see db/naming.py)."""

    @property
    def files(self) -> list[Any]:
        """Each of several files by itself: its convention, and what speaks for which unit."""
        told: list[Any] = self.convention.get("files", [])
        return told


class Revision(Base):
    """One imported version of the source; never changed. files: [path, key in the store] of what it was read from."""

    __tablename__ = "revision"

    id: Mapped[uuid.UUID] = key()
    haul_id: Mapped[uuid.UUID] = mapped_column(ForeignKey("haul.id", ondelete="CASCADE"), index=True)
    scene_id: Mapped[uuid.UUID] = mapped_column(ForeignKey("scene.id", ondelete="CASCADE"), index=True)
    name: Mapped[str]
    sha256: Mapped[str]
    files: Mapped[list[Any]] = mapped_column(default=list, server_default="[]")
    created: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())


KINDS: dict[type, Any] = {int: Integer, float: Float, str: Text, bool: Boolean}

part = Table(
    "part",
    Base.metadata,
    Column("scene_id", UUID(as_uuid=True), primary_key=True),  # goes with its scene by a trigger (migration 0010)
    Column("node", Integer, primary_key=True),
    *(Column(c.name, KINDS[c.kind], nullable=c.later) for c in part_columns()),
    Index("part_source", "scene_id", "source"),
)
"""One part of a scene as a row (see server/columns.py). Lengths and places in metres, Y up, right-handed."""


class FindingRow(Base):
    __tablename__ = "finding"

    id: Mapped[uuid.UUID] = key()
    scene_id: Mapped[uuid.UUID] = mapped_column(ForeignKey("scene.id", ondelete="CASCADE"), index=True)
    rank: Mapped[int]
    code: Mapped[str]
    severity: Mapped[str]
    title: Mapped[str]
    text: Mapped[str]
    count: Mapped[int]
    value: Mapped[float | None]
    limit: Mapped[float | None]
    unit: Mapped[str]
    guess: Mapped[bool]
    mend: Mapped[dict[str, Any] | None] = mapped_column(JSONB(none_as_null=True))
    parts: Mapped[list[int]] = mapped_column(ARRAY(Integer))
    places: Mapped[list[dict[str, Any]]] = mapped_column(JSONB)


class Run(Base):
    """One execution of a route, with every figure before and after."""

    __tablename__ = "run"

    id: Mapped[uuid.UUID] = key()
    haul_id: Mapped[uuid.UUID] = mapped_column(ForeignKey("haul.id", ondelete="CASCADE"), index=True)
    revision_id: Mapped[uuid.UUID] = mapped_column(ForeignKey("revision.id", ondelete="CASCADE"), index=True)
    scene_id: Mapped[uuid.UUID] = mapped_column(ForeignKey("scene.id", ondelete="CASCADE"), index=True)
    read_scene_id: Mapped[uuid.UUID] = mapped_column(ForeignKey("scene.id", ondelete="CASCADE"), index=True)
    destination: Mapped[dict[str, Any]]
    route: Mapped[dict[str, Any]]
    records: Mapped[list[Any]]
    seconds: Mapped[float]
    created: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())


class PackageRow(Base):
    """What was written: files with their keys in the store. remarks as in the manifest."""

    __tablename__ = "package"

    id: Mapped[uuid.UUID] = key()
    haul_id: Mapped[uuid.UUID] = mapped_column(ForeignKey("haul.id", ondelete="CASCADE"), index=True)
    run_id: Mapped[uuid.UUID] = mapped_column(ForeignKey("run.id", ondelete="CASCADE"), index=True)
    format: Mapped[str]
    files: Mapped[list[Any]]
    remarks: Mapped[list[Any]]
    behind: Mapped[list[Any]]
    created: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())


class Arrival(Base):
    """report: the comparison without its rows, which are in arrival_row."""

    __tablename__ = "arrival"

    id: Mapped[uuid.UUID] = key()
    haul_id: Mapped[uuid.UUID] = mapped_column(ForeignKey("haul.id", ondelete="CASCADE"), index=True)
    package_id: Mapped[uuid.UUID] = mapped_column(ForeignKey("package.id", ondelete="CASCADE"), index=True)
    scene_id: Mapped[uuid.UUID] = mapped_column(ForeignKey("scene.id", ondelete="CASCADE"), index=True)
    report: Mapped[dict[str, Any]]
    created: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())


class ArrivalRow(Base):
    __tablename__ = "arrival_row"

    arrival_id: Mapped[uuid.UUID] = mapped_column(ForeignKey("arrival.id", ondelete="CASCADE"), primary_key=True)
    rank: Mapped[int] = mapped_column(Integer, primary_key=True)
    source_id: Mapped[int]
    node: Mapped[int]
    identity: Mapped[str] = mapped_column(default="", server_default="")
    path: Mapped[str]
    position_mm: Mapped[float]
    size_ratio: Mapped[float]
    rotation_deg: Mapped[float]
    normal_deg: Mapped[float]
    pivot_mm: Mapped[float]
    surface_mm: Mapped[float]
    triangles_source: Mapped[int]
    triangles_arrived: Mapped[int]
    faults: Mapped[str]
    told: Mapped[str] = mapped_column(default="", server_default="")


class Job(Base):
    """Heavy work: import, run, pack or arrive. state: waiting, running, done, failed, cancelled."""

    __tablename__ = "job"

    id: Mapped[uuid.UUID] = key()
    haul_id: Mapped[uuid.UUID] = mapped_column(ForeignKey("haul.id", ondelete="CASCADE"), index=True)
    kind: Mapped[str]
    state: Mapped[str] = mapped_column(default="waiting", index=True)
    title: Mapped[str] = mapped_column(default="")
    done: Mapped[int] = mapped_column(default=0)
    total: Mapped[int] = mapped_column(default=0)
    cancel: Mapped[bool] = mapped_column(default=False)
    arguments: Mapped[dict[str, Any]]
    problem: Mapped[dict[str, Any] | None] = mapped_column(JSONB(none_as_null=True))
    created: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())
    attempts: Mapped[int] = mapped_column(default=0)


class DestinationRow(Base):
    """A destination that the user made; the built-in ones live in the code. deleted: when, while it can be restored."""

    __tablename__ = "destination"

    name: Mapped[str] = mapped_column(primary_key=True)
    data: Mapped[dict[str, Any]]
    version: Mapped[int] = mapped_column(default=1)
    deleted: Mapped[datetime | None] = mapped_column(DateTime(timezone=True))


class KeptFigures(Base):
    """Figures that heavy work found out about some content; any haul may use them, none owns them."""

    __tablename__ = "kept_figures"

    key: Mapped[str] = mapped_column(Text, primary_key=True)
    figures: Mapped[dict[str, Any]]
    used: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now(), index=True)
