"""Volumes: capacity adds up after whatever is done, and what is written reads back through all of it."""

from __future__ import annotations

from itertools import pairwise
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import event
from sqlmodel import Session, col, select

from pairshelf.core.domain.units import GIB
from pairshelf.core.errors import BadInput, NoRoom, NotPossible, PairShelfError
from pairshelf.engine import keys
from pairshelf.engine.carry import carry
from pairshelf.engine.io.files import FilePlace, FileWriter, checksum_of, remove_files
from pairshelf.engine.io.volume_io import VolumeIO, file_room, files_on, give_back, pieces_of
from pairshelf.engine.jobs.fill import Writer, start_fill
from pairshelf.engine.jobs.read_files import start_reading
from pairshelf.engine.pools import devices, open_pool
from pairshelf.store.database import engine, transaction
from pairshelf.store.repositories.books import load_volumes
from pairshelf.store.repositories.drives_and_pools import load_drives, load_pools
from pairshelf.store.tables import JobRow, KeepRule, PoolRow, SampleFile, SheetRow, VolumeRow
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


def volumes(session: Session) -> list[VolumeRow]:
    return list(session.exec(select(VolumeRow).order_by(VolumeRow.name)))


def write(on: str, extents: int, **writer: Any) -> JobRow:
    """Write files to a volume to the end; the finished job."""
    with transaction() as session:
        volume = session.exec(select(VolumeRow).where(VolumeRow.name == on)).one()
        pool = open_pool(session, volume.pool_id)
        job = start_fill(session, pool, volume, 1.0, "ida", Writer(extents=extents, **writer)).id or 0
    carry(job)
    with transaction() as session:
        return session.get(JobRow, job)  # type: ignore[return-value]


def all_intact() -> bool:
    """Read every file of every volume back."""
    with transaction() as session:
        jobs = [
            start_reading(session, open_pool(session, v.pool_id), v, "ida").id or 0
            for v in volumes(session)
            if session.exec(select(SampleFile).where(SampleFile.volume_id == v.id)).first()
        ]
    for job in jobs:
        carry(job)
    with transaction() as session:
        files = session.exec(select(SampleFile)).all()
        return bool(jobs) and all(f.intact for f in files)


def spread(count: int = 6, *, domain: str = "drive", volume: str = "", **more: Any) -> int:
    ids = shelf(count, size=40 * GIB)
    return do("build-pool", name="s", scheme="spread", drives=tuple(ids), domain=domain, volume=volume, file_system="xfs", **more).pool_id or 0  # fmt: skip


def adds_up() -> None:
    """Pieces lie inside their pool, over nothing else, and with what is free make the pool's capacity."""
    with transaction() as session:
        (pool,) = load_pools(session, [p.id or 0 for p in session.exec(select(PoolRow))])
        taken: list[tuple[int, int]] = []
        for volume in volumes(session):
            pieces = pieces_of(session, volume.id or 0)
            assert sum(p.count for p in pieces) == volume.extents or volume.thin
            assert all(p.at + p.count <= volume.extents for p in pieces)
            taken += [(p.first, p.first + p.count) for p in pieces]
            files = session.exec(select(SampleFile).where(SampleFile.volume_id == volume.id)).all()
            assert sum(f.extents for f in files) <= file_room(volume)
            ends = sorted((f.first, f.first + f.extents) for f in files)
            assert all(b[0] >= a[1] for a, b in pairwise(ends))
        taken.sort()
        assert all(b[0] >= a[1] for a, b in pairwise(taken))
        if not pool.spread:
            assert sum(b - a for a, b in taken) + pool.free == pool.capacity
            return
        layout = pool.layout
        spots = np.concatenate([np.zeros((0, 2), int), *(v.spots.reshape(-1, 2) for v in layout.volumes)])  # type: ignore[attr-defined]
        assert len(np.unique(spots, axis=0)) == len(spots) == pool.capacity - pool.free
        for v in layout.volumes:  # type: ignore[attr-defined]
            assert all(len(set(row)) == len(row) for row in v.slots.tolist())


ACTS = st.lists(
    st.tuples(st.sampled_from(["make", "thin", "write", "resize", "delete", "reformat"]), st.integers(0, 5), st.integers(1, 60)),
    min_size=3, max_size=10,
)  # fmt: skip


