"""A volume begins to move to another pool; or stays after all."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.volumes.leave_move import LeaveMovePlan
from pairshelf.core.changes.volumes.move_volume import MoveVolumePlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.jobs.move_volume import drop_copy, start_move
from pairshelf.engine.jobs.starting import end_unfinished, open_jobs
from pairshelf.engine.pools import open_pool
from pairshelf.store.tables import SheetRow, VolumeRow


def apply(session: Session, sheet: SheetRow, planned: MoveVolumePlan, who: str, world: Devices) -> Outcome:
    """Its place in the other pool is taken, and the copying begins."""
    pools = {number: open_pool(session, number) for number in sorted((planned.source.id, planned.target.id))}
    volume = session.get_one(VolumeRow, planned.volume.id)
    start_move(
        session, pools[planned.source.id], pools[planned.target.id], volume, planned.spec, world, by_files=planned.by_files,
        keep=planned.keep, seconds=planned.seconds, who=who, sheet_id=sheet.id,
    )  # fmt: skip
    return Outcome(planned.source.id)


def leave(session: Session, _sheet: SheetRow, planned: LeaveMovePlan, _who: str, _world: Devices) -> Outcome:
    """The copy goes."""
    volume = session.get_one(VolumeRow, planned.volume.id)
    for job in open_jobs(session, volume.pool_id):
        if job.kind == "move-volume" and job.volume_id == volume.id:
            end_unfinished(job, "the moving was left off")
            drop_copy(session, volume)
    return Outcome(volume.pool_id)
