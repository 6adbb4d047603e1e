"""What was deleted on thin volumes given back to their pool."""

from __future__ import annotations

from sqlmodel import Session, col, select

from pairshelf.core.changes.pools.reclaim import ReclaimPlan
from pairshelf.core.domain.device import Devices
from pairshelf.core.layouts.allocation import gaps, spans
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.io.files import remove_files
from pairshelf.engine.io.volume_io import give_back, pieces_of
from pairshelf.engine.pools import open_pool
from pairshelf.store.tables import SampleFile, SheetRow, VolumeRow


def apply(session: Session, _sheet: SheetRow, planned: ReclaimPlan, _who: str, _world: Devices) -> Outcome:
    """Bins emptied, and every extent taken back on which no file stands."""
    pool = open_pool(session, planned.pool.id)
    for volume_id in planned.emptied:
        binned = select(SampleFile).where(SampleFile.volume_id == volume_id, col(SampleFile.deleted_at).is_not(None))
        remove_files(session, pool, session.get_one(VolumeRow, volume_id), session.exec(binned).all())
    for volume_id in planned.volumes:
        volume = session.get_one(VolumeRow, volume_id)
        give_back(session, pool, volume, idle(session, volume))
    return Outcome(pool.row.id)


def idle(session: Session, volume: VolumeRow) -> list[tuple[int, int]]:
    """Stretches (extent of the volume, extents) that it was given and no file stands on."""
    files = session.exec(select(SampleFile.first, SampleFile.extents).where(SampleFile.volume_id == volume.id)).all()
    pieces = pieces_of(session, volume.number)
    return [(at, n) for first, count in gaps(volume.extents, files) for at, _, n in spans(pieces, first, count)]
