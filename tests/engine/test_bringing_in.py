"""Pools brought in from their drives alone."""

from __future__ import annotations

import random
from pathlib import Path

import pytest
from sqlmodel import col, select

from pairshelf.core.domain.found import Standing
from pairshelf.core.domain.units import GIB
from pairshelf.core.errors import BadInput, Locked, NameTaken, NotFound, NotPossible
from pairshelf.engine import keys
from pairshelf.engine.carry import carry
from pairshelf.engine.errands import do_errands
from pairshelf.engine.found_pools import found_pools
from pairshelf.engine.observe import look_after_a_rest, observe
from pairshelf.engine.pools import devices
from pairshelf.store import database
from pairshelf.store.database import transaction
from pairshelf.store.tables import (
    DriveRow,
    ErrandRow,
    Host,
    JobRow,
    KeepRule,
    LogRow,
    Mount,
    PoolRow,
    SampleFile,
    Setting,
    Share,
    ShareRight,
    SheetRow,
    Site,
    TargetLun,
    VolumeRow,
)
from tests.conftest import House, database_from
from tests.engine.elsewhere import books_lost, brought_in, carried, put_in, recorded, sizes
from tests.engine.helpers import at_once, build, carry_all, check, do, files_intact, fill, happens, pool_state, shelf
from tests.server import forget_connections

pytestmark = pytest.mark.usefixtures("db")


@pytest.fixture(autouse=True)
def quick(db: str) -> None:
    at_once()


def files() -> dict[str, str]:
    with transaction() as session:
        return {f.name: f.checksum for f in session.exec(select(SampleFile))}


def spread(count: int = 6, **volume: str) -> int:
    pool = (
        do("build-pool", name="p", scheme="spread", domain="drive", drives=tuple(shelf(count)), **volume).pool_id or 0
    )
    do("make-volumes", pool="p", name="v", size="60 GiB", protection="parity-1:3", file_system="xfs")
    carry_all()
    return pool


def filled(scheme: str, count: int) -> int:
    pool = spread(count) if scheme == "spread" else build(shelf(count), scheme)
    carry_all()
    carry(fill(pool, 0.3))
    recorded()
    return pool


SCHEMES = [("parity-2", 6), ("copies-2", 2), ("stepped-1", 4), ("stripe", 2), ("spread", 6)]


@pytest.mark.parametrize(("scheme", "count"), SCHEMES)
def test_drives_are_enough(scheme: str, count: int) -> None:
    """The books are gone; bays are shuffled; every file is there, and everything is in step."""
    filled(scheme, count)
    before = files()
    assert before
    carried(books_lost())
    pool = brought_in()
    assert pool_state(pool) == ("healthy", ["active"] * count)
    assert files() == before
    assert files_intact(pool)
    report = check(pool).report
    assert (report["mismatches"], report["files_differing"]) == (0, [])
    carry(fill(pool, 0.5))
    assert files_intact(pool), "it goes on being used"


@pytest.mark.parametrize(("scheme", "count"), [s for s in SCHEMES if s[0] != "stripe"])
def test_one_forgotten_comes_later_and_is_brought_up_to_date_with_what_changed(scheme: str, count: int) -> None:
    filled(scheme, count)
    drives = books_lost()
    carried(drives, but=["A2"])
    pool = brought_in()
    state, places = pool_state(pool)
    assert state in ("degraded", "unprotected")
    assert places.count("missing") == 1
    assert files_intact(pool)
    carry(fill(pool, 0.35))
    observe(devices())
    assert pool_state(pool)[1].count("missing") == 1, "it is not here before it is put in"
    put_in(drives, ["A2"], first=40)
    with transaction() as session:
        (job,) = session.exec(select(JobRow).where(JobRow.kind == "rebuild"))
        assert job.report["missed"] is not None, "not anew: only what changed"
    carry_all()
    do_errands()
    carry_all()
    assert pool_state(pool) == ("healthy", ["active"] * count)
    assert files_intact(pool)
    assert check(pool).report["mismatches"] == 0


