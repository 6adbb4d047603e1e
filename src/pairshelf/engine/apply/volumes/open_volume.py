"""What all changes of one volume do first."""

from __future__ import annotations

from sqlmodel import Session, col, select

from pairshelf.core.changes.volumes.volume_plan import VolumePlan
from pairshelf.core.errors import NotPossible
from pairshelf.engine.pools import OpenPool, open_pool
from pairshelf.store.tables import JobRow, JobState, VolumeRow


def opened(session: Session, planned: VolumePlan) -> tuple[OpenPool, VolumeRow]:
    volume = session.get(VolumeRow, planned.volume.id)
    assert volume is not None
    return open_pool(session, volume.pool_id), volume


def require_idle(session: Session, volume: VolumeRow) -> None:
    """NotPossible while a job works on the volume."""
    query = select(JobRow.id).where(
        JobRow.volume_id == volume.id, col(JobRow.state).not_in((JobState.DONE, JobState.FAILED))
    )
    if session.exec(query).first() is not None:
        raise NotPossible("A job works on this volume; wait for it, or pause and end it first.", code="busy")
