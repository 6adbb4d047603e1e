"""Approvals hold what they name, and nothing else: who changes other things does not wait."""

from __future__ import annotations

import datetime as dt
import threading
import time
from collections.abc import Callable
from typing import Any

import pytest
from sqlalchemy import text
from sqlalchemy.exc import OperationalError
from sqlmodel import Session, select

from pairshelf.core.changes.kinds import KINDS, request_of
from pairshelf.core.errors import BadInput, NotPossible, PairShelfError
from pairshelf.engine import approver
from pairshelf.engine.apply import APPLY
from pairshelf.engine.pools import devices, open_pool
from pairshelf.store import clock
from pairshelf.store.database import engine, transaction
from pairshelf.store.tables import DriveRow, Host, LogRow, PoolRow, SampleFile, SheetRow, Site, VolumeRow
from tests.engine.helpers import at_once, build, carry_all, do, fill, shelf


def _sheet(kind: str, **request: Any) -> SheetRow:
    with transaction() as session:
        return approver.draw_up(session, kind, request_of(kind, request), "ida")


def _approve(session: Session, sheet: SheetRow) -> None:
    session.connection().execute(text("set local lock_timeout = '700ms'"))
    approver.approve(session, sheet.id or 0, "ida", sheet.body["confirm"] or "", devices())


@pytest.fixture
def two_pools(db: str) -> None:
    at_once()
    for name in ("one", "two"):
        build(shelf(4, name=name.upper()), "parity-1", name=name)
    with transaction() as session:
        site = session.exec(select(Site.id)).one()
        session.add_all(Host(name=n, site_id=site or 0) for n in ("elm", "fir"))
    carry_all()


@pytest.mark.usefixtures("two_pools")
@pytest.mark.parametrize(
    ("first", "second", "waits"),
    [
        (("rename-volume", {"volume": "one/v", "name": "a"}), ("rename-volume", {"volume": "two/v", "name": "b"}), False),
        (("rename-volume", {"volume": "one/v", "name": "a"}), ("delete-volume", {"volume": "one/v"}), True),
        (("mount-volume", {"volume": "one/v", "host": "elm", "mount_point": "/a"}),
         ("mount-volume", {"volume": "two/v", "host": "fir", "mount_point": "/a"}), False),
        (("mount-volume", {"volume": "one/v", "host": "elm", "mount_point": "/a"}),
         ("mount-volume", {"volume": "two/v", "host": "elm", "mount_point": "/a"}), True),
        (("add-party", {"name": "ash"}), ("add-party", {"name": "bay"}), True),
        (("add-party", {"name": "ash"}), ("rename-volume", {"volume": "two/v", "name": "b"}), False),
        (("set-host", {"host": "elm", "iqn": "iqn.2026-01.example.x:a"}),
         ("declare-initiator", {"iqn": "iqn.2026-01.example.x:a"}), True),
    ],
)  # fmt: skip
def test_who_waits_for_whom(first: tuple[str, Any], second: tuple[str, Any], waits: bool) -> None:
    one, other = _sheet(first[0], **first[1]), _sheet(second[0], **second[1])
    with transaction() as session:
        _approve(session, one)
        if not waits:
            with transaction() as beside:
                _approve(beside, other)
            return
        with pytest.raises(OperationalError, match="lock timeout"), transaction() as beside:
            _approve(beside, other)


@pytest.mark.usefixtures("two_pools")
def test_drives_chosen_twice_go_to_the_first() -> None:
    drives = tuple(shelf(3, name="C"))
    one, other = (_sheet("build-pool", name=n, scheme="parity-1", drives=drives) for n in ("three", "four"))
    with transaction() as session:
        _approve(session, one)
        with pytest.raises(OperationalError, match="lock timeout"), transaction() as beside:
            _approve(beside, other)
    with pytest.raises(NotPossible, match=r"in use|changed"), transaction() as session:
        _approve(session, other)


def _meanwhile(sheet: SheetRow, change: Callable[[Session], object]) -> Exception | None:
    """Approve while another transaction has begun a change and commits it only when the approval waits for it."""
    found: list[Exception | None] = []

    def second() -> None:
        try:
            with transaction() as session:
                session.connection().execute(text("set local application_name = 'second'"))
                approver.approve(session, sheet.id or 0, "ida", sheet.body["confirm"] or "", devices())
            found.append(None)
        except Exception as error:
            found.append(error)

    waiting = text(
        "select count(*) from pg_stat_activity where application_name = 'second' and wait_event_type = 'Lock'"
    )
    with transaction() as session:
        change(session)
        session.flush()
        thread = threading.Thread(target=second)
        thread.start()
        until = time.monotonic() + 60
        while time.monotonic() < until and not found:
            with engine().connect() as beside:
                if beside.execute(waiting).scalar_one():
                    break
            time.sleep(0.02)
    thread.join(60)
    return found[0]


@pytest.mark.usefixtures("two_pools")
def test_what_is_planned_is_held_from_before_the_plan() -> None:
    """Planned on what another transaction is changing just then, an approval would do what nobody was shown."""
    sheet = _sheet("delete-volume", volume="one/v")

    def rename(session: Session) -> None:
        volume = session.exec(select(VolumeRow).join(PoolRow).where(PoolRow.name == "one")).one()
        open_pool(session, volume.pool_id)
        volume.name = "elsewhere"

    refused = _meanwhile(sheet, rename)
    assert isinstance(refused, PairShelfError), refused
    with transaction() as session:
        assert {v.name for v in session.exec(select(VolumeRow))} == {"elsewhere", "v"}


