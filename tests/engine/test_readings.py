"""Readings taken and judged, surfaces scanned, and what is done before a drive dies."""

from __future__ import annotations

import datetime as dt
from typing import Any

import pytest
from sqlmodel import col, select

from pairshelf.core.domain.device import DeviceError, Questioned
from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.units import GIB
from pairshelf.core.errors import BadInput, Busy, NotPossible, PairShelfError
from pairshelf.core.watching.failing import Health, Limits
from pairshelf.engine import early
from pairshelf.engine.carry import carry
from pairshelf.engine.checking import begin_check, begin_drive_scan, begin_scan
from pairshelf.engine.early import act_early, set_acts_early
from pairshelf.engine.history import Watch
from pairshelf.engine.jobs import scan
from pairshelf.engine.jobs.work import Work
from pairshelf.engine.observe import observe
from pairshelf.engine.pools import devices, open_pool
from pairshelf.services import health
from pairshelf.services.attending import attend
from pairshelf.services.simulated_use import ageing_of, let_age
from pairshelf.store import clock
from pairshelf.store.database import transaction
from pairshelf.store.repositories.health import load_limits, store_limits
from pairshelf.store.tables import DriveHealth, DriveRow, JobRow, LogRow, PoolPlace, PoolRow
from tests.engine.helpers import (
    at_once,
    build,
    carry_all,
    check,
    do,
    files_intact,
    fill,
    happens,
    open_jobs,
    pool_state,
    shelf,
)

pytestmark = pytest.mark.usefixtures("db")


@pytest.fixture(autouse=True)
def quick(db: str) -> None:
    at_once()
    early._tried.clear()


class House:
    """A watch, and days that pass as they are asked to."""

    def __init__(self) -> None:
        self._watch = Watch()

    @property
    def at(self) -> dt.datetime:
        return clock.now()

    def look(self, *, days: float = 0.0, seconds: float = 10.0) -> None:
        """Time passes by strides as it would for the house, and the devices are looked at."""
        while days > 0:
            clock.go_ahead(dt.timedelta(days=min(0.25, days)))
            days -= 0.25
            self._watch.look()
        clock.go_ahead(dt.timedelta(seconds=seconds))
        self._watch.look()
        observe(devices())


def age(serial: str, reading: str, more: float = 0.0, a_day: float = 0.0, at: dt.datetime | None = None) -> None:
    devices().let_age(serial, reading, more, a_day, at or clock.now())


def of(serial: str) -> DriveHealth:
    with transaction() as session:
        query = select(DriveHealth).join(DriveRow, col(DriveRow.id) == DriveHealth.drive_id)
        return session.exec(query.where(DriveRow.serial == serial)).one()


def condition(serial: str) -> str:
    with transaction() as session:
        return session.exec(select(DriveRow.condition).where(DriveRow.serial == serial)).one()


def rules(serial: str) -> list[str]:
    return [r["rule"] for r in of(serial).reasons]


def said(act: str) -> list[str]:
    with transaction() as session:
        return list(session.exec(select(LogRow.sentence).where(LogRow.act == act).order_by(col(LogRow.id))))


def number(serial: str) -> int:
    with transaction() as session:
        return session.exec(select(DriveRow.id).where(DriveRow.serial == serial)).one() or 0


def scanned(pool: int) -> JobRow:
    with transaction() as session:
        job = begin_scan(session, open_pool(session, pool), "ida").number
    carry(job)
    with transaction() as session:
        return session.get_one(JobRow, job)


# -- taken and judged ----------------------------------------------------------------------------------


def test_a_new_drive_is_unknown_then_well_and_nobody_is_told() -> None:
    shelf(3)
    with transaction() as session:
        assert not session.exec(select(DriveHealth)).all()
        assert health.report_of(session, 1, devices()).judged.level is Health.WELL
    house = House()
    house.look()
    assert {of(s).level for s in ("A1", "A2", "A3")} == {Health.WELL}
    assert said("drive-warns") == said("drive-failing") == said("drive-well") == []


