"""What is planned by schedule, and the private addresses that calendars ask at."""

from __future__ import annotations

import secrets

from sqlmodel import Session, col, select

from pairshelf.core.figures import durations
from pairshelf.core.layouts import Layout
from pairshelf.core.policies.schedule import WHAT
from pairshelf.engine.log import log
from pairshelf.engine.records import house_of
from pairshelf.engine.schedules import recurrence_of
from pairshelf.formats.calendar_ics import Recurring, write_calendar
from pairshelf.services.accounts import digest
from pairshelf.store.clock import wall
from pairshelf.store.repositories.drives_and_pools import load_pools
from pairshelf.store.tables import CalendarAddress, PoolRow, ScheduleRow, User, now


def schedules_listed(session: Session, pool_id: int | None = None) -> list[tuple[ScheduleRow, str]]:
    """What is done by schedule, with the pool's name, the next first; of one pool, or of all."""
    query = select(ScheduleRow, PoolRow.name).join(PoolRow, col(PoolRow.id) == ScheduleRow.pool_id)
    if pool_id is not None:
        query = query.where(ScheduleRow.pool_id == pool_id)
    return [(row, name) for row, name in session.exec(query.order_by(col(ScheduleRow.next_at), col(ScheduleRow.id)))]


def make_address(session: Session, user_id: int, who: str) -> str:
    """A new private address of a person's calendar, shown this once; the one before no longer opens."""
    token = secrets.token_urlsafe(32)
    session.merge(CalendarAddress(user_id=user_id, token_hash=digest(token), made_at=wall(), read_at=None))
    log(session, who, "calendar-address", who, "A new private address of a calendar was made.")
    return token


def drop_address(session: Session, user_id: int, who: str) -> None:
    """Nobody reads it from now on."""
    row = session.get(CalendarAddress, user_id)
    if row is not None:
        session.delete(row)
        log(session, who, "calendar-address", who, "The private address of a calendar was taken away.")


def calendar_for(session: Session, token: str, base: str) -> bytes | None:
    """The calendar that an address opens, or None where it opens none. ``base``: where the application is."""
    query = select(CalendarAddress).join(User, col(User.id) == CalendarAddress.user_id)
    row = session.exec(query.where(CalendarAddress.token_hash == digest(token), col(User.active))).first()
    if row is None:
        return None
    row.read_at = wall()
    house = house_of(session) or "pairshelf"
    planned, listed = [], schedules_listed(session)
    layouts = {pool.id: pool.layout for pool in load_pools(session, {s.pool_id for s, _ in listed})}
    for schedule, name in listed:
        recurrence = recurrence_of(schedule)
        planned.append(Recurring(
            f"{schedule.what}-{schedule.id}@{house}", f"{WHAT[schedule.what]} of {name}",
            f"{WHAT[schedule.what]} of pool {name}, {recurrence.words}, {schedule.pace}. It waits while a rebuild or other "
            "work in the pool goes first.", recurrence.first(schedule.begun), schedule.zone, recurrence.rule,
            _seconds(layouts[schedule.pool_id], schedule.pace), f"{base.rstrip('/')}/pools/{schedule.pool_id}", schedule.begun,
        ))  # fmt: skip
    return write_calendar("Pair Shelf", planned, now())


def _seconds(layout: Layout, pace: str) -> float:
    """About how long reading all of it takes at a pace."""
    duration = durations.check(layout)
    return duration.gentle if pace == "gentle" else duration.fast
