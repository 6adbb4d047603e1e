"""Drives begin to stand by."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.pools.add_spares import AddSparesPlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.observe import bring_in_spares
from pairshelf.engine.pools import open_pool
from pairshelf.engine.relayout import stand_by
from pairshelf.store.tables import DriveRow, SheetRow


def apply(session: Session, _sheet: SheetRow, planned: AddSparesPlan, _who: str, world: Devices) -> Outcome:
    """They stand by; where a drive has failed already, one takes its place at once."""
    pool = open_pool(session, planned.pool.id)
    for one in planned.drives:
        drive = session.get_one(DriveRow, one.id)
        world.open(drive.serial, drive.size).read(0, 1)
        stand_by(session, pool, drive, planned.spares_for)
    bring_in_spares(session, pool)
    return Outcome(pool.row.id)
