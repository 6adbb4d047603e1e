"""Volumes made, renamed, resized, given a new file system, checked, deleted."""

from __future__ import annotations

import uuid

from sqlalchemy import delete as sql_delete
from sqlmodel import Session, col, select

from pairshelf.core.changes import volumes as plans
from pairshelf.core.device import Devices
from pairshelf.core.errors import NotPossible
from pairshelf.core.file_systems import overhead
from pairshelf.engine.doing.access import write_mount
from pairshelf.engine.doing.outcome import Outcome
from pairshelf.engine.jobs import start_reading, start_volume_sync
from pairshelf.engine.pools import OpenPool, open_pool
from pairshelf.engine.volumes import delete_volume, give_back, make_volume, pieces_of, place
from pairshelf.store.tables import BackupRow, JobRow, JobState, KeepRule, SampleFile, SheetRow, VolumeRow


def make(session: Session, sheet: SheetRow, planned: plans.MakePlan, who: str, _world: Devices) -> Outcome:
    """All the volumes, or none."""
    pool = open_pool(session, planned.pool.id)
    mounts = planned.mounts or (None,) * len(planned.specs)
    for spec, mount in zip(planned.specs, mounts, strict=True):
        volume = make_volume(session, pool, spec)
        if mount is not None:
            write_mount(session, mount, volume, sheet.id)
        start_volume_sync(session, pool, volume, who, sheet.id)
    return Outcome(planned.pool.id)


def _opened(session: Session, planned: plans.VolumePlan) -> tuple[OpenPool, VolumeRow]:
    volume = session.get(VolumeRow, planned.volume.id)
    assert volume is not None
    return open_pool(session, volume.pool_id), volume


def rename(session: Session, _sheet: SheetRow, planned: plans.VolumePlan, _who: str, _world: Devices) -> Outcome:
    """Another name in the books."""
    pool, volume = _opened(session, planned)
    volume.name = planned.after.name
    return Outcome(pool.row.id)


def _idle(session: Session, volume: VolumeRow) -> None:
    """NotPossible while a job works on the volume."""
    query = select(JobRow.id).where(
        JobRow.volume_id == volume.id, col(JobRow.state).not_in((JobState.DONE, JobState.FAILED))
    )
    if session.exec(query).first() is not None:
        raise NotPossible("A job works on this volume; wait for it, or pause and end it first.", code="busy")


def resize(session: Session, sheet: SheetRow, planned: plans.VolumePlan, who: str, _world: Devices) -> Outcome:
    """More extents from the pool, or those at the end given back."""
    pool, volume = _opened(session, planned)
    _idle(session, volume)
    before = volume.extents
    after = planned.after
    if after.extents < before:
        _no_file_beyond(session, volume, after.extents)
        give_back(session, pool, volume, after.extents, before - after.extents)
    volume.size, volume.extents = after.size, after.extents
    # What the file system holds stands at its start and does not move; files stay where they are.
    volume.overhead = overhead(volume.file_system, volume.size, volume.reserved_share)
    session.flush()
    if after.extents > before and not volume.thin:
        placed = sum(p.count for p in pieces_of(session, volume.id or 0))
        place(session, pool, volume, before, after.extents - placed)
        start_volume_sync(session, pool, volume, who, sheet.id)
    return Outcome(pool.row.id)


def _no_file_beyond(session: Session, volume: VolumeRow, extents: int) -> None:
    query = select(SampleFile.name).where(
        SampleFile.volume_id == volume.id, SampleFile.first + SampleFile.extents > extents
    )
    if (name := session.exec(query).first()) is not None:
        raise NotPossible(f"File {name} lies beyond the new end.", code="file-beyond")


def reformat(session: Session, _sheet: SheetRow, planned: plans.VolumePlan, _who: str, _world: Devices) -> Outcome:
    """An empty file system with a UUID of its own."""
    pool, volume = _opened(session, planned)
    _idle(session, volume)
    session.connection().execute(sql_delete(SampleFile).where(col(SampleFile.volume_id) == volume.id))
    if volume.thin:
        give_back(session, pool, volume, 0, volume.extents)
    after = planned.after
    volume.file_system, volume.reserved_share, volume.overhead = after.file_system, after.reserved_share, after.overhead
    volume.uuid = str(uuid.uuid4())
    return Outcome(pool.row.id)


def check_files(session: Session, sheet: SheetRow, planned: plans.VolumePlan, who: str, _world: Devices) -> Outcome:
    """Start reading everything on it."""
    pool, volume = _opened(session, planned)
    start_reading(session, pool, volume, who, kind="check-files", sheet_id=sheet.id)
    return Outcome(pool.row.id)


def delete(session: Session, _sheet: SheetRow, planned: plans.VolumePlan, _who: str, _world: Devices) -> Outcome:
    """The volume with its files; its capacity is free again."""
    pool, volume = _opened(session, planned)
    _idle(session, volume)
    for job in session.exec(select(JobRow).where(JobRow.volume_id == volume.id)):
        job.report = {**job.report, "volume": volume.name}
        job.volume_id = None
    session.connection().execute(sql_delete(KeepRule).where(col(KeepRule.volume_id) == volume.id))
    session.connection().execute(sql_delete(BackupRow).where(col(BackupRow.volume_id) == volume.id))
    session.flush()
    delete_volume(session, pool, volume)
    return Outcome(pool.row.id)