@settings(max_examples=8, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow])
@given(acts=ACTS, spreads=st.booleans())
def test_capacity_adds_up_after_any_sequence_of_acts(acts: list[tuple[str, int, int]], spreads: bool, db: str) -> None:
    with transaction() as session:
        for table in (
            "sample_file",
            "volume_piece",
            "volume_stripes",
            "job",
            "volume",
            "pool_place",
            "errand",
            "change_sheet",
            "pool",
            "drive",
            "shelf",
        ):
            session.connection().exec_driver_sql(f"delete from {table}")
    at_once()
    if spreads:
        spread()
    else:
        # Other drives than those of the spread pool: the devices stay from one example to the next.
        ids = shelf(4, name="P")
        do("build-pool", name="s", scheme="parity-1", drives=tuple(ids))
    own = {"protection": "parity-1:4"} if spreads else {}
    carry_all()
    for number, (act, which, amount) in enumerate(acts):
        with transaction() as session:
            there = [v.name for v in volumes(session)]
        name = there[which % len(there)] if there else ""
        try:
            if act in ("make", "thin"):
                do("make-volumes", pool="s", name=f"v{number}", size=f"{amount} GiB", thin=act == "thin", file_system="ext4", **own)  # fmt: skip
            elif act == "write" and name:
                write(name, amount)
            elif act == "resize" and name:
                do("resize-volume", volume=f"s/{name}", size=f"{amount} GiB")
            elif act == "reformat" and name:
                do("reformat-volume", volume=f"s/{name}", file_system="btrfs")
            elif act == "delete" and name:
                do("delete-volume", volume=f"s/{name}")
        except PairShelfError:
            pass
        carry_all()
        adds_up()
    with transaction() as session:
        anything = session.exec(select(SampleFile)).first()
    assert anything is None or all_intact()


def test_one_byte_over_is_refused_and_all_that_is_left_is_what_was_promised() -> None:
    ids = shelf(5)
    pool = do("build-pool", name="p", scheme="parity-2", drives=tuple(ids), volume="a", volume_size="50 GiB", file_system="xfs").pool_id or 0  # fmt: skip
    with transaction() as session:
        (estate,) = load_pools(session, [pool])
        row = session.get(PoolRow, pool)
        assert row is not None
        assert row.promised["capacity"] == row.capacity * GIB == (estate.free + 50) * GIB
    with pytest.raises(BadInput, match=r"1 bytes\) too large") as caught:
        do("make-volumes", pool="p", name="b", size=str(estate.free * GIB + 1), file_system="xfs")
    assert caught.value.field == "size"
    do("make-volumes", pool="p", name="b", size="all", file_system="xfs")
    with transaction() as session:
        assert [v.size for v in volumes(session)] == [50 * GIB, estate.free * GIB]
        assert load_pools(session, [pool])[0].free == 0


@pytest.mark.parametrize("kind", ["sets", "spread"])
def test_a_volume_that_ends_inside_an_extent_takes_all_that_is_left(kind: str) -> None:
    if kind == "sets":
        ids = shelf(3)
        do("build-pool", name="s", scheme="parity-1", drives=tuple(ids), volume="v", volume_size="10.25 GiB")
    else:
        spread(5, volume="v", volume_size="10.25 GiB", protection="parity-1:3")
    carry_all()
    write("v", 5)
    do("resize-volume", volume="s/v", size="all")
    with transaction() as session:
        (volume,) = volumes(session)
        (estate,) = load_pools(session, [volume.pool_id])
        # What is left of a spread pool is less than another stripe.
        assert estate.free < 3 if kind == "spread" else estate.free == 0
        assert volume.size == volume.extents * GIB > 11 * GIB
        if kind == "spread":
            job = session.exec(
                select(JobRow).where(JobRow.kind == "first-sync").order_by(col(JobRow.id).desc())
            ).first()
            assert job is not None and job.sheet_id is not None
            (takes,) = session.get_one(SheetRow, job.sheet_id).body["takes"]
            assert (takes["job"], takes["hours"] * 3600) == ("First sync", pytest.approx(job.seconds))
    carry_all()
    assert all_intact()


