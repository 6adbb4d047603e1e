"""A drive ages, gives warning, is copied and leaves; sectors that cannot be read are had from the others; and who is told."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Page, expect
from sqlmodel import select

from pairshelf.engine.pools import devices
from pairshelf.store.database import transaction
from pairshelf.store.tables import DriveRow
from tests.ui.conftest import accessible, answered, sign_in
from tests.ui.test_growing import settled
from tests.ui.test_moving import approve, do, drives

pytestmark = pytest.mark.ui


def number(serial: str) -> int:
    with transaction() as session:
        return session.exec(select(DriveRow.id).where(DriveRow.serial == serial)).one() or 0


def test_a_drive_ages_warns_is_copied_and_leaves(page: Page) -> None:
    do("build-pool", name="drawer", scheme="parity-1", drives=tuple(drives("Larch", 4)), volume="v", volume_size="60 GiB",
       file_system="xfs")  # fmt: skip
    pool = do("mount-volume", volume="drawer/v", host="bramble", mount_point="/srv/drawer")
    drives("Elm", 1)
    sign_in(page)

    # Ida wants to be told, and has a test sent.
    page.goto("/settings")
    messages = page.get_by_role("region", name="Messages to you")
    messages.get_by_role("button", name="Be told…").click()
    dialog = page.get_by_role("dialog", name="Be told")
    dialog.get_by_label("Address").fill("ida")
    dialog.get_by_role("button", name="Keep").click()
    expect(dialog.get_by_text("Write an address as ida@house.example.")).to_be_visible()
    dialog.get_by_label("Address").fill("ida@fernhollow.example")
    dialog.get_by_role("button", name="Keep").click()
    messages.get_by_role("button", name="Send a test").click()
    expect(messages.get_by_text(re.compile("This is a test.*arrived"))).to_be_visible()
    expect(dialog).to_be_hidden()
    assert accessible(page) == []

    # A drive stands by, and the pool may act by itself.
    page.goto(f"/pools/{pool}")
    settled(page)
    page.get_by_role("region", name="Spares").get_by_role("button", name="Let a drive stand by…").click()
    page.get_by_role("row", name=re.compile("Elm-1")).get_by_role("button", name="Draw up the sheet").click()
    expect(page.get_by_text("It takes the place of a failed drive by itself")).to_be_visible()
    approve(page)
    page.goto(f"/pools/{pool}")
    expect(page.get_by_role("region", name="Spares").get_by_text("for this pool")).to_be_visible()
    # It is kept when the server says so; whoever leaves the page at once may be too quick for it.
    with answered(page):
        page.get_by_label("Copy a drive that is failing onto a spare by itself").check()

    # One of its drives begins to go: it is said on its sheet what that means.
    page.goto(f"/shelves?drive={number('Larch-2')}")
    readings = page.get_by_role("region", name="Readings")
    expect(readings.get_by_text("Nothing speaks against it")).to_be_visible()
    sheet = page.get_by_role("complementary", name="Drive")
    sheet.get_by_text("Let it age").click()
    sheet.get_by_label("more every day").fill("3")
    sheet.get_by_role("button", name="From now on").click()
    expect(sheet.get_by_text("reassigned sectors: 0 so far, +3 a day")).to_be_visible()
    readings.get_by_text("reassigned sectors").first.click()
    expect(readings.get_by_text("Places that went bad and for which spare ones stand in.", exact=False)).to_be_visible()
    expect(readings.get_by_text("ATA attribute 5")).to_be_visible()
    assert accessible(page) == []

    page.goto("/settings")
    page.get_by_role("button", name="A week passes").click()
    expect(page.get_by_text(re.compile("Days pass until"))).to_be_visible()
    expect(page.get_by_role("button", name="A week passes")).to_be_visible()

    # It was seen, copied onto the spare by itself, and has left: nobody was needed.
    page.goto(f"/pools/{pool}")
    settled(page)
    expect(page.get_by_text("All drives are well. Survives any one drive failure.")).to_be_visible()
    page.get_by_text("Drive by drive").click()
    expect(page.get_by_role("row", name=re.compile("Elm bay 1 · Elm-1"))).to_be_visible()
    expect(page.get_by_text("Larch-2")).to_have_count(0)
    page.goto("/logbook")
    expect(
        page.get_by_text("Drive Larch-2 of drawer is failing: it is copied onto spare Elm-1 while it still reads.")
    ).to_be_visible()
    page.goto(f"/shelves?drive={number('Larch-2')}")
    expect(sheet.get_by_text("It is failing")).to_be_visible()
    expect(readings.get_by_text(re.compile(r"\d+ sectors reassigned within a week, more than 5"))).to_be_visible()
    # And can be let go, with a certificate.
    sheet.get_by_role("link", name="Wipe it, or let it go").click()
    expect(page).to_have_url(re.compile(f"/disposal\\?drives={number('Larch-2')}"))
    # Ida has been told that it is to be looked at.
    page.goto("/mailbox")
    expect(page.get_by_text(re.compile("Drive Larch-2 .*is failing by its readings")).first).to_be_visible()


def test_what_cannot_be_read_is_scanned_by_the_calendar_and_comes_from_the_others(page: Page) -> None:
    pool = do("build-pool", name="drawer", scheme="parity-1", drives=tuple(drives("Larch", 3)), volume="v",
              volume_size="60 GiB", file_system="xfs")  # fmt: skip
    sign_in(page)
    page.goto(f"/pools/{pool}")
    settled(page)
    calendar = page.get_by_role("region", name="By the calendar")
    calendar.get_by_role("button", name="Do it by the calendar…").last.click()
    dialog = page.get_by_role("dialog", name="Surface scan of drawer by the calendar")
    dialog.get_by_label("By the clock of").fill("The Moon")
    dialog.get_by_role("button", name="Keep").click()
    expect(dialog.get_by_text("is no time zone; write one such as Europe/Paris")).to_be_visible()
    dialog.get_by_label("By the clock of").fill("Europe/Paris")
    dialog.get_by_label("How often").click()
    page.get_by_role("option", name="every week", exact=True).click()
    dialog.get_by_role("button", name="Keep").click()
    expect(calendar.get_by_text("every week on Saturday at 02:00 (Europe/Paris), gentle.")).to_be_visible()
    expect(dialog).to_be_hidden()
    assert accessible(page) == []

    devices().lose_extents("Larch-3", [2, 7])
    page.goto("/settings")
    page.get_by_role("button", name="A week passes").click()
    expect(page.get_by_text(re.compile("Days pass until"))).to_be_visible()
    expect(page.get_by_role("button", name="A week passes")).to_be_visible()
    page.goto(f"/pools/{pool}")
    surface = page.get_by_role("region", name="Surface of its drives")
    expect(surface.get_by_text("2 GiB could not be read, came from the others, and were written anew.")).to_be_visible()
    assert devices().lost_extents("Larch-3") == []
    page.goto(f"/shelves?drive={number('Larch-3')}")
    readings = page.get_by_role("region", name="Readings")
    expect(readings.get_by_text("came from the others and was written anew")).to_be_visible()
    expect(readings.get_by_text("Nothing speaks against it")).to_be_visible()

    # How long it tries a bad sector is set where it stands.
    devices().be("Larch-3", 64 * 10**9, recovery_settable=True)
    page.reload()
    expect(readings.get_by_text("the whole set waits", exact=False)).to_be_visible()
    readings.get_by_role("button", name="Set it").click()
    expect(
        readings.get_by_text("It gives up on a bad sector after 7 s; the others have what stands there.")
    ).to_be_visible()

    # The house looks at other limits.
    page.goto("/settings#failing")
    rules = page.get_by_role("region", name="When a drive counts as failing")
    rules.get_by_role("textbox", name="reassigned sectors, rotating").fill("12")
    rules.get_by_role("button", name="Keep").click()
    expect(rules.get_by_role("button", name="Keep")).to_have_count(0)
    expect(rules.get_by_role("textbox", name="reassigned sectors, rotating")).to_have_value("12")
    rules.get_by_label("Look at: wear, flash", exact=True).uncheck()
    expect(rules.get_by_role("textbox", name="wear, flash", exact=True)).to_have_count(0)
    assert accessible(page) == []


@pytest.mark.parametrize("width", [390, 1280])
def test_the_mailbox_shows_what_arrived_and_can_refuse(page: Page, width: int) -> None:
    page.set_viewport_size({"width": width, "height": 800})
    sign_in(page)
    page.goto("/mailbox")
    with answered(page):
        page.get_by_label("Refuse everything for now").check()
    page.goto("/settings")
    messages = page.get_by_role("region", name="Messages to you")
    expect(messages.get_by_text("You are told nothing yet")).to_be_visible()
    messages.get_by_role("button", name="Be told…").click()
    page.get_by_label("Address").fill("ida@fernhollow.example")
    page.get_by_role("button", name="Keep").last.click()
    messages.get_by_role("button", name="Send a test").click()
    expect(messages.get_by_text(re.compile("on its way.*told to refuse.*Tried again"))).to_be_visible()
    page.goto("/mailbox")
    page.get_by_label("Refuse everything for now").uncheck()
    expect(page.get_by_role("article", name="Pair Shelf: This is a test")).to_be_visible()
    assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth")
    assert accessible(page) == []


def test_a_shelf_unplugged_seen_on_a_phone_and_back_as_it_was(page: Page) -> None:
    pool = do("build-pool", name="drawer", scheme="parity-1", drives=tuple(drives("Larch", 3)), volume="v",
              volume_size="60 GiB", file_system="xfs")  # fmt: skip
    sign_in(page)
    page.goto(f"/pools/{pool}")
    settled(page)
    page.goto("/settings")
    page.get_by_role("region", name="Messages to you").get_by_role("button", name="Be told…").click()
    page.get_by_label("Address").fill("ida@fernhollow.example")
    with answered(page):
        page.get_by_role("button", name="Keep").last.click()
    page.goto("/shelves?filter=shelf:larch")
    page.get_by_role("button", name="More for shelf Larch").click()
    page.get_by_role("menuitem", name="Unplug it (simulated)").click()
    expect(page.get_by_role("button", name="unplugged: plug it in (simulated)")).to_be_visible()

    # A letter comes; its link opens the page made for a phone. Nothing is lost, and what not to do is said.
    page.set_viewport_size({"width": 390, "height": 800})
    page.goto("/mailbox")
    letter = (
        page.get_by_role("article", name=re.compile("Pair Shelf: .*need"))
        .filter(has_text="drawer is unreachable")
        .first
    )
    expect(letter).to_be_visible()
    expect(letter).to_contain_text(f"/trouble/{pool}")
    expect(letter).to_contain_text("Nothing is lost")
    page.goto(f"/trouble/{pool}")
    expect(page.get_by_role("heading", name="Pool drawer is away, not lost")).to_be_visible()
    expect(page.get_by_text("Building anew on its drives")).to_be_visible()
    expect(page.get_by_text(re.compile("Reconnect .*: check power and cable"))).to_be_visible()
    assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth")
    assert accessible(page) == []

    page.set_viewport_size({"width": 1280, "height": 1800})
    # None of its drives is in a bay now; its way back stays in sight.
    page.goto("/shelves?filter=shelf:larch")
    with answered(page):
        page.get_by_role("button", name="unplugged: plug it in (simulated)").click()
    page.goto(f"/trouble/{pool}")
    expect(page.get_by_role("heading", name="Pool drawer is well")).to_be_visible()
    page.goto(f"/pools/{pool}")
    settled(page)
    expect(page.get_by_text("All drives are well. Survives any one drive failure.")).to_be_visible()
