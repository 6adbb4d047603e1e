"""What is done by schedule: set, and begun when it is due. Never beside what goes first: then it is due until it can be."""

from __future__ import annotations

import structlog
from sqlalchemy.exc import OperationalError
from sqlmodel import Session, col, select

from pairshelf.core.errors import NotFound, PairShelfError
from pairshelf.core.policies.schedule import WHAT, Recurrence, require_known
from pairshelf.engine.checking import begin_check, begin_scan
from pairshelf.engine.log import SYSTEM, log
from pairshelf.engine.pools import open_pool
from pairshelf.store.database import transaction
from pairshelf.store.tables import PoolRow, ScheduleRow, now

_logger = structlog.get_logger()
_BEGIN = {"check": begin_check, "scan": begin_scan}


def recurrence_of(row: ScheduleRow) -> Recurrence:
    """When it recurs."""
    return Recurrence(row.day, row.minute, row.zone, row.weeks, row.which)


def set_schedule(session: Session, pool_id: int, what: str, recurrence: Recurrence, pace: str, who: str) -> ScheduleRow:
    """Check or scan a pool by the calendar from now on, in the place of what was set before. Raises for what is not done by
    schedule, or where there is no pool."""
    require_known(what, pace)
    pool = session.get(PoolRow, pool_id)
    if pool is None:
        raise NotFound("pool")
    row = _row(session, pool_id, what) or ScheduleRow(
        pool_id=pool_id, what=what, day=0, minute=0, zone="UTC", set_by=who
    )
    row.day, row.minute, row.zone = recurrence.day, recurrence.minute, recurrence.zone
    row.weeks, row.which, row.pace, row.set_by = recurrence.weeks, recurrence.which, pace, who
    row.begun, row.waits = now(), None
    row.next_at = recurrence.next_after(row.begun, row.begun)
    session.add(row)
    log(session, who, "schedule-set", pool.name, f"{WHAT[what]} of {pool.name} {recurrence.words}, {pace}.")
    session.flush()
    return row


def end_schedule(session: Session, pool_id: int, what: str, who: str) -> None:
    """No longer by the calendar. NotFound where it is not."""
    row, pool = _row(session, pool_id, what), session.get(PoolRow, pool_id)
    if row is None or pool is None:
        raise NotFound("schedule")
    session.delete(row)
    log(session, who, "schedule-ended", pool.name, f"{WHAT[what]} of {pool.name} is no longer done by schedule.")


def _row(session: Session, pool_id: int, what: str) -> ScheduleRow | None:
    query = select(ScheduleRow).where(ScheduleRow.pool_id == pool_id, ScheduleRow.what == what)
    return session.exec(query.with_for_update()).first()


def begin_due() -> int:
    """Begin what is due, where nothing stands in its way; how many were begun. What was due while nobody looked is done
    once, not as often as it would have been."""
    with transaction() as session:
        due = select(ScheduleRow.id, ScheduleRow.pool_id).where(ScheduleRow.next_at <= now())
        found = session.exec(due.order_by(col(ScheduleRow.next_at), col(ScheduleRow.id))).all()
    begun = 0
    for number, pool_id in found:
        try:
            with transaction() as session:
                pool = open_pool(session, pool_id)
                row = session.get(ScheduleRow, number, with_for_update=True)
                if row is None or row.next_at > now():
                    continue
                _BEGIN[row.what](session, pool, SYSTEM, row.pace)
                row.last_at, row.waits = now(), None
                row.next_at = recurrence_of(row).next_after(now(), row.begun)
                begun += 1
        except OperationalError:
            raise
        except PairShelfError as error:
            _wait(number, error)
    return begun


def _wait(number: int | None, error: PairShelfError) -> None:
    """It is due and cannot be begun: say why, once. Where there is nothing to do, it is due again at its next time."""
    with transaction() as session:
        row = session.get(ScheduleRow, number, with_for_update=True)
        if row is None:
            return
        if error.code == "nothing-there":
            row.next_at, row.waits = recurrence_of(row).next_after(now(), row.begun), None
        elif row.waits != error.message:
            pool = session.get_one(PoolRow, row.pool_id)
            if row.waits is None:
                log(session, SYSTEM, "schedule-waits", pool.name,
                    f"{WHAT[row.what]} of {pool.name} is due, and waits: {error.message}")  # fmt: skip
            row.waits = error.message
