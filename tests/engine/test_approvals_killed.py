"""Whoever approves is killed at every point of it: either nothing happened, or, once the worker has looked, all of it."""

from __future__ import annotations

import hashlib
import shutil
from collections.abc import Callable, Iterator, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy import text
from sqlmodel import Session, col, select

from pairshelf.core.changes.kinds import KINDS, request_of
from pairshelf.core.domain.device import DeviceError
from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.inventory import DriveRecord
from pairshelf.core.domain.units import GIB
from pairshelf.engine import approver, keys
from pairshelf.engine.errands import do_errands, still_to_do
from pairshelf.engine.pools import devices, journal_of, open_pool
from pairshelf.engine.records import Recorder
from pairshelf.services.simulated_use import delete_samples, install_application
from pairshelf.store import database
from pairshelf.store.database import transaction
from pairshelf.store.repositories.drives_and_pools import add_records
from pairshelf.store.repositories.holdings import House, house_now
from pairshelf.store.tables import (
    DriveRow,
    ErrandRow,
    GrowthPathRow,
    Host,
    JobRow,
    PartitionPlan,
    PoolPlace,
    PoolRow,
    Service,
    SheetRow,
    Site,
    VolumeRow,
)
from tests.conftest import database_from
from tests.engine.helpers import at_once, carry_all, do, fill, happens, shelf
from tests.engine.test_crashes import dies_at

pytestmark = pytest.mark.crash

