"""A drive takes a place, and is filled; or is made the copy of the one that has it."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.drives.leave_copy import LeaveCopyPlan
from pairshelf.core.changes.drives.replace_drive import ReplaceDrivePlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.growing import take_step
from pairshelf.engine.jobs.copy_member import copy_onto
from pairshelf.engine.jobs.rebuild import start_rebuild
from pairshelf.engine.observe import give_place
from pairshelf.engine.pools import open_pool, refresh_state
from pairshelf.engine.relayout import leave_off, stands_by_no_more
from pairshelf.store.tables import DriveRow, MemberState, SheetRow


def apply(session: Session, sheet: SheetRow, planned: ReplaceDrivePlan, who: str, world: Devices) -> Outcome:
    """The drive takes the place, and is filled from the rest; one that works is copied first."""
    request = planned.request
    pool = open_pool(session, request.pool_id)
    drive = session.get(DriveRow, request.drive_id)
    assert drive is not None
    world.open(drive.serial, drive.size).read(0, 1)
    place = pool.place(request.slot)
    scope = stands_by_no_more(session, pool, drive.number)
    if place.state == MemberState.ACTIVE:
        job = copy_onto(session, pool, request.slot, planned.drive.as_drive, drive, who, sheet.id)
        job.report = {**job.report, "stands_by": request.stands_by, **({"spare": scope} if scope else {})}
        return Outcome(request.pool_id)
    give_place(session, pool, place, drive)
    take_step(session, pool, request.slot, drive.id)
    place.state = MemberState.FAILED
    session.flush()
    start_rebuild(session, pool, request.slot, who, sheet.id)
    refresh_state(session, pool)
    return Outcome(request.pool_id)


def leave(session: Session, _sheet: SheetRow, planned: LeaveCopyPlan, _who: str, _world: Devices) -> Outcome:
    """The drive beside the place leaves; the member stays."""
    pool = open_pool(session, planned.request.pool_id)
    beside = pool.copy_beside(planned.request.slot)
    if beside is not None:
        leave_off(session, pool, beside, "it was left off")
    return Outcome(planned.request.pool_id)
