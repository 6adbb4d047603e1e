"""Rules whose breaking would cost data or promise too much, each held by a case at its very edge."""

from __future__ import annotations

import pytest
from sqlmodel import col, select

from pairshelf.core.changes.kinds import KINDS
from pairshelf.core.domain.drives import Drive, Kind
from pairshelf.core.domain.estate import EstateDrive
from pairshelf.core.domain.units import GIB
from pairshelf.core.errors import BadInput, NotPossible, PairShelfError
from pairshelf.core.policies.readiness import readiness
from pairshelf.engine import carry as carrying
from pairshelf.engine.carry import carry
from pairshelf.engine.errands import do_errands
from pairshelf.engine.pools import devices, open_io, open_pool
from pairshelf.services.simulated_use import install_application
from pairshelf.store.database import transaction
from pairshelf.store.tables import DriveRow, Host, SampleFile, Shelf, Site
from tests.engine.helpers import (
    at_once,
    build,
    carry_all,
    do,
    files_intact,
    fill,
    happens,
    open_jobs,
    pool_state,
    replace,
    shelf,
)
from tests.engine.test_volumes import all_intact, write


@pytest.fixture(autouse=True)
def quick(db: str) -> None:
    at_once()


def _names(volume: str = "") -> list[str]:
    with transaction() as session:
        rows = session.exec(select(SampleFile).order_by(col(SampleFile.id))).all()
    return [f.name for f in rows if volume in f.name]


@pytest.mark.parametrize("thin", [False, True])
def test_a_keep_rule_keeps_the_newest(thin: bool) -> None:
    do("build-pool", name="p", scheme="parity-1", drives=tuple(shelf(4)))
    do("make-volumes", pool="p", name="cam", size="60 GiB", file_system="none", thin=thin)
    write("cam", 50, name="rec")
    before = _names()
    do("set-keep-rule", volume="p/cam", above=60)
    left = _names()
    assert 0 < len(left) < len(before)
    assert left == before[-len(left) :], "the oldest went, the newest stayed"
    assert write("cam", 30, name="rec").state == "done"
    after = _names()
    assert after[-1] > before[-1] and set(before[: len(before) - len(left)]).isdisjoint(after)
    assert all_intact()


def test_a_rule_for_one_writer_spares_the_others() -> None:
    do("build-pool", name="p", scheme="parity-1", drives=tuple(shelf(4)))
    do("make-volumes", pool="p", name="cam", size="60 GiB", file_system="ext4")
    with transaction() as session:
        session.add(Host(name="elm", site_id=session.exec(select(Site.id)).first() or 0))
        session.flush()
        install_application(session, "ida", host="elm", name="rec", kind="recorder", owner="rec",
                            folder="/var/rec", size="3 GiB")  # fmt: skip
    do_errands(devices())
    do("move-application", application="elm/rec", volume="p/cam", way="mount")
    carry_all()
    write("cam", 20, name="other")
    write("cam", 20, name="rec")
    others = _names("other-")
    do("set-keep-rule", volume="p/cam", above=45, application="elm/rec")
    assert _names("other-") == others and len(_names("rec-")) < 20
    with transaction() as session:
        assert sum(f.extents for f in session.exec(select(SampleFile)) if f.writer == "other") == 20


@pytest.mark.parametrize("short", [0, GIB])
def test_a_spare_takes_over_where_it_is_exactly_large_enough_and_not_a_bit_smaller(short: int) -> None:
    build([*shelf(4, size=60 * GIB), *shelf(1, size=60 * GIB, name="S")], "parity-1", spares=1)
    carry_all()
    with transaction() as session:
        session.exec(select(DriveRow).where(DriveRow.serial == "S1")).one().size -= short
    happens("fail", "A2")
    assert len(open_jobs("rebuild")) == (0 if short else 1)