def test_with_too_few_it_says_how_many_and_which() -> None:
    filled("parity-1", 4)
    drives = books_lost()
    carried(drives, but=["A2", "A3"])
    with transaction() as session:
        (found,) = found_pools(session, devices())
        uid = found.uid
    with pytest.raises(
        NotPossible, match=r"2 of the 4 drives of pool p are here; at least 1 more is needed: A[23]"
    ) as e:
        do("bring-in", pool=uid)
    assert e.value.code == "too-few"
    put_in(drives, ["A3"], first=30)
    assert files_intact(brought_in())


def test_an_encrypted_one_comes_locked_and_opens_with_its_passphrase() -> None:
    outcome = do(
        "build-pool", name="p", scheme="parity-1", drives=tuple(shelf(4)), volume="v", file_system="xfs", encrypted=True
    )
    carry_all()
    carry(fill(outcome.pool_id or 0, 0.3))
    recorded()
    before = files()
    carried(books_lost())
    with transaction() as session:
        (found,) = found_pools(session, devices())
        assert found.encrypted
    pool = do("bring-in", pool=found.uid).pool_id or 0
    with transaction() as session:
        row = session.get_one(PoolRow, pool)
        assert row.key is not None and not keys.is_open(pool)
    with pytest.raises(Locked):
        fill(pool, 0.5)
    with pytest.raises(BadInput, match="passphrase"):
        keys.unwrap(row.key or {}, "another")
    keys.open_key(pool, keys.unwrap(row.key or {}, outcome.passphrase or ""))
    carry_all()
    assert files() == before
    assert files_intact(pool)


def test_an_encrypted_spread_one_is_read_though_its_volumes_have_other_numbers() -> None:
    outcome = do("build-pool", name="p", scheme="spread", domain="drive", drives=tuple(shelf(6)), encrypted=True)
    do("make-volumes", pool="p", name="v", size="60 GiB", protection="parity-1:3", file_system="xfs")
    carry_all()
    carry(fill(outcome.pool_id or 0, 0.3))
    recorded()
    drives = books_lost()
    build(shelf(3, name="C"), "parity-1", name="own")  # Its volume has the number that the other one had.
    carry_all()
    carried(drives)
    pool = brought_in(passphrase=outcome.passphrase)
    with transaction() as session:
        volume = session.exec(select(VolumeRow).where(VolumeRow.pool_id == pool)).one()
        assert volume.sealed_as not in (None, volume.id)
    assert files_intact(pool, volume.id)
    carry(fill(pool, 0.5, volume.id))
    recorded()
    assert files_intact(pool, volume.id)
    # And on to a third.
    carried({s: n for s, n in books_lost().items() if s.startswith("A")}, seed=3)
    assert files_intact(brought_in(passphrase=outcome.passphrase))


def test_a_name_that_is_taken_is_asked_about() -> None:
    filled("parity-1", 3)
    drives = books_lost()
    build(shelf(3, name="C"), "parity-1", name="p")
    carry_all()
    carried(drives)
    with transaction() as session:
        (found,) = found_pools(session, devices())
    with pytest.raises(NameTaken) as taken:
        do("bring-in", pool=found.uid)
    assert taken.value.field == "name"
    pool = brought_in("old-p")
    with transaction() as session:
        assert session.get_one(PoolRow, pool).name == "old-p"
        volume = session.exec(select(VolumeRow.id).where(VolumeRow.pool_id == pool)).one()
    assert files_intact(pool, volume)
    with pytest.raises(NotPossible, match="old-p") as twice:
        do("bring-in", pool=found.uid, name="third")
    assert twice.value.code == "already-here"


def test_an_older_copy_never_wins() -> None:
    """A member left behind while the others went on; and one that was replaced, put in beside its successor."""
    pool = filled("parity-1", 4)
    old = {
        f: (devices().media_path("A1").with_suffix(f)).read_bytes()
        for f in (".img", ".record-0", ".record-1", ".record-2")
    }
    carry(fill(pool, 0.5))
    recorded()
    do("replace-drive", pool_id=pool, slot=2, drive_id=shelf(1, name="N")[0])
    carry_all()
    recorded()
    for suffix, content in old.items():
        devices().media_path("A1").with_suffix(suffix).write_bytes(content)
    carried(books_lost())
    with transaction() as session:
        (found,) = found_pools(session, devices())
    assert {m.serial: m.standing for m in found.members if m.standing is not Standing.CURRENT} == {"A1": Standing.OLDER}
    assert [s for s, _ in found.left_over] == ["A3"]
    pool = brought_in()
    assert pool_state(pool)[0] == "healthy"
    assert files_intact(pool)
    assert check(pool).report["mismatches"] == 0
    with transaction() as session:
        assert session.exec(select(DriveRow.service).where(DriveRow.serial == "A3")).one() == "new"
        assert "older record" in " ".join(session.exec(select(LogRow.sentence)))