IQN = "iqn.2026-01.example.fernhollow:"
#: One change of every kind, possible in the laboratory below.
CHANGES: dict[str, dict[str, Any]] = {
    "build-pool": {"name": "new", "scheme": "parity-1", "drives": (7, 8, 9), "volume": "w", "file_system": "xfs",
                   "mount_point": "/srv/w", "host": "fir", "encrypted": True},
    "replace-drive": {"pool_id": 1, "slot": 4, "drive_id": 10},
    "add-drives": {"pool": "low", "drives": (17,)},
    "add-sets": {"pool": "low", "drives": (17, 18, 19)},
    "add-spares": {"pool": "low", "drives": (18,), "spares_for": "shelf"},
    "convert-pool": {"pool": "low", "scheme": "parity-2", "drives": (18,)},
    "replace-larger": {"pool": "low", "drives": (29,)},
    "leave-path": {"pool": "dup"},
    "use-room": {"pool": "tall"},
    "take-out": {"pool": "dry", "drives": (34,)},
    "move-together": {"pool": "tall"},
    "reclaim": {"pool": "cold", "bins": True},
    "take-apart": {"pool": "dup", "keep_days": 3},
    "put-together": {"former": 1},
    "let-go": {"former": 1},
    "bring-in": {"pool": "c" * 32},
    "extend-volumes": {"pool": "tall"},
    "hold-back": {"drives": (37,), "share": 0.1},
    "wipe": {"drives": (33,), "category": "clear"},
    "hand-out": {"drives": (33,), "how": "destroyed", "to": "the foundry, melted", "on": "2026-11-20"},
    "turn-restripe": {"pool": "way"},
    "drain": {"drives": (14,), "onto": (8,)},
    "leave-drain": {"drain": 1},
    "even-out": {"pool": "wide"},
    "leave-copy": {"pool_id": 6, "slot": 0},
    "make-volumes": {"pool": "cold", "name": "v-{1..2}", "size": "5 GiB", "host": "fir", "mount_point": "/srv/{name}"},
    "rename-volume": {"volume": "cold/bare", "name": "papers"},
    "resize-volume": {"volume": "cold/bare", "size": "40 GiB"},
    "reformat-volume": {"volume": "cold/bare", "file_system": "ext4"},
    "check-files": {"volume": "cold/bare"},
    "delete-volume": {"volume": "cold/bare"},
    "move-volume": {"volume": "cold/bare", "pool": "tall"},
    "leave-move": {"volume": "old/gone"},
    "mount-volume": {"volume": "cold/bare", "host": "fir", "mount_point": "/var/log-data", "move_aside": True},
    "unmount-volume": {"host": "elm", "mount_point": "/srv/office"},
    "add-party": {"name": "moss"},
    "set-members": {"group": "desk", "members": ("bay",)},
    "make-share": {"volume": "cold/office", "name": "scans", "rights": ("ash:read",)},
    "change-share": {"share": "desk", "rights": ("bay:read",)},
    "end-share": {"share": "desk"},
    "set-host": {"host": "fir", "address": "10.1.0.7"},
    "declare-initiator": {"iqn": IQN + "birch"},
    "make-target": {"iqn": IQN + "u", "host": "elm", "volume": "cold/raw", "initiators": (IQN + "fir",)},
    "add-disk": {"target": IQN + "t", "volume": "cold/raw"},
    "change-lun": {"target": IQN + "t", "volume": "cold/disk", "lun": 7},
    "take-disk": {"target": IQN + "t", "volume": "cold/second"},
    "let-in": {"target": IQN + "t", "initiator": IQN + "elm"},
    "shut-out": {"target": IQN + "t", "initiator": IQN + "fir"},
    "end-target": {"target": IQN + "t"},
    "move-application": {"application": "fir/log", "volume": "cold/bare"},
    "undo-move": {"application": "fir/moved"},
    "set-folders": {"application": "fir/log", "folder_scheme": "by-date", "owner": "maud"},
    "set-keep-rule": {"volume": "cold/bare", "above": 70.0},
    "write-partitions": {"drive_id": 11},
    "end-keep-rule": {"volume": "cold/office"},
}  # fmt: skip
#: The same kinds where more, or something else, is written.
MORE: dict[str, tuple[str, dict[str, Any]]] = {
    "a drive that works exchanged": ("replace-drive", {"pool_id": 4, "slot": 0, "drive_id": 17}),
    "copies made fewer": ("convert-pool", {"pool": "dry", "scheme": "single"}),
    "more partitions": ("write-partitions", {"drive_id": 12}),
    "a partition extended": ("resize-volume", {"volume": "A12/part-1", "size": "all"}),
    "a partition deleted": ("delete-volume", {"volume": "A12/part-2"}),
    "a divided drive given back": ("write-partitions", {"drive_id": 13}),
}
EXAMPLES = {kind: (kind, request) for kind, request in CHANGES.items()} | MORE
_ROWS = text("""
select 'mount', count(*)::text from mount union all select 'pool', string_agg(name || scheme || turned || coalesce(front, 0) || capacity, ',' order by id) from pool
union all select 'volume', string_agg(name || size || file_system, ',' order by name) from volume
union all select 'party', count(*)::text from party union all select 'member', string_agg(person_id::text, ',') from party_member
union all select 'share', string_agg(name, ',' order by name) from share union all select 'right', string_agg(party_id || may, ',' order by party_id) from share_right
union all select 'target', count(*)::text from target union all select 'let in', count(*)::text from target_right
union all select 'lun', string_agg(lun || ':' || volume_id, ',' order by lun) from target_lun union all select 'initiator', count(*)::text from initiator
union all select 'job', string_agg(kind, ',' order by kind) from job where state not in ('done', 'failed')
union all select 'rule', string_agg(above::text, ',') from keep_rule union all select 'host', string_agg(address, ',') from host
union all select 'written', string_agg(drive_id || coalesce(written::text, '') || parts::text || (pool_id is not null), ',' order by drive_id) from partition_plan
union all select 'drive', string_agg(service || coalesce(holds, '') || held_share, ',' order by id) from drive
union all select 'former', string_agg(name || (rows ? 'pool') || (put_together_at is null), ',' order by id) from former_pool
union all select 'wipe', string_agg(drive_id || state || method, ',' order by drive_id) from wipe
union all select 'left', string_agg(serial || retired_to, ',' order by id) from drive where retired_to is not null
union all select 'certificate', string_agg(number || serial, ',' order by number) from certificate
union all select 'path', string_agg(pool_id || steps::text || (ended_at is null), ',' order by id) from growth_path
union all select 'piece', string_agg(first || '+' || count, ',' order by first) from volume_piece where pool_id = 1
union all select 'place', string_agg(drive_id::text || state || coalesce(to_slot, -1), ',' order by pool_id, slot) from pool_place order by 1
""")