def test_a_file_goes_where_a_single_extent_is_left_and_one_that_is_cut_is_known_by_what_is_there() -> None:
    ids = shelf(3, size=20 * GIB)
    do(
        "build-pool",
        name="p",
        scheme="parity-1",
        drives=tuple(ids),
        volume="v",
        volume_size="12 GiB",
        file_system="xfs",
    )
    carry_all()
    with transaction() as session:
        (volume,) = volumes(session)
        pool = open_pool(session, volume.pool_id)
        io = VolumeIO(session, pool, devices())
        room = file_room(volume)
        writer = FileWriter(session, io, volume)
        for i in range(room):
            writer.write(FilePlace("", f"f{i}", "elm", "cam"), bytes([i]) * io.block)
        writer.flush()
        files = files_on(session, volume.number)
        assert [f.first for f in files] == list(range(volume.extents - room, volume.extents))
        # The room of one is enough for one, and for no more.
        remove_files(session, pool, volume, [files[3]])
        session.flush()
        writer = FileWriter(session, io, volume)
        assert writer.write(FilePlace("", "one", "elm", "cam"), b"1" * io.block, whole=True) == 1
        with pytest.raises(NoRoom):
            writer.write(FilePlace("", "two", "elm", "cam"), b"2" * io.block)
        writer.flush()
        # Two side by side and one alone: of three the first two go into the larger room.
        remove_files(session, pool, volume, [files[1], files[5], files[6]])
        session.flush()
        writer = FileWriter(session, io, volume)
        content = b"a" * io.block + b"b" * io.block + b"c" * io.block
        with pytest.raises(NoRoom):
            writer.write(FilePlace("", "cut", "elm", "cam"), content, checksum_of(content), whole=True)
        assert writer.write(FilePlace("", "cut", "elm", "cam"), content, checksum_of(content)) == 2
        writer.flush()
        cut = session.exec(select(SampleFile).where(SampleFile.name == "cut")).one()
        assert (cut.first, cut.extents) == (files[5].first, 2)
        assert (
            cut.checksum == checksum_of(content[: 2 * io.block])
            and io.read(volume, cut.first, 2) == content[: 2 * io.block]
        )


