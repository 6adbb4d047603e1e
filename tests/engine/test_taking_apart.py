"""Pools taken apart, put together again, and let go: what is readable in between, and what is whole afterwards."""

from __future__ import annotations

import datetime as dt
from typing import Any

import pytest
from sqlmodel import SQLModel, func, select

from pairshelf.core.changes.kinds import request_of
from pairshelf.core.domain.units import GIB
from pairshelf.core.errors import PairShelfError
from pairshelf.engine import approver, errands, keys
from pairshelf.engine.apply.pools.put_together import forget_those_that_are_over
from pairshelf.engine.carry import carry
from pairshelf.engine.errands import do_errands
from pairshelf.engine.jobs.fill import start_fill
from pairshelf.engine.pools import devices, journal_of, open_pool
from pairshelf.services.disposal import laboratory
from pairshelf.services.shelving import retire
from pairshelf.store.database import transaction
from pairshelf.store.tables import (
    DriveRow,
    FormerPoolRow,
    Host,
    JobRow,
    Mount,
    PartitionPlan,
    PoolRow,
    SampleFile,
    Share,
    Site,
    Target,
    VolumePiece,
    VolumeRow,
    now,
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
    pool_row,
    pool_state,
    shelf,
)

pytestmark = pytest.mark.usefixtures("db")
IQN = "iqn.2026-01.example.fernhollow:"


@pytest.fixture(autouse=True)
def quick(db: str) -> None:
    at_once()


def count(table: type[SQLModel]) -> int:
    with transaction() as session:
        return session.exec(select(func.count()).select_from(table)).one()


def services() -> dict[str, tuple[str, str | None]]:
    with transaction() as session:
        return {d.serial: (d.service, d.holds) for d in session.exec(select(DriveRow))}


def refused(kind: str, **request: Any) -> PairShelfError:
    with pytest.raises(PairShelfError) as error, transaction() as session:
        approver.draw_up(session, kind, request_of(kind, request), "ida")
    return error.value


def filled(scheme: str = "parity-1", drives: int = 4, **more: Any) -> int:
    pool = do("build-pool", name="p", scheme=scheme, drives=tuple(shelf(drives)), volume="v", **more).pool_id or 0
    carry_all()
    carry(fill(pool, 0.6))
    return pool


def test_all_that_hangs_on_it_ends_in_its_order() -> None:
    with transaction() as session:
        site = session.exec(select(Site)).first() or Site(name="Here")
        session.add(site)
        session.flush()
        session.add(Host(name="elm", site_id=site.id or 0))
    pool = do("build-pool", name="p", scheme="parity-1", drives=tuple(shelf(4)), spares=1, volume="v", volume_size="40 GiB",
              host="elm", mount_point="/srv/v").pool_id or 0  # fmt: skip
    do("make-volumes", pool="p", name="disk", size="20 GiB", file_system="none")
    do("add-party", name="ash")
    do("make-share", volume="p/v", name="files", rights=("ash:write",))
    do("set-host", host="elm", iqn=IQN + "elm", storage_address="10.0.0.1/24")
    do("declare-initiator", iqn=IQN + "elm")
    do("make-target", iqn=IQN + "t", host="elm", volume="p/disk", initiators=(IQN + "elm",))
    do("set-keep-rule", volume="p/v", above=80.0)
    carry_all()
    with transaction() as session:
        start_fill(session, open_pool(session, pool), session.get_one(VolumeRow, 1), 0.5, "ida")
    with transaction() as session:
        sheet = approver.draw_up(session, "take-apart", request_of("take-apart", {"pool": "p"}), "ida").body
    ends = [
        next(i for i, s in enumerate(sheet["steps"]) if w in s)
        for w in ("whatever job", "share files", "target", "Unmount", "volume p/v", "drives go")
    ]
    assert ends == sorted(ends) and sheet["confirm"] == "p"
    assert any("ash" in c and "shares" in c for c in sheet["cautions"])
    do("take-apart", pool="p")
    do_errands()
    assert all(count(t) == 0 for t in (PoolRow, VolumeRow, VolumePiece, SampleFile, Mount, Share, Target, JobRow))
    assert set(services().values()) == {("free", "old data of pool p, readable")}
    assert devices().hosts.entries("elm", "/srv/v") is not None and not devices().hosts.is_closed("elm", "/srv/v")


