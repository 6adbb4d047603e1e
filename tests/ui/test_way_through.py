"""The way through, as one person walks it: from drives on a shelf to every byte verified after a failure."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.ui.conftest import accessible, sign_in

pytestmark = pytest.mark.ui


def test_from_drives_to_a_protected_volume_and_through_a_failure(page: Page, site: str, browser: Browser) -> None:
    sign_in(page)
    expect(page.get_by_text("2 new drives have been found. Accept them to use them.")).to_be_visible()
    assert accessible(page) == []

    # Choose the six alike drives of the Cold Store by a filter in words, and compare.
    page.get_by_role("link", name="Shelves", exact=True).click()
    page.get_by_label("Filter drives").fill("free hdd 6TB shelf:cold")
    expect(page.get_by_text("6 match", exact=True)).to_be_visible()
    page.get_by_role("button", name="Select all matching free drives").click()
    expect(page.get_by_text("6 drives selected")).to_be_visible()
    assert accessible(page) == []
    page.get_by_role("button", name="Compare layouts").click()
    expect(page.get_by_text("Suggested: parity-2 (RAID 6), 1 set of 6.")).to_be_visible()
    assert accessible(page) == []

    # "This one fails": two are survived, three are not.
    for bay in (1, 2):
        page.get_by_role("button", name=re.compile(f"Cold Store bay {bay},.*say it fails")).click()
    expect(page.get_by_text("No data are lost. Survives no further failure.")).to_be_visible()
    page.get_by_role("button", name=re.compile("Cold Store bay 3,.*say it fails")).click()
    expect(page.get_by_text("The data are lost")).to_be_visible()

    # Build it.
    page.get_by_role("button", name="Build this…").click()
    page.get_by_label("Name of the pool").fill("cold")
    page.get_by_label("Name of its first volume").fill("specimen-scans")
    page.get_by_role("button", name="Draw up the change sheet").click()
    expect(page.get_by_role("heading", name="Build pool cold")).to_be_visible()
    expect(page.get_by_text("These 6 drives are blank; nothing is lost.")).to_be_visible()
    assert accessible(page) == []
    approve = page.get_by_role("button", name="Approve")
    expect(approve).to_be_disabled()
    page.get_by_label("Type cold to confirm").fill("cold")
    page.get_by_role("textbox", name="Your password").fill("wrong")
    approve.click()
    expect(page.get_by_text("The password is wrong.")).to_be_visible()
    page.get_by_role("textbox", name="Your password").fill("fernhollow")
    approve.click()
    page.get_by_role("link", name="Go to the pool").click()
    expect(page.get_by_text("All drives are well.")).to_be_visible()

    # The host fills the volume.
    page.get_by_role("button", name="Write sample files").click()
    expect(page.get_by_text(re.compile(r"taken by \d\d+ files"))).to_be_visible()
    expect(page.get_by_role("heading", name="Under way")).to_be_hidden()
    assert accessible(page) == []
    pool = page.url

    # A drive fails. This page hears of it without being touched.
    other = browser.new_context(base_url=site, viewport={"width": 1280, "height": 900}).new_page()
    sign_in(other)
    other.goto("/shelves?filter=shelf:cold")
    other.get_by_role("checkbox", name=re.compile("^Cold Store bay 2,")).click()
    other.get_by_role("button", name="Make it fail").click()
    expect(page.get_by_text("degraded").first).to_be_visible()
    expect(page.get_by_text("No data are lost. Survives 1 more failure. All data can be read.")).to_be_visible()
    page.get_by_role("button", name="Read files back").click()
    expect(page.get_by_text("All files read back as written")).to_be_visible()

    # A new drive is put into a bay; the open screen shows it; it is taken in.
    other.goto("/shelves?filter=shelf:loft")
    other.get_by_role("button", name=re.compile("^Loft bay 11, empty")).click()
    other.get_by_role("textbox", name="Size").fill("6 TB")
    other.get_by_role("button", name="Put it in").click()
    other.get_by_role("checkbox", name=re.compile("^Loft bay 11,.*new,")).click()
    other.get_by_role("button", name="Accept drive").click()
    expect(other.get_by_role("button", name="Accept drive")).to_be_hidden()

    # Replace, rebuild, healthy, and every byte checked.
    page.get_by_role("button", name="Replace the drive…").click()
    row = page.get_by_role("row", name=re.compile("Loft bay 11"))
    row.get_by_role("button", name="Draw up the sheet").click()
    expect(page.get_by_role("heading", name=re.compile("Replace Cold Store bay 2"))).to_be_visible()
    serial = page.get_by_text(re.compile("^Type OS-")).inner_text().split()[1]
    page.get_by_label(f"Type {serial} to confirm").fill(serial)
    page.get_by_role("textbox", name="Your password").fill("fernhollow")
    page.get_by_role("button", name="Approve").click()
    page.get_by_role("link", name="Go to the pool").click()
    expect(page.get_by_text("All drives are well.")).to_be_visible()
    page.get_by_role("button", name="Check now").click()
    check = page.get_by_role("region", name="Check")
    expect(check.get_by_role("row", name="Mismatches 0")).to_be_visible()
    expect(check.get_by_role("row", name="Files differing 0")).to_be_visible()
    assert page.url == pool

    # The logbook tells it all; today needs nobody for it.
    page.get_by_role("link", name="Logbook").click()
    page.get_by_label("Search the logbook").fill("cold")
    for sentence in ("Build pool cold: approved.", "Pool cold is degraded; it was healthy.", "Check of cold:"):
        expect(page.get_by_text(sentence).first).to_be_visible()
    assert accessible(page) == []
    other.context.close()


def test_importing_a_list_with_mistakes_and_then_without(page: Page, tmp_path: Path) -> None:
    sign_in(page, "osric")
    page.goto("/shelves/import")
    bad = tmp_path / "bad.csv"
    bad.write_text("Shelf,Slot,Serial No,Capacity (TB),Type\nAttic,1,Z1,4,HDD\nAttic,1,Z2,0,HDD\n")
    page.locator("input[type=file]").set_input_files(bad)
    expect(page.get_by_text("size in TB")).to_be_visible()
    expect(page.get_by_role("row", name=re.compile("^3 size"))).to_be_visible()
    expect(page.get_by_role("button", name=re.compile("^Bring in"))).to_have_attribute("aria-disabled", "true")
    assert accessible(page) == []
    good = tmp_path / "good.csv"
    good.write_text("Shelf,Slot,Serial No,Capacity (TB),Type\nAttic,1,Z1,4,HDD\nAttic,2,Z2,4,HDD\n")
    page.locator("input[type=file]").set_input_files(good)
    page.get_by_role("button", name="Bring in 2 drives").click()
    expect(page.get_by_role("checkbox", name=re.compile("^Attic bay 2,.*serial Z2"))).to_be_visible()


def test_a_viewer_sees_reasons_instead_of_acts(page: Page) -> None:
    sign_in(page, "wren")
    page.goto("/pools/1")
    expect(page.get_by_role("heading", name="Volume herbarium-archive")).to_be_visible()
    button = page.get_by_role("button", name="Write sample files")
    expect(button).to_have_attribute("aria-disabled", "true")
    button.hover()
    expect(page.get_by_text("Only an operator or administrator can do this")).to_be_visible()
    page.goto("/shelves")
    page.get_by_role("button", name="Import drives").hover()
    expect(page.get_by_text("you are signed in as viewer")).to_be_visible()


def test_keys_alone_choose_drives_and_find_screens(page: Page) -> None:
    sign_in(page)
    page.goto("/shelves?filter=shelf:cold")
    page.get_by_role("checkbox", name=re.compile("^Cold Store bay 1,")).focus()
    page.keyboard.press("Space")
    page.keyboard.press("ArrowRight")
    page.keyboard.press("ArrowRight")
    page.keyboard.press("Shift+Enter")
    expect(page.get_by_text("3 drives selected")).to_be_visible()
    page.keyboard.press("Control+k")
    page.get_by_label("What to find or do").fill("check arch")
    expect(page.get_by_role("option", name="Check pool archive")).to_be_visible()
    page.keyboard.press("Enter")
    expect(page).to_have_title(re.compile("archive"))
    page.keyboard.press("Control+k")
    page.get_by_label("What to find or do").fill("logb")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Logbook")).to_be_visible()


def test_dragging_a_box_and_a_stretch_with_shift(page: Page) -> None:
    sign_in(page)
    page.goto("/shelves?filter=shelf:cold")
    first = page.get_by_role("checkbox", name=re.compile("^Cold Store bay 1,"))
    box = first.bounding_box()
    assert box
    page.mouse.move(box["x"] - 6, box["y"] - 4)
    page.mouse.down()
    page.mouse.move(box["x"] + 60, box["y"] + 90, steps=6)
    page.mouse.move(box["x"] + 170, box["y"] + 120, steps=6)
    page.mouse.up()
    expect(page.get_by_text("4 drives selected")).to_be_visible()


@pytest.mark.parametrize(("width", "dark"), [(360, False), (1280, True)])
def test_narrow_and_dark(width: int, dark: bool, browser: Browser, site: str) -> None:
    context = browser.new_context(
        base_url=site, viewport={"width": width, "height": 800}, color_scheme="dark" if dark else "light"
    )
    page = context.new_page()
    sign_in(page)
    for path in (
        "/",
        "/shelves",
        "/compare?what=what-if&what-if=5x4TB@oak,3x8TB@elm&pins=parity-2:1:0,copies-2:4:0",
        "/compare?what=what-if&what-if=5x4TB&view=spread",
        "/compare?what=what-if&what-if=5x4TB&view=split",
        "/compare?what=what-if&view=buy&need=20 TB",
        "/compare?view=saved",
        "/pools/1",
        "/build?scheme=copies-2&sets=1&drives=22,23",
        "/access/hosts",
        "/access/shares",
        "/access/targets",
        "/notice?kind=shelf&name=Loft",
        "/changes",
        "/changes/1",
        "/logbook",
        "/settings",
    ):
        # As a link on the page would lead there, without loading everything anew.
        page.evaluate("to => { history.pushState({}, '', to); dispatchEvent(new PopStateEvent('popstate')) }", path)
        expect(page.locator("main .paper, main svg").first).to_be_visible()
        page.wait_for_timeout(300)
        expect(page.get_by_role("status", name="Loading")).to_have_count(0)
        assert page.evaluate("document.documentElement.scrollWidth") <= width, path
        assert accessible(page) == [], path
    context.close()