def test_many_files_go_into_the_books_in_one_statement_as_they_were_written() -> None:
    ids = shelf(3, size=20 * GIB)
    do("build-pool", name="p", scheme="parity-1", drives=tuple(ids), volume="v", file_system="xfs")
    carry_all()
    said: list[str] = []

    def note(_connection: object, _cursor: object, statement: str, *_: object) -> None:
        said.append(statement)

    with transaction() as session:
        (volume,) = volumes(session)
        io = VolumeIO(session, open_pool(session, volume.pool_id), devices())
        writer = FileWriter(session, io, volume)
        content = [bytes([n]) * n * io.block for n in (2, 1, 3)]
        for n, each in enumerate(content):
            writer.write(FilePlace(f"way/{n}", f"f'{n}", f"by-{n}", f"cam {n}"), each)
        event.listen(engine(), "before_cursor_execute", note)
        try:
            writer.flush()
        finally:
            event.remove(engine(), "before_cursor_execute", note)
        files = session.exec(select(SampleFile).order_by(col(SampleFile.id))).all()
        assert [s for s in said if "into sample_file" in s.lower()] == said[-1:]
        assert [(f.volume_id, f.name, f.folder, f.via, f.writer, f.extents, f.checksum) for f in files] == [
            (volume.number, f"way/{n}/f'{n}", f"way/{n}", f"by-{n}", f"cam {n}", len(each) // io.block, checksum_of(each))
            for n, each in enumerate(content)
        ]  # fmt: skip
        assert [io.read(volume, f.first, f.extents) for f in files] == content
        assert {(f.read_at, f.intact, f.deleted_at) for f in files} == {(None, None, None)}
        # What is in the books is not put there again.
        writer.flush()
        assert len(session.exec(select(SampleFile)).all()) == 3


def test_of_a_volume_that_has_given_all_back_no_stripe_is_left() -> None:
    at_once()
    pool_id = spread(5, volume="v", volume_size="30 GiB", protection="parity-1:3", thin=True)
    carry_all()
    write("v", 12)
    with transaction() as session:
        (volume,) = volumes(session)
        pool = open_pool(session, pool_id)
        stripes = lambda: len(pool.layout.striped(volume.number).spots)  # type: ignore[union-attr]  # noqa: E731
        assert stripes() == 6
        give_back(session, pool, volume, [(volume.extents - file_room(volume) + 3, volume.extents)])
        assert stripes() == 2
        give_back(session, pool, volume, [(0, volume.extents)])
        assert stripes() == 0


def test_several_from_a_pattern_all_or_none() -> None:
    ids = shelf(4)
    do("build-pool", name="p", scheme="parity-1", drives=tuple(ids))
    do("make-volumes", pool="p", name="scans-{1..4}", size="20 GiB", file_system="xfs")
    do("make-volumes", pool="p", name="log", size="5 GiB", count=3, file_system="xfs")
    with transaction() as session:
        assert [v.name for v in volumes(session)] == ["log-1", "log-2", "log-3", *(f"scans-{i}" for i in range(1, 5))]
    with pytest.raises(BadInput, match="named scans-2 in this pool already"):
        do("make-volumes", pool="p", name="{new,scans-2}", size="1 GiB")
    with transaction() as session:
        assert len(volumes(session)) == 7


def test_a_thin_volume_takes_what_is_written_and_waits_when_the_pool_is_full() -> None:
    at_once()
    ids = shelf(3, size=20 * GIB)
    pool = do("build-pool", name="p", scheme="parity-1", drives=tuple(ids), volume="t", volume_size="200 GiB", thin=True, file_system="xfs").pool_id or 0  # fmt: skip
    carry_all()
    write("t", 20)
    with transaction() as session:
        (estate,) = load_pools(session, [pool])
        assert estate.capacity - estate.free == 20
    job = write("t", 60)
    assert (job.state, job.error) == ("held", None)
    assert "pool p is full" in (job.why_held or "")
    assert all_intact()
    assert check(pool).report["mismatches"] == 0


@pytest.mark.parametrize("protection", ["copies-2", "parity-2:5"])
def test_a_spread_pool_repairs_itself_and_every_byte_reads_back(protection: str) -> None:
    at_once()
    pool = spread(8, volume="v", volume_size="40 GiB", protection=protection)
    carry_all()
    write("v", 30)
    assert check(pool).report["mismatches"] == 0
    happens("fail", "A2")
    assert pool_state(pool)[0] in ("degraded", "unprotected")
    assert all_intact()
    assert open_jobs("self-repair")
    carry_all()
    state, places = pool_state(pool)
    assert (state, places[1]) == ("healthy", "emptied")
    happens("fail", "A4")
    assert all_intact()
    carry_all()
    adds_up()
    assert check(pool).report["mismatches"] == 0
    do("replace-drive", pool_id=pool, slot=1, drive_id=shelf(1, name="B", size=40 * GIB)[0])
    carry_all()
    assert pool_state(pool)[1][1] == "active"
    write("v", 5)
    assert all_intact()


def test_a_drive_of_a_spread_pool_that_missed_writes_is_filled_where_it_stands() -> None:
    at_once()
    pool = spread(volume="v", volume_size="60 GiB", protection="parity-2:5")
    carry_all()
    write("v", 20)
    happens("pull", "A3")
    write("v", 20)
    happens("put_back", "A3")
    assert pool_state(pool)[1][2] == "rebuilding"
    carry_all()
    assert pool_state(pool) == ("healthy", ["active"] * 6)
    happens("fail", "A1")
    happens("fail", "A2")
    assert all_intact()


def test_too_many_failures_of_a_spread_pool_are_told_exactly() -> None:
    at_once()
    pool = spread(volume="v", volume_size="100 GiB", protection="parity-1:5")
    carry_all()
    happens("pull", "A1")
    assert pool_state(pool)[0] == "unprotected"
    happens("pull", "A2")
    assert pool_state(pool)[0] == "unreachable"
    with pytest.raises(NotPossible, match="unreachable"):
        write("v", 1)


def test_an_encrypted_pool_holds_nothing_readable_and_opens_with_its_passphrase_only() -> None:
    at_once()
    ids = shelf(3, size=20 * GIB)
    made = do(
        "build-pool", name="p", scheme="copies-3", drives=tuple(ids), volume="v", file_system="xfs", encrypted=True
    )
    pool = made.pool_id or 0
    assert made.passphrase is not None
    carry_all()
    write("v", 4)
    with transaction() as session:
        volume = volumes(session)[0]
        file = session.exec(select(SampleFile)).first()
        assert file is not None
        plain = VolumeIO(session, open_pool(session, pool), devices()).read(volume, file.first, 1)
        content = devices().open("A1", 20 * GIB).read(0, 19)
        assert plain not in content
        sheets = (
            session.connection().exec_driver_sql("select request::text || body::text from change_sheet").scalars().all()
        )
        assert not any(made.passphrase in text for text in sheets)
        kept = session.get(PoolRow, pool).key  # type: ignore[union-attr]
    keys.forget_key(pool)
    with pytest.raises(NotPossible, match="locked"):
        write("v", 1)
    assert check_locked(pool) == 0
    with pytest.raises(BadInput, match="not the passphrase"):
        keys.unwrap(kept or {}, "wrong-words")
    keys.open_key(pool, keys.unwrap(kept or {}, f" {made.passphrase} "))
    happens("fail", "A1")
    assert all_intact()
    keys.forget_key(pool)


def check_locked(pool: int) -> int:
    """Redundancy is compared without the key; files are not."""
    with transaction() as session:
        opened = open_pool(session, pool)
        from pairshelf.engine.pools import open_io

        io = open_io(session, opened, devices())
        return sum(len(io.check(run, put_right=False).mismatches) for run in io.runs(0, 10**6))  # type: ignore[union-attr, arg-type]


def test_a_keep_rule_deletes_the_oldest_of_its_own_volume_only() -> None:
    at_once()
    ids = shelf(4)
    do("build-pool", name="p", scheme="parity-1", drives=tuple(ids))
    do("make-volumes", pool="p", name="{cam,other}", size="60 GiB", file_system="none")
    write("other", 55)
    write("cam", 50, name="rec")
    do("set-keep-rule", volume="p/cam", above=60)
    with transaction() as session:
        cam, other = (v for v in volumes(session))
        left = [f for f in session.exec(select(SampleFile)) if f.volume_id == cam.id]
        assert sum(f.extents for f in left) <= 36
        assert sum(f.extents for f in session.exec(select(SampleFile)) if f.volume_id == other.id) == 55
        oldest = min(f.id or 0 for f in left)
    assert write("cam", 30, name="rec").state == "done"
    with transaction() as session:
        left = [f for f in session.exec(select(SampleFile)) if f.volume_id == cam.id]
        assert sum(f.extents for f in left) <= 36
        assert min(f.id or 0 for f in left) > oldest
        assert session.exec(select(KeepRule)).one().volume_id == cam.id
    assert all_intact()


def test_shrinking_keeps_every_file_and_refuses_one_byte_too_small() -> None:
    at_once()
    ids = shelf(4)
    do("build-pool", name="p", scheme="parity-1", drives=tuple(ids))
    do("make-volumes", pool="p", name="v", size="60 GiB", file_system="btrfs")
    do("make-volumes", pool="p", name="x", size="20 GiB", file_system="xfs")
    write("v", 20)
    with pytest.raises(NotPossible, match="never be made smaller"):
        do("resize-volume", volume="p/x", size="10 GiB")
    with transaction() as session:
        end = max(f.first + f.extents for f in session.exec(select(SampleFile)))
    with pytest.raises(BadInput, match="cannot be smaller"):
        do("resize-volume", volume="p/v", size=f"{end - 1} GiB")
    do("resize-volume", volume="p/v", size=f"{end + 1} GiB")
    do("resize-volume", volume="p/v", size="all")
    adds_up()
    assert all_intact()
    empty = checksum_of(b"")
    with transaction() as session:
        assert all(f.checksum != empty for f in session.exec(select(SampleFile)))


@pytest.mark.parametrize("gone", range(1, 7))
@pytest.mark.parametrize("scheme", ["spread", "parity-1", "stepped-2"])
def test_what_is_written_before_the_first_sync_is_protected_as_it_is_written(scheme: str, gone: int) -> None:
    """Drives begin full of noise: to redundancy that nobody brought in step yet nothing is added, it is made anew."""
    at_once()
    more = {"domain": "drive", "protection": "parity-1:6"} if scheme == "spread" else {}
    pool = do("build-pool", name="p", scheme=scheme, drives=tuple(shelf(6, size=60 * GIB)), volume="v",
              volume_size="120 GiB", file_system="none", **more).pool_id or 0  # fmt: skip
    with transaction() as session:
        session.exec(select(JobRow).where(JobRow.kind == "first-sync")).one().state = "paused"
    # One extent of a stripe at a time: to change its parity would be less than to make it anew.
    for extents in (1, 1, 2, 7):
        with transaction() as session:
            volume = session.exec(select(VolumeRow)).one()
            job = start_fill(session, open_pool(session, pool), volume, 1.0, "ida", Writer(extents=extents)).number
        carry(job)
    happens("fail", f"A{gone}")
    assert files_intact(pool)


def test_what_files_take_is_counted_for_whoever_asks_and_for_nobody_else() -> None:
    pool = build(shelf(3), "parity-1")
    carry_all()
    carry(fill(pool, 0.3))
    with transaction() as session:
        (of_pool,) = load_volumes(session, [pool])
        (of_it,) = load_volumes(session, (), ids=[of_pool.id])
        (only,) = load_volumes(session, [pool], only=True)
        (unasked,) = load_volumes(session, ())
        assert of_pool.files_bytes > 0 and of_it == only == of_pool
        assert unasked.ref == of_pool.ref and (unasked.files_bytes, unasked.files) == (0, 0)
        assert load_volumes(session, (), ids=[]) == [] == load_volumes(session, [pool + 1], only=True)
        assert load_pools(session, []) == [] == load_drives(session, [])