@pytest.fixture(scope="module")
def laboratory(server: str, template: str, tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[str, Path]]:
    """A database and its devices in which every kind of change is possible, to be copied from."""
    folder = tmp_path_factory.mktemp("laboratory") / "devices"
    with pytest.MonkeyPatch.context() as patch, database_from(template, server, folder, patch) as address:
        at_once()
        drives = shelf(28)
        with transaction() as session:
            site = session.exec(select(Site)).first()
            assert site
            session.add_all(Host(name=n, site_id=site.id or 0) for n in ("elm", "fir"))
        do("build-pool", name="cold", scheme="parity-2", drives=tuple(drives[:6]))
        for name, more in (("office", {"file_system": "xfs", "host": "elm", "mount_point": "/srv/office"}),
                           ("bare", {"file_system": "btrfs"}), ("stand", {"file_system": "xfs"}),
                           ("disk", {"file_system": "none", "thin": True}), ("second", {"file_system": "none"}), ("raw", {"file_system": "none"})):  # fmt: skip
            do("make-volumes", pool="cold", name=name, size="30 GiB", **more)
        for name in ("ash", "bay"):
            do("add-party", name=name)
        do("add-party", name="desk", members=("ash",))
        do("make-share", volume="cold/office", name="desk", rights=("ash:write",), folder="desk")
        for host in ("elm", "fir"):
            do("set-host", host=host, iqn=IQN + host, storage_address="10.0.0.2/24" if host == "fir" else "10.0.0.1/24")
            do("declare-initiator", iqn=IQN + host)
        do("make-target", iqn=IQN + "t", host="elm", volume="cold/disk", initiators=(IQN + "fir",))
        do("add-disk", target=IQN + "t", volume="cold/second")
        do("set-keep-rule", volume="cold/office", above=80.0)
        with transaction() as session:
            for name in ("log", "moved"):
                install_application(session, "ida", host="fir", name=name, kind="recorder", owner=name, folder=f"/var/{name}-data",
                                   size="6 GiB")  # fmt: skip
            _pending(session, 11, "5 GiB")
            _pending(session, 12, "5 GiB", "4 GiB")
            _pending(session, 13, "4 GiB")
        for drive in (12, 13):
            do("write-partitions", drive_id=drive)
        do("delete-volume", volume="A13/part-1")
        do("resize-volume", volume="A12/part-1", size="4 GiB")
        with transaction() as session:
            _pending(session, 12, "1 GiB")
        carry_all()
        do("move-application", application="fir/moved", volume="cold/stand")
        with transaction() as session:
            disk = session.exec(select(VolumeRow).where(VolumeRow.name == "disk")).one().number
        fill(1, 0.5, disk)
        carry_all()
        with transaction() as session:
            # Its host deletes some of its files, and the pool is not told.
            delete_samples(session, disk, 0.4, "ida")
        happens("fail", "A5")
        do("build-pool", name="low", scheme="parity-1", drives=tuple(drives[13:16]))
        do("build-pool", name="way", scheme="parity-1", drives=tuple(drives[19:22]))
        do("build-pool", name="dup", scheme="copies-2", drives=tuple(drives[23:25]))
        do("build-pool", name="dry", scheme="copies-2", drives=tuple(drives[26:28]))
        larger = shelf(6, size=80 * GIB, name="L")
        do(
            "build-pool",
            name="tall",
            scheme="copies-2",
            drives=tuple(shelf(2, name="T")),
            volume="u",
            volume_size="5 GiB",
            file_system="none",
        )
        do("make-volumes", pool="tall", name="v", size="20 GiB")
        do("delete-volume", volume="tall/u")
        carry_all()
        with transaction() as session:
            # As after two failed drives were replaced by larger ones.
            for place, drive in zip(open_pool(session, 8).members, larger[1:3], strict=True):
                place.drive_id = drive
                session.get_one(DriveRow, drive).service = "in-use"
            session.add(PoolPlace(pool_id=7, slot=None, size=80 * GIB, drive_id=larger[5]))
            session.get_one(DriveRow, larger[5]).service = "in-use"
            flash = DriveRecord("F", 1, "F1", 60 * GIB, Kind.SSD)
            add_records(session, [flash], service=Service.FREE)
            session.add(GrowthPathRow(pool_id=6, steps=[[1, larger[3], False]], made_by="ida"))
        do("build-pool", name="gone", scheme="copies-2", drives=tuple(shelf(2, name="G")))
        carry_all()
        do("take-apart", pool="gone", keep_days=3)
        do(
            "build-pool",
            name="found",
            scheme="copies-2",
            drives=tuple(shelf(2, name="Q")),
            volume="v",
            file_system="none",
        )
        with transaction() as session:
            session.exec(select(PoolRow).where(PoolRow.name == "found")).one().uid = "c" * 32
        carry_all()
        Recorder(devices()).write_due(at_once=True)
        do("take-apart", pool="found", keep_days=0)
        wide = shelf(5, name="W")
        do(
            "build-pool",
            name="wide",
            scheme="spread",
            drives=tuple(wide[:4]),
            domain="drive",
            volume="v",
            volume_size="60 GiB",
            protection="copies-2",
            file_system="none",
        )
        carry_all()
        do("add-drives", pool="wide", drives=(wide[4],))
        with transaction() as session:
            for job in session.exec(select(JobRow).where(JobRow.kind == "even-out")):
                job.state = "failed"
        do("build-pool", name="old", scheme="copies-2", drives=tuple(shelf(2, name="O")))
        carry_all()
        shelf(1, name="N")
        do("make-volumes", pool="old", name="gone", size="5 GiB", file_system="none")
        do("drain", shelves=("O",), onto=tuple(shelf(2, name="P")))
        do("move-volume", volume="old/gone", pool="wide", protection="copies-2")
        do("add-drives", pool="way", drives=(drives[22],))
        do("replace-drive", pool_id=6, slot=0, drive_id=drives[25])
        database.engine().dispose()
        yield address, folder


