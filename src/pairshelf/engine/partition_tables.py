"""The partition table of a drive that is divided: as the books have it, and as it stands on the drive."""

from __future__ import annotations

from dataclasses import asdict

from sqlmodel import Session, select

from pairshelf.core.domain.device import Device, DeviceError
from pairshelf.core.domain.partitions import Table, Wanted, lay_out
from pairshelf.core.domain.units import GIB
from pairshelf.engine.errands import on_drive, send
from pairshelf.formats.partition_image import disk_id_of, image_chunks, read_table
from pairshelf.store.tables import DriveRow, PartitionPlan, now

#: What a simulated drive that a host starts from has on it when it first comes into view.
_SYSTEM = (Wanted("512MiB", "start", "start"), Wanted("4GiB", "swap", "memory"), Wanted("all", "data", "system"))


def table_on(device: Device, size: int, sector: int, *, starts_host: bool) -> Table | None:
    """The table that stands on a drive; None where there is none, or it does not answer."""
    try:
        found = read_table(device.read_sectors, size, sector)
        if found is None and starts_host:
            found = lay_out(size, sector, "gpt", _SYSTEM if size > 8 * GIB else _SYSTEM[-1:])
            device.write_sectors(image_chunks(found, disk_id_of(device.serial)))
    except (DeviceError, OSError):
        return None
    return found


def keep_table(session: Session, pool_id: int, table: Table, sheet_id: int | None) -> None:
    """The table as it is from now on; it is written onto the drive after the commit."""
    row = session.exec(select(PartitionPlan).where(PartitionPlan.pool_id == pool_id).with_for_update()).one()
    drive = session.get(DriveRow, row.drive_id)
    assert drive is not None
    row.scheme, row.sector, row.changed_at = table.scheme, table.sector, now()
    row.written = [asdict(p) for p in table.parts]
    send_table(session, drive, table, sheet_id)


def send_table(session: Session, drive: DriveRow, table: Table, sheet_id: int | None) -> None:
    """Have a table written onto a drive."""
    send(session, "write-table", on_drive(drive.serial), sheet_id, serial=drive.serial, size=drive.size,
         scheme=table.scheme, sector=table.sector, parts=[asdict(p) for p in table.parts])  # fmt: skip
