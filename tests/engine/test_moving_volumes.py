"""Volumes moved to another pool while they are used."""

from __future__ import annotations

import random
from typing import Any

import pytest
from sqlalchemy import text
from sqlmodel import SQLModel, col, select

from pairshelf.core.domain.units import GIB
from pairshelf.core.errors import Busy, NotPossible, PairShelfError
from pairshelf.engine.carry import carry
from pairshelf.engine.history import Watch
from pairshelf.engine.io.files import remove_files
from pairshelf.engine.io.volume_io import files_on
from pairshelf.engine.jobs import move_volume
from pairshelf.engine.jobs.kinds import JOBS
from pairshelf.engine.jobs.move_volume import FOLLOW
from pairshelf.engine.jobs.work import Work
from pairshelf.engine.pools import devices, open_pool
from pairshelf.store.database import transaction
from pairshelf.store.repositories.holdings import house_now
from pairshelf.store.tables import (
    BackupRow,
    ChangedRegion,
    Crossing,
    Host,
    JobRow,
    KeepRule,
    Mount,
    OutlookRow,
    PoolRow,
    SampleFile,
    Share,
    SheetRow,
    Site,
    TargetLun,
    VolumePiece,
    VolumeRow,
    now,
)
from tests.engine.helpers import at_once, carry_all, check, do, files_intact, fill, happens, open_jobs, shelf

pytestmark = pytest.mark.usefixtures("db")


@pytest.fixture(autouse=True)
def quick(db: str) -> None:
    at_once()


def two_pools(protection: str = "", **volume: Any) -> tuple[int, int, int]:
    """A pool with a volume that has files, another pool beside it; and the volume's number."""
    a = do("build-pool", name="from", scheme="parity-1", drives=tuple(shelf(4))).pool_id or 0
    more = {"scheme": "spread", "domain": "drive"} if protection else {"scheme": "copies-2"}
    b = (
        do(
            "build-pool", name="to", drives=tuple(shelf(6 if protection else 2, name="B", size=300 * GIB)), **more
        ).pool_id
        or 0
    )
    do("make-volumes", pool="from", name="v", size="100 GiB", **{"file_system": "xfs", **volume})
    carry_all()
    number = volume_of("from", "v")
    carry(fill(a, 0.5, number))
    return a, b, number


def volume_of(pool: str, name: str) -> int:
    with transaction() as session:
        query = select(VolumeRow.id).join(PoolRow, col(PoolRow.id) == VolumeRow.pool_id)
        return session.exec(query.where(PoolRow.name == pool, VolumeRow.name == name)).one() or 0


def contents(volume: int) -> dict[str, str]:
    with transaction() as session:
        return {f.name: f.checksum for f in files_on(session, volume)}


def steps(job: int, count: int, most: int) -> None:
    """A job taken so many small steps further, and not to its end."""
    for _ in range(count):
        with transaction() as session:
            row = session.get_one(JobRow, job)
            if row.cursor + most >= row.total:
                return
            JOBS[row.kind].step(Work(session, row, open_pool(session, row.pool_id or 0), devices(), most))


