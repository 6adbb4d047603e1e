"""Draining begun, and left off."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.drives.drain import DrainPlan
from pairshelf.core.changes.drives.leave_drain import LeaveDrainPlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.jobs.copy_member import copy_onto
from pairshelf.engine.jobs.drain import start_drain
from pairshelf.engine.jobs.even_out import start_evening
from pairshelf.engine.jobs.starting import end_unfinished, open_jobs
from pairshelf.engine.log import log
from pairshelf.engine.pools import OpenPool, open_pool
from pairshelf.engine.relayout import end_drain, end_drain_if_empty, leave_off, let_spares_go
from pairshelf.store.tables import DrainRow, DriveRow, SheetRow


def apply(session: Session, sheet: SheetRow, planned: DrainPlan, who: str, world: Devices) -> Outcome:
    """Mark the drives; every member of a set gets its copy, every spread pool its job; spares leave."""
    row = DrainRow(
        subject=planned.subject,
        drives=sorted(d.id for d in planned.drives),
        at_once=planned.at_once,
        asked_by=who,
        held={str(drive): extents for drive, extents in planned.held.items()},
    )
    session.add(row)
    session.flush()
    for one_of_them in planned.drives:
        session.get_one(DriveRow, one_of_them.id).drain_id = row.id
    pools: dict[int, OpenPool] = {}

    def opened(pool_id: int) -> OpenPool:
        if pool_id not in pools:
            pools[pool_id] = open_pool(session, pool_id)
        return pools[pool_id]

    # In one order, as everybody holds pools.
    touched = {
        *(c.pool.id for c in planned.copies),
        *(e.pool.id for e in planned.emptied),
        *(p.id for p, _ in planned.spares),
    }
    for pool_id in sorted(touched):
        opened(pool_id)
    for copy in sorted(planned.copies, key=lambda c: -c.seconds):
        pool, drive = opened(copy.pool.id), session.get_one(DriveRow, copy.onto.id)
        world.open(drive.serial, drive.size).read(0, 1)
        job = copy_onto(session, pool, copy.place.slot, copy.onto.as_drive, drive, who, sheet.id)
        job.drain_id, job.pace = row.id, "gentle"
    for one in planned.emptied:
        pool = opened(one.pool.id)
        for slot in one.slots:
            pool.place(slot).draining = True
        session.flush()
        start_drain(session, pool, one.seconds, who, row.number, sheet.id)
    for own, spare in planned.spares:
        let_spares_go(session, opened(own.id), {spare.id})
    end_drain_if_empty(session, row.number)
    return Outcome(next(iter(touched)) if len(touched) == 1 else None)


def leave(session: Session, sheet: SheetRow, planned: LeaveDrainPlan, who: str, _world: Devices) -> Outcome:
    """End the copies; the members of spread pools stay, and are filled again."""
    row = session.get_one(DrainRow, planned.drain.id)
    for pool_id in sorted({*(p for p, _ in planned.copies), *planned.pools}):
        pool = open_pool(session, pool_id)
        for slot in [s for p, s in planned.copies if p == pool_id]:
            beside = pool.copy_beside(slot)
            if beside is not None:
                leave_off(session, pool, beside, "draining was left off")
        if pool_id not in planned.pools:
            continue
        for place in pool.places:
            place.draining = False
        for job in open_jobs(session, pool_id):
            if job.kind == "drain" and job.drain_id == row.id:
                end_unfinished(job, "draining was left off")
        session.flush()
        start_evening(session, pool, who, sheet.id)
    end_drain(session, row)
    row.left_off = True
    log(session, who, "drain-left-off", row.subject, f"Draining {row.subject} was left off.")
    return Outcome()
