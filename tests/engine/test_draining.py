"""Drives, shelves and hosts emptied while everything stays protected."""

from __future__ import annotations

import random
import threading
import time

import pytest
from sqlmodel import select

from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.inventory import DriveRecord
from pairshelf.core.domain.units import GIB
from pairshelf.core.errors import Busy, NotPossible
from pairshelf.engine.carry import carry
from pairshelf.engine.found_pools import bears
from pairshelf.engine.jobs.kinds import JOBS
from pairshelf.engine.jobs.work import Work
from pairshelf.engine.pools import devices, open_pool
from pairshelf.formats.partition_image import read_table
from pairshelf.store.database import transaction
from pairshelf.store.repositories.drives_and_pools import add_records
from pairshelf.store.tables import DrainRow, DriveRow, JobRow, PartitionPlan, PoolPlace, PoolRow, Service, VolumeRow
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
)  # fmt: skip

pytestmark = pytest.mark.usefixtures("db")


@pytest.fixture(autouse=True)
def quick(db: str) -> None:
    at_once()


def spread(drives: list[int], protection: str, *, domain: str = "drive", size: str = "60 GiB", name: str = "p") -> int:
    return do("build-pool", name=name, scheme="spread", drives=tuple(drives), domain=domain, volume="v", file_system="xfs",
              protection=protection, volume_size=size).pool_id or 0  # fmt: skip


def on_host(host: str, count: int, *, size: int = 40 * GIB) -> list[int]:
    """A shelf of its own in a host, with so many drives."""
    records = [
        DriveRecord(f"S-{host}", i + 1, f"{host}-{i + 1}", size, Kind.HDD, host=host, bays=12) for i in range(count)
    ]
    with transaction() as session:
        return [r.id or 0 for r in add_records(session, records, service=Service.FREE)]


def drives_of(pool: int) -> set[str]:
    with transaction() as session:
        rows = session.exec(select(DriveRow.serial).join(PoolPlace).where(PoolPlace.pool_id == pool))
        return set(rows)


def empty_and_free(ids: list[int]) -> None:
    """In the books nothing refers to these drives, and they say what they hold."""
    with transaction() as session:
        for drive in ids:
            row = session.get_one(DriveRow, drive)
            assert (row.service, row.drain_id) == ("free", None), row.serial
            assert "old data" in (row.holds or "")
            assert session.exec(select(PoolPlace).where(PoolPlace.drive_id == drive)).first() is None
        for number in session.exec(select(PoolRow.id)):
            layout = open_pool(session, number or 0).layout
            assert sum(layout.used_extents) > 0


def labels_right(pool: int) -> None:
    """Every member's label names its slot."""
    world = devices()
    with transaction() as session:
        for place in open_pool(session, pool).members:
            drive = session.get_one(DriveRow, place.drive_id)
            label = world.open(drive.serial, drive.size).read_label()
            assert label is not None and (label["pool_id"], label["slot"]) == (pool, place.slot)


@pytest.mark.parametrize(("scheme", "sets"), [("parity-1", 2), ("copies-2", 3), ("stepped-1", 1), ("stripe", 1)])
def test_a_shelf_of_sets_is_emptied_onto_free_drives(scheme: str, sets: int) -> None:
    old = shelf(4, name="Old", size=50 * GIB)
    stay = shelf(2, name="Stay", size=50 * GIB)
    new = shelf(5, name="New", size=52 * GIB)
    pool = build([*old, *stay], scheme, sets=sets)
    carry_all()
    carry(fill(pool))
    do("drain", shelves=("Old",))
    with transaction() as session:
        (row,) = session.exec(select(DrainRow)).all()
        assert row.subject == "shelf Old" and row.ended_at is None
        # Nothing that stands there is given a duty meanwhile.
        assert all(session.get_one(DriveRow, d).drain_id == row.id for d in old)
    fill(pool, 0.7)  # Written while it moves.
    carry_all()
    assert pool_state(pool)[0] == "healthy"
    empty_and_free(old)
    labels_right(pool)
    assert drives_of(pool).isdisjoint({f"Old{i}" for i in range(1, 5)})
    assert files_intact(pool) and check(pool).report["mismatches"] == 0
    with transaction() as session:
        (row,) = session.exec(select(DrainRow)).all()
        assert row.ended_at is not None and not row.left_off
        assert len([d for d in new if session.get_one(DriveRow, d).service == "free"]) == 1