def test_growing_slowly_is_well_and_more_than_five_in_a_week_is_failing_until_it_stops() -> None:
    shelf(2)
    house = House()
    house.look()
    age("A1", "reassigned", a_day=0.5, at=house.at)
    age("A2", "reassigned", a_day=1.2, at=house.at)
    house.look(days=9)
    assert (condition("A1"), condition("A2")) == ("good", "failing")
    assert rules("A2") == ["reassigned-week"]
    assert said("drive-failing") == [
        f"Drive A2 (A bay 2) still answers, but is failing by its readings: {of('A2').reasons[0]['sentence']}."
    ]
    # Told once, however often it is looked at.
    house.look(days=1)
    assert len(said("drive-failing")) == 1
    # It has stopped: a week later nothing speaks against it, and that is said.
    age("A2", "reassigned", at=house.at)
    house.look(days=9)
    assert condition("A2") == "good" and of("A2").level == Health.WELL
    assert said("drive-good") == ["Drive A2 (A bay 2) answers, and nothing speaks against it."]


def test_a_loose_cable_warns_of_the_link_within_a_day_and_not_of_the_drive() -> None:
    shelf(1)
    house = House()
    house.look(days=2)
    age("A1", "link-errors", a_day=48, at=house.at)
    house.look(days=1)
    assert condition("A1") == "good" and rules("A1") == ["link-errors-day"]
    assert said("drive-warns")[0].startswith("Drive A1 (A bay 1) gives warning: ")
    with transaction() as session:
        (matter,) = [m for m in attend(session).matters if "A1" in m.sentence]
        assert matter.sentence.startswith("The link of Drive A1 (A bay 1) gives trouble: ")
    age("A1", "link-errors", at=house.at)
    house.look(days=2)
    assert of("A1").level == Health.WELL and said("drive-well") == ["Drive A1 (A bay 1) gives no warning any more."]


def test_other_limits_hold_from_the_next_look_and_what_the_drive_says_itself_can_be_left_aside() -> None:
    shelf(1)
    house = House()
    house.look()
    age("A1", "reassigned", 20, at=house.at)
    house.look()
    assert rules("A1") == ["reassigned-week"]
    with transaction() as session:
        health.change_limit(session, "hdd", "reassigned-week", 30, "ida")
    house.look()
    assert of("A1").level == Health.WELL and condition("A1") == "good"
    with transaction() as session:
        health.change_limit(session, "hdd", "verdict", None, "ida")
    happens("warn", "A1")
    house.look()
    assert condition("A1") == "good"
    with transaction() as session:
        health.change_limit(session, "hdd", "verdict", 0, "ida")
        assert load_limits(session) == Limits().with_one(Kind.HDD, "reassigned-week", 30)
    house.look()
    assert condition("A1") == "failing" and rules("A1") == ["verdict"]
    assert (
        said("failing-rule-set")[1]
        == "Of hdd drives, “the drive itself says that it is failing” is not looked at any more."
    )


def test_what_a_drive_says_of_itself_counts_at_once_and_a_pulled_one_keeps_what_it_said_last() -> None:
    shelf(1)
    house = House()
    house.look(days=1)
    happens("warn", "A1")
    assert condition("A1") == "failing"  # Before any readings were judged.
    house.look()
    happens("pull", "A1")
    house.look(days=1)
    assert condition("A1") == "missing" and rules("A1") == ["verdict"]
    with transaction() as session:
        told = health.report_of(session, number("A1"), devices())
        assert not told.answers and told.taken_at is not None and told.taken_at < house.at - dt.timedelta(hours=20)
        values = {line.reading.id: line.value for line in told.lines}
        assert values["temperature"] and values["hours"] and values["verdict"] is None
    happens("put_back", "A1")
    house.look()
    assert condition("A1") == "failing"


