"""A shelf that is to go, and a volume that goes to another pool: as one person does it, step by step."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Page, expect
from sqlmodel import select

from pairshelf.core.changes.kinds import request_of
from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.inventory import DriveRecord
from pairshelf.engine import approver
from pairshelf.engine.jobs.fill import start_fill
from pairshelf.engine.pools import devices, open_pool
from pairshelf.store.database import transaction
from pairshelf.store.repositories.drives_and_pools import add_records
from pairshelf.store.tables import Service, Setting, VolumeRow
from tests.ui.conftest import accessible, sign_in
from tests.ui.test_growing import settled, speed

pytestmark = pytest.mark.ui


def drives(shelf: str, count: int, *, host: str | None = None) -> list[int]:
    records = [
        DriveRecord(shelf, i + 1, f"{shelf}-{i + 1}", 60 * 2**30, Kind.HDD, site="Fernhollow", host=host)
        for i in range(count)
    ]
    with transaction() as session:
        return [r.id or 0 for r in add_records(session, records, service=Service.FREE)]


def do(kind: str, **request: object) -> int:
    with transaction() as session:
        sheet = approver.draw_up(session, kind, request_of(kind, request), "ida")
    with transaction() as session:
        return approver.approve(session, sheet.number, "ida", sheet.body["confirm"] or "", devices())[1].pool_id or 0


def filled(pool: int, share: float) -> None:
    with transaction() as session:
        volume = session.exec(select(VolumeRow).where(VolumeRow.pool_id == pool)).one()
        start_fill(session, open_pool(session, pool), volume, share, "ida")


def approve(page: Page, confirm: str | None = None) -> None:
    if confirm:
        page.get_by_label(f"Type {confirm} to confirm").fill(confirm)
        page.get_by_role("textbox", name="Your password").fill("fernhollow")
    page.get_by_role("button", name=re.compile("^Approve")).click()
    expect(
        page.get_by_text("Approved by ida").or_(page.get_by_text(re.compile("approved.* by ida"))).first
    ).to_be_visible()


def test_a_shelf_is_drained_seen_to_empty_and_leaves(page: Page) -> None:
    old = drives("Larch", 4)
    stay = drives("Rowan", 2)
    pool = do("build-pool", name="herbs", scheme="parity-1", drives=(*old[:2], *stay), volume="v", file_system="xfs")
    field = do("build-pool", name="field", scheme="spread", domain="drive", drives=(*old[2:], *drives("Hazel", 3)), volume="f",
               volume_size="60 GiB", protection="copies-2", file_system="xfs")  # fmt: skip
    sign_in(page)
    page.goto(f"/pools/{pool}")
    settled(page)
    for one in (pool, field):
        filled(one, 0.5)
    settled(page)

    drives("Birch", 2)
    page.goto("/shelves")
    speed(300)
    page.get_by_role("button", name="More for shelf Larch").click()
    page.get_by_role("menuitem", name="Drain it").click()
    expect(page.get_by_role("heading", name="Drain shelf Larch")).to_be_visible()
    expect(page.get_by_text("Larch bay 1 (Larch-1) of herbs onto Birch bay 1 (Birch-1)")).to_be_visible()
    expect(page.get_by_text("no two of a stripe on one drive")).to_be_visible()
    assert accessible(page) == []
    approve(page, "Larch")

    page.goto("/draining")
    card = page.get_by_role("region", name=re.compile("Draining shelf"))
    expect(card).to_contain_text("herbs is fully protected: it survives any one drive failure.")
    expect(card).to_contain_text("field is fully protected")
    expect(card.get_by_role("img", name=re.compile("Larch bay 4, .*still there"))).to_be_visible()
    card.get_by_role("button", name="Pause").click()
    expect(card.get_by_role("button", name="Resume")).to_be_visible()
    assert accessible(page) == []
    page.goto("/shelves")
    expect(page.get_by_role("region", name="Shelf Larch").get_by_role("link", name="being emptied")).to_be_visible()

    page.goto("/draining")
    speed(0)
    page.get_by_role("button", name="Resume").click()
    over = page.get_by_role("region", name=re.compile("Draining shelf"))
    expect(over).to_contain_text("4 of 4 drives are free, their old data readable until they are wiped.")
    over.get_by_role("link", name="Wipe them, or let them go").click()
    expect(page.get_by_text("4 picked.")).to_be_visible()
    for one, volume in ((pool, "v"), (field, "f")):
        page.goto(f"/pools/{one}")
        page.get_by_role("region", name=f"Volume {volume}").get_by_role("button", name="Read files back").click()
        expect(page.get_by_text("All files read back as written")).to_be_visible()


def test_a_host_is_added_to_a_spread_pool_and_fills(page: Page) -> None:
    three = [d for name in ("Alder", "Aspen", "Bay") for d in drives(name, 1, host=name.lower())]
    pool = do("build-pool", name="wide", scheme="spread", domain="host", drives=tuple(three), volume="v", volume_size="40 GiB",
              protection="copies-2", file_system="xfs")  # fmt: skip
    (more,) = drives("Cedar", 1, host="cedar")
    sign_in(page)
    page.goto(f"/pools/{pool}/grow?drives={more}")
    settled(page)
    page.get_by_role("button", name="Draw up the sheet").first.click()
    expect(page.get_by_text(re.compile("then move from fuller drives to emptier ones by themselves"))).to_be_visible()
    approve(page, "wide")
    page.goto(f"/pools/{pool}")
    settled(page)
    with transaction() as session:
        used = open_pool(session, pool).layout.used_extents
        assert max(used) - min(used) <= 1


def test_a_volume_is_moved_while_its_share_is_in_use(page: Page) -> None:
    a = do("build-pool", name="herbs", scheme="parity-1", drives=tuple(drives("Oak", 3)), volume="v", volume_size="50 GiB",
           file_system="xfs")  # fmt: skip
    b = do("build-pool", name="seeds", scheme="copies-2", drives=tuple(drives("Elm", 2)))
    do("add-party", name="moss")
    do("mount-volume", volume="herbs/v", host="sorrel", mount_point="/srv/herbs")
    do("make-share", volume="herbs/v", name="papers", rights=("moss:write",))
    sign_in(page)
    page.goto(f"/pools/{a}")
    settled(page)
    filled(a, 0.4)
    settled(page)
    page.get_by_text("Change it, mount it, end it").click()
    page.get_by_role("button", name="Move to another pool…").click()
    expect(page.get_by_role("dialog")).to_contain_text("It stays in use")
    assert accessible(page) == []
    page.get_by_role("combobox", name="To pool").or_(page.get_by_role("textbox", name="To pool")).first.click()
    page.get_by_role("option", name=re.compile("^seeds")).click()
    with transaction() as session:
        session.merge(Setting(key="speed", value={"factor": 60}))
    page.get_by_role("button", name="Draw up the change sheet").click()
    expect(page.get_by_role("heading", name="Move volume herbs/v to pool seeds")).to_be_visible()
    expect(page.get_by_text("Follows to seeds: share papers is on it.")).to_be_visible()
    approve(page)
    page.goto(f"/pools/{b}")
    expect(page.get_by_role("article", name="Moving a volume of herbs")).to_be_visible()
    expect(page.get_by_role("region", name="Volume v")).to_be_hidden()
    filled(a, 0.7)  # Somebody writes meanwhile.
    speed(0)
    settled(page)
    expect(page.get_by_role("region", name="Volume v")).to_contain_text("shared as papers")
    page.get_by_role("region", name="Volume v").get_by_role("button", name="Read files back").click()
    expect(page.get_by_text("All files read back as written")).to_be_visible()
    page.goto(f"/pools/{a}")
    expect(page.get_by_role("region", name="Volume v")).to_be_hidden()