def _pending(session: Session, drive: int, *sizes: str) -> None:
    parts = [{"size": size, "file_system": "ext4"} for size in sizes]
    plan = session.get(PartitionPlan, drive) or PartitionPlan(
        drive_id=drive, scheme="gpt", sector=512, disk_id=str(drive), changed_by="ida"
    )
    plan.parts = parts
    session.add(plan)
    session.flush()


def _shown() -> dict[str, Any]:
    """Everything that people and devices can see of what was done, but names made by chance."""
    world, found = devices(), {}
    root = world.folder / "hosts"
    for path in sorted(root.rglob("*")):
        kept = hashlib.sha256(path.read_bytes()).hexdigest() if path.is_file() else ""
        found[str(path.relative_to(root))] = f"{path.stat().st_mode:o} {kept}"
    with transaction() as session:
        found |= {f"rows of {k}": v for k, v in session.connection().execute(_ROWS)}
        for drive in session.exec(select(DriveRow)):
            try:
                label = dict(world.open(drive.serial, drive.size).read_label() or {})
                label.pop("pool_id", None)
                label.pop("uid", None)
                found[f"label of {drive.serial}"] = str(label)
                found[f"table of {drive.serial}"] = world.open(drive.serial, drive.size).read_sectors(0, 20_000).hex()
            except DeviceError:
                found[f"label of {drive.serial}"] = "does not answer"
        for pool in session.exec(select(PoolRow)):
            found[f"key of {pool.name}"] = str(keys.is_open(pool.id or 0)) if pool.key else ""
        there = {journal_of(uid).name for uid in session.exec(select(PoolRow.uid))}
        journals = {path.name for path in journal_of("").parent.glob("*")}
        found["journals of pools that are no more"] = str(journals - there)
    return found


def _drawn_up(example: str) -> tuple[int, Callable[[], None]]:
    kind, request = EXAMPLES[example]
    with transaction() as session:
        sheet = approver.draw_up(session, kind, request_of(kind, request), "ida")

    def approving() -> None:
        with transaction() as session:
            approver.approve(session, sheet.id or 0, "ida", sheet.body["confirm"] or "", devices())

    return sheet.id or 0, approving


def _state(sheet: int) -> str:
    with transaction() as session:
        return session.get_one(SheetRow, sheet).state


def test_every_kind_of_change_has_an_example() -> None:
    assert set(CHANGES) == set(KINDS)


