"""Before a drive dies: where a pool's owner has said so, a member that is failing by its readings is copied onto a spare by
itself, while it still reads; in a spread pool, everything is moved off it."""

from __future__ import annotations

import time

import structlog
from sqlalchemy.exc import OperationalError
from sqlmodel import Session, col

from pairshelf.core.changes.drives.drain import Drain
from pairshelf.core.domain.device import Devices
from pairshelf.core.errors import NotPossible, PairShelfError
from pairshelf.engine import approver
from pairshelf.engine.jobs.copy_member import copy_onto
from pairshelf.engine.log import SYSTEM, log
from pairshelf.engine.observe import fitting_spare
from pairshelf.engine.pools import OpenPool, open_pool
from pairshelf.engine.relayout import give_up_standing_by
from pairshelf.store.database import pick, transaction
from pairshelf.store.repositories.drives_and_pools import load_drives
from pairshelf.store.tables import Condition, DriveRow, MemberState, PoolPlace, PoolRow

#: Seconds before what could not be done is tried again.
_AGAIN = 30.0
_logger = structlog.get_logger()
#: When each member that nothing could be done for was tried last (machine's seconds).
_tried: dict[int, float] = {}


def act_early(world: Devices) -> int:
    """Begin what is to be done for members that are failing; for how many."""
    with transaction() as session:
        query = (
            pick(PoolPlace.pool_id, PoolPlace.drive_id)
            .join(DriveRow, col(DriveRow.id) == PoolPlace.drive_id).join(PoolRow, col(PoolRow.id) == PoolPlace.pool_id)
            .where(PoolRow.acts_early, DriveRow.condition == Condition.FAILING, PoolPlace.state == MemberState.ACTIVE,
                   col(PoolPlace.slot).is_not(None), col(DriveRow.drain_id).is_(None))
            .order_by(col(PoolPlace.pool_id), col(PoolPlace.slot))
        )  # fmt: skip
        found = session.connection().execute(query).all()
    begun = 0
    for pool_id, drive_id in found:
        if time.monotonic() - _tried.get(drive_id, -_AGAIN) < _AGAIN:
            continue
        _tried[drive_id] = time.monotonic()
        try:
            with transaction() as session:
                begun += _act(session, open_pool(session, pool_id), drive_id, world)
        except OperationalError:
            raise
        except PairShelfError as error:
            _logger.info("early", drive=drive_id, why=error.message)
    return begun


def _act(session: Session, pool: OpenPool, drive_id: int, world: Devices) -> bool:
    """Begin it for one member; whether anything was begun."""
    place = next((p for p in pool.members if p.drive_id == drive_id), None)
    old = session.get_one(DriveRow, drive_id)
    if (
        place is None
        or place.state != MemberState.ACTIVE
        or old.condition != Condition.FAILING
        or not pool.row.acts_early
    ):
        return False
    slot = place.member
    if pool.copy_beside(slot) is not None or not pool.serves():
        return False
    if pool.layout.own_protection:
        sheet = approver.draw_up(session, "drain", Drain(drives=(drive_id,)), SYSTEM)
        session.flush()
        approver.approve(session, sheet.number, SYSTEM, str(sheet.body["confirm"] or ""), world)
        log(session, SYSTEM, "acts-early", pool.row.name,
            f"Drive {old.serial} of {pool.row.name} is failing: everything is moved off it, onto the others.")  # fmt: skip
        return True
    spare = fitting_spare(session, pool, place)
    if spare is None or spare.drive_id is None:
        raise NotPossible("There is no spare that is large enough.", code="no-spare")
    drive, scope = session.get_one(DriveRow, spare.drive_id), spare.scope
    world.open(drive.serial, drive.size).read(0, 1)
    give_up_standing_by(session, pool, spare)
    (known,) = load_drives(session, [drive.number])
    job = copy_onto(session, pool, slot, known.as_drive, drive, SYSTEM, None)
    # Where that is left off, it stands by again.
    job.report = {**job.report, "spare": scope}
    log(session, SYSTEM, "acts-early", pool.row.name,
        f"Drive {old.serial} of {pool.row.name} is failing: it is copied onto spare {drive.serial} while it still reads.")  # fmt: skip
    return True


def set_acts_early(session: Session, pool_id: int, who: str, *, on: bool) -> None:
    """Say whether a pool acts by itself before a drive dies."""
    pool = open_pool(session, pool_id)
    pool.row.acts_early = on
    said = (
        "copies a member that is failing onto a spare by itself"
        if on
        else "waits for a person where a member is failing"
    )
    log(session, who, "acts-early-set", pool.row.name, f"Pool {pool.row.name} {said}.")
