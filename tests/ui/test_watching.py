"""A month in the life of a house: it fills, it is told of, it is reclaimed; and what was recorded is looked at."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Page, expect

from pairshelf.engine.pools import devices
from tests.ui.conftest import accessible, sign_in
from tests.ui.test_growing import settled
from tests.ui.test_moving import approve, do, drives

pytestmark = pytest.mark.ui


def test_a_month_in_the_life_tight_warned_reclaimed(page: Page) -> None:
    pool = do("build-pool", name="drawer", scheme="parity-1", drives=tuple(drives("Larch", 3)))
    do("make-volumes", pool="drawer", name="scans", size="110 GiB", thin=True)
    sign_in(page)
    page.goto(f"/pools/{pool}")
    settled(page)
    volume = page.get_by_role("region", name="Volume scans")
    volume.get_by_role("button", name="Change").last.click()
    volume.get_by_label("Written a day").fill("lots")
    volume.get_by_role("button", name="Keep").click()
    expect(volume.get_by_text(re.compile("lots"))).to_be_visible()
    volume.get_by_label("Written a day").fill("3.4 GiB")
    volume.get_by_role("button", name="Keep").click()
    expect(volume.get_by_text(re.compile(r"It writes 3\.65 GB a day"))).to_be_visible()
    # Before a week has been recorded, no day is said.
    expect(volume.get_by_text("said from 7 recorded days on")).to_be_visible()
    page.goto("/settings")
    page.get_by_role("button", name="A month passes").click()
    expect(page.get_by_text(re.compile("Days pass until"))).to_be_visible()
    expect(page.get_by_role("button", name="A month passes")).to_be_visible(timeout=400_000)
    expect(page.get_by_text(re.compile(r"30 d.* ahead of this machine's"))).to_be_visible()

    # Tight, and warned: in one sentence, on the pool's line, and with what to do.
    page.goto("/")
    expect(page.get_by_text(re.compile("need you before long"))).to_be_visible()
    line = page.get_by_role("region", name="Pools")
    expect(line.get_by_role("img", name=re.compile("Pool drawer: .* written"))).to_be_visible()
    expect(line.get_by_text(re.compile(r"full about \d{4}-\d\d-\d\d"))).to_be_visible()
    expect(line.get_by_text("survives any one drive failure")).to_be_visible()
    needs = page.get_by_role("region", name="What needs you")
    expect(needs.get_by_text(re.compile(r"Pool drawer is 8\d % full under its thin volumes"))).to_be_visible()
    assert accessible(page) == []

    # Said once in the logbook, however often it was looked at.
    page.goto("/logbook")
    expect(page.get_by_text(re.compile(r"^Pool drawer is \d\d % full: above 80 %"))).to_have_count(1)

    # How it came to that, as a line and as a table.
    page.goto(f"/pools/{pool}")
    room = page.get_by_role("region", name="Room")
    room.get_by_label("Span of time").first.click()
    page.get_by_role("option", name="the last month").click()
    expect(room.get_by_role("img", name=re.compile("Pool drawer: taken by files now"))).to_be_visible()
    room.get_by_text("As a table").click()
    expect(room.get_by_role("row").nth(60)).to_be_attached()
    with page.expect_download() as given:
        room.get_by_role("link", name="List: taken by files").click()
    assert given.value.suggested_filename == "pool-files-of-drawer.csv"
    expect(room.get_by_text(re.compile("grows by 3\\.[67]"))).to_be_visible()
    assert accessible(page) == []

    # Told later, if that is early enough; nonsense is said at its field and changes nothing.
    room.get_by_role("button", name="Change").click()
    room.get_by_label("Tell at, %").fill("95")
    room.get_by_role("button", name="Keep").click()
    expect(room.get_by_text("What presses lies above what is told")).to_be_visible()
    room.get_by_label("Presses at, %").fill("98")
    room.get_by_role("button", name="Keep").click()
    expect(room.get_by_text("You are told at 95 % full, and it presses at 98 %.")).to_be_visible()

    # A host deletes; what it had stays given until it is reclaimed, and is seen to come back.
    expect(room.get_by_text("Comes back on reclaim")).to_have_count(0)
    volume.get_by_role("button", name="Delete half of them").click()
    expect(room.get_by_text("Comes back on reclaim")).to_be_visible()
    left = room.get_by_role("row", name="Not allocated")
    before = left.text_content() or ""
    room.get_by_role("button", name="Reclaim…").click()
    page.get_by_role("button", name="Draw up the change sheet").click()
    expect(page.get_by_text(re.compile("come back to the pool"))).to_be_visible()
    approve(page)
    page.goto(f"/pools/{pool}")
    expect(left).to_be_visible()
    expect(left).not_to_have_text(before)
    expect(room.get_by_text("Comes back on reclaim")).to_have_count(0)
    page.goto("/")
    # What is left is of the demo: a drive that warns, a backup that is a month older now.
    expect(page.get_by_role("region", name="What needs you").get_by_text("drawer")).to_have_count(0)


def test_what_is_used_is_seen_on_drives_shelves_and_pools(page: Page) -> None:
    do(
        "build-pool",
        name="drawer",
        scheme="copies-2",
        drives=tuple(drives("Larch", 2)),
        volume="v",
        volume_size="20 GiB",
        file_system="xfs",
    )
    sign_in(page)
    page.goto("/shelves")
    shelf = page.get_by_role("region", name="Shelf Larch")
    expect(
        shelf.get_by_text(re.compile(r"21\.\d GB used of 12\d\.\d GB in pools|42\.\d GB used of 12\d\.\d GB in pools"))
    ).to_be_visible()
    page.goto("/pools")
    expect(
        page.get_by_role("row", name=re.compile("drawer")).get_by_role("img", name=re.compile("allocated to volumes"))
    ).to_be_visible()
    assert accessible(page) == []
    page.set_viewport_size({"width": 390, "height": 800})
    page.goto("/")
    expect(page.get_by_role("region", name="Pools").get_by_text("drawer")).to_be_visible()
    assert page.evaluate("document.documentElement.scrollWidth <= innerWidth")


def test_in_front_of_the_shelf_with_a_phone(page: Page) -> None:
    old = drives("Larch", 4)
    drives("Spare", 1)
    pool = do(
        "build-pool",
        name="herbs",
        scheme="parity-1",
        drives=tuple(old),
        volume="v",
        volume_size="20 GiB",
        file_system="xfs",
    )
    sign_in(page)
    page.set_viewport_size({"width": 390, "height": 800})
    page.goto(f"/pools/{pool}")
    settled(page)
    devices().fail("Larch-3")
    page.goto("/")
    # Other trouble has a page, too: this one is the pool's.
    mine = page.locator(f'a[href="/trouble/{pool}"]').first
    expect(mine).to_have_text("What happened, and what not to do")
    mine.click()
    expect(page.get_by_role("heading", name="The drive in Larch bay 3 has failed")).to_be_visible()
    expect(page.get_by_text("survives no further failure")).to_be_visible()
    expect(page.get_by_text(re.compile("Leave in: Larch bay 1"))).to_be_visible()
    expect(page.get_by_role("img", name=re.compile("bay 3: .*failed; bay 4: .*leave it in"))).to_be_visible()
    assert page.evaluate("document.documentElement.scrollWidth <= innerWidth")
    assert accessible(page) == []
    # The lamp is lit with one touch, and seen on the shelf.
    page.get_by_role("button", name="Blink locate LED").click()
    expect(page.get_by_role("button", name="Stop locate LED")).to_be_visible()
    expect(page.get_by_role("img", name=re.compile("bay 3: .*its lamp is lit"))).to_be_visible()
    # The one right act leads to the drives that can take its place; then the page says that all is well.
    page.get_by_role("link", name="Choose the drive that takes its place").click()
    expect(page.get_by_text(re.compile("Spare bay 1")).first).to_be_visible()
    do("replace-drive", pool_id=pool, slot=2, drive_id=int(old[3]) + 1)
    page.goto(f"/trouble/{pool}")
    expect(page.get_by_role("heading", name="Pool herbs is well")).to_be_visible()