@pytest.mark.parametrize(
    ("protection", "volume", "request_"),
    [
        ("", {}, {}),
        ("parity-1:4", {}, {"protection": "parity-1:4"}),
        ("", {"thin": True}, {"name": "w"}),
        ("copies-2", {"thin": True}, {"protection": "copies-2", "keep": True}),
        ("", {}, {"file_system": "ext4"}),
        ("", {"thin": True}, {"provision": "thick", "keep": True}),
        ("parity-1:3", {}, {"provision": "thin", "protection": "parity-1:3", "file_system": "btrfs"}),
        ("", {"file_system": "none"}, {"keep": True}),
    ],
)
def test_it_is_moved_with_all_that_was_written_meanwhile(
    protection: str, volume: dict[str, Any], request_: dict[str, Any]
) -> None:
    a, b, number = two_pools(protection, **volume)
    with transaction() as session:
        uuid = session.get_one(VolumeRow, number).uuid
    do("move-volume", volume="from/v", pool="to", **request_)
    (job,) = open_jobs("move-volume")
    steps(job, 4, 9)
    # Written, and deleted, in the midst of it.
    carry(fill(a, 0.7, number))
    with transaction() as session:
        pool = open_pool(session, a)
        row = session.get_one(VolumeRow, number)
        remove_files(session, pool, row, files_on(session, number)[:3])
    steps(job, 6, 9)
    carry(fill(a, 0.8, number))
    before = contents(number)
    carry(job)
    there = volume_of("to", request_.get("name", "v"))
    assert contents(there) == before and files_intact(b, there)
    assert check(b).report["mismatches"] == 0
    with transaction() as session:
        done = session.get_one(JobRow, job)
        assert (done.state, done.report["differed"]) == ("done", 0)
        moved = session.get_one(VolumeRow, there)
        same = not request_.get("file_system") and not request_.get("provision")
        assert (moved.uuid == uuid) == same
        assert moved.moving_from is None and not session.exec(select(ChangedRegion)).all()
        kept = session.get(VolumeRow, number)
        if request_.get("keep"):
            assert kept is not None and kept.moving_to is None and kept.uuid != moved.uuid
        else:
            assert kept is None
            assert not session.exec(select(VolumePiece).where(VolumePiece.pool_id == a)).all()
        if moved.thin:
            # Of a thin one nothing stands there that no file has: what was given back is given back.
            placed = sum(p.count for p in session.exec(select(VolumePiece).where(VolumePiece.volume_id == there)))
            assert placed == sum(f.extents for f in files_on(session, there))
    if request_.get("keep"):
        assert contents(number) == before and files_intact(a, number)


@pytest.mark.parametrize(
    ("protection", "volume", "request_"),
    [
        ("", {}, {}),
        ("copies-2", {}, {"protection": "copies-2"}),
        ("", {"thin": True}, {}),
        ("parity-1:3", {"thin": True}, {"protection": "parity-1:3", "keep": True}),
        ("", {"thin": True}, {"provision": "thick"}),
        ("parity-1:3", {}, {"provision": "thin", "protection": "parity-1:3", "file_system": "btrfs"}),
    ],
)
def test_the_house_has_afterwards_what_the_sheet_says(
    protection: str, volume: dict[str, Any], request_: dict[str, Any]
) -> None:
    two_pools(protection, **volume)
    back = {k: v for k, v in request_.items() if k not in ("protection", "keep")}
    # There, and back again: out of sets, and out of what may be a spread pool.
    for ref, to, asked in (("from/v", "to", request_), ("to/v", "from", {**back, "name": "w"})):
        with transaction() as session:
            before = house_now(session)
        do("move-volume", volume=ref, pool=to, **asked)
        carry_all()
        with transaction() as session:
            after = house_now(session)
            drawn = select(SheetRow).where(SheetRow.kind == "move-volume").order_by(col(SheetRow.id).desc())
            effect = session.exec(drawn).all()[0].body["effect"]
        assert {name: getattr(after, name) - getattr(before, name) for name in effect} == effect, ref


def test_what_hangs_on_it_follows() -> None:
    a, b, number = two_pools()
    with transaction() as session:
        site = session.exec(select(Site)).first()
        assert site
        session.add(Host(name="elm", site_id=site.id or 0))
    do("mount-volume", volume="from/v", host="elm", mount_point="/srv/v")
    do("add-party", name="ash")
    do("make-share", volume="from/v", name="papers", rights=("ash:write",), quota="20 GiB")
    do("set-keep-rule", volume="from/v", above=90.0)
    with transaction() as session:
        session.add(
            BackupRow(pool_id=a, volume_id=number, place="a barn", age_hours=1.0, link=10**8, recorded_by="ida")
        )
    do("move-volume", volume="from/v", pool="to")
    filling = fill(a, 0.85, number)  # Goes on in the other pool.
    (job,) = open_jobs("move-volume")
    carry(job)
    there = volume_of("to", "v")
    with transaction() as session:
        for table in (Mount, Share, KeepRule, BackupRow):
            assert [row.volume_id for row in session.exec(select(table))] == [there], table.__name__
        assert session.exec(select(BackupRow)).one().pool_id == b
        going = session.get_one(JobRow, filling)
        assert (going.pool_id, going.volume_id) == (b, there)
    carry(filling)
    assert files_intact(b, there)
    do("unmount-volume", host="elm", mount_point="/srv/v")
    do("end-share", share="papers")
    do("delete-volume", volume="to/v")


