"""Drives that a pool does not need leave it."""

from __future__ import annotations

from sqlmodel import Session, col, select

from pairshelf.core.changes.pools.take_out import TakeOutPlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.jobs.starting import meet
from pairshelf.engine.pools import open_io, open_pool
from pairshelf.engine.relayout import drop, let_spares_go
from pairshelf.store.tables import SheetRow, VolumePiece


def apply(session: Session, sheet: SheetRow, planned: TakeOutPlan, _who: str, world: Devices) -> Outcome:
    """Spares go; empty sets go, and the addresses behind theirs move up: what stands there stays where it is."""
    pool = open_pool(session, planned.pool.id)
    ids = {d.id for d in planned.spares}
    let_spares_go(session, pool, ids)
    if not planned.slots:
        return Outcome(pool.row.id)
    meet(session, pool.row.id, "add-sets")
    open_io(session, pool, world)
    for start, count in sorted(planned.gone, reverse=True):
        behind = select(VolumePiece).where(VolumePiece.pool_id == pool.row.id, VolumePiece.first >= start + count)
        for piece in session.exec(behind.order_by(col(VolumePiece.first))):
            piece.first -= count
            session.flush()
    drop(session, pool, planned.slots, planned.after, sheet.id)
    return Outcome(pool.row.id)