@pytest.mark.parametrize(
    ("protection", "domain", "leaving"),
    [("copies-2", "drive", 2), ("parity-1:3", "drive", 3), ("parity-1:3", "host", 4), ("copies-3", "host", 4)],
)
def test_drives_and_hosts_of_a_spread_pool_are_emptied_onto_the_others(
    protection: str, domain: str, leaving: int
) -> None:
    hosts = [on_host(h, 4) for h in ("Oak", "Elm", "Fir", "Yew")]
    pool = spread([d for one in hosts for d in one], protection, domain=domain)
    carry_all()
    carry(fill(pool, 0.8))
    old = hosts[1][:leaving]
    if domain == "host":
        do("drain", hosts=("Elm",))
    else:
        do("drain", drives=tuple(old))
    with transaction() as session:
        opened = open_pool(session, pool)
        assert len([p for p in opened.places if p.draining]) == leaving
        before = opened.layout.stock
    do("make-volumes", pool="p", name="w", size="6 GiB", file_system="xfs", protection=protection)
    carry_all()
    empty_and_free(old)
    labels_right(pool)
    with transaction() as session:
        opened = open_pool(session, pool)
        assert len(opened.members) == 16 - leaving
        assert opened.row.capacity == opened.layout.stock == before - leaving * 39
        volume = session.exec(select(VolumeRow).where(VolumeRow.name == "v")).one().id
    assert files_intact(pool, volume) and check(pool).report["mismatches"] == 0


def test_nothing_new_is_placed_on_what_is_being_emptied() -> None:
    drives = shelf(6, size=30 * GIB)
    pool = spread(drives, "copies-2", size="20 GiB")
    carry_all()
    free = shelf(1, name="B")[0]
    do("drain", drives=(drives[0], drives[1]))
    with transaction() as session:
        opened = open_pool(session, pool)
        closed = opened.closed()
        assert len(closed) == 2
        held = [opened.layout.used_extents[s] for s in closed]
    do("make-volumes", pool="p", name="w", size="30 GiB", file_system="xfs", protection="copies-2")
    with transaction() as session:
        layout = open_pool(session, pool).layout
        assert [layout.used_extents[s] for s in closed] == held
    with pytest.raises(Busy, match="Drives of this pool are being drained"):
        do("replace-drive", pool_id=pool, slot=3, drive_id=free)
    carry_all()
    empty_and_free(drives[:2])


def test_what_is_missing_is_said_and_nothing_begun() -> None:
    old = shelf(4, name="Old", size=50 * GIB)
    pool = build(old, "parity-1")
    carry_all()
    shelf(1, name="New", size=50 * GIB)
    shelf(2, name="Small", size=20 * GIB)
    with pytest.raises(NotPossible, match=r"Missing: 3 free drives of 52\.88 GB or more for p"):
        do("drain", shelves=("Old",))
    cold = spread(shelf(3, name="C", size=20 * GIB), "copies-3", size="10 GiB", name="cold")
    with pytest.raises(
        NotPossible, match="1 further drive for cold: its stripes go over 3 drives, and 2 would be left"
    ):
        do("drain", drives=(_serial("C1"),))
    full = spread(shelf(4, name="D", size=20 * GIB), "copies-2", size="34 GiB", name="full")
    with pytest.raises(NotPossible, match=r"elsewhere in full, such as 1 drive of"):
        do("drain", drives=(_serial("D1"),))
    with pytest.raises(NotPossible, match="Take the pool apart instead"):
        do("drain", shelves=("D",))
    with transaction() as session:
        assert not session.exec(select(DrainRow)).all()
    assert not open_jobs("drain") and not open_jobs("copy")
    assert {pool, cold, full}


