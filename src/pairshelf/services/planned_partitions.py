"""Partitions planned for a drive without a pool; they stay pending until their sheet is approved."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.domain.partitions import Table, Wanted, lay_out, wanted_of
from pairshelf.core.errors import NotFound, NotPossible
from pairshelf.formats.partition_image import disk_id_of
from pairshelf.store.repositories.drives_and_pools import load_drives
from pairshelf.store.tables import DriveRow, PartitionPlan, now

#: Bytes of a sector where the inventory does not say.
USUAL_SECTOR = 512


def drive_row(session: Session, drive_id: int) -> DriveRow:
    row = session.get(DriveRow, drive_id)
    if row is None:
        raise NotFound("drive")
    return row


def table_of(row: DriveRow, scheme: str, wanted: tuple[Wanted, ...]) -> Table:
    return lay_out(row.size, row.sector_size or USUAL_SECTOR, scheme, wanted)


def keep_plan(
    session: Session, drive_id: int, scheme: str, rows: list[dict[str, str]], who: str
) -> tuple[DriveRow, PartitionPlan]:
    """Keep partitions as pending; BadInput at the field of the one that does not fit."""
    row = drive_row(session, drive_id)
    wanted = wanted_of(rows)
    table = table_of(row, scheme, wanted)
    (drive,) = load_drives(session, [row.number])
    if reason := drive.why_not_offered():
        raise NotPossible(f"{drive.place} ({drive.serial}): {reason}", code="drive-not-free")
    plan = session.get(PartitionPlan, row.id, with_for_update=True)
    if plan is None:
        plan = PartitionPlan(
            drive_id=row.number, scheme=scheme, sector=table.sector, disk_id=disk_id_of(row.serial), changed_by=who
        )
        session.add(plan)
    plan.scheme, plan.parts, plan.changed_by, plan.changed_at = scheme, rows, who, now()
    session.flush()
    return row, plan
