"""Partitions of a drive: those it has, and those planned, which stay pending until their sheet is approved."""

from __future__ import annotations

from dataclasses import dataclass

from sqlmodel import Session

from pairshelf.core.domain.estate import EstateDrive
from pairshelf.core.domain.partitions import Part, Table, WantedPartition, lay_out, wanted_of
from pairshelf.core.errors import BadInput, NotFound, NotPossible
from pairshelf.engine.partition_tables import table_on
from pairshelf.engine.pools import devices
from pairshelf.formats.partition_image import Chunks, disk_id_of, image_chunks
from pairshelf.store.repositories.drives_and_pools import load_drives, written_table
from pairshelf.store.tables import DriveRow, PartitionPlan, now

#: Bytes of a sector where the inventory does not say.
USUAL_SECTOR = 512


@dataclass(frozen=True, slots=True)
class Partitioned:
    """A drive with what is planned for it."""

    row: DriveRow
    drive: EstateDrive
    plan: PartitionPlan | None
    #: As it stands on the drive; None where there is none, or it does not answer.
    on_drive: Table | None

    @property
    def there(self) -> tuple[Part, ...]:
        """Partitions in use, which stay where they are."""
        return written_table(self.plan, self.row.size).parts if self.plan and self.plan.pool_id else ()

    @property
    def why_not(self) -> str | None:
        """Why it cannot be partitioned, or None if it can."""
        if self.drive.partitioned:
            return {"failed": "It has failed.", "missing": "It is not in a bay."}.get(self.drive.condition)
        return self.drive.why_not_offered()

    @property
    def scheme(self) -> str:
        """The kind of table: as planned, as it stands on the drive, or the usual."""
        if self.plan is not None:
            return self.plan.scheme
        return self.on_drive.scheme if self.on_drive else "gpt"

    @property
    def wanted(self) -> tuple[WantedPartition, ...]:
        """What is planned and not written yet."""
        return wanted_of(self.plan.parts) if self.plan else ()

    @property
    def state(self) -> str:
        """What is said of the partitions as they stand."""
        if self.wanted:
            return "Pending: nothing of it has been written to the drive."
        if self.drive.partitioned:
            if not self.there:
                return "No partition is left on the drive: make others, or give it back."
            if self.on_drive is None and self.drive.condition not in ("good", "failing"):
                return "The drive does not answer; these are its partitions as they were written."
            if self.on_drive is None or self.on_drive.parts != self.there:
                return "This table is still to be written onto the drive; it is tried again by itself."
            return "The drive is in use by these partitions."
        if self.on_drive is None:
            return "No partition table stands on the drive, and nothing is planned."
        return "This table stands on the drive; it has been read from it just now."

    def image(self) -> Chunks:
        """The table as bytes at true addresses: what is planned, or what stands on the drive."""
        if not self.wanted and not self.drive.partitioned and self.on_drive is None:
            raise NotPossible("No partitions are planned for this drive.", code="nothing-pending")
        return image_chunks(self.laid_out(self.scheme, self.wanted), disk_id_of(self.row.serial))

    def laid_out(self, scheme: str, wanted: tuple[WantedPartition, ...]) -> Table:
        """The table with what is wanted; BadInput at the field of the one that does not fit."""
        if self.plan and self.plan.pool_id and scheme != self.plan.scheme:
            raise BadInput("The drive has partitions in use under the other kind of table.", field="scheme")
        if not wanted and not self.drive.partitioned and self.on_drive is not None and self.on_drive.scheme == scheme:
            return self.on_drive
        return lay_out(self.row.size, self.row.sector_size or USUAL_SECTOR, scheme, wanted, self.there)


def partitions_of(session: Session, drive_id: int) -> Partitioned:
    """A drive, what is planned for it, and the table that stands on it."""
    row = session.get(DriveRow, drive_id)
    if row is None:
        raise NotFound("drive")
    (drive,) = load_drives(session, [row.number])
    return Partitioned(row, drive, session.get(PartitionPlan, row.id), _on_drive(row))


def _on_drive(row: DriveRow) -> Table | None:
    sector = row.sector_size or USUAL_SECTOR
    return table_on(devices().open(row.serial, row.size), row.size, sector, starts_host=row.starts_host)


def keep_plan(session: Session, drive_id: int, scheme: str, rows: list[dict[str, str]], who: str) -> Partitioned:
    """Keep partitions as pending; BadInput at the field of the one that does not fit."""
    found = partitions_of(session, drive_id)
    table = found.laid_out(scheme, wanted_of(rows))
    if reason := found.why_not:
        raise NotPossible(f"{found.drive.named}: {reason}", code="drive-not-free")
    row = found.row
    plan = session.get(PartitionPlan, row.id, with_for_update=True)
    if plan is None:
        plan = PartitionPlan(
            drive_id=row.number, scheme=scheme, sector=table.sector, disk_id=disk_id_of(row.serial), changed_by=who
        )
        session.add(plan)
    plan.scheme, plan.parts, plan.changed_by, plan.changed_at = scheme, rows, who, now()
    session.flush()
    return Partitioned(row, found.drive, plan, found.on_drive)