def _serial(serial: str) -> int:
    with transaction() as session:
        return session.exec(select(DriveRow.id).where(DriveRow.serial == serial)).one() or 0


@pytest.mark.parametrize("what", ["start", "again", "unknown", "itself", "empty", "nothing", "wiping"])
def test_what_cannot_be_drained(what: str) -> None:
    drives = shelf(8, size=30 * GIB)
    pool = spread(drives[:6], "copies-2", size="20 GiB")
    request: dict[str, object] = {"drives": (drives[0],)}
    match = {
        "start": "starts from it", "again": "is being emptied already", "unknown": "no shelf Birch", "itself": "emptied itself",
        "empty": "it is empty already", "nothing": "Choose the drives", "wiping": "being wiped",
    }[what]  # fmt: skip
    with transaction() as session:
        row = session.get_one(DriveRow, drives[0])
        if what == "start":
            row.starts_host = True
        if what == "wiping":
            row.service = "wiping"
    if what == "again":
        do("drain", drives=(drives[0],))
    if what == "unknown":
        request = {"shelves": ("Birch",)}
    if what == "itself":
        request["onto"] = (drives[0],)
    if what == "empty":
        request = {"drives": (drives[7],)}
    if what == "nothing":
        request = {}
    with pytest.raises(Exception, match=match):
        do("drain", **request)
    assert pool


def test_two_drains_meet_and_one_is_left_off_and_evened_out() -> None:
    drives = shelf(6, size=40 * GIB)
    pool = spread(drives, "copies-2")
    carry_all()
    carry(fill(pool, 0.9))
    do("drain", drives=(drives[0],))
    with pytest.raises(Busy, match="Other drives of it are being drained"):
        do("drain", drives=(drives[1],))
    (job,) = open_jobs("drain")
    _some_steps(job, 3)
    with transaction() as session:
        number = session.exec(select(DrainRow.id)).one() or 0
        moved = session.get_one(JobRow, job).report["extents"]
        assert 0 < moved < 100
    do("leave-drain", drain=number)
    with transaction() as session:
        assert session.get_one(DrainRow, number).left_off
        assert not any(p.draining for p in open_pool(session, pool).places)
        assert session.get_one(DriveRow, drives[0]).drain_id is None
    carry_all()
    with transaction() as session:
        used = open_pool(session, pool).layout.used_extents
        assert max(used) - min(used) <= 1
    assert files_intact(pool) and check(pool).report["mismatches"] == 0
    with pytest.raises(NotPossible, match="has ended"):
        do("leave-drain", drain=number)


def _some_steps(job: int, steps: int, most: int = 2) -> None:
    """A job taken so many small steps further."""
    from pairshelf.engine.jobs.work import Work

    world = devices()
    for _ in range(steps):
        with transaction() as session:
            row = session.get_one(JobRow, job)
            work = Work(session, row, open_pool(session, row.pool_id or 0), world, most)
            JOBS[row.kind].step(work)


def test_copies_left_off_keep_their_drives_and_spares_go_at_once() -> None:
    old = shelf(5, name="Old", size=50 * GIB)
    new = shelf(4, name="New", size=50 * GIB)
    pool = build(old, "parity-1", spares=1)
    carry_all()
    do("drain", shelves=("Old",))
    with transaction() as session:
        number = session.exec(select(DrainRow.id)).one() or 0
        free = {d for d in old if session.get_one(DriveRow, d).service == "free"}
        assert len(free) == 1  # the spare
    carry(open_jobs("copy")[0])
    do("leave-drain", drain=number)
    with transaction() as session:
        services = [session.get_one(DriveRow, d).service for d in (*old, *new)]
    assert services.count("in-use") == 4 and not open_jobs("copy")
    assert pool_state(pool)[0] == "healthy"


