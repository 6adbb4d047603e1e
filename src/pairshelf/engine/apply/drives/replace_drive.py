"""A drive takes a place, and is filled."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.drives.replace_drive import ReplaceDrivePlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.jobs.rebuild import start_rebuild
from pairshelf.engine.observe import give_place
from pairshelf.engine.pools import open_pool, refresh_state
from pairshelf.store.tables import DriveRow, MemberState, SheetRow


def apply(session: Session, sheet: SheetRow, planned: ReplaceDrivePlan, who: str, world: Devices) -> Outcome:
    """The drive takes the place, and is filled from the rest."""
    request = planned.request
    pool = open_pool(session, request.pool_id)
    drive = session.get(DriveRow, request.drive_id)
    assert drive is not None
    world.open(drive.serial, drive.size).read(0, 1)
    place = pool.place(request.slot)
    give_place(session, pool, place, drive)
    place.state = MemberState.FAILED
    session.flush()
    start_rebuild(session, pool, request.slot, who, sheet.id)
    refresh_state(session, pool)
    return Outcome(request.pool_id)