def test_readings_are_recorded_as_they_were_and_grow_with_what_is_really_written() -> None:
    (drive, *_) = shelf(2)
    house = House()
    house.look()
    world, size = devices(), 60 * GIB

    def written() -> int:
        asked = Questioned("A1", size, Kind.HDD)
        return world.readings([asked], house.at)["A1"]["written"]

    before = written()
    device = world.open("A1", size)
    device.write(3, bytes(7 * world.block))
    device.flush()
    assert written() == before + 7
    house.look(days=1)
    with transaction() as session:
        lines = {line.reading.id: line for line in health.report_of(session, drive, world).lines}
    # A day has 24 hours, and what was a week ago is what was at first.
    assert lines["hours"].value is not None and lines["hours"].before is not None
    assert lines["hours"].value - lines["hours"].before in (24, 25)
    assert lines["temperature"].value and 20 < lines["temperature"].value < 45


# -- the surface ---------------------------------------------------------------------------------------


@pytest.mark.parametrize("scheme", ["parity-1", "copies-2", "parity-2"])
def test_what_cannot_be_read_is_found_written_anew_from_the_others_and_the_drive_is_well_again(scheme: str) -> None:
    drives = shelf(2 if scheme == "copies-2" else 4)
    pool = build(drives, scheme)
    carry_all()
    carry(fill(pool, 0.6))
    house = House()
    house.look()
    devices().lose_extents("A1", [3, 9, 21])
    devices().lose_extents("A2", [30])
    house.look()
    assert rules("A1") == rules("A2") == ["unscanned"] and condition("A1") == "good"
    with transaction() as session:
        matters = [m for m in attend(session).matters if "A1" in m.sentence]
        assert [m.act for m in matters] == ["Scan it"]
    job = scanned(pool)
    assert job.state == "done"
    found = job.report["drives"]
    assert found[str(number("A1"))] == {"read": 59, "unreadable": 3, "mended": 3}
    assert found[str(number("A2"))] == {"read": 59, "unreadable": 1, "mended": 1}
    assert said("scan-finished")[0].endswith("4 GiB could not be read, came from the others, and were written anew.")
    assert devices().lost_extents("A1") == devices().lost_extents("A2") == []
    house.look()
    assert of("A1").level == of("A2").level == Health.WELL
    assert files_intact(pool) and check(pool).report["mismatches"] == 0
    with transaction() as session:
        told = health.report_of(session, number("A1"), devices())
        assert told.scan_found == {"read": 59, "unreadable": 3, "mended": 3} and told.scanned_at is not None
        # What was reassigned is counted.
        assert next(line.value for line in told.lines if line.reading.id == "reassigned") >= 3  # type: ignore[operator]