def test_of_what_was_written_last_nothing_stays_but_on_the_drives() -> None:
    pool = filled("parity-1", 4)
    journal = journal_of(pool_row(pool).uid)
    assert journal.stat().st_size > 1000, "there is something to forget"
    # Cut off right after the decision: the journal goes when somebody looks after what is left over.
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(errands, "do_errands", lambda: None)
        do("take-apart", pool="p", keep_days=9)
    assert journal.exists()
    do_errands()
    assert not journal.exists()
    # It came back before that was done: then it is the journal of a pool that is there.
    do("put-together", former=1)
    fill(pool, 0.8)
    carry_all()
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(errands, "do_errands", lambda: None)
        do("take-apart", pool="p", keep_days=9)
        do("put-together", former=2)
    do_errands()
    assert journal.exists() and files_intact(pool)


def test_a_divided_drive_that_is_given_back_leaves_no_journal_either() -> None:
    (drive,) = shelf(1)
    with transaction() as session:
        plan = PartitionPlan(
            drive_id=drive, scheme="gpt", sector=512, disk_id="1", changed_by="ida",
            parts=[{"size": "20 GiB", "file_system": "ext4"}],
        )  # fmt: skip
        session.add(plan)
    pool = do("write-partitions", drive_id=drive).pool_id or 0
    journal = journal_of(pool_row(pool).uid)
    fill(pool)
    carry_all()
    assert journal.exists()
    do("delete-volume", volume="A1/part-1")
    with transaction() as session:
        session.get_one(PartitionPlan, drive).parts = []
    do("write-partitions", drive_id=drive)
    assert not journal.exists() and count(PoolRow) == 0


@pytest.mark.parametrize(("scheme", "drives"), [("parity-1", 4), ("stepped-1", 4), ("copies-2", 2)])
def test_it_comes_back_with_every_file_while_nothing_was_written(scheme: str, drives: int) -> None:
    pool = filled(scheme, drives)
    with transaction() as session:
        before = sorted((f.name, f.checksum) for f in session.exec(select(SampleFile)))
    do("take-apart", pool="p")
    # What a laboratory reads has names still.
    with transaction() as session:
        shown = {a.name: a for a in laboratory(session, 1, devices())}["shown"]
    assert shown.legible["p/v"] > 3
    assert "may be put together again" in refused("wipe", drives=(1,)).message
    assert "may be put together again" in refused("hand-out", drives=(1,), how="sold", to="ash").message
    with pytest.raises(PairShelfError, match="may be put together again"), transaction() as session:
        retire(session, "ida", [1], "sold")
    do("put-together", former=1)
    assert pool_state(pool)[0] == "healthy" and files_intact(pool)
    with transaction() as session:
        assert sorted((f.name, f.checksum) for f in session.exec(select(SampleFile))) == before
    report = check(pool).report
    assert (report["mismatches"], report["files_differing"]) == (0, [])
    assert refused("put-together", former=1).code == "already-back"
    # It is a pool like any other: it can be taken apart again.
    do("take-apart", pool="p", keep_days=0)
    assert count(PoolRow) == 0


def test_a_drive_that_is_away_does_not_hold_it_up_and_too_many_do() -> None:
    pool = filled()
    happens("pull", "A2")
    assert pool_state(pool)[0] in ("degraded", "unprotected")
    do("take-apart", pool="p", all_the_same=True)
    assert services()["A2"] == ("free", "old data of pool p, readable")
    happens("pull", "A3")
    error = refused("put-together", former=1)
    assert error.code == "too-few" and "A2, A3 are away; 1 more" in error.message
    happens("put_back", "A3")
    do("put-together", former=1)
    assert pool_state(pool)[0] in ("degraded", "unprotected") and files_intact(pool)
    happens("put_back", "A2")
    carry_all()
    assert pool_state(pool)[0] == "healthy" and files_intact(pool)


