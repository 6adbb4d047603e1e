"""A pool's life: built, filled, hurt, and healed, with every byte compared at the end."""

from __future__ import annotations

import pytest
from sqlalchemy.exc import DBAPIError, IntegrityError
from sqlmodel import select

from pairshelf.core.changes.pools.build_pool import promised
from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.units import GIB
from pairshelf.core.errors import NotPossible
from pairshelf.core.figures.space import space_account
from pairshelf.core.layouts import build_layout
from pairshelf.engine.carry import carry
from pairshelf.engine.jobs.check import start_check
from pairshelf.engine.jobs.pacing import paces_under_way, slowing
from pairshelf.engine.observe import observe
from pairshelf.engine.pools import devices, open_pool
from pairshelf.store.database import transaction
from pairshelf.store.repositories.drives_and_pools import load_pools
from pairshelf.store.tables import DriveRow, JobRow, LogRow, MissedWrite, PoolPlace, SampleFile, VolumePiece, VolumeRow
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
    pool_row,
    pool_state,
    replace,
    shelf,
)  # fmt: skip

pytestmark = pytest.mark.usefixtures("db")


@pytest.fixture(autouse=True)
def quick(db: str) -> None:
    at_once()


@pytest.mark.parametrize(("scheme", "sets"), [("parity-1", 2), ("parity-2", 1), ("copies-2", 4), ("stepped-1", 1)])
def test_built_filled_hurt_and_healed(scheme: str, sets: int) -> None:
    pool = build(shelf(8), scheme, sets=sets)
    fill(pool)
    carry_all()
    happens("fail", "A3")
    state, places = pool_state(pool)
    assert places[2] == "failed" and state in ("degraded", "unprotected")
    assert files_intact(pool)
    (new,) = shelf(1, size=70 * GIB, name="B")
    replace(pool, 2, new)
    carry_all()
    assert pool_state(pool)[0] == "healthy"
    report = check(pool).report
    assert (report["mismatches"], report["files_differing"]) == (0, [])
    assert report["extents_compared"] == 8 * 59
    assert report["files_read"] > 0
    with transaction() as session:
        old = session.exec(select(DriveRow).where(DriveRow.serial == "A3")).one()
        assert (old.service, old.condition) == ("free", "failed")
        assert "old data" in (old.holds or "")


@pytest.mark.parametrize(
    ("scheme", "sets", "protection"),
    [
        ("parity-1", 1, ""),
        ("parity-2", 2, ""),
        ("copies-2", 4, ""),
        ("stepped-2", 1, ""),
        ("spread", 1, "parity-1:4"),
        ("spread", 1, "copies-2"),
    ],
)
def test_what_was_promised_is_what_the_drives_had_to_do(scheme: str, sets: int, protection: str) -> None:
    """Hours and speeds, by the extents the engine really moved; every layout alike."""
    uneven = scheme == "stepped-2" or protection == "copies-2"
    ids = shelf(4, size=150 * GIB) + shelf(4, size=180 * GIB if uneven else 150 * GIB, name="B")
    pool = do("build-pool", name="p", scheme=scheme, drives=tuple(ids), sets=sets, volume="v", file_system="xfs",
              protection=protection, volume_size="500 GiB" if protection else "").pool_id or 0  # fmt: skip
    carry_all()
    carry(fill(pool, 0.9))
    assert check(pool).report["mismatches"] == 0
    assert files_intact(pool)
    with transaction() as session:
        (built,) = load_pools(session, [pool])
    promises = promised(built.layout)
    if scheme != "spread":
        assert promises == pool_row(pool).promised
    happens("fail", "B2")
    if scheme != "spread":
        replace(pool, 5, shelf(1, size=180 * GIB, name="C")[0])
    carry_all()
    assert pool_state(pool)[0] == "healthy"
    measured = pool_row(pool).measured
    assert measured["check_hours"] == pytest.approx(promises["check_hours"], rel=0.02)
    if scheme != "spread" or not uneven:  # Where drives are unequal, the larger ones take more: that is an estimate.
        assert measured["rebuild_hours"] == pytest.approx(promises["rebuild_hours"], rel=0.1)
    for figure in ("sequential_write", "sequential_read"):
        assert measured[figure] == pytest.approx(promises[figure], rel=0.1)
    if scheme != "spread":
        assert measured["first_sync_hours"] == pytest.approx(promises["first_sync_hours"], rel=0.02)


def test_what_was_promised_is_built_to_the_byte() -> None:
    drives = shelf(6, size=61 * GIB + 12345)
    pool = build(drives, "parity-2", spares=1)
    account = space_account(
        build_layout([Drive(str(i), 61 * GIB + 12345) for i in drives], "parity-2", spares=1), file_system="xfs"
    )
    with transaction() as session:
        volume = session.exec(select(VolumeRow).where(VolumeRow.pool_id == pool)).one()
        assert volume.size - volume.overhead == account.usable