@pytest.mark.parametrize("spread", [False, True])
def test_a_drive_that_can_read_a_place_the_next_time_keeps_what_stands_there(
    spread: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What could not be read once is never taken for a place on which nothing stands."""
    shelf(4)
    if spread:
        pool = do("build-pool", name="p", scheme="spread", domain="drive", drives=(1, 2, 3, 4)).pool_id or 0
        do("make-volumes", pool="p", name="v", size="100 GiB", protection="copies-2", file_system="xfs")
    else:
        pool = build([1, 2, 3, 4], "parity-1")
    carry_all()
    carry(fill(pool, 0.8))
    world = devices()
    before = [world.open(f"A{n}", 60 * GIB).read(0, 59) for n in (1, 2, 3, 4)]
    whole = scan._read

    def flickers(*given: Any) -> list[int]:
        found = whole(*given)
        return [*found, *range(given[1], given[1] + given[2])]

    monkeypatch.setattr(scan, "_read", flickers)
    scanned(pool)
    monkeypatch.undo()
    held = [set(), set(), set(), set()]  # type: list[set[int]]
    with transaction() as session:
        layout = open_pool(session, pool).layout
    for slot in range(4):
        for first, rows in layout.rows_of(slot):
            held[slot].update(range(first, first + rows))
    block = world.block
    for slot, was in enumerate(before):
        now = world.open(f"A{slot + 1}", 60 * GIB).read(0, 59)
        for row in held[slot]:
            assert now[row * block : (row + 1) * block] == was[row * block : (row + 1) * block]
    assert any(held) and files_intact(pool) and check(pool).report["mismatches"] == 0


def test_what_nobody_else_has_is_left_as_it_is_and_the_drive_counts_as_failing() -> None:
    shelf(2)
    pool = build([1], "single")
    carry_all()
    carry(fill(pool, 0.5))
    house = House()
    house.look()
    devices().lose_extents("A1", [2, 5])  # In a pool that bears nothing.
    devices().lose_extents("A2", [1])  # On a free drive.
    house.look()
    job = scanned(pool)
    assert job.report["drives"] == {"1": {"read": 59, "unreadable": 2, "mended": 0}}
    with transaction() as session:
        alone = begin_drive_scan(session, 2, "ida").number
        with pytest.raises(NotPossible, match="being scanned already"):
            begin_drive_scan(session, 2, "ida")
    carry(alone)
    # Nothing was written over what could not be read.
    assert devices().lost_extents("A1") == [2, 5] and devices().lost_extents("A2") == [1]
    house.look()
    house.look()
    assert rules("A1") == rules("A2") == ["unreadable"]
    assert condition("A1") == condition("A2") == "failing"
    assert said("scan-finished")[1] == "Drive A2 read through: 59 GiB; 1 GiB could not be read."


def test_a_scan_of_a_drive_that_is_taken_out_waits_and_of_one_that_fails_ends() -> None:
    shelf(2)
    jobs = []
    for drive in (1, 2):
        with transaction() as session:
            jobs.append(begin_drive_scan(session, drive, "ida").number)
    happens("pull", "A1")
    happens("fail", "A2")
    looks = iter([False, True])
    carry(jobs[0], stop=lambda: next(looks, True))
    carry(jobs[1])
    with transaction() as session:
        waits, ended = (session.get_one(JobRow, job) for job in jobs)
        assert (waits.state, waits.why_held) == ("held", "drive A1 does not answer; it goes on when it does")
        assert (ended.state, ended.error) == ("failed", "Drive A2 has failed.")
    happens("put_back", "A1")
    carry(jobs[0])
    assert said("scan-finished") == ["Drive A1 read through: 59 GiB, all of it can be read."]


def test_what_goes_bad_after_a_scan_is_to_be_scanned_again() -> None:
    shelf(1)
    house = House()
    house.look()
    with transaction() as session:
        job = begin_drive_scan(session, 1, "ida").number
    carry(job)
    house.look(days=1)
    devices().lose_extents("A1", [4])
    house.look()
    assert rules("A1") == ["unscanned"]


def test_in_a_spread_pool_what_stands_there_is_mended_and_what_stands_nowhere_is_written_anew() -> None:
    shelf(6, size=40 * GIB)
    pool = do("build-pool", name="s", scheme="spread", domain="drive", drives=(1, 2, 3, 4, 5, 6)).pool_id or 0
    do("make-volumes", pool="s", name="v", size="30 GiB", protection="parity-1:3", file_system="xfs")
    carry_all()
    with transaction() as session:
        layout = open_pool(session, pool).layout
        (placed,) = layout.volumes  # type: ignore[attr-defined]
        slot, row = (int(n) for n in placed.spots[2, 1])
    serial = f"A{slot + 1}"
    devices().lose_extents(serial, [row, 38])
    job = scanned(pool)
    assert job.report["drives"][str(slot + 1)] == {"read": 39, "unreadable": 2, "mended": 2}
    assert devices().lost_extents(serial) == [] and check(pool).report["mismatches"] == 0


def test_a_scan_is_not_begun_beside_what_goes_first_and_waits_for_a_rebuild() -> None:
    drives = shelf(6)
    pool = build(drives[:5], "parity-1", spares=1)
    with transaction() as session, pytest.raises(NotPossible) as told:
        begin_scan(session, open_pool(session, pool), "ida")
    assert told.value.code == "not-synced"
    carry_all()
    with transaction() as session:
        job = begin_scan(session, open_pool(session, pool), "ida").number
    for begin in (begin_scan, begin_check):
        with transaction() as session, pytest.raises(Busy):
            begin(session, open_pool(session, pool), "ida")
    happens("fail", "A2")
    looks = iter([False, True])
    carry(job, stop=lambda: next(looks, True))
    with transaction() as session:
        row = session.get_one(JobRow, job)
        assert (row.state, row.why_held) == ("held", "a rebuild goes first")
    carry_all()
    with transaction() as session:
        row = session.get_one(JobRow, job)
        # The one that failed was not read; those that are there were.
        assert row.state == "done" and row.report["drives"]["2"]["read"] == 0
        assert row.report["drives"]["1"]["read"] == 59
    assert pool_state(pool)[0] == "healthy"


def test_a_scan_killed_at_any_step_reads_the_rest_and_what_was_read_counts_once() -> None:
    pool = build(shelf(4), "parity-1")
    carry_all()
    devices().lose_extents("A3", [1, 17, 50])
    with transaction() as session:
        job = begin_scan(session, open_pool(session, pool), "ida").number
        session.get_one(JobRow, job).seconds = 10_000.0
    for number_ in range(40):
        try:
            with transaction() as session:
                row = session.get_one(JobRow, job)
                if row.cursor >= row.total:
                    break
                scan.step(Work(session, row, open_pool(session, pool), devices(), 7))
                if number_ % 2:
                    raise KeyboardInterrupt
        except KeyboardInterrupt:
            continue
    with transaction() as session:
        report = session.get_one(JobRow, job).report["drives"]
    assert {f["read"] for f in report.values()} == {59}
    # What a step that was undone had mended reads well the next time: it is found once, or not at all.
    assert report["3"]["unreadable"] == report["3"]["mended"] <= 3
    assert devices().lost_extents("A3") == []


# -- error recovery ------------------------------------------------------------------------------------


def test_a_limit_is_read_judged_by_the_pool_and_set_where_the_drive_takes_it() -> None:
    shelf(4)
    build([1, 2, 3], "parity-1")
    world = devices()
    with transaction() as session:
        told = health.recovery_told(session, 1, world)
        assert (told.known, told.limit) == (True, None) and told.judged is not None and not told.judged.well
        assert health.recovery_told(session, 4, world).judged is None
    world.be("A2", 60 * GIB, recovery_settable=False)
    world.be("A1", 60 * GIB, recovery_settable=True)
    with transaction() as session:
        told = health.set_recovery(session, 1, 7.0, "ida", world)
        assert told.limit == 7.0 and told.judged is not None and told.judged.well
        assert session.get_one(DriveRow, 1).error_recovery == 7.0
        with pytest.raises(NotPossible) as refused:
            health.set_recovery(session, 2, 7.0, "ida", world)
        assert refused.value.field == "seconds"
        for bad in (0.0, 301.0, float("nan")):
            with pytest.raises(BadInput):
                health.set_recovery(session, 1, bad, "ida", world)
        health.set_recovery(session, 1, None, "ida", world)
    assert world.open("A1", 60 * GIB).recovery(Kind.HDD, 9.0).limit is None
    happens("pull", "A1")
    with transaction() as session, pytest.raises(NotPossible, match="does not answer"):
        health.set_recovery(session, 1, 7.0, "ida", world)


# -- before it dies ------------------------------------------------------------------------------------


def early_on(pool: int, on: bool = True) -> None:
    with transaction() as session:
        set_acts_early(session, pool, "ida", on=on)


def test_a_failing_member_is_copied_onto_a_spare_by_itself_only_where_the_house_says_so() -> None:
    drives = shelf(6)
    pool = build(drives[:5], "parity-1", spares=1)
    carry_all()
    carry(fill(pool, 0.6))
    house = House()
    house.look()
    age("A2", "reassigned", 60, at=house.at)
    house.look()
    assert condition("A2") == "failing" and act_early(devices()) == 0 and open_jobs() == []
    early_on(pool)
    early._tried.clear()
    assert act_early(devices()) == 1
    # Once, however often it is looked at.
    early._tried.clear()
    assert act_early(devices()) == 0
    assert pool_state(pool)[0] == "healthy"
    carry_all()
    with transaction() as session:
        rows = {d.serial: d for d in session.exec(select(DriveRow))}
        assert (rows["A2"].service, rows["A5"].service) == ("free", "in-use")
        member = session.exec(select(PoolPlace).where(PoolPlace.slot == 1)).one()
        assert member.drive_id == rows["A5"].id
        assert not session.exec(select(PoolPlace).where(col(PoolPlace.slot).is_(None))).all()
    assert files_intact(pool) and check(pool).report["mismatches"] == 0
    assert said("acts-early") == ["Drive A2 of p is failing: it is copied onto spare A5 while it still reads."]


def test_without_a_spare_it_waits_and_says_so_and_goes_on_once_one_stands_by() -> None:
    pool = build(shelf(4), "parity-1")
    carry_all()
    early_on(pool)
    shelf(1, name="B", size=50 * GIB)
    shelf(1, name="C")
    happens("warn", "A3")
    assert act_early(devices()) == 0
    with transaction() as session:
        (matter,) = [m for m in attend(session).matters if "A3" in m.sentence]
        assert matter.sentence.endswith(
            "Its pool copies it by itself, as soon as a spare stands by that is large enough."
        )
    refused = _refused("add-spares", pool="p", drives=(number("B1"),))
    assert (refused.code, refused.field) == ("too-small", "drives")
    do("add-spares", pool="p", drives=(number("C1"),))
    early._tried.clear()
    assert act_early(devices()) == 1
    carry_all()
    assert pool_state(pool)[0] == "healthy"
    with transaction() as session:
        assert session.exec(select(PoolPlace.drive_id).where(PoolPlace.slot == 2)).one() == number("C1")


def test_left_off_the_spare_stands_by_again_and_if_the_drive_dies_first_it_goes_on_as_a_rebuild() -> None:
    drives = shelf(5)
    pool = build(drives, "parity-1", spares=1)
    carry_all()
    early_on(pool)
    happens("warn", "A1")
    assert act_early(devices()) == 1
    do("leave-copy", pool_id=pool, slot=0)
    with transaction() as session:
        spare = session.exec(select(PoolPlace).where(col(PoolPlace.slot).is_(None))).one()
        assert spare.drive_id == number("A5") and spare.beside is None
        assert session.get_one(DriveRow, number("A5")).service == "in-use"
    early._tried.clear()
    assert act_early(devices()) == 1
    happens("fail", "A1")
    carry_all()
    assert pool_state(pool) == ("healthy", ["active"] * 4)
    assert check(pool).report["mismatches"] == 0


def test_in_a_spread_pool_everything_is_moved_off_it_by_itself() -> None:
    shelf(6, size=60 * GIB)
    pool = do("build-pool", name="s", scheme="spread", domain="drive", drives=(1, 2, 3, 4, 5, 6)).pool_id or 0
    do("make-volumes", pool="s", name="v", size="60 GiB", protection="copies-2", file_system="xfs")
    carry_all()
    carry(fill(pool, 0.5))
    early_on(pool)
    happens("warn", "A4")
    assert act_early(devices()) == 1
    carry_all()
    with transaction() as session:
        assert session.get_one(DriveRow, 4).service == "free"
        assert pool_state(pool) == ("healthy", ["active"] * 5)
    assert files_intact(pool)


def test_a_spare_that_took_over_is_idle_again_by_choice() -> None:
    pool = build(shelf(5), "parity-1", spares=1)
    shelf(1, name="C")
    carry_all()
    carry(fill(pool, 0.4))
    happens("fail", "A2")
    carry_all()
    # A new drive is put in: it takes the place, and the spare stands by again.
    do("replace-drive", pool_id=pool, slot=1, drive_id=number("C1"), stands_by=True)
    carry_all()
    with transaction() as session:
        assert session.exec(select(PoolPlace.drive_id).where(PoolPlace.slot == 1)).one() == number("C1")
        spare = session.exec(select(PoolPlace).where(col(PoolPlace.slot).is_(None))).one()
        assert spare.drive_id == number("A5")
        assert session.get_one(DriveRow, number("A5")).service == "in-use"
    # And takes over again.
    happens("fail", "C1")
    carry_all()
    assert pool_state(pool)[0] == "healthy" and files_intact(pool)


def test_a_person_can_choose_the_spare_and_what_does_not_work_does_not_stand_by() -> None:
    pool = build(shelf(5), "parity-1", spares=1)
    carry_all()
    happens("warn", "A2")
    refused = _refused("replace-drive", pool_id=pool, slot=1, drive_id=number("A5"), stands_by=True)
    assert (refused.code, refused.field) == ("bad-input", "stands_by")
    do("replace-drive", pool_id=pool, slot=1, drive_id=number("A5"))
    carry_all()
    with transaction() as session:
        assert session.exec(select(PoolPlace.drive_id).where(PoolPlace.slot == 1)).one() == number("A5")
        assert session.get_one(DriveRow, number("A2")).service == "free"
        assert not session.get_one(PoolRow, pool).acts_early


def test_a_spare_that_comes_where_a_drive_has_failed_takes_over_at_once() -> None:
    pool = build(shelf(4), "parity-1")
    shelf(2, name="C")
    carry_all()
    happens("fail", "A4")
    assert pool_state(pool)[0] == "unprotected"
    do("add-spares", pool="p", drives=(number("C1"), number("C2")), spares_for="all")
    carry_all()
    assert pool_state(pool)[0] == "healthy"
    with transaction() as session:
        (spare,) = session.exec(select(PoolPlace).where(col(PoolPlace.slot).is_(None)))
        assert spare.scope == "all"
    do("take-out", pool="p", drives=(spare.drive_id or 0,))


def _refused(kind: str, **request: Any) -> PairShelfError:
    with pytest.raises(PairShelfError) as told:
        do(kind, **request)
    return told.value


# -- how simulated drives age --------------------------------------------------------------------------


def test_sectors_that_go_bad_with_age_really_cannot_be_read() -> None:
    shelf(1)
    house, world = House(), devices()
    age("A1", "pending", a_day=1, at=house.at)
    house.look(days=3)
    lost = world.lost_extents("A1")
    assert 1 <= len(lost) <= 3 and rules("A1") == ["unscanned"]
    with pytest.raises(DeviceError):
        world.open("A1", 60 * GIB).read(lost[0], 1)
    with transaction() as session:
        values = {line.reading.id: line.value for line in health.report_of(session, 1, world).lines}
    assert (values["pending"], values["uncorrectable"]) == (len(lost), 1)
    # Looked at twice at one moment, nothing more is lost.
    house.look(seconds=0)
    assert world.lost_extents("A1") == lost


def test_ageing_is_said_for_what_the_drive_reports_and_kept_as_it_has_grown() -> None:
    shelf(1)
    with transaction() as session:
        let_age(session, 1, "temperature", 20, 0, "ida", devices())
        for reading, more in (("wear", 5.0), ("hours", 5.0), ("pending", -1.0)):
            with pytest.raises(BadInput):
                let_age(session, 1, reading, more, 0, "ida", devices())
        steered, can = ageing_of(session, 1, devices())
        assert steered == [("temperature", 20.0, 0.0)] and "wear" not in can and "pending" in can
        store_limits(session, Limits())