def test_what_is_said_of_it_follows_even_where_something_was_said_of_the_copy() -> None:
    """The watch goes on while it is moved: it says nothing of a copy that nobody sees, and what is said stands once."""
    _, _, number = two_pools()
    do("move-volume", volume="from/v", pool="to")
    (job,) = open_jobs("move-volume")
    steps(job, 3, 9)
    assert Watch().look()
    with transaction() as session:
        copy = session.get_one(VolumeRow, number).moving_to
        assert [o.volume_id for o in session.exec(select(OutlookRow)) if o.pool_id is None] == [number]
        # As one that looked just before it was known to be a copy would.
        session.add(OutlookRow(volume_id=copy, capacity=1, days=0, why_none="-", worked_out_at=now()))
        session.add(Crossing(volume_id=copy, level=1, since=now()))
    carry(job)
    there = volume_of("to", "v")
    with transaction() as session:
        (told,) = [o for o in session.exec(select(OutlookRow)) if o.pool_id is None]
        assert told.volume_id == there and told.capacity > 1
        assert not session.exec(select(Crossing)).all()


def test_whatever_names_a_volume_follows_or_is_its_own() -> None:
    own = {"volume_piece", "volume_stripes", "changed_region", "volume"}
    with transaction() as session:
        found = session.connection().execute(text(
            "select distinct c.conrelid::regclass::text from pg_constraint c where c.confrelid = 'volume'::regclass"
        )).scalars()  # fmt: skip
        assert set(found) - own == {str(table.__tablename__) for table in FOLLOW}
    assert TargetLun in FOLLOW and all(issubclass(table, SQLModel) for table in FOLLOW)


def killed(job: int, pool: int, most: int) -> None:
    """A step, to its end or to the switch, of which nothing is kept."""
    with transaction() as session:
        JOBS["move-volume"].step(Work(session, session.get_one(JobRow, job), open_pool(session, pool), devices(), most))
        raise KeyboardInterrupt


@pytest.mark.parametrize("seed", range(5))
def test_killed_at_random_with_drives_failing_in_both_pools_nothing_is_lost(seed: int) -> None:
    """A step that dies after its bytes and before its commit leaves the books where they were."""
    dice = random.Random(seed)
    a, b, number = two_pools("parity-1:4" if seed % 2 else "", thin=seed % 3 == 0)
    by_files = {"file_system": "ext4"} if seed == 4 else {}
    protection = {"protection": "parity-1:4"} if seed % 2 else {}
    do("move-volume", volume="from/v", pool="to", **protection, **by_files)
    (job,) = open_jobs("move-volume")
    for round_ in range(14):
        most = dice.randint(3, 30)
        if dice.random() < 0.4:
            with pytest.raises(KeyboardInterrupt):
                killed(job, a, most)
        else:
            steps(job, 1, most)
        if round_ in (3, 6):
            carry(fill(a, 0.5 + round_ / 20, number))
        if round_ == 5:
            happens("fail", dice.choice(["A1", "A3"]))
        if round_ == 8:
            happens("fail", dice.choice(["B1", "B2"]))
    with transaction() as session:
        known = session.get_one(JobRow, job).volume_id or 0
    before = contents(known)
    carry(job)
    there = volume_of("to", "v")
    assert contents(there) == before and files_intact(b, there)


def test_written_faster_than_copied_it_ends_all_the_same() -> None:
    """All of it is written anew between any two steps, and it is too much for one of them; after some rounds what is
    left is copied in one."""
    _, b, number = two_pools()
    do("move-volume", volume="from/v", pool="to")
    (job,) = open_jobs("move-volume")
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(move_volume, "_REGIONS", 1)
        rounds = []
        for _ in range(60):
            steps(job, 1, 25)
            with transaction() as session:
                row = session.get_one(JobRow, job)
                rounds.append(row.report["rounds"])
                if row.cursor + 25 >= row.total:
                    break
                volume = session.get_one(VolumeRow, number)
                work = Work(session, row, open_pool(session, row.pool_id or 0), devices(), 10)
                for file in files_on(session, number)[::3]:
                    work.volumes.write(volume, file.first, work.volumes.read(volume, file.first, file.extents))
    assert 20 < rounds[-1] < 60 and len(rounds) < 60
    carry(job)
    assert files_intact(b, volume_of("to", "v"))