def test_a_pulled_drive_that_missed_nothing_comes_back_as_it_was() -> None:
    pool = build(shelf(5))
    fill(pool)
    carry_all()
    happens("pull", "A2")
    assert pool_state(pool) == ("degraded", ["active", "missing", "active", "active", "active"])
    happens("put_back", "A2")
    assert pool_state(pool)[0] == "healthy"
    assert not open_jobs()
    assert check(pool).report["mismatches"] == 0


def test_a_pulled_drive_that_missed_writes_is_filled_again() -> None:
    pool = build(shelf(5))
    fill(pool, 0.2)
    carry_all()
    happens("pull", "A2")
    carry(fill(pool, 0.5))
    happens("put_back", "A2")
    assert pool_state(pool)[1][1] == "rebuilding"
    carry_all()
    assert pool_state(pool)[0] == "healthy"
    assert check(pool).report["mismatches"] == 0
    assert files_intact(pool)


@pytest.mark.parametrize(
    ("scheme", "protection"), [("parity-2", ""), ("stepped-1", ""), ("copies-3", ""), ("spread", "parity-1:4")]
)
def test_a_drive_that_was_away_is_brought_up_to_date_with_what_changed_and_no_more(
    scheme: str, protection: str
) -> None:
    drives = shelf(3 if scheme == "copies-3" else 5, size=400 * GIB)
    more = {"protection": protection, "volume_size": "900 GiB", "domain": "drive"} if protection else {}
    pool = (
        do("build-pool", name="p", scheme=scheme, drives=tuple(drives), volume="v", file_system="xfs", **more).pool_id
        or 0
    )
    carry_all()
    carry(fill(pool, 0.5))
    happens("pull", "A2")
    carry(fill(pool, 0.55))
    with transaction() as session:
        marked = set(session.exec(select(MissedWrite.region)))
    assert 0 < len(marked) < 12
    happens("put_back", "A2")
    assert pool_state(pool)[1][1] == "rebuilding"
    (job,) = open_jobs("rebuild")
    # Pulled once more before it has caught up, and written to again: what it lacks adds up.
    happens("pull", "A2")
    carry(fill(pool, 0.6))
    happens("put_back", "A2")
    carry_all()
    with transaction() as session:
        report = session.get_one(JobRow, job).report
        assert marked <= set(report["missed"]) and report["filled"] < 400 * 0.4
        assert session.get_one(JobRow, job).seconds < promised_hours(pool) * 3600 * 0.4
        assert not session.exec(select(MissedWrite)).all()
    assert pool_state(pool)[0] == "healthy"
    assert check(pool).report["mismatches"] == 0
    assert files_intact(pool)
    # From what it caught up with alone, all is there.
    for other in ("A1", "A3") if scheme in ("copies-3", "parity-2") else ("A1",):
        happens("fail", other)
    assert files_intact(pool)


def promised_hours(pool: int) -> float:
    """What a whole rebuild would take."""
    with transaction() as session:
        (built,) = load_pools(session, [pool])
    return promised(built.layout)["rebuild_hours"]


def test_too_many_away_holds_everything_and_loses_nothing() -> None:
    pool = build(shelf(5), "parity-1")
    fill(pool, 0.3)
    carry_all()
    happens("pull", "A2")
    happens("pull", "A4")
    assert pool_state(pool)[0] == "unreachable"
    with pytest.raises(NotPossible):
        fill(pool, 0.6)
    happens("put_back", "A4")
    assert pool_state(pool)[0] == "unprotected"
    happens("put_back", "A2")
    assert pool_state(pool)[0] == "healthy"
    assert check(pool).report["mismatches"] == 0
    assert files_intact(pool)


def test_a_stale_drive_back_first_waits_until_it_can_be_filled() -> None:
    pool = build(shelf(5), "parity-1")
    fill(pool, 0.2)
    carry_all()
    happens("pull", "A1")
    carry(fill(pool, 0.4))
    happens("pull", "A5")
    happens("put_back", "A1")
    assert pool_state(pool) == ("unreachable", ["missing", "active", "active", "active", "missing"])
    happens("put_back", "A5")
    assert pool_state(pool)[1] == ["rebuilding", "active", "active", "active", "active"]
    carry_all()
    assert pool_state(pool)[0] == "healthy"
    assert check(pool).report["mismatches"] == 0
    assert files_intact(pool)


def test_a_spare_takes_over_by_itself() -> None:
    pool = build(shelf(6), "parity-2", spares=1)
    fill(pool)
    carry_all()
    happens("fail", "A1")
    assert pool_state(pool)[1][0] == "rebuilding"
    carry_all()
    assert pool_state(pool)[0] == "healthy"
    assert check(pool).report["mismatches"] == 0
    with transaction() as session:
        assert session.exec(select(LogRow).where(LogRow.act == "spare-took-over")).one().sentence.startswith("Spare A6")