@pytest.mark.usefixtures("two_pools")
def test_drives_are_held_from_before_the_plan() -> None:
    drives = tuple(shelf(3, name="C"))
    sheet = _sheet("build-pool", name="three", scheme="parity-1", drives=drives)

    def fails(session: Session) -> None:
        session.exec(select(DriveRow).where(DriveRow.id == drives[1]).with_for_update()).one().condition = "failed"

    refused = _meanwhile(sheet, fails)
    assert isinstance(refused, NotPossible) and refused.field == "drives", refused


@pytest.mark.usefixtures("two_pools")
def test_a_name_that_stands_for_another_volume_now_is_drawn_up_anew() -> None:
    """The pool's number is named by both; what was shown is not what it would be."""
    do("rename-volume", volume="one/v", name="w")
    sheet = _sheet("delete-volume", volume="v")
    do("rename-volume", volume="two/v", name="x")
    do("rename-volume", volume="one/w", name="v")
    with pytest.raises(NotPossible, match="changed"), transaction() as session:
        _approve(session, sheet)


@pytest.mark.usefixtures("two_pools")
def test_a_name_that_is_gone_is_nothing() -> None:
    sheet = _sheet("delete-volume", volume="one/v")
    do("rename-volume", volume="one/v", name="w")
    with pytest.raises(BadInput, match="no volume one/v"), transaction() as session:
        _approve(session, sheet)


def test_every_kind_is_applied_by_the_module_that_mirrors_its_own() -> None:
    assert list(APPLY) == list(KINDS)
    shared = {
        "add-disk",
        "change-lun",
        "take-disk",
        "let-in",
        "shut-out",
        "undo-move",
        "add-drives",
        "add-sets",
        "convert-pool",
        "turn-restripe",
        "leave-copy",
        "leave-drain",
        "leave-move",
        "use-room",
        "leave-path",
        "let-go",
    }
    for kind, apply in APPLY.items():
        if kind not in shared:
            mirror = KINDS[kind].plan.__module__.replace("core.changes", "engine.apply")
            assert apply.__module__ == mirror


@pytest.mark.usefixtures("db")
def test_what_stands_in_the_way_is_what_approving_would_say_and_nothing_is_done() -> None:
    at_once()
    pool = build(shelf(4), "parity-1", name="p")
    carry_all()
    sheet = _sheet("rename-volume", volume="p/v", name="w")
    assert approver.in_the_way(sheet.number, devices()) is None
    with transaction() as session:
        assert "w" not in [v.name for v in session.exec(select(VolumeRow))]
        assert session.get(SheetRow, sheet.number).state == "draft"  # type: ignore[union-attr]
    # What takes the pool up is said, and passes; the draft is not out of date for it.
    fill(pool)
    delete = _sheet("delete-volume", volume="p/v")
    said = approver.in_the_way(delete.number, devices())
    assert said is not None and said.code == "busy"
    approver.look_through_drafts(devices())
    with transaction() as session:
        assert session.get(SheetRow, delete.number).stale is None  # type: ignore[union-attr]
    carry_all()
    # Files came to be: the sheet said there were none.
    assert approver.in_the_way(delete.number, devices()).code == "changed-since"  # type: ignore[union-attr]
    approver.look_through_drafts(devices())
    with transaction() as session:
        assert "have changed since" in (session.get(SheetRow, delete.number).stale or "")  # type: ignore[union-attr]
        assert session.get(SheetRow, sheet.number).stale is None  # type: ignore[union-attr]
    # A day later the one that is out of date is put away by itself, with the reason; the other one waits.
    clock.go_ahead(dt.timedelta(hours=25))
    approver.look_through_drafts(devices())
    with transaction() as session:
        assert session.get_one(SheetRow, delete.number).state == "withdrawn"
        assert session.get_one(SheetRow, sheet.number).state == "draft"
        said = session.exec(select(LogRow.sentence).where(LogRow.act == "sheet-withdrawn")).one()
    assert said.startswith("Delete volume p/v: put away, as it was out of date. Things have changed")


@pytest.mark.usefixtures("db")
def test_a_file_beyond_the_new_end_is_told_before_anybody_approves() -> None:
    at_once()
    build(shelf(4), "parity-1", name="p")
    carry_all()
    do("delete-volume", volume="p/v")
    do("make-volumes", pool="p", name="v", size="40 GiB", file_system="btrfs")
    with transaction() as session:
        volume = session.exec(select(VolumeRow)).one()
        number, size = volume.number, volume.size
    sheet = _sheet("resize-volume", volume="p/v", size=f"{size // 2**31} GiB")
    assert approver.in_the_way(sheet.number, devices()) is None
    with transaction() as session:
        last = size // 2**30 - 3
        session.add(SampleFile(volume_id=number, name="late.dat", first=last, extents=1, checksum="x"))
    said = approver.in_the_way(sheet.number, devices())
    assert said is not None and said.code in ("file-beyond", "bad-input", "changed-since")