def _after(steps_: int) -> Any:
    left = iter([False] * steps_)
    return lambda: next(left, True)


def test_a_full_target_is_waited_for_and_it_can_be_left_off() -> None:
    a, b, number = two_pools(thin=True)
    do("make-volumes", pool="to", name="thin", size="250 GiB", thin=True, file_system="none")
    do("move-volume", volume="from/v", pool="to")
    (job,) = open_jobs("move-volume")
    do("make-volumes", pool="to", name="big", size="all", file_system="none")
    steps_held(job)
    with pytest.raises(Busy, match="being moved already"):
        do("move-volume", volume="from/v", pool="to", name="z")
    for pool in ("from", "to"):
        with pytest.raises(Busy, match="A volume is being moved"):
            do("take-apart", pool=pool)
    with pytest.raises(Busy):
        do("delete-volume", volume="from/v")
    do("leave-move", volume="from/v")
    with transaction() as session:
        assert [v.name for v in session.exec(select(VolumeRow).where(VolumeRow.pool_id == b)).all()] == ["thin", "big"]
        assert session.get_one(JobRow, job).state == "failed"
        assert session.get_one(VolumeRow, number).moving_to is None
    assert files_intact(a, number)
    with pytest.raises(NotPossible, match="not being moved"):
        do("leave-move", volume="from/v")


def steps_held(job: int) -> None:
    carry(job, stop=_after(1))
    with transaction() as session:
        row = session.get_one(JobRow, job)
        assert (row.state, "is full" in (row.why_held or "")) == ("held", True), row.why_held


def test_an_encrypted_volume_is_readable_in_another_encrypted_pool_and_only_there() -> None:
    do("build-pool", name="from", scheme="copies-2", drives=tuple(shelf(2)), encrypted=True)
    do("build-pool", name="to", scheme="parity-1", drives=tuple(shelf(3, name="B")), encrypted=True)
    do("make-volumes", pool="from", name="v", size="20 GiB", file_system="xfs")
    carry_all()
    carry(fill(1, 0.8, volume_of("from", "v")))
    do("move-volume", volume="from/v", pool="to")
    carry_all()
    there = volume_of("to", "v")
    assert files_intact(2, there)
    with transaction() as session:
        file = session.exec(select(SampleFile).where(SampleFile.volume_id == there)).first()
        assert file is not None and file.intact


@pytest.mark.parametrize(
    ("request_", "field", "said"),
    [
        ({"pool": "from"}, "pool", "is in from already"),
        ({"pool": "nowhere"}, "pool", "nowhere"),
        ({"pool": "small"}, "pool", "too large"),
        ({"pool": "to", "name": "taken"}, "name", "taken"),
        ({"pool": "to", "provision": "loose"}, "provision", "thick or thin"),
        ({"pool": "to", "protection": "copies-2"}, "protection", "alike"),
        ({"pool": "to", "file_system": "none"}, "file_system", "a bare volume holds none"),
        ({"pool": "shut"}, None, "locked"),
    ],
)
def test_where_it_cannot_go(request_: dict[str, Any], field: str | None, said: str) -> None:
    from pairshelf.engine import keys

    two_pools()
    do("make-volumes", pool="to", name="taken", size="5 GiB", file_system="xfs")
    do("build-pool", name="small", scheme="copies-2", drives=tuple(shelf(2, name="S", size=20 * GIB)))
    shut = do(
        "build-pool", name="shut", scheme="copies-2", drives=tuple(shelf(2, name="L", size=200 * GIB)), encrypted=True
    )
    keys.forget_key(shut.pool_id or 0)
    with transaction() as session:
        site = session.exec(select(Site)).first()
        assert site
        session.add(Host(name="elm", site_id=site.id or 0))
    do("mount-volume", volume="from/v", host="elm", mount_point="/srv/v")
    with pytest.raises(PairShelfError, match=said) as found:
        do("move-volume", volume="from/v", **request_)
    assert found.value.field == field
    assert not open_jobs("move-volume")