@pytest.mark.parametrize("kind", EXAMPLES)
def test_killed_while_approving_and_carried_out_as_its_sheet_says(
    kind: str, laboratory: tuple[str, Path], server: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def copy(of: str, number: int) -> Any:
        folder = tmp_path / f"devices-{number}"
        shutil.copytree(laboratory[1], folder)
        return database_from(of.rsplit("/", 1)[1], server, folder, monkeypatch)

    # Drawn up once: each is killed in a copy of that.
    with copy(laboratory[0], 0) as drawn:
        before = _shown()
        sheet, approving = _drawn_up(kind)
        assert _shown() == before, "drawing up changes nothing"
        database.engine().dispose()
        _killed_at_each_point(lambda number: copy(drawn, number), before, sheet, approving)


def _becomes_what_its_sheet_says(sheet: int, before: House, under_way: Sequence[int | None]) -> None:
    """Capacity, what is given, drives in use and free ones: before and after, to the byte, whatever the change is."""
    with transaction() as session:
        kind = session.get_one(SheetRow, sheet).kind
        # What was under way before has effects of its own: it is left where it stands.
        for job in session.exec(select(JobRow).where(col(JobRow.id).in_(under_way))):
            if job.state not in ("done", "failed") and (job.kind, kind) != ("restripe", "turn-restripe"):
                job.state = "paused"
    carry_all()
    with transaction() as session:
        after, body = house_now(session), session.get_one(SheetRow, sheet).body
    assert body["house"] == asdict(before)
    assert {name: getattr(after, name) - getattr(before, name) for name in asdict(before)} == body["effect"]


def _killed_at_each_point(
    copy: Callable[[int], Any], before: dict[str, Any], sheet: int, approving: Callable[[], None]
) -> None:
    # Killed before the commit: nothing has happened, and nothing stands in the way of doing it after all.
    with copy(1):
        assert not dies_at(1, approving)
        assert _state(sheet) == "draft"
        # A key that was open already is forgotten a while later; it opens nothing.
        assert {k: v for k, v in _shown().items() if not k.startswith("key of new")} == before
        with transaction() as session:
            house = house_now(session)
            under_way = session.exec(select(JobRow.id).where(col(JobRow.state).not_in(("done", "failed")))).all()
        approving()
        after = _shown()
        with transaction() as session:
            errands = session.exec(select(ErrandRow.done_at).where(ErrandRow.sheet_id == sheet)).all()
        _becomes_what_its_sheet_says(sheet, house, under_way)
    assert all(errands), "all is done at once where nobody is killed"
    assert after != before, "it does something"
    # And before each of its errands: after one is as good as before the next.
    for point in range(2, 60, 2) if errands else ():
        with copy(point):
            whole = dies_at(point, approving)
            assert _state(sheet) == "approved"
            do_errands()
            assert _shown() == after, f"killed at point {point}"
        if whole:
            return
    assert not errands, "it never came to its end"


def test_a_host_that_cannot_be_written_is_waited_for(
    laboratory: tuple[str, Path], server: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    shutil.copytree(laboratory[1], tmp_path / "devices")
    with database_from(laboratory[0].rsplit("/", 1)[1], server, tmp_path / "devices", monkeypatch):
        world = devices()
        real = world.hosts.move
        monkeypatch.setattr(
            world.hosts, "move", lambda *_: (_ for _ in ()).throw(OSError(28, "No space left on device"))
        )
        _drawn_up("mount-volume")[1]()
        with transaction() as session:
            aside, folder = session.exec(select(ErrandRow).where(ErrandRow.done_at == None)).all()  # noqa: E711
            assert "No space left" in (aside.why or "")
            assert folder.why == "it waits for what comes before it"
        assert not world.hosts.is_closed("fir", "/var/log-data"), "nothing is closed over files that are still there"
        _drawn_up("set-host")[1]()  # Nothing else of the host is held up.
        monkeypatch.setattr(world.hosts, "move", real)
        assert do_errands() == 2
        assert do_errands() == 0
        assert world.hosts.is_closed("fir", "/var/log-data")
        assert world.hosts.entries("fir", "/var/log-data.aside")


def test_what_cannot_be_done_is_given_up_with_what_it_was_for(
    laboratory: tuple[str, Path], server: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A file lies where a mount's folder should be: the entry is taken out again, and the host is free."""
    shutil.copytree(laboratory[1], tmp_path / "devices")
    with database_from(laboratory[0].rsplit("/", 1)[1], server, tmp_path / "devices", monkeypatch):
        hosts = devices().hosts
        hosts.write("fir", "/srv/x", b"a file")
        do("mount-volume", volume="cold/bare", host="fir", mount_point="/srv/x")
        with transaction() as session:
            (errand,) = session.exec(select(ErrandRow).where(ErrandRow.done_at == None)).all()  # noqa: E711
            assert errand.why
            assert still_to_do(session, errand.sheet_id or 0)[0].startswith("Make the folder /srv/x on fir: ")
        do("unmount-volume", host="fir", mount_point="/srv/x")
        do_errands()
        with transaction() as session:
            assert not session.exec(select(ErrandRow).where(ErrandRow.done_at == None)).all()  # noqa: E711
        assert hosts.read("fir", "/srv/x") == b"a file"


def test_a_change_waits_for_what_is_being_done_on_its_host(
    laboratory: tuple[str, Path], server: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    shutil.copytree(laboratory[1], tmp_path / "devices")
    with database_from(laboratory[0].rsplit("/", 1)[1], server, tmp_path / "devices", monkeypatch):
        with transaction() as session:
            session.add(ErrandRow(subject="host fir", what="open-folder", facts={"host": "fir", "at": "/srv/y"}))
        with pytest.raises(approver.NotPossible, match="still being done on host fir"):
            _drawn_up("set-host")[1]()
        do_errands()
        _drawn_up("set-host")[1]()
