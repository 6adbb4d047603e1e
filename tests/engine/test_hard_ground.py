"""What real work and hard luck do to a pool, one by one: nothing acknowledged is lost, and nothing hides the rest."""

from __future__ import annotations

import errno
import json
import time
from collections.abc import Callable

import pytest
from sqlmodel import select

from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.inventory import DriveRecord
from pairshelf.core.domain.units import GIB
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.engine import keys
from pairshelf.engine.carry import carry, pick_up_the_dropped
from pairshelf.engine.io.stripe_journal import StripeJournal
from pairshelf.engine.jobs.pacing import pause, resume
from pairshelf.engine.observe import observe
from pairshelf.engine.pools import devices, journal_of, open_io, open_pool
from pairshelf.standin.media import Media
from pairshelf.store import database
from pairshelf.store.database import transaction
from pairshelf.store.tables import DriveRow, JobRow, LogRow
from tests.engine.helpers import (
    at_once,
    build,
    carry_all,
    check,
    do,
    files_intact,
    fill,
    happens,
    pool_row,
    pool_state,
    shelf,
)
from tests.engine.test_crashes import dies_at

pytestmark = pytest.mark.usefixtures("db")


@pytest.fixture(autouse=True)
def quick(db: str) -> None:
    at_once()


def _killed_amid_a_write(pool: int) -> tuple[int, StripeJournal]:
    """A job whose worker was killed while the journal held a write; the job and the journal."""
    filling = fill(pool, 0.3)
    journal = StripeJournal(journal_of(pool_row(pool).uid))
    for point in range(2, 40):
        database.engine().dispose()
        dies_at(point, lambda: carry(filling))
        if journal.pending():
            time.sleep(0.3)  # The server takes a moment to let go of a dead one's locks.
            return filling, journal
    raise AssertionError("never killed amid a write")


@pytest.mark.parametrize("scheme", ["parity-1", "parity-2", "stepped-1", "copies-3"])
def test_a_write_that_recovery_finishes_is_missed_by_who_is_away(scheme: str) -> None:
    """Killed amid a write, a drive pulled, the job paused: what reading finishes first, that drive has missed."""
    pool = build(shelf(3 if scheme == "copies-3" else 5), scheme)
    carry(fill(pool, 0.1))
    carry_all()
    filling, journal = _killed_amid_a_write(pool)
    happens("pull", "A2")
    with transaction() as session:
        pause(session, session.get_one(JobRow, filling))
    assert files_intact(pool)
    assert not journal.pending(), "the write was finished without it"
    happens("put_back", "A2")
    assert pool_state(pool)[1][1] == "rebuilding"
    with transaction() as session:
        resume(session, session.get_one(JobRow, filling))
    carry_all()
    assert check(pool).report["mismatches"] == 0
    assert files_intact(pool)


def test_a_locked_pool_holds_its_jobs_and_is_not_touched() -> None:
    pool = do("build-pool", name="p", scheme="parity-1", drives=tuple(shelf(5)), volume="v", file_system="xfs",
              encrypted=True).pool_id or 0  # fmt: skip
    carry_all()
    key = keys.key_of(pool)
    assert key
    filling, journal = _killed_amid_a_write(pool)
    keys.forget_key(pool)
    happens("pull", "A2")
    carry(filling, stop=_once())
    with transaction() as session:
        job = session.get_one(JobRow, filling)
        assert (job.state, "locked" in (job.why_held or "")) == ("held", True)
    assert journal.pending()
    happens("put_back", "A2")
    assert pool_state(pool)[1][1] == "active", "it missed nothing"
    keys.open_key(pool, key)
    carry_all()
    assert check(pool).report["mismatches"] == 0
    assert files_intact(pool)


def _once() -> Callable[[], bool]:
    rounds = iter((False, True))
    return lambda: next(rounds, True)


def test_nothing_of_a_pool_is_touched_while_it_is_unreachable() -> None:
    pool = build(shelf(5), "parity-1")
    carry_all()
    happens("pull", "A1")
    happens("pull", "A2")
    with transaction() as session, pytest.raises(NotPossible, match="nothing of it is touched"):
        open_io(session, open_pool(session, pool), devices())


def test_a_full_disk_holds_a_job_and_it_goes_on(monkeypatch: pytest.MonkeyPatch) -> None:
    pool = build(shelf(5), "parity-1")
    carry_all()
    filling = fill(pool, 0.4)
    real = Media.write

    def full(self: Media, start: int, data: bytes) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(Media, "write", full)
    carry(filling, stop=_once())
    with transaction() as session:
        job = session.get_one(JobRow, filling)
        assert (job.state, job.why_held) == ("held", "the disk beneath is full; it goes on when there is room")
    monkeypatch.setattr(Media, "write", real)
    carry(filling)
    assert files_intact(pool)
    assert check(pool).report["mismatches"] == 0


def test_a_full_disk_of_the_database_holds_a_job_too() -> None:
    pool = build(shelf(5), "parity-1")
    carry_all()
    filling = fill(pool, 0.4)
    with transaction() as session:
        session.connection().exec_driver_sql(
            "create function full_disk() returns trigger language plpgsql as $$ begin "
            "raise exception 'could not extend file' using errcode = '53100'; end $$; "
            "create trigger full_disk before insert on sample_file for each row execute function full_disk()"
        )
    carry(filling, stop=_once())
    with transaction() as session:
        assert "full" in (session.get_one(JobRow, filling).why_held or "")
        session.connection().exec_driver_sql("drop trigger full_disk on sample_file")
    carry(filling)
    assert files_intact(pool)


