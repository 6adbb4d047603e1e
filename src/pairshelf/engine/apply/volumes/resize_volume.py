"""A volume extended or shrunk."""

from __future__ import annotations

from sqlalchemy import delete
from sqlmodel import Session, col, select

from pairshelf.core.changes.volumes.volume_plan import VolumePlan
from pairshelf.core.domain.device import Devices
from pairshelf.core.domain.file_systems import overhead
from pairshelf.core.domain.partitions import Table
from pairshelf.core.errors import NotPossible
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.apply.volumes.open_volume import opened
from pairshelf.engine.io.volume_io import give_back, pieces_of, place
from pairshelf.engine.jobs.first_sync import start_volume_sync
from pairshelf.engine.jobs.starting import meet
from pairshelf.engine.partition_tables import keep_table
from pairshelf.store.tables import DriveRow, PoolPlace, SampleFile, SheetRow, VolumePiece, VolumeRow


def apply(session: Session, sheet: SheetRow, planned: VolumePlan, who: str, _world: Devices) -> Outcome:
    """More extents from the pool, or those at the end given back."""
    pool, volume = opened(session, planned)
    meet(session, pool.row.id, "resize-volume", volume_id=volume.id)
    before = volume.extents
    after = planned.after
    if after.extents < before:
        _no_file_beyond(session, volume, after.extents)
    if after.extents < before and planned.table is None:
        give_back(session, pool, volume, [(after.extents, before - after.extents)])
    volume.size, volume.extents = after.size, after.extents
    # What the file system holds stands at its start and does not move; files stay where they are.
    volume.overhead = overhead(volume.file_system, volume.size, volume.reserved_share)
    session.flush()
    if planned.table is not None:
        _move_the_end(session, volume, planned.table, after.extents)
        keep_table(session, pool.row.number, planned.table, sheet.id)
    elif after.extents > before and not volume.thin:
        placed = sum(p.count for p in pieces_of(session, volume.number))
        place(session, pool, volume, before, after.extents - placed)
        start_volume_sync(session, pool, volume, who, sheet.id)
    return Outcome(pool.row.id)


def _move_the_end(session: Session, volume: VolumeRow, table: Table, extents: int) -> None:
    """A partition lies in one piece; where it begins stays."""
    assert volume.partition is not None
    drive = select(DriveRow.size).join(PoolPlace, col(PoolPlace.drive_id) == DriveRow.id)
    size = session.exec(drive.where(PoolPlace.pool_id == volume.pool_id)).one()
    first, _ = table.part(volume.partition).extents(table.sector, size)
    session.connection().execute(delete(VolumePiece).where(col(VolumePiece.volume_id) == volume.id))
    if extents:
        session.add(VolumePiece(pool_id=volume.pool_id, volume_id=volume.number, at=0, first=first, count=extents))
    session.flush()


def _no_file_beyond(session: Session, volume: VolumeRow, extents: int) -> None:
    query = select(SampleFile.name).where(
        SampleFile.volume_id == volume.id, SampleFile.first + SampleFile.extents > extents
    )
    if (name := session.exec(query).first()) is not None:
        raise NotPossible(f"File {name} lies beyond the new end.", code="file-beyond")
