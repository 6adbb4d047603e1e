"""A spread pool evened out."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.pools.even_out import EvenOutPlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.jobs.even_out import start_evening
from pairshelf.engine.pools import open_pool
from pairshelf.store.tables import SheetRow


def apply(session: Session, sheet: SheetRow, planned: EvenOutPlan, who: str, _world: Devices) -> Outcome:
    """Begin to move."""
    pool = open_pool(session, planned.pool.id)
    start_evening(session, pool, who, sheet.id)
    return Outcome(pool.row.id)
