"""A volume extended or shrunk."""

from __future__ import annotations

from sqlmodel import Session, select

from pairshelf.core.changes.volumes.volume_plan import VolumePlan
from pairshelf.core.domain.device import Devices
from pairshelf.core.domain.file_systems import overhead
from pairshelf.core.errors import NotPossible
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.apply.volumes.open_volume import opened
from pairshelf.engine.io.volume_io import give_back, pieces_of, place
from pairshelf.engine.jobs.first_sync import start_volume_sync
from pairshelf.engine.jobs.starting import meet
from pairshelf.store.tables import SampleFile, SheetRow, VolumeRow


def apply(session: Session, sheet: SheetRow, planned: VolumePlan, who: str, _world: Devices) -> Outcome:
    """More extents from the pool, or those at the end given back."""
    pool, volume = opened(session, planned)
    meet(session, pool.row.id, "resize-volume", volume_id=volume.id)
    before = volume.extents
    after = planned.after
    if after.extents < before:
        _no_file_beyond(session, volume, after.extents)
        give_back(session, pool, volume, [(after.extents, before - after.extents)])
    volume.size, volume.extents = after.size, after.extents
    # What the file system holds stands at its start and does not move; files stay where they are.
    volume.overhead = overhead(volume.file_system, volume.size, volume.reserved_share)
    session.flush()
    if after.extents > before and not volume.thin:
        placed = sum(p.count for p in pieces_of(session, volume.number))
        place(session, pool, volume, before, after.extents - placed)
        start_volume_sync(session, pool, volume, who, sheet.id)
    return Outcome(pool.row.id)


def _no_file_beyond(session: Session, volume: VolumeRow, extents: int) -> None:
    query = select(SampleFile.name).where(
        SampleFile.volume_id == volume.id, SampleFile.first + SampleFile.extents > extents
    )
    if (name := session.exec(query).first()) is not None:
        raise NotPossible(f"File {name} lies beyond the new end.", code="file-beyond")