@pytest.mark.parametrize(("scheme", "count"), [("parity-1", 3), ("copies-2", 2), ("stepped-1", 3)])
def test_what_is_not_rebuilt_yet_is_not_read(scheme: str, count: int, monkeypatch: pytest.MonkeyPatch) -> None:
    """After every single stripe of a rebuild all files read back: nothing is taken from rows that are not filled yet."""
    pool = build(shelf(count, size=9 * GIB), scheme)
    carry_all()
    fill(pool, 1.0)
    carry_all()
    happens("fail", "A1")
    replace(pool, 0, shelf(1, size=9 * GIB, name="N")[0])
    monkeypatch.setattr(carrying, "_MOST", 1)
    (job,) = open_jobs("rebuild")
    first = whole = b""
    for _ in range(200):
        steps = iter((False, True))
        carry(job, stop=lambda steps=steps: next(steps))  # type: ignore[misc]
        with transaction() as session:
            opened = open_pool(session, pool)
            place = opened.place(0)
            io = open_io(session, opened, devices())
            # A row that is not there yet is computed from the others: all zeros of the new drive would differ.
            data = io.read(0, opened.layout.data_extents)
        if place.state == "active":
            whole = data
            break
        first = first or data
        assert data == first, f"differs when {place.rebuilt_to} stripes are rebuilt"
    assert whole and whole == first
    assert files_intact(pool)


def test_a_replacement_stands_where_the_failed_one_stood() -> None:
    at_once()
    ids = []
    for name in ("A", "B", "C"):
        ids += shelf(2, size=40 * GIB, name=name)
    pool = build_spread(ids)
    happens("fail", "A1")
    carry_all()
    (wrong,) = shelf(1, size=40 * GIB, name="D")
    with pytest.raises(NotPossible, match="keeps its shelfs apart") as refused:
        replace(pool, 0, wrong)
    assert (refused.value.field, refused.value.code) == ("drive_id", "drive-not-free")
    with transaction() as session:
        right = session.get(DriveRow, wrong)
        assert right is not None
        right.shelf_id, right.bay = session.exec(select(Shelf.id).where(Shelf.name == "A")).one(), 9
    replace(pool, 0, wrong)
    carry_all()
    assert pool_state(pool)[0] == "healthy"


def build_spread(ids: list[int]) -> int:
    return do("build-pool", name="p", scheme="spread", drives=tuple(ids), domain="shelf", volume="v",
              volume_size="20 GiB", protection="copies-2", file_system="ext4").pool_id or 0  # fmt: skip


def test_a_volume_does_not_shrink_below_what_its_shares_may_take() -> None:
    do("build-pool", name="p", scheme="parity-1", drives=tuple(shelf(4)))
    with transaction() as session:
        session.add(Host(name="elm", site_id=session.exec(select(Site.id)).first() or 0))
    do("make-volumes", pool="p", name="v", size="80 GiB", file_system="btrfs", host="elm", mount_point="/srv/v")
    do("add-party", name="ash")
    for name, quota in (("one", "30 GiB"), ("two", "20 GiB")):
        do("make-share", volume="p/v", name=name, folder=name, rights=("ash:write",), quota=quota)
    with pytest.raises(BadInput) as refused:
        do("resize-volume", volume="p/v", size="50 GiB")
    assert refused.value.field == "size" and "quota" in refused.value.message
    do("resize-volume", volume="p/v", size="55 GiB")


def test_an_application_larger_than_its_volume_stays_where_it_is() -> None:
    do("build-pool", name="p", scheme="parity-1", drives=tuple(shelf(4)))
    with transaction() as session:
        session.add(Host(name="elm", site_id=session.exec(select(Site.id)).first() or 0))
        session.flush()
        install_application(session, "ida", host="elm", name="log", kind="database", owner="log",
                            folder="/var/log-data", size="12 GiB")  # fmt: skip
    do_errands(devices())
    do("make-volumes", pool="p", name="small", size="11 GiB", file_system="xfs")
    with pytest.raises(BadInput, match="of data, and") as refused:
        do("move-application", application="elm/log", volume="p/small", way="mount")
    assert refused.value.field == "volume"
    do("make-volumes", pool="p", name="fits", size="14 GiB", file_system="xfs")
    do("move-application", application="elm/log", volume="p/fits", way="mount")
    carry_all()
    assert all_intact()


def _on_shelf(count: int, link: int | None) -> list[EstateDrive]:
    return [
        EstateDrive(i, f"S{i}", "A", i, 6 * 10**12, Kind.HDD, 180 * 10**6, "free", "good",
                    known=Drive(str(i), 6 * 10**12, Kind.HDD, 180 * 10**6, "A", link=link))
        for i in range(1, count + 1)
    ]  # fmt: skip


