"""The share that is held back of flash drives, and what a pool gets of it."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.drives.hold_back import HoldBackPlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.growing import begin
from pairshelf.engine.pools import open_pool
from pairshelf.store.tables import DriveRow, SheetRow


def apply(session: Session, sheet: SheetRow, planned: HoldBackPlan, who: str, world: Devices) -> Outcome:
    """The share is noted; a pool whose members give some back goes to the layout that has it."""
    for drive in planned.drives:
        row = session.get(DriveRow, drive.id)
        assert row is not None
        row.held_share = planned.share
    session.flush()
    if planned.pool is None or planned.after is None:
        return Outcome()
    pool = open_pool(session, planned.pool.id)
    begin(session, pool, planned.after, {}, who, sheet.id, world)
    return Outcome(planned.pool.id)
