"""A path of larger drives kept, and left."""

from __future__ import annotations

from sqlmodel import Session, col, select

from pairshelf.core.changes.pools.larger_drives import ReplaceLargerPlan
from pairshelf.core.changes.pools.leave_path import LeavePathPlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.store.tables import GrowthPathRow, SheetRow, now


def apply(session: Session, _sheet: SheetRow, planned: ReplaceLargerPlan, who: str, _world: Devices) -> Outcome:
    """The path is kept; its steps are sheets of their own."""
    steps = [[s.slot, s.drive.id, False] for s in planned.steps]
    session.add(GrowthPathRow(pool_id=planned.pool.id, steps=steps, made_by=who))
    session.flush()
    return Outcome(planned.pool.id)


def leave(session: Session, _sheet: SheetRow, planned: LeavePathPlan, _who: str, _world: Devices) -> Outcome:
    """No further step of it is asked for."""
    for path in session.exec(
        select(GrowthPathRow).where(GrowthPathRow.pool_id == planned.pool.id, col(GrowthPathRow.ended_at).is_(None))
    ):
        path.ended_at = now()
    session.flush()
    return Outcome(planned.pool.id)