def test_a_link_too_slow_for_its_drives_is_found_before_building() -> None:
    rate = _on_shelf(1, None)[0].as_drive.mean_rate

    def slow(link: int | None) -> list[str]:
        return [f.sentence for f in readiness(_on_shelf(5, link), {}) if "carries less" in f.sentence]

    assert slow(None) == [] and slow(int(5 * rate) + 1) == []
    (said,) = slow(int(5 * rate) - 1)
    assert "A (" in said and "5 drives" in said


def test_every_kind_refuses_what_is_not_there_at_its_field() -> None:
    """Each kind once by name, with nothing in the house: a reason and a field, and nothing happens."""
    for kind in KINDS:
        request = _nothing_there(kind)
        with pytest.raises(PairShelfError) as refused:
            do(kind, **request)
        assert refused.value.message and refused.value.field, kind
        assert refused.value.field in {*request, "drives"}, (kind, refused.value.field)


def _nothing_there(kind: str) -> dict[str, object]:
    usual: dict[str, object] = {
        "build-pool": {"name": "p", "scheme": "parity-1", "drives": (9, 10, 11)},
        "replace-drive": {"pool_id": 9, "slot": 0, "drive_id": 9},
        "write-partitions": {"drive_id": 9},
        "add-drives": {"pool": "none", "drives": (9,)},
        "add-sets": {"pool": "none", "drives": (9,)},
        "add-spares": {"pool": "none", "drives": (9,)},
        "convert-pool": {"pool": "none", "scheme": "parity-2"},
        "turn-restripe": {"pool": "none"},
        "replace-larger": {"pool": "none", "drives": (9,)},
        "leave-path": {"pool": "none"},
        "use-room": {"pool": "none"},
        "take-out": {"pool": "none", "drives": (9,)},
        "move-together": {"pool": "none"},
        "reclaim": {"pool": "none"},
        "even-out": {"pool": "none"},
        "drain": {"drives": (9,)},
        "leave-drain": {"drain": 9},
        "take-apart": {"pool": "none"},
        "put-together": {"former": 9},
        "let-go": {"former": 9},
        "bring-in": {"pool": "none"},
        "extend-volumes": {"pool": "none"},
        "hold-back": {"drives": (9,), "share": 0.1},
        "wipe": {"drives": (9,)},
        "hand-out": {"drives": (9,), "how": "sold", "to": "nobody"},
        "leave-copy": {"pool_id": 9, "slot": 0},
        "make-volumes": {"pool": "none", "name": "v"},
        "rename-volume": {"volume": "none/v", "name": "w"},
        "resize-volume": {"volume": "none/v", "size": "1 TB"},
        "reformat-volume": {"volume": "none/v", "file_system": "xfs"},
        "move-volume": {"volume": "none/v", "pool": "none"},
        "leave-move": {"volume": "none/v"},
        "mount-volume": {"volume": "none/v", "host": "elm", "mount_point": "/a"},
        "unmount-volume": {"host": "elm", "mount_point": "/a"},
        "add-party": {"name": "ash", "members": ("nobody",)},
        "set-members": {"group": "none"},
        "make-share": {"volume": "none/v", "name": "s"},
        "set-host": {"host": "elm"},
        "declare-initiator": {"iqn": "no name"},
        "make-target": {"iqn": "iqn.2026-01.example.x:t", "host": "elm", "volume": "none/v"},
        "add-disk": {"target": "iqn.2026-01.example.x:t", "volume": "none/v"},
        "change-lun": {"target": "iqn.2026-01.example.x:t", "volume": "none/v", "lun": 3},
        "take-disk": {"target": "iqn.2026-01.example.x:t", "volume": "none/v"},
        "let-in": {"target": "iqn.2026-01.example.x:t", "initiator": "iqn.2026-01.example.x:i"},
        "shut-out": {"target": "iqn.2026-01.example.x:t", "initiator": "iqn.2026-01.example.x:i"},
        "end-target": {"target": "iqn.2026-01.example.x:t"},
        "move-application": {"application": "elm/x", "volume": "none/v"},
        "undo-move": {"application": "elm/x"},
        "set-folders": {"application": "elm/x", "folder_scheme": "flat"},
        "change-share": {"share": "none"},
        "end-share": {"share": "none"},
    }.get(kind, {"volume": "none/v"})  # type: ignore[assignment]
    return usual
