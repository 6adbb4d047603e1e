"""The partition table of a drive that is divided: as the books have it, and as it stands on the drive."""

from __future__ import annotations

from dataclasses import asdict

from sqlalchemy import update
from sqlmodel import Session, col, select

from pairshelf.core.changes.drives.write_partitions import name_of_divided
from pairshelf.core.domain.device import Device, DeviceError
from pairshelf.core.domain.partitions import Part, Table, WantedPartition, lay_out, table_of_parts
from pairshelf.core.domain.units import GIB
from pairshelf.engine.errands import on_drive, send
from pairshelf.engine.pools import OpenPool
from pairshelf.formats.partition_image import disk_id_of, image_chunks, read_table
from pairshelf.store.tables import DriveRow, PartitionPlan, PoolRow, now

#: What a simulated drive that a host starts from has on it when it first comes into view.
_SYSTEM = (
    WantedPartition("512MiB", "start", "start"),
    WantedPartition("4GiB", "swap", "memory"),
    WantedPartition("all", "data", "system"),
)


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


def table_follows(session: Session, pool: OpenPool, drive: DriveRow, sheet_id: int | None) -> None:
    """A drive that is divided has handed over to another: that has its table from now on, and gives it its name."""
    row = session.exec(select(PartitionPlan).where(PartitionPlan.pool_id == pool.row.id).with_for_update()).first()
    if row is None:
        return
    if (pending := session.get(PartitionPlan, drive.id)) is not None:
        session.delete(pending)
        session.flush()
    parts = [Part(**p) for p in row.written or ()]
    table = table_of_parts(drive.size, row.sector, row.scheme, parts)
    session.expunge(row)  # It is another drive's from now on, and known by that.
    connection = session.connection()
    connection.execute(update(PartitionPlan).where(col(PartitionPlan.pool_id) == pool.row.id).values(drive_id=drive.id))
    taken = {name.lower() for name in session.exec(select(PoolRow.name)) if name != pool.row.name}
    pool.row.name = name_of_divided(drive.serial, drive.number, taken)
    send_table(session, drive, table, sheet_id)


def send_table(session: Session, drive: DriveRow, table: Table, sheet_id: int | None) -> None:
    """Have a table written onto a drive."""
    send(session, "write-table", on_drive(drive.serial), sheet_id, serial=drive.serial, size=drive.size,
         scheme=table.scheme, sector=table.sector, parts=[asdict(p) for p in table.parts])  # fmt: skip
