"""Partitions of a drive without a pool: planned, pending, written by a change sheet, exported as an image."""

from __future__ import annotations

from typing import Any

from flask import Response
from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field
from sqlmodel import Session

from pairshelf.api.guard import needs, signed_in
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.names import file_name
from pairshelf.core.domain.partitions import TYPES, Wanted, wanted_of
from pairshelf.core.errors import NotPossible
from pairshelf.formats.partition_image import image_chunks, tar_of
from pairshelf.services.planned_partitions import drive_row, keep_plan, table_of
from pairshelf.store.database import transaction
from pairshelf.store.repositories.drives_and_pools import load_drives
from pairshelf.store.tables import DriveRow, PartitionPlan

api = APIBlueprint("partitions", __name__, url_prefix="/api")


class DrivePath(BaseModel):
    drive_id: int


class WantedBody(BaseModel):
    size: str = ""
    type: str = "data"
    label: str = ""
    kind: str = "primary"


class PlanBody(BaseModel):
    scheme: str = "gpt"
    parts: list[WantedBody] = Field(default_factory=list, max_length=130)
    #: Only work it out; keep nothing.
    dry: bool = False


class PartOut(BaseModel):
    number: int
    kind: str
    first: int
    last: int
    sectors: int
    bytes: int
    type: str
    label: str


class StretchOut(BaseModel):
    first: int
    sectors: int
    bytes: int


class PartitionsOut(BaseModel):
    drive_id: int
    place: str
    serial: str
    size: int
    sector: int
    sectors: int
    scheme: str
    #: As they were typed, for editing.
    wanted: list[WantedBody]
    parts: list[PartOut]
    unallocated: list[StretchOut]
    findings: list[str]
    #: Whether what is planned differs from what the drive has.
    pending: bool
    written: bool
    #: Why the drive cannot be partitioned, or null.
    why_not: str | None
    types: dict[str, str]


def partitions_out(
    session: Session, row: DriveRow, scheme: str, wanted: tuple[Wanted, ...], plan: PartitionPlan | None
) -> PartitionsOut:
    """A drive's partitions with every exact sector, as screens and console show them."""
    table = table_of(row, scheme, wanted)
    (drive,) = load_drives(session, [row.number])
    plain = [{"size": w.size, "type": w.type, "label": w.label, "kind": w.kind} for w in wanted]
    return PartitionsOut(
        drive_id=drive.id, place=drive.place, serial=drive.serial, size=row.size, sector=table.sector,
        sectors=table.sectors, scheme=scheme, wanted=[WantedBody(**p) for p in plain],
        parts=[
            PartOut(number=p.number, kind=p.kind, first=p.first, last=p.last, sectors=p.sectors,
                    bytes=p.sectors * table.sector, type=p.type, label=p.label)
            for p in table.parts
        ],
        unallocated=[StretchOut(first=f, sectors=n, bytes=n * table.sector) for f, n in table.unallocated],
        findings=[f.sentence for f in table.findings], pending=bool(plan and plan.written != plan.parts),
        written=bool(plan and plan.written), why_not=drive.why_not_offered(),
        types={t.id: t.about for t in TYPES.values()},
    )  # fmt: skip


@api.get("/drives/<int:drive_id>/partitions", responses={200: PartitionsOut})
@needs(Act.LOOK)
def partitions(path: DrivePath) -> Any:
    """A drive's partitions, written or pending, with every exact sector and what is unallocated."""
    with transaction() as session:
        row = drive_row(session, path.drive_id)
        plan = session.get(PartitionPlan, row.id)
        wanted = wanted_of(plan.parts) if plan else ()
        return partitions_out(session, row, plan.scheme if plan else "gpt", wanted, plan)


@api.put("/drives/<int:drive_id>/partitions", responses={200: PartitionsOut})
@needs(Act.MANAGE_DRIVES)
def plan_partitions(path: DrivePath, body: PlanBody) -> Any:
    """Plan partitions. They stay pending, and the drive untouched, until a change sheet is approved."""
    rows = [p.model_dump() for p in body.parts]
    with transaction() as session:
        if body.dry:
            row = drive_row(session, path.drive_id)
            return partitions_out(session, row, body.scheme, wanted_of(rows), session.get(PartitionPlan, row.id))
        row, plan = keep_plan(session, path.drive_id, body.scheme, rows, signed_in().name)
        return partitions_out(session, row, plan.scheme, wanted_of(plan.parts), plan)


@api.get("/drives/<int:drive_id>/partitions/image")
@needs(Act.LOOK)
def image(path: DrivePath) -> Any:
    """The drive's table as a sparse image inside a tar archive: true sector addresses, nothing scaled."""
    with transaction() as session:
        row = drive_row(session, path.drive_id)
        plan = session.get(PartitionPlan, row.id)
        if plan is None:
            raise NotPossible("No partitions are planned for this drive.", code="nothing-pending")
        table = table_of(row, plan.scheme, wanted_of(plan.parts))
        packed = tar_of(f"{file_name(row.serial)}.img", row.size, image_chunks(table, plan.disk_id))
    return Response(packed, content_type="application/x-tar",
                    headers={"Content-Disposition": f'attachment; filename="{file_name(row.serial)}.tar"'})  # fmt: skip