def test_what_is_overwritten_is_shown_and_confirmed() -> None:
    pool = filled("parity-1", 4)
    old = {f: (devices().media_path("A1").with_suffix(f)).read_bytes() for f in (".record-0", ".record-1", ".record-2")}
    carry(fill(pool, 0.5))
    recorded()
    for suffix, content in old.items():
        devices().media_path("A1").with_suffix(suffix).write_bytes(content)
    carried(books_lost())
    with transaction() as session:
        from pairshelf.core.changes.pools.bring_in import BringIn
        from pairshelf.engine.planner import plan

        (found,) = found_pools(session, devices())
        sheet = plan(session, "bring-in", BringIn(found.uid), devices()).sheet
    assert [e.serial for e in sheet.erases] == ["A1"]
    assert sheet.confirm == "p"
    assert any("1 drive has an older record than it should" in f.sentence for f in sheet.findings)


@pytest.mark.parametrize("what", ["label", "one record", "both records", "all"])
def test_what_is_damaged_on_one_drive_costs_nothing(what: str) -> None:
    filled("parity-1", 4)
    media = devices().media_path("A2")
    if what in ("label", "all"):
        with open(media, "r+b") as file:
            file.write(b"\xff" * 1024)
    suffixes = {
        "one record": (".record-1",),
        "both records": (".record-0", ".record-1"),
        "all": (".record-0", ".record-1"),
    }
    for suffix in suffixes.get(what, ()):
        raw = bytearray(media.with_suffix(suffix).read_bytes())
        raw[len(raw) // 2] ^= 0xFF
        media.with_suffix(suffix).write_bytes(raw)
    drives = books_lost()
    carried(drives)
    pool = brought_in()
    if what == "all":
        # Nothing on it says whose it is; the others say that it is one of them.
        with transaction() as session:
            body = session.exec(select(SheetRow.body).where(SheetRow.kind == "bring-in")).one()
        assert [e["serial"] for e in body["erases"]] == ["A2"]
        assert body["confirm"] == "p"
    assert pool_state(pool) == ("healthy", ["active"] * 4)
    assert files_intact(pool)
    assert check(pool).report["mismatches"] == 0
    assert devices().open("A2", drives["A2"]).read_label() is not None


def test_drives_of_two_pools_in_one_box_are_told_apart() -> None:
    filled("parity-1", 4)
    other = build(shelf(3, name="C"), "parity-1", name="q")
    carry_all()
    with transaction() as session:
        volume = session.exec(select(VolumeRow.id).where(VolumeRow.pool_id == other)).one()
    carry(fill(other, 0.2, volume))
    recorded()
    before = files()
    carried(books_lost())
    with transaction() as session:
        found = found_pools(session, devices())
        assert sorted((f.name, len(f.members), len(f.drive_ids)) for f in found) == [("p", 4, 4), ("q", 3, 3)]
    for one in found:
        do("bring-in", pool=one.uid)
    carry_all()
    assert files() == before
    with transaction() as session:
        for volume_row in session.exec(select(VolumeRow)).all():
            assert files_intact(volume_row.pool_id, volume_row.number)


def test_a_drive_copied_with_all_its_bytes_is_no_member() -> None:
    filled("copies-2", 2)
    for suffix in (".img", ".record-0", ".record-1"):
        content = devices().media_path("A1").with_suffix(suffix).read_bytes()
        devices().media_path("Z9").with_suffix(suffix).write_bytes(content)
    drives = books_lost() | {"Z9": 60 * GIB}
    carried(drives, but=["A1"])
    with transaction() as session:
        (found,) = found_pools(session, devices())
    assert [s for s, _ in found.left_over] == ["Z9"]
    pool = brought_in()
    assert pool_state(pool)[0] == "unprotected"
    assert files_intact(pool)


def test_what_is_not_there_is_refused() -> None:
    with pytest.raises(NotFound):
        do("bring-in", pool="f" * 32)


def test_a_drive_used_elsewhere_meanwhile_is_neither_read_nor_written_over() -> None:
    """A pool goes to another installation and is changed there; then one of its drives comes back to the old books."""
    from pairshelf.engine.records import head_on

    pool = filled("copies-2", 2)
    head, _ = head_on(devices(), "A2", sizes()["A2"])
    assert head is not None
    happens("pull", "A2")
    from dataclasses import replace

    from pairshelf.formats.pool_record import pack, packed_body

    raw = pack(replace(head, house="another", generation=head.generation + 10**7), packed_body({}))
    devices().media_path("A2").with_suffix(".record-0").write_bytes(raw)
    before = devices().media_path("A2").read_bytes()
    happens("put_back", "A2")
    carry_all()
    carry(fill(pool, 0.5))
    assert pool_state(pool) == ("unprotected", ["active", "missing"])
    assert devices().media_path("A2").read_bytes() == before
    with transaction() as session:
        assert "was used in another installation" in " ".join(session.exec(select(LogRow.sentence)))


def test_a_pool_that_went_to_another_house_and_is_back_is_not_touched_until_it_is_brought_in(
    db: str, server: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Off while its drives were in use elsewhere: what these books say of them holds no more."""
    pool = filled("parity-1", 4)
    database.engine().dispose()
    with database_from(House(db.rsplit("/", 1)[1], tmp_path / "none"), server, devices().folder, monkeypatch):
        drives = books_lost()
        with transaction() as session:
            session.merge(Setting(key="installation", value={"id": "e" * 32}))
        carried(drives)
        there = brought_in()
        carry(fill(there, 0.6))
        recorded()
        written = files()
    monkeypatch.setenv("PAIRSHELF_DATABASE_URL", db)
    forget_connections()
    assert files() != written
    before = [devices().media_path(s).read_bytes() for s in sorted(drives)]
    assert look_after_a_rest(devices()) == 4
    assert pool_state(pool) == ("unreachable", ["missing"] * 4)
    observe(devices())
    assert pool_state(pool)[0] == "unreachable"
    assert [devices().media_path(s).read_bytes() for s in sorted(drives)] == before
    do("take-apart", pool="p", keep_days=3, all_the_same=True)
    with pytest.raises(NotPossible, match="in use in another installation since"):
        do("put-together", former=1)
    pool = brought_in()
    assert files() == written
    assert files_intact(pool)
    assert look_after_a_rest(devices()) == 0


def test_a_drive_that_comes_back_older_than_it_went_is_filled_anew() -> None:
    pool = filled("parity-1", 4)
    old = {
        f: (devices().media_path("A3").with_suffix(f)).read_bytes()
        for f in (".img", ".record-0", ".record-1", ".record-2")
    }
    carry(fill(pool, 0.5))
    recorded()
    happens("pull", "A3")
    for suffix, content in old.items():
        devices().media_path("A3").with_suffix(suffix).write_bytes(content)
    happens("put_back", "A3")
    carry_all()
    assert pool_state(pool) == ("healthy", ["active"] * 4)
    assert check(pool).report["mismatches"] == 0
    assert files_intact(pool)
    with transaction() as session:
        rebuilt = session.exec(
            select(JobRow.report).where(JobRow.kind == "rebuild").order_by(col(JobRow.id).desc())
        ).first()
        assert rebuilt is not None and "missed" not in rebuilt


def test_before_anything_is_written_without_a_drive_the_others_say_that_it_is_away() -> None:
    """Pulled, written to, and the books are lost at once: the one that was away is not believed."""
    pool = filled("parity-1", 4)
    happens("pull", "A1")
    carry(fill(pool, 0.5))
    with transaction() as session:
        written = {f.name for f in session.exec(select(SampleFile))}
    drives = books_lost(journals=True)
    carried(drives)
    with transaction() as session:
        (found,) = found_pools(session, devices())
    standing = {m.serial: (m.standing, m.state) for m in found.members}
    assert standing["A1"] == (Standing.BEHIND, "missing")
    pool = brought_in()
    assert pool_state(pool)[0] == "healthy"
    assert check(pool).report["mismatches"] == 0
    assert files_intact(pool)
    assert set(files()) <= written


@pytest.mark.parametrize("scheme", ["parity-1", "stepped-1"])
def test_a_restripe_goes_on_where_its_front_stands(scheme: str) -> None:
    pool = filled(scheme, 4)
    do("add-drives", pool="p", drives=tuple(shelf(1, name="N")))
    with transaction() as session:
        (job,) = session.exec(select(JobRow.id).where(JobRow.kind == "restripe"))
    left = random.Random(1).randint(3, 6)

    def stop() -> bool:
        nonlocal left
        left -= 1
        return left < 0

    from pairshelf.engine import carry as carrying

    most, carrying._MOST = carrying._MOST, 9
    try:
        carry(job or 0, stop=stop)
    finally:
        carrying._MOST = most
    with transaction() as session:
        row = session.get_one(PoolRow, pool)
        assert row.walk is not None and row.front
    # Without the record that the worker would write: the front alone stands on the drives before it goes further.
    drives = books_lost()
    carried(drives)
    pool = brought_in()
    with transaction() as session:
        assert session.get_one(PoolRow, pool).walk is None, "it has arrived"
    assert pool_state(pool) == ("healthy", ["active"] * 5)
    assert files_intact(pool)
    assert check(pool).report["mismatches"] == 0


def test_pulled_one_after_the_other_and_noticed_they_are_as_they_were() -> None:
    """Written to without the first; then all go, each noticed: only the first has anything to be filled with."""
    pool = filled("parity-2", 6)
    happens("pull", "A1")
    carry(fill(pool, 0.5))
    for serial in ("A2", "A3", "A4", "A5", "A6"):
        recorded()
        happens("pull", serial)
    with transaction() as session:
        drives = {d.serial: d.size for d in session.exec(select(DriveRow))}
        written = {f.name: f.checksum for f in session.exec(select(SampleFile))}
    books_lost()
    carried(drives, but=["A6"])
    with transaction() as session:
        (found,) = found_pools(session, devices())
    missed = {m.serial: m.missed for m in found.members if m.standing is Standing.BEHIND}
    assert missed.pop("A1")
    assert set(missed.values()) == {0}
    pool = brought_in()
    assert pool_state(pool)[1].count("active") == 5
    put_in(drives, ["A6"], first=50)
    carry_all()
    do_errands()
    carry_all()
    assert pool_state(pool) == ("healthy", ["active"] * 6)
    assert files() == written
    assert files_intact(pool)
    assert check(pool).report["mismatches"] == 0


def hosts(*names: str) -> None:
    with transaction() as session:
        session.add(site := Site(name="Mill"))
        session.flush()
        for name in names:
            session.add(
                Host(site_id=site.number, name=name, iqn=f"iqn.2026-01.example.mill:{name}", storage_address="10.0.0.9")
            )


def sentences() -> str:
    with transaction() as session:
        return " ".join(session.exec(select(LogRow.sentence)))


def hung_about(pool: str = "p") -> None:
    """A mount and a share of one volume, and another as a disk for another host."""
    hosts("elm", "ash")
    do("add-party", name="moss")
    do("add-party", name="fern")
    do("mount-volume", volume=f"{pool}/v", host="elm", mount_point="/srv/v", access_times=True)
    do("make-share", volume=f"{pool}/v", name="papers", folder="press", rights=("moss:write", "fern:read"), quota="5 GiB",
       bin_days=3)  # fmt: skip
    do("set-keep-rule", volume=f"{pool}/v", above=80.0)
    do("declare-initiator", iqn="iqn.2026-01.example.mill:ash")
    do("make-volumes", pool=pool, name="bare", size="20 GiB", file_system="none")
    do(
        "make-target",
        iqn="iqn.2026-01.example.mill:t",
        host="elm",
        volume=f"{pool}/bare",
        initiators=("iqn.2026-01.example.mill:ash",),
        lun=4,
    )


def test_what_hung_on_its_volumes_is_made_again_as_far_as_it_can_be() -> None:
    do(
        "build-pool",
        name="p",
        scheme="parity-1",
        drives=tuple(shelf(4)),
        volume="v",
        volume_size="60 GiB",
        file_system="xfs",
    )
    hung_about()
    carry_all()
    recorded()
    drives = books_lost()
    hosts("elm", "ash")
    do("add-party", name="moss")
    do("declare-initiator", iqn="iqn.2026-01.example.mill:ash")
    carried(drives)
    brought_in()
    with transaction() as session:
        mount = session.exec(select(Mount)).one()
        assert (mount.at, mount.access_times) == ("/srv/v", True)
        share = session.exec(select(Share)).one()
        assert (share.name, share.folder, share.quota, share.bin_days) == ("papers", "press", 5 * GIB, 3)
        assert [(r.may) for r in session.exec(select(ShareRight))] == ["write"]
        assert session.exec(select(KeepRule.above)).one() == 0.8
        lun = session.exec(select(TargetLun)).one()
        assert lun.lun == 4
        body = session.exec(select(SheetRow.body).where(SheetRow.kind == "bring-in")).one()
        assert any("made without fern:read" in c for c in body["cautions"])
        assert not session.exec(select(ErrandRow).where(col(ErrandRow.done_at).is_(None))).all()
    assert "Made again: the share papers of v." in sentences()


def test_what_cannot_be_made_again_is_said_beforehand_and_nothing_waits_for_it() -> None:
    do(
        "build-pool",
        name="p",
        scheme="parity-1",
        drives=tuple(shelf(4)),
        volume="v",
        volume_size="60 GiB",
        file_system="xfs",
    )
    hung_about()
    carry_all()
    recorded()
    carried(books_lost())
    pool = brought_in()
    with transaction() as session:
        body = session.exec(select(SheetRow.body).where(SheetRow.kind == "bring-in")).one()
        said = " ".join(body["cautions"])
        assert "there is no host elm here" in said
        assert "its volume is mounted nowhere here" in said
        assert session.exec(select(Mount)).first() is None
        assert session.exec(select(Share)).first() is None
        assert session.exec(select(TargetLun)).first() is None
    assert pool_state(pool)[0] == "healthy"


def test_one_that_goes_while_a_record_is_written_lacks_nothing() -> None:
    """All are pulled; by the time that is noticed of the last, a record has been written that one of them never got."""
    filled("parity-2", 6)
    before = files()
    for serial in ("A1", "A2", "A3", "A4"):
        happens("pull", serial)
    devices().pull("A5")
    recorded()
    devices().pull("A6")
    observe(devices())
    carried(books_lost(), but=["A1"])
    with transaction() as session:
        (found,) = found_pools(session, devices())
    assert [m.serial for m in found.slots if not m.whole] == ["A1"]
    pool = brought_in()
    assert files() == before
    assert files_intact(pool)


def test_where_extents_were_moved_off_is_written_over_only_once_the_drives_say_so() -> None:
    """Stripes are evened out onto a new drive, and their old places are used again; then the books are lost before
    anything else has been recorded."""
    do("build-pool", name="p", scheme="spread", domain="drive", drives=tuple(shelf(4)))
    do("make-volumes", pool="p", name="v", size="75 GiB", protection="copies-2", file_system="none")
    carry_all()
    with transaction() as session:
        volume = session.exec(select(VolumeRow.id).where(VolumeRow.name == "v")).one() or 0
    carry(fill(1, 0.9, volume))
    recorded()
    do("add-drives", pool="p", drives=tuple(shelf(1, name="N")))
    carry_all()
    do("make-volumes", pool="p", name="w", size="60 GiB", protection="copies-2", file_system="none")
    carry_all()
    with transaction() as session:
        other = session.exec(select(VolumeRow.id).where(VolumeRow.name == "w")).one() or 0
    carry(fill(1, 0.9, other))
    carried(books_lost())
    pool = brought_in()
    with transaction() as session:
        volume = session.exec(select(VolumeRow.id).where(VolumeRow.name == "v")).one() or 0
    assert files_intact(pool, volume)
