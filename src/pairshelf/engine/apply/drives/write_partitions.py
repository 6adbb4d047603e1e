"""Partitions written."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.drives.write_partitions import PartitionsPlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.errands import on_drive, send
from pairshelf.store.tables import DriveRow, PartitionPlan, SheetRow, now


def apply(session: Session, sheet: SheetRow, planned: PartitionsPlan, who: str, _world: Devices) -> Outcome:
    """What was pending is what the drive has; what it held before is given up."""
    row = session.get(PartitionPlan, planned.drive.id, with_for_update=True)
    drive = session.get(DriveRow, planned.drive.id)
    assert row is not None and drive is not None
    send(session, "write-label", on_drive(drive.serial), sheet.id, serial=drive.serial, size=drive.size,
         label={"partitions": len(planned.table.parts)})  # fmt: skip
    row.written, row.changed_by, row.changed_at = list(row.parts), who, now()
    drive.holds = f"{len(planned.table.parts)} partitions of its own"
    return Outcome()