def test_rows_that_dead_workers_took_are_cleared() -> None:
    build(shelf(4), "parity-1")
    with transaction() as session:
        session.connection().exec_driver_sql(
            "insert into procrastinate_workers (last_heartbeat) values (now() - interval '1 hour'), (now())"
        )
        for worker in ("min", "max"):
            session.connection().exec_driver_sql(
                "insert into procrastinate_jobs (queue_name, task_name, args, status, worker_id) values "
                f"('default', 'carry-job', '{{\"job_id\": 99}}', 'doing', (select {worker}(id) from procrastinate_workers))"
            )
    pick_up_the_dropped()
    with transaction() as session:
        doing = session.connection().exec_driver_sql("select count(*) from procrastinate_jobs where status = 'doing'")
        assert doing.scalar_one() == 1, "the living worker's stays"


@pytest.mark.parametrize(
    "content",
    [b"no json", b"[]", b"null", b'{"serial": 5}', b"\xff\xfe", b"[" * 5000,
     json.dumps({"shelf": "A", "bay": 2, "serial": "Z", "size": 95 * 10**17, "kind": "hdd"}).encode(),
     json.dumps({"shelf": "A", "bay": 2, "serial": "Z", "size": 10**12, "kind": "hdd", "maker": "a\0b"}).encode(),
     json.dumps({"shelf": "A", "bay": 2, "serial": "Z", "size": 10**12, "kind": "hdd", "model": "\ud800"}).encode(),
     json.dumps({"shelf": "A", "bay": 10**12, "serial": "Z", "size": 10**12, "kind": "hdd"}).encode(),
     json.dumps({"shelf": "x" * 10**5, "bay": 1, "serial": "Z", "size": 10**12, "kind": "hdd"}).encode()],
)  # fmt: skip
def test_an_arrival_that_cannot_be_read_hides_nothing(content: bytes) -> None:
    """It is set aside and told of; the same look finds the failed drive, and the spare takes over."""
    world = devices()
    pool = build(shelf(5), "parity-1", spares=1)
    carry_all()
    (world.folder / "arrivals" / "20260101-x.json").write_bytes(content)
    happens("fail", "A2")
    assert pool_state(pool)[1][1] == "rebuilding"
    with transaction() as session:
        said = session.exec(select(LogRow.sentence).where(LogRow.act == "drive-set-aside")).one()
    assert "left aside" in said and said.isprintable()
    assert not world.arrivals()
    assert (world.folder / "arrivals" / "set-aside" / "20260101-x.json").read_bytes() == content


def test_a_fault_that_cannot_be_read_hides_nothing() -> None:
    world = devices()
    pool = build(shelf(5), "parity-1")
    for name, content in (("x", b"\0"), ("y", b"[" * 5000), ("z", b'{"serial": "\\u0000", "presence": "failed"}')):
        (world.folder / "faults" / name).write_bytes(content)
    happens("fail", "A2")
    assert pool_state(pool)[1][1] == "failed"


@pytest.mark.parametrize("serial", [".", "..", "📁" * 64, "a/b", "\\", "%2e", "ÄÖ ß"])
def test_a_serial_may_be_anything(serial: str) -> None:
    world = devices()
    world.put_in(DriveRecord("A", 9, serial, 60 * GIB, Kind.HDD))
    shelf(1)
    observe(world)
    with transaction() as session:
        drive = session.exec(select(DriveRow).where(DriveRow.serial == serial)).one()
    world.open(serial, drive.size).write(0, b"x" * world.block)
    assert world.media_path(serial).parent == world.folder / "media"
    happens("fail", serial)
    with transaction() as session:
        assert session.exec(select(DriveRow.condition).where(DriveRow.serial == serial)).one() == "failed"


def test_no_drive_can_be_put_in_that_could_not_be_read() -> None:
    world = devices()
    for wrong in (
        {"size": 95 * 10**17},
        {"maker": "a\0b"},
        {"holds": "\ud800"},
        {"serial": "x" * 65},
        {"bay": -1},
        {"afr": 2.0},
    ):
        facts = {"shelf": "A", "bay": 1, "serial": "Z", "size": 10**12, "kind": Kind.HDD, **wrong}
        with pytest.raises(BadInput) as refused:
            world.put_in(DriveRecord(**facts))
        assert refused.value.field == next(iter(wrong))
    assert not world.arrivals()


def test_two_drives_of_a_spread_pool_that_cannot_read_the_same_stripes_are_both_put_right() -> None:
    drives = tuple(shelf(7, size=24 * GIB))
    pool = do("build-pool", name="p", scheme="spread", domain="drive", drives=drives, volume="v", file_system="xfs",
              volume_size="40 GiB", protection="parity-2:6").pool_id or 0  # fmt: skip
    carry_all()
    carry(fill(pool, 0.8))
    for serial in ("A1", "A2"):
        devices().lose_extents(serial, list(range(20)))
    assert files_intact(pool)
    assert check(pool).report["mismatches"] == 0
    # What stands nowhere is not read.
    assert len(devices().lost_extents("A1")) < 20 > len(devices().lost_extents("A2"))
