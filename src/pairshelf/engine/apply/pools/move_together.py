"""What is in a pool moved together."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.pools.move_together import MoveTogetherPlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.jobs.move_together import start_moving
from pairshelf.engine.pools import open_pool
from pairshelf.store.tables import SheetRow


def apply(session: Session, sheet: SheetRow, planned: MoveTogetherPlan, who: str, _world: Devices) -> Outcome:
    """Begin to move."""
    pool = open_pool(session, planned.pool.id)
    start_moving(session, pool, planned.extents, who, sheet.id)
    return Outcome(pool.row.id)