@pytest.mark.parametrize("what", ["failed", "lost", "unreachable"])
def test_it_is_taken_apart_whatever_state_it_is_in(what: str) -> None:
    filled()
    for serial in ("A1", "A2")[: 1 if what == "failed" else 2]:
        happens("pull" if what == "unreachable" else "fail", serial)
    if what != "lost":
        # Not in panic: its data can be read, or will be.
        error = refused("take-apart", pool="p", keep_days=0)
        assert (error.code, error.field) == ("not-in-panic", "all_the_same") and count(PoolRow) == 1
    do("take-apart", pool="p", keep_days=0, all_the_same=what != "lost")
    assert count(PoolRow) == 0 and {s for s, _ in services().values()} == {"free"}


def test_what_was_used_or_written_on_since_stands_in_the_way() -> None:
    filled()
    do("take-apart", pool="p")
    build([1, 2], "copies-2", name="q")
    error = refused("put-together", former=1)
    assert error.code == "written-since" and "A1, A2" in error.message
    filled_again = refused("put-together", former=2)
    assert filled_again.field == "former" and filled_again.code == "not-found"


def test_a_label_written_over_is_noticed() -> None:
    filled()
    do("take-apart", pool="p")
    devices().open("A3", 60 * GIB).write_label({"pool": "other"})
    with pytest.raises(PairShelfError) as error:
        do("put-together", former=1)
    assert error.value.code == "written-since" and count(PoolRow) == 0


def test_a_name_that_is_taken_is_said_so() -> None:
    filled()
    do("take-apart", pool="p")
    do("build-pool", name="P", scheme="copies-2", drives=tuple(shelf(2, name="B")))
    assert refused("put-together", former=1).code == "name-taken"


def test_let_go_or_late_it_never_comes_back_and_its_drives_are_wiped() -> None:
    filled()
    do("take-apart", pool="p")
    do("let-go", former=1)
    assert refused("put-together", former=1).code == refused("let-go", former=1).code == "too-late"
    do("wipe", drives=(1, 2, 3, 4), category="clear")
    carry_all()
    assert {h for _, h in services().values()} == {None}
    do("build-pool", name="p", scheme="copies-2", drives=(1, 2))
    carry_all()
    do("take-apart", pool="p", keep_days=1)
    with transaction() as session:
        session.get_one(FormerPoolRow, 2).until = now() - dt.timedelta(seconds=1)
    with transaction() as session:
        assert forget_those_that_are_over(session) == 1
        assert "pool" not in session.get_one(FormerPoolRow, 2).rows
    assert refused("put-together", former=2).code == "too-late"


def test_an_encrypted_pool_on_blank_drives_needs_only_its_key_to_go() -> None:
    """Wiped first, then only ever ciphertext: once the key is gone, so is everything. A drive that was not blank does not
    count, and neither does one whose pool may come back."""
    drives = shelf(3)
    do("wipe", drives=tuple(drives[:2]), category="clear")
    carry_all()
    do("build-pool", name="safe", scheme="parity-1", drives=tuple(drives), volume="v", encrypted=True)
    carry_all()
    carry(fill(1, 0.5))
    do("take-apart", pool="safe")
    assert not keys.is_open(1)
    with transaction() as session:
        assert session.get_one(FormerPoolRow, 1).rows["pool"]["key"]
    do("put-together", former=1)
    with transaction() as session:
        assert session.get_one(PoolRow, 1).key and not keys.is_open(1)
    do("take-apart", pool="safe", keep_days=0)
    with transaction() as session:
        assert "key" not in str(session.get_one(FormerPoolRow, 2).rows)
    do("wipe", drives=tuple(drives[:2]), methods=("key-gone",))
    carry_all()
    error = refused("wipe", drives=(drives[2],), methods=("key-gone",))
    assert "Not all that was ever written to it" in error.message


def test_days_that_cannot_be_and_partitions_are_refused() -> None:
    filled()
    for days in (-1, 91):
        assert refused("take-apart", pool="p", keep_days=days).field == "keep_days"
    assert refused("take-apart", pool="nobody").field == "pool"
