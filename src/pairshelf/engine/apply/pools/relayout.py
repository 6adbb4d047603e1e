"""A pool with other drives, other sets, or another scheme; the front turned round."""

from __future__ import annotations

from sqlmodel import Session, col, select

from pairshelf.core.changes.pools.relayout import RelayoutPlan
from pairshelf.core.changes.pools.turn_restripe import TurnRestripePlan
from pairshelf.core.domain.device import Devices
from pairshelf.core.errors import Gone
from pairshelf.core.layouts.restriping import Restriping
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.growing import begin
from pairshelf.engine.jobs.starting import open_jobs
from pairshelf.engine.pools import open_io, open_pool
from pairshelf.store.tables import DriveRow, SheetRow


def apply(session: Session, sheet: SheetRow, planned: RelayoutPlan, who: str, world: Devices) -> Outcome:
    """The drives join, and the pool goes to its new layout: at once, by filling them, or by a restripe."""
    pool = open_pool(session, planned.pool.id)
    ids = {d.id for d in planned.added}
    rows = {f"drive-{r.id}": r for r in session.exec(select(DriveRow).where(col(DriveRow.id).in_(ids)))}
    begin(session, pool, planned.after, rows, who, sheet.id, world)
    return Outcome(planned.pool.id)


def turn(session: Session, _sheet: SheetRow, planned: TurnRestripePlan, _who: str, world: Devices) -> Outcome:
    """The front goes the other way from where it is."""
    pool = open_pool(session, planned.pool.id)
    job = next((j for j in open_jobs(session, pool.row.id) if j.kind == "restripe"), None)
    layout = pool.layout
    if job is None or not isinstance(layout, Restriping):
        raise Gone("restripe")
    # A move that a crash interrupted is finished the way it was begun.
    open_io(session, pool, world)
    layout = pool.layout
    assert isinstance(layout, Restriping)
    pool.layout = turned = layout.turned_round()
    pool.row.turned, pool.row.front = turned.turned, turned.front
    walk, whole = turned.walk, layout.both.seconds()
    job.total = max(1, abs(walk.arrives - walk.begins))
    job.cursor = job.total - min(job.total, abs(walk.arrives - turned.front))
    job.seconds, job.spent = whole, whole * job.cursor / job.total
    job.report = {k: v for k, v in job.report.items() if k != "moved"} | {"turned": turned.turned, "went_back": True}
    session.flush()
    return Outcome(planned.pool.id)
