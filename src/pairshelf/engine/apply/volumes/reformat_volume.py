"""A new file system."""

from __future__ import annotations

import uuid

from sqlalchemy import delete as sql_delete
from sqlmodel import Session, col

from pairshelf.core.changes.volumes.volume_plan import VolumePlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.apply.volumes.open_volume import opened
from pairshelf.engine.io.volume_io import give_back
from pairshelf.engine.jobs.starting import meet
from pairshelf.store.tables import SampleFile, SheetRow


def apply(session: Session, _sheet: SheetRow, planned: VolumePlan, _who: str, _world: Devices) -> Outcome:
    """An empty file system with a UUID of its own."""
    pool, volume = opened(session, planned)
    meet(session, pool.row.id, "reformat-volume", volume_id=volume.id)
    session.connection().execute(sql_delete(SampleFile).where(col(SampleFile.volume_id) == volume.id))
    if volume.thin:
        give_back(session, pool, volume, [(0, volume.extents)])
    after = planned.after
    volume.file_system, volume.reserved_share, volume.overhead = after.file_system, after.reserved_share, after.overhead
    volume.uuid = str(uuid.uuid4())
    return Outcome(pool.row.id)
