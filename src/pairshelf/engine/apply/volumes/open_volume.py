"""What all changes of one volume do first."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.volumes.volume_plan import VolumePlan
from pairshelf.engine.pools import OpenPool, open_pool
from pairshelf.store.tables import VolumeRow


def opened(session: Session, planned: VolumePlan) -> tuple[OpenPool, VolumeRow]:
    """The volume of a sheet, and its pool, held."""
    volume = session.get(VolumeRow, planned.volume.id)
    assert volume is not None
    return open_pool(session, volume.pool_id), volume
