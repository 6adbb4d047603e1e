"""A volume deleted."""

from __future__ import annotations

from sqlalchemy import delete as sql_delete
from sqlmodel import Session, col, select

from pairshelf.core.changes.volumes.volume_plan import VolumePlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.apply.volumes.open_volume import opened
from pairshelf.engine.io.volume_io import delete_volume
from pairshelf.engine.jobs.starting import meet
from pairshelf.engine.partition_tables import keep_table
from pairshelf.store.tables import BackupRow, JobRow, KeepRule, SheetRow


def apply(session: Session, sheet: SheetRow, planned: VolumePlan, _who: str, _world: Devices) -> Outcome:
    """The volume with its files; its capacity is free again."""
    pool, volume = opened(session, planned)
    meet(session, pool.row.id, "delete-volume", volume_id=volume.id)
    for job in session.exec(select(JobRow).where(JobRow.volume_id == volume.id)):
        job.report = {**job.report, "volume": volume.name}
        job.volume_id = None
    session.connection().execute(sql_delete(KeepRule).where(col(KeepRule.volume_id) == volume.id))
    session.connection().execute(sql_delete(BackupRow).where(col(BackupRow.volume_id) == volume.id))
    session.flush()
    delete_volume(session, pool, volume)
    if planned.table is not None:
        keep_table(session, pool.row.number, planned.table, sheet.id)
    return Outcome(pool.row.id)
