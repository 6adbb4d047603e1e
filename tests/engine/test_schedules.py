"""Checks and scans by the calendar: begun when they are due, once, and never beside what goes first."""

from __future__ import annotations

import datetime as dt

import pytest
from sqlmodel import col, select

from pairshelf.core.errors import NotFound
from pairshelf.core.policies.schedule import Recurrence
from pairshelf.engine.schedules import begin_due, end_schedule, set_schedule
from pairshelf.store import clock
from pairshelf.store.database import transaction
from pairshelf.store.tables import JobRow, LogRow, PoolRow, ScheduleRow
from tests.engine.helpers import at_once, build, carry_all, do, fill, happens, open_jobs, shelf

pytestmark = pytest.mark.usefixtures("db")

#: Every week.
WEEKLY = Recurrence(2, 180, "UTC")


@pytest.fixture(autouse=True)
def quick(db: str) -> None:
    at_once()


def planned(pool: int, what: str = "check", recurrence: Recurrence = WEEKLY, pace: str = "gentle") -> None:
    with transaction() as session:
        set_schedule(session, pool, what, recurrence, pace, "ida")


def row(what: str = "check") -> ScheduleRow:
    with transaction() as session:
        return session.exec(select(ScheduleRow).where(ScheduleRow.what == what)).one()


def days(count: float) -> None:
    clock.go_ahead(dt.timedelta(days=count))


def done(kind: str) -> list[JobRow]:
    with transaction() as session:
        return list(session.exec(select(JobRow).where(JobRow.kind == kind).order_by(col(JobRow.id))))


def said(act: str) -> list[str]:
    with transaction() as session:
        return list(session.exec(select(LogRow.sentence).where(LogRow.act == act).order_by(col(LogRow.id))))


def test_it_is_begun_when_it_is_due_at_its_pace_and_again_a_week_later() -> None:
    pool = build(shelf(4), "parity-1")
    carry_all()
    planned(pool)
    first = row().next_at
    assert begin_due() == 0 and dt.timedelta() < first - clock.now() <= dt.timedelta(days=7)
    clock.go_ahead(first - clock.now())
    assert begin_due() == 1 and begin_due() == 0
    (job,) = done("check")
    assert (job.pace, job.state) == ("gentle", "waiting") and row().next_at == first + dt.timedelta(days=7)
    assert row().last_at is not None
    carry_all()
    days(7)
    assert begin_due() == 1
    assert said("schedule-set") == ["Check of p every week on Wednesday at 03:00 (UTC), gentle."]


def test_what_was_due_while_nobody_looked_is_done_once() -> None:
    pool = build(shelf(4), "parity-1")
    carry_all()
    planned(pool)
    days(40)
    assert begin_due() == 1
    carry_all()
    assert begin_due() == 0 and len(done("check")) == 1
    assert clock.now() < row().next_at <= clock.now() + dt.timedelta(days=7)


def test_two_at_once_in_one_pool_are_done_one_after_the_other_and_in_two_pools_side_by_side() -> None:
    a = build(shelf(4), "parity-1")
    b = build(shelf(4, name="B"), "parity-1", name="q")
    carry_all()
    for pool in (a, b):
        planned(pool)
        planned(pool, "scan")
    days(7)
    assert begin_due() == 2
    assert sorted((j.kind, j.pool_id) for j in done("check") + done("scan")) == [("check", a), ("check", b)]
    assert begin_due() == 0
    assert [s.split(" is due")[0] for s in said("schedule-waits")] == ["Surface scan of p", "Surface scan of q"]
    carry_all()
    assert begin_due() == 2 and len(open_jobs("scan")) == 2
    # That it waits was said once.
    assert len(said("schedule-waits")) == 2
    with transaction() as session:
        assert not session.exec(select(ScheduleRow).where(col(ScheduleRow.waits).is_not(None))).all()


def test_never_while_a_drive_is_away_or_rebuilt_and_then_without_being_asked_again() -> None:
    pool = build(shelf(5), "parity-1", spares=1)
    carry_all()
    fill(pool, 0.3)
    carry_all()
    planned(pool)
    planned(pool, "scan")
    happens("fail", "A1")
    days(8)
    assert begin_due() == 0
    assert row().waits == "A check compares every drive with the others; replace what is missing first."
    assert row("scan").waits == "A rebuild is under way in this pool, and goes first; scan when it has ended."
    carry_all()
    assert begin_due() == 1 and row().waits is None
    carry_all()
    assert begin_due() == 1
    carry_all()
    assert [j.state for j in done("check") + done("scan")] == ["done", "done"]


def test_where_there_is_nothing_to_check_it_is_due_again_at_its_next_time() -> None:
    shelf(4)
    pool = do("build-pool", name="s", scheme="spread", domain="drive", drives=(1, 2, 3, 4)).pool_id or 0
    planned(pool)
    days(8)
    assert begin_due() == 0
    assert row().waits is None and row().next_at > clock.now() and not said("schedule-waits")


def test_set_anew_it_takes_the_place_of_the_one_before_and_it_goes_with_its_pool() -> None:
    pool = build(shelf(4), "parity-1")
    carry_all()
    planned(pool)
    planned(pool, recurrence=Recurrence(6, 120, "Europe/Paris", None, -1), pace="fast")
    assert (row().which, row().weeks, row().pace) == (-1, None, "fast")
    with transaction() as session, pytest.raises(NotFound):
        set_schedule(session, 99, "check", WEEKLY, "gentle", "ida")
    with transaction() as session, pytest.raises(NotFound):
        end_schedule(session, pool, "scan", "ida")
    with transaction() as session:
        end_schedule(session, pool, "check", "ida")
    days(40)
    assert begin_due() == 0
    planned(pool)
    do("take-apart", pool="p", keep_days=3)
    with transaction() as session:
        assert session.get(PoolRow, pool) is None and not session.exec(select(ScheduleRow)).all()
    assert begin_due() == 0