def test_copies_go_as_the_links_bear_and_the_others_wait_their_turn() -> None:
    records = [DriveRecord("Slow", i + 1, f"S{i}", 30 * GIB, Kind.HDD, bays=8, link=400_000_000) for i in range(4)]
    with transaction() as session:
        old = [r.id or 0 for r in add_records(session, records, service=Service.FREE)]
    shelf(4, name="New", size=30 * GIB)
    build(old, "parity-1")
    carry_all()
    do("drain", shelves=("Slow",))
    jobs = open_jobs("copy")
    with transaction() as session:
        assert session.exec(select(DrainRow.at_once)).one() == 2
    carry(jobs[2])
    with transaction() as session:
        row = session.get_one(JobRow, jobs[2])
        assert row.state == "held" and "turn" in (row.why_held or "") and row.cursor == 0
    carry(jobs[0])
    carry(jobs[2])
    with transaction() as session:
        assert [session.get_one(JobRow, j).state for j in jobs] == ["done", "waiting", "done", "waiting"]


def test_it_is_evened_out_when_drives_come() -> None:
    pool = spread(shelf(4, size=40 * GIB), "copies-2", size="60 GiB")
    carry_all()
    carry(fill(pool, 0.9))
    more = shelf(2, name="B", size=40 * GIB)
    do("add-drives", pool="p", drives=tuple(more))
    (job,) = open_jobs("even-out")
    carry(job)
    with transaction() as session:
        used = open_pool(session, pool).layout.used_extents
        assert max(used) - min(used) <= 1 and min(used) >= 19
        assert session.get_one(JobRow, job).state == "done"
    assert files_intact(pool) and check(pool).report["mismatches"] == 0
    with pytest.raises(NotPossible, match="filled alike already"):
        do("even-out", pool="p")


@pytest.mark.parametrize("seed", range(6))
def test_drives_fail_at_random_while_a_spread_pool_is_drained(seed: int) -> None:
    """As many as promised, at any instant, the leaving ones among them; the rest is moved and every file is there."""
    dice = random.Random(seed)
    protection, may_fail, domain = dice.choice(
        [("copies-2", 1, "drive"), ("copies-3", 2, "drive"), ("parity-1:4", 1, "drive"), ("parity-1:3", 1, "host")]
    )
    hosts = [on_host(h, 3) for h in ("Oak", "Elm", "Fir", "Yew", "Ash")]
    ids = [d for one in hosts for d in one]
    pool = spread(ids, protection, domain=domain)
    carry_all()
    carry(fill(pool, 0.8))
    leaving = hosts[1] if domain == "host" else dice.sample(ids, 3)
    do("drain", drives=tuple(leaving))
    (job,) = open_jobs("drain")
    _some_steps(job, dice.randint(0, 8), dice.randint(1, 6))
    with transaction() as session:
        members = [session.get_one(DriveRow, p.drive_id).serial for p in open_pool(session, pool).members]
    for serial in dice.sample(members, may_fail):
        happens("fail", serial)
    assert pool_state(pool)[0] in ("degraded", "unprotected")
    assert files_intact(pool)
    for job in (*open_jobs("self-repair"), *open_jobs("drain")):
        carry(job)
    carry_all()
    assert not open_jobs()
    assert files_intact(pool) and check(pool).report["mismatches"] == 0
    with transaction() as session:
        assert all(session.get_one(DriveRow, d).service == "free" for d in leaving)


