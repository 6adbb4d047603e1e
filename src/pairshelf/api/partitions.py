"""Partitions of a drive without a pool: planned, pending, written by a change sheet, exported as an image."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from flask import Response
from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field
from sqlmodel import Session, col, select

from pairshelf.api.guard import needs, signed_in
from pairshelf.api.paths import DrivePath
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.names import file_name
from pairshelf.core.domain.partitions import TYPES, WantedPartition, wanted_of
from pairshelf.formats.partition_image import tar_of
from pairshelf.services.planned_partitions import Partitioned, keep_plan, partitions_of
from pairshelf.store.database import transaction
from pairshelf.store.tables import Host, Mount, VolumeRow

api = APIBlueprint("partitions", __name__, url_prefix="/api")


class WantedBody(BaseModel):
    size: str = ""
    type: str = "data"
    label: str = ""
    kind: str = "primary"
    #: Made on it when it is written; empty: none.
    file_system: str = ""


class PlanBody(BaseModel):
    scheme: str = "gpt"
    parts: list[WantedBody] = Field(default_factory=list, max_length=130)
    #: Only work it out; keep nothing.
    dry: bool = False


class VolumeOnPart(BaseModel):
    """The volume that a partition in use is."""

    id: int
    name: str
    pool_id: int
    file_system: str
    #: Where hosts mount it.
    mounted: list[str]


class PartOut(BaseModel):
    number: int
    kind: str
    first: int
    last: int
    sectors: int
    bytes: int
    type: str
    label: str
    #: It is on the drive and in use; it stays where it is.
    there: bool
    volume: VolumeOnPart | None


class StretchOut(BaseModel):
    first: int
    sectors: int
    bytes: int


class TypeOut(BaseModel):
    id: str
    about: str
    #: What can be made on it, the usual one first.
    file_systems: list[str]


class PartitionsOut(BaseModel):
    drive_id: int
    place: str
    serial: str
    size: int
    sector: int
    sectors: int
    scheme: str
    #: What is planned, as it was typed, for editing.
    wanted: list[WantedBody]
    parts: list[PartOut]
    unallocated: list[StretchOut]
    findings: list[str]
    #: Whether something is planned that has not been written.
    pending: bool
    #: Whether the drive is in use by its partitions.
    in_use: bool
    #: What is said of the partitions as they stand.
    state: str
    #: Whether the table shown stands on the drive, read from it just now.
    on_drive: bool
    #: Why the drive cannot be partitioned, or null.
    why_not: str | None
    types: list[TypeOut]


def partitions_out(
    session: Session, found: Partitioned, scheme: str, wanted: tuple[WantedPartition, ...]
) -> PartitionsOut:
    """A drive's partitions with every exact sector, as screens and console show them."""
    table = found.laid_out(scheme, wanted)
    drive, plan = found.drive, found.plan
    pending = bool(plan and plan.parts)
    on_drive = found.on_drive is not None and found.on_drive.parts == table.parts
    there = {p.number for p in found.there}
    volumes = _volumes(session, plan.pool_id if plan else None)
    return PartitionsOut(
        drive_id=drive.id, place=drive.place, serial=drive.serial, size=found.row.size, sector=table.sector,
        sectors=table.sectors, scheme=table.scheme, wanted=[WantedBody(**asdict(w)) for w in wanted],
        parts=[
            PartOut(number=p.number, kind=p.kind, first=p.first, last=p.last, sectors=p.sectors,
                    bytes=p.sectors * table.sector, type=p.type, label=p.label, there=p.number in there,
                    volume=volumes.get(p.number) if p.number in there else None)
            for p in table.parts
        ],
        unallocated=[StretchOut(first=f, sectors=n, bytes=n * table.sector) for f, n in table.unallocated],
        findings=[f.sentence for f in table.findings], pending=pending, in_use=drive.partitioned,
        state=found.state, on_drive=on_drive, why_not=found.why_not,
        types=[TypeOut(id=t.id, about=t.about, file_systems=list(t.file_systems)) for t in TYPES.values()],
    )  # fmt: skip


def _volumes(session: Session, pool_id: int | None) -> dict[int | None, VolumeOnPart]:
    if pool_id is None:
        return {}
    mounts: dict[int, list[str]] = {}
    mounted = select(Mount.volume_id, Host.name, Mount.at).join(Host, col(Host.id) == Mount.host_id)
    mounted = mounted.join(VolumeRow, col(VolumeRow.id) == Mount.volume_id).where(VolumeRow.pool_id == pool_id)
    mounted = mounted.order_by(Host.name, Mount.at)
    for volume_id, host, at in session.exec(mounted):
        mounts.setdefault(volume_id, []).append(f"{host} at {at}")
    return {
        v.partition: VolumeOnPart(
            id=v.number, name=v.name, pool_id=pool_id, file_system=v.file_system, mounted=mounts.get(v.number, [])
        )
        for v in session.exec(select(VolumeRow).where(VolumeRow.pool_id == pool_id))
    }


@api.get("/drives/<int:drive_id>/partitions", responses={200: PartitionsOut})
@needs(Act.LOOK)
def partitions(path: DrivePath) -> Any:
    """A drive's partitions, on it or pending, with every exact sector and what is unallocated."""
    with transaction() as session:
        found = partitions_of(session, path.drive_id)
        return partitions_out(session, found, found.scheme, found.wanted)


@api.put("/drives/<int:drive_id>/partitions", responses={200: PartitionsOut})
@needs(Act.MANAGE_DRIVES)
def plan_partitions(path: DrivePath, body: PlanBody) -> Any:
    """Plan partitions. They stay pending, and the drive untouched, until a change sheet is approved. Those in use
    stay as they are; what is planned comes beside them."""
    rows = [p.model_dump() for p in body.parts]
    with transaction() as session:
        if body.dry:
            return partitions_out(session, partitions_of(session, path.drive_id), body.scheme, wanted_of(rows))
        found = keep_plan(session, path.drive_id, body.scheme, rows, signed_in().name)
        return partitions_out(session, found, found.scheme, found.wanted)


@api.get("/drives/<int:drive_id>/partitions/image")
@needs(Act.LOOK)
def image(path: DrivePath) -> Any:
    """The drive's table as a sparse image inside a tar archive: true sector addresses, nothing scaled."""
    with transaction() as session:
        found = partitions_of(session, path.drive_id)
        packed = tar_of(f"{file_name(found.drive.serial)}.img", found.row.size, found.image())
    return Response(packed, content_type="application/x-tar",
                    headers={"Content-Disposition": f'attachment; filename="{file_name(found.drive.serial)}.tar"'})  # fmt: skip
