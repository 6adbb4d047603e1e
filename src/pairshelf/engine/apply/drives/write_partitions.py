"""Partitions written: the drive is a pool by itself, and they are its volumes."""

from __future__ import annotations

from sqlalchemy import delete, update
from sqlmodel import Session, col, select

from pairshelf.core.changes.drives.write_partitions import PartitionsPlan
from pairshelf.core.domain.device import Devices
from pairshelf.core.errors import Busy
from pairshelf.core.figures.survival import PoolState
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.apply.pools.build_pool import new_tint
from pairshelf.engine.errands import on_drive, on_journal, send
from pairshelf.engine.io.volume_io import add_volume
from pairshelf.engine.jobs.starting import open_jobs
from pairshelf.engine.partition_tables import keep_table, send_table
from pairshelf.engine.pools import into_service, label_of, open_pool
from pairshelf.store.tables import (
    BackupRow,
    DriveRow,
    JobRow,
    MissedWrite,
    PartitionPlan,
    PoolPlace,
    PoolRow,
    Service,
    SheetRow,
    VolumePiece,
)


def apply(session: Session, sheet: SheetRow, planned: PartitionsPlan, who: str, _world: Devices) -> Outcome:
    """The table is written after the commit; new partitions are volumes at once."""
    row = session.get(PartitionPlan, planned.drive.id, with_for_update=True)
    drive = session.get(DriveRow, planned.drive.id)
    if planned.pool is not None and not planned.table.parts:
        return _give_back(session, sheet, planned)
    assert row is not None and drive is not None
    if planned.pool is None:
        pool = _become_a_pool(session, drive, planned, sheet)
        row.pool_id = pool.number
    else:
        pool = open_pool(session, planned.pool.id).row
    for number, spec in planned.volumes:
        volume = add_volume(session, pool.number, spec, partition=number)
        first, count = planned.table.part(number).extents(planned.table.sector, drive.size)
        if count:
            session.add(VolumePiece(pool_id=pool.number, volume_id=volume.number, at=0, first=first, count=count))
    row.parts, row.changed_by = [], who
    keep_table(session, pool.number, planned.table, sheet.id)
    return Outcome(pool.number)


def _become_a_pool(session: Session, drive: DriveRow, planned: PartitionsPlan, sheet: SheetRow) -> PoolRow:
    as_drive = planned.drive.as_drive
    pool = PoolRow(name=planned.name, scheme="single", sets=1, capacity=as_drive.extents,
                   synced_to=as_drive.extents, tint=new_tint(session))  # fmt: skip
    session.add(pool)
    session.flush()
    session.add(PoolPlace(
        pool_id=pool.number, slot=0, size=drive.size, rate=as_drive.rate, kind=drive.kind, shelf=as_drive.shelf,
        link=as_drive.link, host=as_drive.host, site=as_drive.site, drive_id=drive.id,
    ))  # fmt: skip
    into_service(drive, pool)
    session.flush()
    send(session, "write-label", on_drive(drive.serial), sheet.id, serial=drive.serial, size=drive.size,
         label=label_of(pool, 0))  # fmt: skip
    return pool


def _give_back(session: Session, sheet: SheetRow, planned: PartitionsPlan) -> Outcome:
    """The drive is free again; what is told of the pool it was stays in the logbook."""
    assert planned.pool is not None
    pool = open_pool(session, planned.pool.id)
    drive = session.get(DriveRow, planned.drive.id)
    assert drive is not None
    if pool.row.state not in (PoolState.LOST, PoolState.UNREACHABLE):
        send_table(session, drive, planned.table, sheet.id)
    number = pool.row.number
    if jobs := open_jobs(session, number):
        raise Busy(
            "Something is still being done on it; wait for it, or end it, first.",
            code="busy",
            job=jobs[0].id,
            kind=jobs[0].kind,
        )
    absent = select(PoolPlace.id).where(PoolPlace.pool_id == number)
    session.connection().execute(delete(MissedWrite).where(col(MissedWrite.place_id).in_(absent)))
    session.connection().execute(update(SheetRow).where(col(SheetRow.pool_id) == number).values(pool_id=None))
    for table in (JobRow, BackupRow, PartitionPlan, PoolPlace):
        session.connection().execute(delete(table).where(col(table.pool_id) == number))
    send(session, "forget-journal", on_journal(pool.row.uid), sheet.id, uid=pool.row.uid, pool=pool.row.name)
    session.delete(pool.row)
    drive.service, drive.holds = Service.FREE, "old data of its partitions, readable"
    session.flush()
    return Outcome()