def test_the_last_two_that_leave_at_the_same_moment_end_it() -> None:
    """Each of them sees the other's drive still in use until that has been committed."""
    old = shelf(4, name="Old", size=30 * GIB)
    shelf(4, name="New", size=30 * GIB)
    pools = [build(old[:2], "copies-2", name="p"), build(old[2:], "copies-2", name="q")]
    carry_all()
    do("drain", shelves=("Old",))
    for job in open_jobs("copy")[:4:3]:
        carry(job)
    first, second = open_jobs("copy")
    ready, go = threading.Event(), threading.Event()

    def late() -> None:
        with transaction() as session:
            row = session.get_one(JobRow, first)
            JOBS["copy"].step(Work(session, row, open_pool(session, row.pool_id or 0), devices(), 10**6))
            row.state = "done"
            session.flush()
            ready.set()
            go.wait(5)

    thread = threading.Thread(target=late)
    thread.start()
    assert ready.wait(20)
    other = threading.Thread(target=carry, args=(second,))
    other.start()
    time.sleep(0.5)
    go.set()
    thread.join()
    other.join()
    with transaction() as session:
        assert session.exec(select(DrainRow)).one().ended_at is not None
        assert all(session.get_one(DriveRow, d).drain_id is None for d in old)
    assert len(pools) == 2


def _divide(drive: int, *sizes: str) -> int:
    """A drive divided into partitions with file systems; its pool."""
    parts = [{"size": size, "file_system": "ext4"} for size in sizes]
    with transaction() as session:
        session.add(
            PartitionPlan(drive_id=drive, scheme="gpt", sector=512, disk_id=str(drive), parts=parts, changed_by="ida")
        )
    return do("write-partitions", drive_id=drive).pool_id or 0


def test_a_divided_drive_hands_over_with_its_table_and_everything_on_it() -> None:
    (old, small) = shelf(1), shelf(1, name="S", size=59 * GIB)
    pool = _divide(old[0], "20GiB", "10GiB")
    with pytest.raises(NotPossible, match=r"1 free drive of 64\.42 GB or more, with sectors of 512 bytes, for A1"):
        do("drain", drives=tuple(old))
    (new,) = shelf(1, name="N", size=80 * GIB)
    with transaction() as session:
        session.get_one(DriveRow, new).sector_size = 4096
    with pytest.raises(NotPossible, match="sectors of 512 bytes"):
        do("drain", drives=tuple(old))
    with transaction() as session:
        session.get_one(DriveRow, new).sector_size = 512
        session.add(PartitionPlan(drive_id=new, scheme="gpt", sector=512, disk_id="n", parts=[], changed_by="ida"))
        volumes = {v.name: v.number for v in session.exec(select(VolumeRow).where(VolumeRow.pool_id == pool))}
        before = session.exec(select(PartitionPlan.written).where(PartitionPlan.pool_id == pool)).one()
    for volume in volumes.values():
        carry(fill(pool, 0.6, volume))
    do("drain", drives=tuple(old))
    carry(fill(pool, 0.8, volumes["part-1"]))
    carry_all()
    empty_and_free(old)
    with transaction() as session:
        assert session.get_one(PoolRow, pool).name == "N1"
        row = session.exec(select(PartitionPlan).where(PartitionPlan.pool_id == pool)).one()
        assert (row.drive_id, row.written) == (new, before)
        assert session.get_one(DriveRow, small[0]).service == "free"
        drive = session.get_one(DriveRow, new)
    found = read_table(devices().open("N1", drive.size).read_sectors, drive.size, 512)
    assert found is not None
    assert [(p.number, p.first, p.sectors) for p in found.parts] == [
        (p["number"], p["first"], p["sectors"]) for p in before or ()
    ]
    for volume in volumes.values():
        assert files_intact(pool, volume)
    # And it is used as any other: more beside what is there, and what is there grows.
    with transaction() as session:
        session.get_one(PartitionPlan, new).parts = [{"size": "5GiB", "file_system": "ext4"}]
    do("write-partitions", drive_id=new)
    with transaction() as session:
        assert len(session.exec(select(VolumeRow).where(VolumeRow.pool_id == pool)).all()) == 3


def test_a_divided_drive_is_no_pool_that_is_found_elsewhere() -> None:
    (drive,) = shelf(1)
    _divide(drive, "20GiB")
    assert bears(devices(), "A1", 60 * GIB) is None
    build(shelf(2, name="B"), "copies-2")
    assert (bears(devices(), "B1", 60 * GIB) or {})["name"] == "p"