def test_a_failure_in_the_first_sync_heals_before_the_sync_goes_on() -> None:
    pool = build(shelf(5))
    fill(pool, 0.2)
    carry(open_jobs("fill")[0])
    happens("fail", "A3")
    (sync,) = open_jobs("first-sync")
    answers = iter([False])
    carry(sync, stop=lambda: next(answers, True))
    with transaction() as session:
        assert session.get(JobRow, sync).state == "held"  # type: ignore[union-attr]
    assert files_intact(pool)
    replace(pool, 2, shelf(1, name="B")[0])
    carry(open_jobs("rebuild")[0])
    carry(sync)
    assert check(pool).report["mismatches"] == 0
    assert files_intact(pool)


def test_more_failures_than_survived_is_lost_and_says_so() -> None:
    pool = build(shelf(4), "parity-1")
    carry_all()
    happens("fail", "A1")
    happens("fail", "A2")
    assert pool_state(pool)[0] == "lost"
    with pytest.raises(NotPossible, match="nothing is left"):
        replace(pool, 0, shelf(1, name="B")[0])


def test_flipped_bits_show_in_a_check_and_only_there() -> None:
    pool = build(shelf(5), "parity-2")
    fill(pool)
    carry_all()
    devices().flip_bits("A2", 60 * GIB, extents=[1, 5, 9], seed=4)
    observe(devices())
    assert pool_state(pool)[0] == "healthy"
    report = check(pool).report
    assert (report["mismatches"], report["put_right"]) == (3, 3)
    assert {p["put_right_slot"] for p in report["places"]} == {1}
    assert check(pool).report["mismatches"] == 0


def test_a_check_waits_for_a_whole_pool() -> None:
    pool = build(shelf(4), "parity-1")
    with transaction() as session, pytest.raises(NotPossible, match="first sync"):
        start_check(session, open_pool(session, pool), "ida")
    carry_all()
    happens("fail", "A1")
    with transaction() as session, pytest.raises(NotPossible, match="replace what is missing"):
        start_check(session, open_pool(session, pool), "ida")


def test_a_drive_too_small_or_taken_is_refused() -> None:
    pool = build(shelf(4), "parity-1")
    happens("fail", "A1")
    with pytest.raises(NotPossible, match="too small"):
        replace(pool, 0, shelf(1, name="B", size=20 * GIB)[0])
    others = shelf(4, name="C")
    build(others, "parity-1", name="q")
    with pytest.raises(NotPossible, match="in use in pool q"):
        replace(pool, 0, others[0])


def test_the_database_holds_what_it_can() -> None:
    pool = build(shelf(4), "parity-1")
    with transaction() as session:
        place = session.exec(select(PoolPlace)).first()
        assert place is not None
        drive = place.drive_id
    with pytest.raises(IntegrityError), transaction() as session:
        session.add(PoolPlace(pool_id=pool, slot=9, size=1, drive_id=drive))
    with transaction() as session:
        volume = session.exec(select(VolumeRow)).one().id or 0
        session.connection().exec_driver_sql("update volume_piece set count = 100 where first = 0")
    for wrong, at, first in (("outside its pool", 0, 10**6), ("outside its volume", 10**6, 0),
                             ("no_piece_over_another", 5, 0), ("no_part_of_a_volume_twice", 0, 170)):  # fmt: skip
        with pytest.raises(DBAPIError, match=wrong), transaction() as session:
            session.add(VolumePiece(pool_id=pool, volume_id=volume, at=at, first=first, count=2))
    for statement in ("update logbook set who = 'x'", "delete from logbook", "truncate logbook"):
        with pytest.raises(DBAPIError, match="cannot be changed"), transaction() as session:
            session.connection().exec_driver_sql(statement)


def test_users_and_jobs_share_the_drives_time() -> None:
    pool = build(shelf(4), "parity-1")
    filling = fill(pool, 0.2)
    (sync,) = open_jobs("first-sync")
    for state, pace, users, jobs in (
        ("waiting", "fast", 1, 1.25), ("running", "fast", 5, 1.25), ("running", "gentle", 1.25, 5),
    ):  # fmt: skip
        with transaction() as session:
            running, writing = session.get(JobRow, sync), session.get(JobRow, filling)
            assert running is not None
            assert writing is not None
            running.state, running.pace = state, pace
            session.flush()
            paces = paces_under_way(session, [pool])
            assert slowing(writing, paces) == pytest.approx(users)
            assert slowing(running, paces) == pytest.approx(jobs)


def test_files_damaged_behind_everybodys_back_are_found() -> None:
    """The checksums are real: a byte changed on a pool without redundancy is a file that differs."""
    pool = build(shelf(1), "single")
    carry(fill(pool, 0.9))
    assert files_intact(pool)
    devices().flip_bits("A1", 60 * GIB, extents=list(range(59)), seed=2)
    assert not files_intact(pool)
    with transaction() as session:
        assert any(f.intact is False for f in session.exec(select(SampleFile)))
