"""Pools that grow, are converted, and have their drives exchanged, on real bytes: what the sheet promised is there."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from sqlmodel import select

from pairshelf.core.changes.kinds import request_of
from pairshelf.core.domain.drives import Drive, Kind
from pairshelf.core.domain.inventory import DriveRecord
from pairshelf.core.domain.units import EXTENT, GIB
from pairshelf.core.errors import NotPossible, PairShelfError
from pairshelf.core.layouts import build_layout
from pairshelf.core.layouts.restripe import Window
from pairshelf.core.layouts.restriping import Restriping
from pairshelf.engine import approver
from pairshelf.engine.carry import carry
from pairshelf.engine.errands import do_errands
from pairshelf.engine.io.restripe_io import RestripeIO
from pairshelf.engine.jobs import move_together
from pairshelf.engine.jobs.fill import start_fill
from pairshelf.engine.jobs.work import Work
from pairshelf.engine.pools import devices, open_pool
from pairshelf.store.database import transaction
from pairshelf.store.repositories.drives_and_pools import add_records
from pairshelf.store.tables import (
    DriveRow,
    GrowthPathRow,
    JobRow,
    LogRow,
    PoolPlace,
    SampleFile,
    Service,
    SheetRow,
    VolumePiece,
    VolumeRow,
)
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


def filled(drives: list[int], scheme: str, *, sets: int = 1, share: float = 0.4) -> int:
    pool = build(drives, scheme, sets=sets)
    carry_all()
    carry(fill(pool, share))
    return pool


def sound(pool: int) -> bool:
    """Healthy, all redundancy in step, every file as written."""
    report = check(pool).report
    return (
        pool_state(pool)[0] == "healthy"
        and (report["mismatches"], report["files_differing"]) == (0, [])
        and files_intact(pool)
    )


def layout_says(scheme: str, sizes: list[int], sets: int = 1) -> int:
    """Bytes that ``pairshelf layout`` gives for such drives."""
    return build_layout([Drive(str(i), s) for i, s in enumerate(sizes)], scheme, sets=sets).data_extents * EXTENT


def promised_of(kind: str) -> int:
    """The capacity that the last sheet of a kind promised."""
    with transaction() as session:
        sheet = session.exec(select(SheetRow).where(SheetRow.kind == kind).order_by(SheetRow.id.desc())).first()  # type: ignore[union-attr]
        assert sheet is not None
        return next(f["after"]["bytes"] for f in sheet.body["figures"] if f["label"] == "Pool capacity")


def refused(kind: str, **request: object) -> PairShelfError:
    with pytest.raises(PairShelfError) as error, transaction() as session:
        approver.draw_up(session, kind, request_of(kind, request), "ida")
    return error.value


@pytest.mark.parametrize(
    ("scheme", "sets", "count", "added"),
    [("parity-1", 1, 3, 1), ("parity-2", 1, 4, 3), ("parity-1", 2, 6, 2), ("stepped-1", 1, 4, 1), ("span", 1, 2, 2)],
)
def test_drives_are_added_and_the_capacity_is_there(scheme: str, sets: int, count: int, added: int) -> None:
    size = 240 * GIB
    pool = filled(shelf(count, size=size), scheme, sets=sets, share=0.2)
    do("add-drives", pool="p", drives=tuple(shelf(added, size=size, name="B")))
    walks = bool(open_jobs("restripe"))
    assert walks is (scheme != "span")
    if walks:
        assert pool_row(pool).capacity * EXTENT < promised_of("add-drives")
        assert files_intact(pool)
    carry_all()
    assert sound(pool)
    assert pool_row(pool).capacity * EXTENT == promised_of("add-drives")
    assert promised_of("add-drives") == layout_says(scheme, [size] * (count + added), sets)
    if walks:
        row = pool_row(pool)
        assert row.measured["restripe_hours"] == pytest.approx(row.promised["restripe_hours"], rel=0.05)
    # What it has gained is really there.
    do("resize-volume", volume="p/v", size="all")
    carry(fill(pool, 0.5))
    assert sound(pool)


@pytest.mark.parametrize(("scheme", "width"), [("parity-1", 3), ("copies-2", 2)])
def test_sets_are_added_at_once_and_more_are_restriped_with_the_rest(scheme: str, width: int) -> None:
    pool = filled(shelf(width), scheme)
    do("add-sets", pool="p", drives=tuple(shelf(2 * width, size=70 * GIB, name="B")))
    assert not open_jobs("restripe")
    assert pool_row(pool).capacity * EXTENT == promised_of("add-sets")
    assert promised_of("add-sets") == layout_says(scheme, [60 * GIB] * width + [70 * GIB] * 2 * width, 3)
    carry_all()
    do("resize-volume", volume="p/v", size="all")
    carry(fill(pool, 0.8))
    assert sound(pool)
    if scheme == "parity-1":
        do("add-drives", pool="p", drives=tuple(shelf(3, size=80 * GIB, name="C")))
        carry_all()
        assert sound(pool)
    happens("fail", "B1")
    assert files_intact(pool)


@pytest.mark.parametrize(
    ("before", "after", "count", "added", "freed", "job"),
    [
        ("single", "copies-2", 1, 1, 0, "rebuild"),
        ("copies-2", "copies-3", 2, 1, 0, "rebuild"),
        ("copies-3", "copies-2", 3, 0, 1, None),
        ("copies-2", "single", 2, 0, 1, None),
        ("copies-2", "parity-1", 2, 1, 0, "restripe"),
        ("copies-2", "parity-2", 2, 3, 0, "restripe"),
        ("parity-1", "parity-2", 4, 1, 0, "restripe"),
        ("parity-2", "parity-1", 5, 0, 1, "restripe"),
        ("parity-1", "parity-3", 4, 2, 0, "restripe"),
        ("parity-3", "parity-2", 6, 0, 1, "restripe"),
        ("stepped-1", "stepped-2", 4, 1, 0, "restripe"),
        ("stepped-2", "stepped-1", 5, 0, 0, "restripe"),
    ],
)  # fmt: skip
def test_schemes_are_converted_with_every_file(
    before: str, after: str, count: int, added: int, freed: int, job: str | None
) -> None:
    pool = filled(shelf(count), before)
    do("convert-pool", pool="p", scheme=after, drives=tuple(shelf(added, name="B")))
    if job:
        assert open_jobs(job)
    assert files_intact(pool)
    carry_all()
    row = pool_row(pool)
    assert (row.scheme, row.walk, row.front) == (after, None, None)
    if after == "single":
        assert pool_state(pool)[0] == "healthy" and files_intact(pool)
    else:
        assert sound(pool)
    assert (
        row.capacity * EXTENT == promised_of("convert-pool") == layout_says(after, [60 * GIB] * (count + added - freed))
    )
    with transaction() as session:
        free = session.exec(select(DriveRow).where(DriveRow.service == "free")).all()
        assert len(free) == freed and all(d.holds == "old data of pool p, readable" for d in free)
        labels = [
            devices().open(d.serial, d.size).read_label()
            for d in session.exec(select(DriveRow).where(DriveRow.service == "in-use"))
        ]
        assert sorted(x["slot"] for x in labels if x) == list(range(count + added - freed))  # type: ignore[type-var]
    # What it survives now is survived.
    with transaction() as session:
        survives = open_pool(session, pool).layout.scheme.survives
    serials = [f"A{i + 1}" for i in range(count - freed)][:survives]
    for serial in serials:
        happens("fail", serial)
    assert files_intact(pool)


def test_a_drive_fails_in_the_middle_is_replaced_and_filled_on_both_sides() -> None:
    pool = filled(shelf(4), "parity-1", share=0.8)
    do("add-drives", pool="p", drives=tuple(shelf(1, name="B")))
    go_to(pool, 0.6)
    happens("fail", "A2")
    (job,) = open_jobs("restripe")
    carry(job, stop=_few(3))
    with transaction() as session:
        held = session.get(JobRow, job)
        assert held is not None and (held.state, held.why_held) == (
            "held", "waits until every place of the pool holds a drive with all its data",
        )  # fmt: skip
        front = pool_row(pool).front
    assert pool_state(pool)[0] == "unprotected" and files_intact(pool)
    replace(pool, 1, shelf(1, name="C")[0])
    carry(open_jobs("rebuild")[0])
    assert pool_state(pool)[0] == "healthy" and pool_row(pool).front == front
    happens("fail", "A1")  # what was filled serves on both sides
    assert files_intact(pool)
    replace(pool, 0, shelf(1, name="D")[0])
    carry_all()
    carry_all()
    assert sound(pool) and pool_row(pool).capacity == 4 * 59


def _few(steps: int) -> Callable[[], bool]:
    """Stop after so many steps."""
    left = [steps]

    def stop() -> bool:
        left[0] -= 1
        return left[0] < 0

    return stop


def go_to(pool: int, share: float) -> None:
    """Let the front come so far."""
    from pairshelf.engine.jobs import restripe as module
    from pairshelf.engine.jobs.work import Work

    (job,) = open_jobs("restripe")
    while True:
        with transaction() as session:
            opened = open_pool(session, pool)
            row = session.get(JobRow, job)
            assert row is not None
            if row.cursor >= share * row.total:
                return
            module.step(Work(session, row, opened, devices(), 9))


def test_the_front_is_turned_round_and_all_is_as_it_was() -> None:
    pool = filled(shelf(4), "parity-1")
    before = pool_row(pool)
    do("convert-pool", pool="p", scheme="parity-2", drives=tuple(shelf(1, name="B")))
    go_to(pool, 0.5)
    do("turn-restripe", pool="p")
    with transaction() as session:
        layout = open_pool(session, pool).layout
        assert isinstance(layout, Restriping) and layout.turned
    assert files_intact(pool)
    carry_all()
    row = pool_row(pool)
    assert (row.scheme, row.capacity, row.walk, row.turned) == (before.scheme, before.capacity, None, False)
    assert sound(pool)
    with transaction() as session:
        new = session.exec(select(DriveRow).where(DriveRow.serial == "B1")).one()
        assert new.service == "free"
    assert refused("turn-restripe", pool="p").code == "no-front"


def test_a_drive_that_works_is_copied_and_redundancy_stays_whole() -> None:
    pool = filled(shelf(4), "parity-1", share=0.7)
    happens("warn", "A2")
    new = shelf(1, name="B")[0]
    devices().lose_extents("A2", [3, 11, 12])
    replace(pool, 1, new)
    assert pool_state(pool) == ("healthy", ["active"] * 4)
    assert refused("replace-drive", pool_id=pool, slot=1, drive_id=shelf(1, name="C")[0]).code == "busy"
    carry_all()
    with transaction() as session:
        places = {p.slot: p.drive_id for p in session.exec(select(PoolPlace).where(PoolPlace.pool_id == pool))}
        job = session.exec(select(JobRow).where(JobRow.kind == "copy")).one()
        old = session.exec(select(DriveRow).where(DriveRow.serial == "A2")).one()
        assert places[1] == new and len(places) == 4
        assert (job.state, job.report["computed"]) == ("done", 3)
        assert (old.service, old.holds) == ("free", "old data of pool p, readable")
    assert sound(pool)


@pytest.mark.parametrize("what", ["fail", "pull"])
def test_the_old_drive_goes_in_the_middle_of_its_copy(what: str) -> None:
    pool = filled(shelf(4), "parity-1", share=0.7)
    replace(pool, 1, shelf(1, name="B")[0])
    _copy_steps(pool, 20)
    happens(what, "A2")
    if what == "fail":
        with transaction() as session:
            rebuild = session.exec(select(JobRow).where(JobRow.kind == "rebuild")).one()
            assert rebuild.cursor >= 20 and pool_state(pool)[1][1] == "rebuilding"
        assert not open_jobs("copy")
    else:
        assert pool_state(pool)[1][1] == "missing"
        carry(open_jobs("copy")[0], stop=_few(2))
        assert files_intact(pool)
        happens("put_back", "A2")
    carry_all()
    assert sound(pool)
    assert "B1" in _serials(pool)


def _serials(pool: int) -> list[str]:
    with transaction() as session:
        query = (
            select(DriveRow.serial).join(PoolPlace, PoolPlace.drive_id == DriveRow.id).where(PoolPlace.pool_id == pool)
        )  # type: ignore[arg-type]
        return sorted(session.exec(query))


def _copy_steps(pool: int, rows: int) -> None:
    from pairshelf.engine.jobs import copy_member
    from pairshelf.engine.jobs.work import Work

    (job,) = open_jobs("copy")
    with transaction() as session:
        row = session.get(JobRow, job)
        assert row is not None
        copy_member.step(Work(session, row, open_pool(session, pool), devices(), rows))


def test_the_new_drive_goes_in_the_middle_and_the_old_one_stays() -> None:
    pool = filled(shelf(4), "parity-1", share=0.3)
    replace(pool, 1, shelf(1, name="B")[0])
    _copy_steps(pool, 30)
    happens("pull", "B1")
    carry(fill(pool, 0.7))  # the new one misses this
    happens("put_back", "B1")
    with transaction() as session:
        assert session.exec(select(JobRow).where(JobRow.kind == "copy")).one().cursor == 0
    _copy_steps(pool, 30)
    happens("fail", "B1")
    assert not open_jobs("copy") and pool_state(pool) == ("healthy", ["active"] * 4)
    assert sound(pool) and _serials(pool) == ["A1", "A2", "A3", "A4"]
    replace(pool, 1, shelf(1, name="C")[0])
    _copy_steps(pool, 30)
    carry(fill(pool, 0.9))  # written to both
    do("leave-copy", pool_id=pool, slot=1)
    assert refused("leave-copy", pool_id=pool, slot=1).code == "nothing-to-leave"
    assert sound(pool) and _serials(pool) == ["A1", "A2", "A3", "A4"]


@pytest.mark.parametrize(
    ("scheme", "gains"), [("parity-1", [0, 0, 20]), ("stepped-1", [0, 10, 10]), ("copies-2", [0, 10])]
)
def test_larger_drives_one_by_one_bring_what_was_said(scheme: str, gains: list[int]) -> None:
    pool = filled(shelf(len(gains)), scheme)
    sizes = [60 * GIB] * len(gains)
    for slot, gain in enumerate(gains):
        before = pool_row(pool).capacity
        replace(pool, slot, shelf(1, size=70 * GIB, name=f"L{slot}")[0])
        promised = promised_of("replace-drive")
        carry_all()
        carry_all()
        sizes[slot] = 70 * GIB
        assert pool_row(pool).capacity - before == gain
        assert pool_row(pool).capacity * EXTENT == promised == layout_says(scheme, sizes)
        assert sound(pool)
        if gain:
            do("resize-volume", volume="p/v", size="all")
            carry(fill(pool, 0.95))
            assert sound(pool)


def test_a_larger_drive_that_came_for_a_failed_one_is_used_when_said_so() -> None:
    pool = filled(shelf(2), "copies-2")
    assert refused("use-room", pool="p").code == "no-more-room"
    for slot, serial in enumerate(("A1", "A2")):
        happens("fail", serial)
        replace(pool, slot, shelf(1, size=90 * GIB, name=f"L{slot}")[0])
        carry_all()
    assert pool_row(pool).capacity == 59
    do("use-room", pool="p")
    assert pool_row(pool).capacity == 89
    do("resize-volume", volume="p/v", size="all")
    carry_all()
    carry(fill(pool, 0.9))
    assert sound(pool)


def test_drives_join_a_spread_pool_and_take_what_is_written() -> None:
    pool = do("build-pool", name="p", scheme="spread", drives=tuple(shelf(4)), volume="v", file_system="xfs",
              protection="parity-1:4", volume_size="60 GiB").pool_id or 0  # fmt: skip
    carry_all()
    carry(fill(pool, 0.5))
    do("add-drives", pool="p", drives=tuple(shelf(2, name="B")))
    assert pool_row(pool).capacity == 6 * 59
    carry_all()
    assert pool_state(pool)[0] == "healthy" and files_intact(pool)
    # One of its drives that works is copied, too.
    replace(pool, 0, shelf(1, size=80 * GIB, name="C")[0])
    carry_all()
    assert files_intact(pool) and pool_row(pool).capacity == 5 * 59 + 79


def test_what_goes_beside_what() -> None:
    pool = filled(shelf(4), "parity-1")
    spare = shelf(6, name="B")
    do("add-drives", pool="p", drives=(spare[0],))
    assert refused("add-drives", pool="p", drives=(spare[1],)).code == "busy"
    assert refused("add-sets", pool="p", drives=tuple(spare[1:5])).code == "busy"
    assert refused("replace-drive", pool_id=pool, slot=0, drive_id=spare[1]).code == "restriping"
    with pytest.raises(PairShelfError, match="being restriped"):
        check(pool)
    carry(fill(pool, 0.6))
    carry_all()
    assert sound(pool)


def test_what_cannot_be_is_refused_at_its_field() -> None:
    drives = shelf(4)
    filled(drives, "parity-1")
    small, used = shelf(1, size=59 * GIB, name="S")[0], drives[0]
    more = shelf(4, name="B")
    for kind, request, field, code in (
        ("add-drives", {"drives": ()}, "drives", "bad-input"),
        ("add-drives", {"drives": (more[0], more[0])}, "drives", "bad-input"),
        ("add-drives", {"drives": (small,)}, "drives", "too-small"),
        ("add-drives", {"drives": (used,)}, "drives", "drive-not-free"),
        ("add-drives", {"drives": (9999,)}, "drives", "drive-gone"),
        ("add-sets", {"drives": tuple(more[:3])}, "drives", "bad-input"),
        ("convert-pool", {"scheme": "parity-1"}, "scheme", "bad-input"),
        ("convert-pool", {"scheme": "raid"}, "scheme", "bad-input"),
        ("convert-pool", {"scheme": "copies-3"}, "scheme", "closed"),
        ("convert-pool", {"scheme": "parity-2"}, "drives", "bad-input"),
        ("convert-pool", {"scheme": "parity-2", "drives": (more[0],), "free": (used,)}, "free", "bad-input"),
        ("convert-pool", {"scheme": "parity-2", "drives": tuple(more[:2])}, "drives", "bad-input"),
    ):
        found = refused(kind, pool="p", **request)
        assert (found.field, found.code) == (field, code), (kind, request, found.message)
    assert refused("add-drives", pool="q", drives=(more[0],)).code == "not-found"
    assert pool_row(1).walk is None
    with transaction() as session:
        assert not session.exec(select(LogRow).where(LogRow.act == "pool-restriped")).all()


def test_parity_becomes_copies_again_where_the_volumes_fit() -> None:
    pool = do("build-pool", name="p", scheme="parity-1", drives=tuple(shelf(3)), volume="v", file_system="xfs",
              volume_size="50 GiB").pool_id or 0  # fmt: skip
    carry_all()
    carry(fill(pool, 0.5))
    do("convert-pool", pool="p", scheme="copies-2")
    assert pool_row(pool).capacity == 59 and files_intact(pool)
    go_to(pool, 0.4)
    assert files_intact(pool)
    carry_all()
    assert sound(pool) and pool_row(pool).scheme == "copies-2"


def test_a_pool_shrinks_only_to_what_its_volumes_leave() -> None:
    pool = do("build-pool", name="p", scheme="stepped-1", drives=tuple(shelf(5)), volume="v", file_system="ext4",
              volume_size="200 GiB").pool_id or 0  # fmt: skip
    carry_all()
    carry(fill(pool, 0.3))
    found = refused("convert-pool", pool="p", scheme="stepped-2")
    assert found.code == "does-not-fit"
    do("resize-volume", volume="p/v", size="150 GiB")
    do("convert-pool", pool="p", scheme="stepped-2")
    assert pool_row(pool).capacity == 3 * 59
    carry_all()
    assert sound(pool)


def test_all_volumes_take_what_is_left() -> None:
    pool = do("build-pool", name="p", scheme="copies-2", drives=tuple(shelf(2, size=120 * GIB)), volume="v", volume_size="20 GiB",
              file_system="xfs").pool_id or 0  # fmt: skip
    do("make-volumes", pool="p", name="w", size="40 GiB", file_system="ext4")
    carry_all()
    do("extend-volumes", pool="p")
    with transaction() as session:
        sizes = {v.name: v.extents for v in session.exec(select(VolumeRow))}
        assert sizes["w"] == 40 + 59 * 40 // 60 and sizes["v"] + sizes["w"] == 119
    assert refused("extend-volumes", pool="p").code == "pool-full"
    with transaction() as session:
        volume = session.exec(select(VolumeRow).where(VolumeRow.name == "w")).one()
        job = start_fill(session, open_pool(session, pool), volume, 0.9, "ida").id or 0
    carry(job)
    with transaction() as session:
        files = session.exec(select(SampleFile)).all()
        assert sum(f.extents for f in files) > 60
    assert check(pool).report["files_differing"] == []


def test_what_is_not_needed_is_taken_out_and_the_rest_stays_where_it_is() -> None:
    spare = shelf(1, name="S")[0]
    pool = do("build-pool", name="p", scheme="copies-2", drives=(*shelf(2), spare), spares=1, volume="v", file_system="xfs",
              volume_size="40 GiB").pool_id or 0  # fmt: skip
    carry_all()
    do("take-out", pool="p", drives=(spare,))
    middle, last = shelf(2, name="B"), shelf(2, name="C")
    do("add-sets", pool="p", drives=tuple(middle))
    carry_all()
    do("add-sets", pool="p", drives=tuple(last))
    carry_all()
    # v reaches over the first set into the second; w stands behind it; then v shrinks back, and w stays on the third.
    do("make-volumes", pool="p", name="a", size="19 GiB", file_system="xfs")
    do("make-volumes", pool="p", name="b", size="59 GiB", file_system="xfs")
    do("make-volumes", pool="p", name="c", size="30 GiB", file_system="xfs")
    for name in ("v", "c"):
        with transaction() as session:
            volume = session.exec(select(VolumeRow).where(VolumeRow.name == name)).one()
            job = start_fill(session, open_pool(session, pool), volume, 0.7, "ida").id or 0
        carry(job)
    assert refused("take-out", pool="p", drives=tuple(middle)).code == "not-empty"
    assert refused("take-out", pool="p", drives=(middle[0],)).code == "bad-input"
    do("delete-volume", volume="p/b")
    do("take-out", pool="p", drives=tuple(middle))
    assert pool_row(pool).capacity == 2 * 59
    assert check(pool).report["files_differing"] == [] and pool_state(pool)[0] == "healthy"
    with transaction() as session:
        left = session.exec(select(DriveRow).where(DriveRow.service == "free")).all()
        assert {d.id for d in left} == {spare, *middle} and all("old data" in (d.holds or "") for d in left)
    happens("fail", "C1")
    with transaction() as session:
        assert set(_serials(pool)) == {"A1", "A2", "C1", "C2"}


def test_a_span_gives_its_empty_last_drive_back() -> None:
    drives = shelf(3)
    pool = (
        do(
            "build-pool",
            name="p",
            scheme="span",
            drives=tuple(drives),
            volume="v",
            file_system="xfs",
            volume_size="100 GiB",
        ).pool_id
        or 0
    )
    carry(fill(pool, 0.9))
    assert refused("take-out", pool="p", drives=(drives[0],)).code == "not-empty"
    do("take-out", pool="p", drives=(drives[2],))
    assert pool_row(pool).capacity == 2 * 59 and files_intact(pool)
    do("add-drives", pool="p", drives=(drives[2],))
    assert pool_row(pool).capacity == 3 * 59 and files_intact(pool)


def test_a_share_of_flash_is_held_back_and_given_to_the_pool_later() -> None:
    with transaction() as session:
        records = [DriveRecord("F", i + 1, f"F{i + 1}", 101 * GIB, Kind.SSD) for i in range(3)]
        drives = [r.id or 0 for r in add_records(session, records, service=Service.FREE)]
    do("hold-back", drives=tuple(drives), share=0.2)
    pool = build(drives, "parity-1")
    carry_all()
    assert pool_row(pool).capacity == 2 * 80
    carry(fill(pool, 0.5))
    assert refused("hold-back", drives=(drives[0],), share=0.3).code == "in-use"
    do("hold-back", drives=tuple(drives[:2]), share=0.0)
    assert pool_row(pool).capacity == 2 * 80
    do("hold-back", drives=(drives[2],), share=0.1)
    carry_all()
    assert pool_row(pool).capacity == 2 * 90
    do("hold-back", drives=(drives[2],), share=0.0)
    carry_all()
    assert pool_row(pool).capacity == 2 * 100 and sound(pool)


def test_a_path_is_kept_step_by_step_and_can_be_left() -> None:
    pool = filled(shelf(3), "parity-1")
    larger = [shelf(1, size=80 * GIB, name=f"L{i}")[0] for i in range(3)]
    do("replace-larger", pool="p", drives=tuple(larger))
    assert refused("replace-larger", pool="p", drives=tuple(larger)).code == "on-a-path"
    found = refused("replace-drive", pool_id=pool, slot=0, drive_id=larger[1])
    assert (found.code, found.field) == ("out-of-order", "drive_id")
    assert refused("replace-drive", pool_id=pool, slot=2, drive_id=larger[0]).field == "slot"
    for slot, drive in enumerate(larger[:2]):
        replace(pool, slot, drive)
        carry_all()
    with transaction() as session:
        (path,) = session.exec(select(GrowthPathRow)).all()
        assert [came for _, _, came in path.steps] == [True, True, False] and path.ended_at is None
    # A step may also be taken because the drive there failed first.
    happens("fail", "A3")
    replace(pool, 2, larger[2])
    carry_all()
    with transaction() as session:
        assert session.exec(select(GrowthPathRow)).one().ended_at is not None
    assert pool_row(pool).capacity == 2 * 59
    do("use-room", pool="p")
    assert pool_row(pool).capacity == 2 * 79
    carry_all()
    assert sound(pool)
    do("replace-larger", pool="p", drives=(shelf(1, size=90 * GIB, name="M")[0],))
    do("leave-path", pool="p")
    assert refused("leave-path", pool="p").code == "no-path"


def test_volumes_wait_for_the_end_of_a_restripe_and_are_extended_by_themselves() -> None:
    pool = filled(shelf(3), "parity-1")
    assert refused("extend-volumes", pool="p", after_restripe=True).field == "after_restripe"
    do("add-drives", pool="p", drives=tuple(shelf(1, name="B")))
    found = refused("extend-volumes", pool="p")
    assert found.code == "pool-full" and "when it has ended" in found.message
    do("extend-volumes", pool="p", after_restripe=True)
    do("turn-restripe", pool="p")
    carry_all()
    with transaction() as session:
        assert session.exec(select(VolumeRow)).one().extents == 2 * 59, "the front went back: nothing is extended"
    do("add-drives", pool="p", drives=tuple(shelf(1, name="C")))
    do("extend-volumes", pool="p", after_restripe=True)
    carry_all()
    do_errands()
    with transaction() as session:
        assert session.exec(select(VolumeRow)).one().extents == 3 * 59
        assert pool_row(pool).extend_after is None
    carry(fill(pool, 0.9))
    assert sound(pool)


def test_a_drive_that_has_missed_something_once_can_leave_like_any_other() -> None:
    pool = filled(shelf(3), "copies-3", share=0.2)
    happens("pull", "A3")
    carry(fill(pool, 0.5))
    happens("put_back", "A3")
    carry_all()
    do("convert-pool", pool="p", scheme="copies-2")
    assert sound(pool) and _serials(pool) == ["A1", "A2"]


@pytest.mark.parametrize("scheme", ["stepped-1", "copies-2"])
def test_two_copied_side_by_side_grow_together_when_the_second_has_ended(scheme: str) -> None:
    """While the second is copied the pool cannot be restriped; what the first brings waits, and nothing is cut anew:
    in the stepped one, the upper rows would stand elsewhere with the larger drive."""
    stepped = scheme == "stepped-1"
    pool = filled([*shelf(2), *(shelf(2, size=70 * GIB, name="B") if stepped else ())], scheme, share=1.0)
    before = pool_row(pool).capacity
    for slot in (0, 1):
        replace(pool, slot, shelf(1, size=70 * GIB, name=f"L{slot}")[0])
    first, second = open_jobs("copy")
    carry(first)
    assert pool_row(pool).capacity == before and files_intact(pool)
    assert stepped == bool(_said("grows-later"))
    carry(second)
    carry_all()
    assert pool_row(pool).capacity == (3 * 69 if stepped else 69) and sound(pool)
    assert refused("use-room", pool="p").code == "no-more-room"


def _said(act: str) -> list[LogRow]:
    with transaction() as session:
        return list(session.exec(select(LogRow).where(LogRow.act == act)))


def test_what_is_measured_across_two_layouts_proves_nothing() -> None:
    """A pool loses a drive while files are written: what that made the drives do is of neither layout."""
    pool = build(shelf(3), "copies-3")
    carry_all()
    job = fill(pool, 0.9)
    carry(job, stop=_few(1))
    do("convert-pool", pool="p", scheme="copies-2")
    carry_all()
    assert "sequential_write" not in pool_row(pool).measured
    assert files_intact(pool)


def test_a_step_that_dies_between_its_windows_goes_on_from_the_last(monkeypatch: pytest.MonkeyPatch) -> None:
    """What a window leaves behind is written over by the next: its front is kept, though the step is not."""
    pool = filled(shelf(3, size=400 * GIB), "parity-1", share=0.9)
    do("add-drives", pool="p", drives=tuple(shelf(1, size=400 * GIB, name="B")))
    move, left, deaths, fronts = RestripeIO.move, 2, 0, set()

    def some_windows(io: RestripeIO, most: int) -> Window | None:
        nonlocal left
        if left == 0:
            raise KeyboardInterrupt
        left -= 1
        return move(io, min(most, 7))

    monkeypatch.setattr(RestripeIO, "move", some_windows)
    while jobs := open_jobs("restripe"):
        try:
            carry(jobs[0])
        except KeyboardInterrupt:
            deaths, left = deaths + 1, 2 + deaths % 3
            fronts.add(pool_row(pool).front)
            assert files_intact(pool)
    assert deaths > 5 and len(fronts) == deaths
    assert sound(pool)


def test_one_set_gets_a_drive_and_lives_on_as_any_other() -> None:
    """Sets of four and three: read and in step, a failure in each, larger drives, another scheme, both grown, a set
    added and taken out again."""
    size = 60 * GIB
    pool = filled(shelf(6, size=size), "parity-1", sets=2, share=0.8)
    do("add-drives", pool="p", drives=tuple(shelf(1, size=size, name="B")), into=1)
    assert files_intact(pool)
    carry_all()
    assert sound(pool)
    with transaction() as session:
        layout = open_pool(session, pool).layout
    assert layout.describe() == "2 sets of 3 and 4" and [len(one) for one in layout.sets] == [4, 3]
    assert pool_row(pool).capacity * EXTENT == promised_of("add-drives") == (3 + 2) * 59 * EXTENT
    # The first of the second set and the one that came to the first: one of each is survived.
    happens("fail", "A4")
    happens("fail", "B1")
    assert pool_state(pool)[0] == "unprotected" and files_intact(pool)
    for slot, new in zip((3, 4), shelf(2, size=80 * GIB, name="C"), strict=True):
        replace(pool, slot, new)
    carry_all()
    assert sound(pool)
    for slot, new in zip((5, 6), shelf(2, size=80 * GIB, name="D"), strict=True):
        replace(pool, slot, new)
        carry_all()
    carry_all()
    assert pool_row(pool).capacity == 3 * 59 + 2 * 79 and sound(pool)
    do("convert-pool", pool="p", scheme="parity-2", drives=tuple(shelf(2, size=80 * GIB, name="E")))
    carry_all()
    assert pool_row(pool).capacity == 3 * 59 + 2 * 79 and sound(pool)
    do("add-drives", pool="p", drives=tuple(shelf(2, size=80 * GIB, name="F")))
    carry_all()
    assert pool_row(pool).capacity == 4 * 59 + 3 * 79 and sound(pool)
    more = shelf(6, size=80 * GIB, name="G")
    do("add-sets", pool="p", drives=tuple(more))
    carry_all()
    assert sound(pool)
    do("take-out", pool="p", drives=tuple(more))
    assert pool_row(pool).capacity == 4 * 59 + 3 * 79 and sound(pool)
    found = refused("add-drives", pool="p", drives=(more[0],), into=3)
    assert (found.field, "there is no set 3" in found.message) == ("into", True)
    assert refused("add-drives", pool="p", drives=(more[0],)).field == "drives"


@pytest.mark.parametrize("encrypted", [False, True])
def test_what_stands_apart_is_moved_together_and_the_pool_becomes_smaller(encrypted: bool) -> None:
    """Kept in use, killed between its steps, while a thin volume takes more; then it fits the smaller pool."""
    pool = do("build-pool", name="p", scheme="stepped-1", drives=tuple(shelf(5)), volume="gap", file_system="none",
              volume_size="90 GiB", encrypted=encrypted).pool_id or 0  # fmt: skip
    do("make-volumes", pool="p", name="v", size="60 GiB", file_system="ext4")
    do("make-volumes", pool="p", name="w", size="50 GiB", file_system="xfs")
    do("make-volumes", pool="p", name="thin", size="500 GiB", file_system="xfs", thin=True)
    carry_all()
    for volume in (2, 3):
        carry(fill(pool, 0.9, volume))
    do("delete-volume", volume="p/gap")
    found = refused("convert-pool", pool="p", scheme="stepped-2")
    assert (found.code, found.field) == ("stands-apart", "scheme") and "Move them together first" in found.message
    do("move-together", pool="p")
    (job,) = open_jobs("move-together")

    def some(*, undone: bool) -> None:
        with transaction() as session:
            opened, row = open_pool(session, pool), session.get_one(JobRow, job)
            move_together.step(Work(session, row, opened, devices(), 7))
            if undone:
                raise KeyboardInterrupt

    for _ in range(4):
        some(undone=False)
        # A step that is undone leaves bytes in a place that nothing refers to.
        with pytest.raises(KeyboardInterrupt):
            some(undone=True)
        assert all(files_intact(pool, v) for v in (2, 3))
    carry(fill(pool, 0.02, 4))
    assert refused("convert-pool", pool="p", scheme="stepped-2").code == "busy"
    carry_all()
    with transaction() as session:
        pieces = session.exec(select(VolumePiece).where(VolumePiece.pool_id == pool)).all()
        assert max(p.first + p.count for p in pieces) == sum(p.count for p in pieces)
    assert refused("move-together", pool="p").code == "together"
    report = check(pool).report
    assert (report["mismatches"], report["files_differing"]) == (0, [])
    do("convert-pool", pool="p", scheme="stepped-2")
    carry_all()
    report = check(pool).report
    assert (report["mismatches"], report["files_differing"]) == (0, [])
    assert pool_row(pool).capacity == 3 * 59 and all(files_intact(pool, v) for v in (2, 3, 4))


def test_a_small_drive_has_the_place_that_a_larger_one_had(db: str) -> None:
    """A pair whose one member was copied onto a drive ten times larger, which then fails: a drive like the first will do."""
    at_once()
    one, two = shelf(2, size=20 * GIB)
    (large,) = shelf(1, size=200 * GIB, name="L")
    small, smaller = shelf(1, size=20 * GIB, name="S")[0], shelf(1, size=18 * GIB, name="T")[0]
    pool = build([one, two], "copies-2")
    carry_all()
    carry(fill(pool, 0.5))
    replace(pool, 1, large)
    carry_all()
    happens("fail", "L1")
    with pytest.raises(NotPossible, match="too small"):
        replace(pool, 1, smaller)
    replace(pool, 1, small)
    carry_all()
    assert pool_state(pool)[0] == "healthy" and files_intact(pool) and check(pool).report["mismatches"] == 0
    with transaction() as session:
        # Nothing counts on what the large one had.
        assert {p.size for p in open_pool(session, pool).members} == {20 * GIB}
