"""Deciding, as one person does it: pick, need, compare, pin, fail one, ask how, save, share, print, turn into a sheet."""

from __future__ import annotations

import csv
import json
import re
import time
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.ui.conftest import accessible, sign_in

pytestmark = pytest.mark.ui


def _layouts(page: Page) -> list[str]:
    return page.locator("tr[data-key]").evaluate_all("rows => rows.map(r => r.dataset.key)")


def _usable(page: Page) -> list[float]:
    texts = page.locator("tr[data-key] td:nth-child(4)").all_inner_texts()
    return [float(re.search(r"[\d.]+", t)[0]) for t in texts]  # type: ignore[index]


def test_deciding_from_picks_to_a_sheet(page: Page, site: str, browser: Browser, tmp_path: Path) -> None:
    sign_in(page)

    # Pick the eight drives of the Cold Store.
    page.goto("/shelves?filter=shelf:cold")
    page.get_by_role("button", name="Select all matching free drives").click()
    page.get_by_role("button", name="Compare layouts").click()
    expect(page.get_by_text("Suggested: parity-2 (RAID 6), 1 set of 8.")).to_be_visible()
    page.get_by_role("button", name=re.compile("^Show all")).click()
    everything = len(_layouts(page))

    # Needs: what does not meet them goes, with the reason; one that nobody can meet names what is missing.
    page.get_by_label("Failures to survive").fill("2")
    page.get_by_label("Capacity needed").fill("500 TB")
    expect(page.get_by_role("heading", name="No layout of these 8 drives meets these needs")).to_be_visible()
    expect(page.get_by_text(re.compile(r"TB short")).first).to_be_visible()
    page.get_by_label("Capacity needed").fill("20T")
    expect(page.get_by_text(re.compile("could be 20 TB")).first).to_be_visible()
    page.get_by_label("Capacity needed").fill("20 TB")
    expect(page.get_by_text("Suggested: parity-2")).to_be_visible()
    expect(page.locator("tr[data-key]").first).to_be_visible()
    assert 0 < len(_layouts(page)) < everything
    assert all(u >= 20 for u in _usable(page))

    # Sort, and pin two side by side.
    page.get_by_role("button", name="Sort by usable").click()
    shown = _usable(page)
    assert shown == sorted(shown, reverse=True)
    page.get_by_role("button", name="Sort by usable").click()
    assert _usable(page) == sorted(shown)
    page.get_by_label("Pin parity-2 (RAID 6), 1 set of 8").click()
    page.get_by_label("Pin parity-2 (RAID 60), 2 sets of 4").click()
    beside = page.get_by_role("region", name="Side by side")
    expect(beside.get_by_role("row", name=re.compile("^Usable capacity"))).to_contain_text("34.05 TB")

    # This one fails; two are borne, three are not.
    for bay in (1, 2):
        page.get_by_role("button", name=re.compile(f"Cold Store bay {bay},.*say it fails")).click()
    expect(page.get_by_text("No data are lost. Survives no further failure.")).to_be_visible()
    page.get_by_role("button", name=re.compile("Cold Store bay 3,.*say it fails")).click()
    expect(page.get_by_text("The data are lost")).to_be_visible()
    page.get_by_role("button", name="All well again").click()

    # How is this computed?
    page.get_by_role("button", name="Damage or loss within a year: how is this computed?").click()
    expect(page.get_by_text(re.compile(r"UBER 1e-15 per bit, .* read: q = "))).to_be_visible()
    page.keyboard.press("Escape")
    assert accessible(page) == []

    # An assumption moves the figures.
    before = page.locator("tr[data-key] td:nth-child(9)").first.inner_text()
    page.get_by_role("button", name="What is assumed").click()
    page.get_by_label("Yearly failure rate").fill("9")
    expect(page.locator("tr[data-key] td:nth-child(9)").first).not_to_have_text(before)
    page.get_by_label("Yearly failure rate").fill("")
    expect(page.locator("tr[data-key] td:nth-child(9)").first).to_have_text(before)

    # Save, and share: somebody else opens the link and sees the same.
    page.get_by_role("button", name="Save…").click()
    page.get_by_label("Name").fill("Cold Store, eight drives")
    page.get_by_role("button", name="Save", exact=True).click()
    banner = page.get_by_role("region", name="Saved comparison")
    expect(banner).to_contain_text("The figures are the same today.")
    other = browser.new_context(base_url=site, viewport={"width": 1280, "height": 900}).new_page()
    sign_in(other, "wren")
    other.goto("/compare?view=saved")
    other.get_by_role("link", name="Cold Store, eight drives").click()
    expect(other.get_by_role("region", name="Saved comparison")).to_contain_text("by ida")
    expect(other.get_by_text("Suggested: parity-2")).to_be_visible()
    assert _layouts(other) and set(_layouts(other)) == set(_layouts(page))
    other.context.close()

    # Figures and a document for whoever pays.
    for item, check in (
        ("Figures as CSV", lambda p: len(list(csv.DictReader(p.open()))) == len(_layouts(page))),
        ("Figures as JSON", lambda p: len(json.loads(p.read_text())["drives_compared"]) == 8),
        ("PDF for whoever pays", lambda p: p.read_bytes().startswith(b"%PDF-")),
    ):
        expect(page.get_by_role("menu")).to_be_hidden()
        page.get_by_role("button", name="Print or export").click()
        expect(page.get_by_role("menuitem", name=item)).to_be_visible()
        with page.expect_download() as waiting:
            page.get_by_role("menuitem", name=item).click()
        kept = tmp_path / waiting.value.suggested_filename
        waiting.value.save_as(kept)
        assert check(kept), item
    with page.expect_download() as waiting:
        page.get_by_role("button", name="The cut as SVG").click()
    assert waiting.value.suggested_filename == "cut.svg"
    page.emulate_media(media="print")
    expect(page.get_by_label("Capacity needed")).to_be_hidden()
    expect(page.get_by_role("region", name="Side by side")).to_be_visible()
    page.emulate_media(media="screen")

    # Duplicate for a what-if: the drives become a text that can be changed; what is there stays.
    page.get_by_role("button", name="Duplicate as a what-if").click()
    expect(page.get_by_label("Drives you might have")).to_have_value("6x6TB hdd@Cold Store, 2x10TB hdd@Cold Store")
    page.get_by_label("Drives you might have").fill("6x6TB hdd@Cold Store, 4x10TB hdd@Cold Store")
    expect(page.get_by_text("1 set of 10").first).to_be_visible()
    page.get_by_role("combobox", name="Set a saved comparison beside it").click()
    page.get_by_role("option", name="Cold Store, eight drives").click()
    expect(page.get_by_text("as saved in Cold Store, eight drives").first).to_be_visible()

    # Turn the first into a change sheet.
    page.goto("/compare?view=saved")
    page.get_by_role("link", name="Cold Store, eight drives").click()
    page.get_by_role("button", name="Build this…").click()
    page.get_by_label("Name of the pool").fill("cold")
    page.get_by_label("Name of its first volume").fill("specimen-scans")
    page.get_by_role("button", name="Draw up the change sheet").click()
    expect(page.get_by_role("heading", name="Build pool cold")).to_be_visible()
    expect(page.get_by_text("These 8 drives are blank; nothing is lost.")).to_be_visible()


def test_shelves_hosts_uses_and_purchases(page: Page) -> None:
    sign_in(page)
    stock = "3x8TB@yarrow-1,3x8TB@yarrow-2,3x8TB@yarrow-3,3x8TB@yarrow-4"

    # Sets arranged so that a whole shelf may fail.
    page.goto(f"/compare?what=what-if&what-if={stock}&survive_shelves=1")
    expect(page.get_by_text("survives any one shelf failure").first).to_be_visible()
    expect(page.get_by_text(re.compile("Survives any one shelf failure")).first).to_be_visible()
    page.get_by_role("button", name="shelf yarrow-2: say it fails").click()
    expect(page.get_by_text(re.compile("^No data are lost"))).to_be_visible()
    expect(page.get_by_role("group", name="Wide or narrow, drawn")).to_be_visible()
    assert accessible(page) == []

    # What is kept is what stands there now, though its answer is long in coming and the drawing still waits.
    page.route("**/api/compare", lambda route: (time.sleep(0.3), route.continue_()))
    need = page.get_by_label("Capacity needed")
    with page.expect_response("**/api/compare"):
        need.fill("10 TB")
    expect(page.get_by_role("button", name="Save…")).to_be_visible()
    page.clock.install()
    page.clock.pause_at(time.time() + 5)
    need.fill("20 TB")
    page.get_by_role("button", name="Save…").click()
    page.get_by_label("Name").fill("Yarrow, twelve drives")
    with page.expect_request(lambda r: r.url.endswith("/api/comparisons") and r.method == "POST") as sent:
        page.get_by_role("button", name="Save", exact=True).click()
    assert sent.value.post_data_json["need"] == "20 TB"
    assert "need=20+TB" in sent.value.post_data_json["address"]
    page.clock.resume()
    expect(page.get_by_role("region", name="Saved comparison")).to_contain_text("The figures are the same today.")
    page.unroute("**/api/compare")

    # A spread pool over hosts.
    page.goto(f"/compare?view=spread&what=what-if&what-if={stock}&domain=host&volumes=2 TiB=copies-2")
    expect(
        page.get_by_text("Repairs itself: after the loss of any host, everything is placed again on the others.")
    ).to_be_visible()
    page.get_by_role("button", name="One more volume").click()
    page.get_by_label("Size of volume 2").fill("lots")
    expect(page.get_by_text(re.compile("“lots” is not a size"))).to_be_visible()
    page.get_by_label("Size of volume 2").fill("100 GiB")
    expect(page.get_by_role("row", name=re.compile("107.37 GB copies-3"))).to_be_visible()
    assert accessible(page) == []

    # Two uses on one stock.
    page.goto("/compare?view=split&what=what-if&what-if=8x8TB,2x2TB ssd")
    expect(page.get_by_role("row", name=re.compile("^small database 2 copies-2"))).to_be_visible()
    expect(page.get_by_text(re.compile("Apart they have"))).to_be_visible()
    assert accessible(page) == []

    # What to buy from the demo's price list.
    page.goto("/compare?view=buy&what=what-if")
    expect(page.get_by_text("Type the capacity needed above")).to_be_visible()
    page.get_by_label("Capacity needed").fill("20 TB")
    page.get_by_label("Failures to survive").fill("2")
    expect(page.get_by_role("row", name=re.compile("least over all steps"))).to_be_visible()
    page.get_by_label("Needed at the next step").fill("10 TB")
    expect(page.get_by_text("Each growth step needs more than the one before.")).to_be_visible()
    page.get_by_label("Needed at the next step").fill("30 TB")
    expect(page.get_by_role("cell", name=re.compile("more: 30.27 TB")).first).to_be_visible()
    assert accessible(page) == []


def test_a_backup_is_recorded_where_the_pool_is(page: Page) -> None:
    sign_in(page, "osric")
    page.goto("/pools/1")
    backups = page.get_by_role("region", name="Backups")
    expect(backups).to_contain_text("tapes in the town hall")
    backups.get_by_role("button", name="Record a backup…").click()
    backups.get_by_label("Where it is").fill("annex")
    backups.get_by_label("Link to restore over").fill("fast")
    backups.get_by_role("button", name="Record it").click()
    expect(backups.get_by_text(re.compile("“fast” is not a size"))).to_be_visible()
    backups.get_by_label("Link to restore over").fill("10 Gbit/s")
    backups.get_by_role("button", name="Record it").click()
    expect(backups).to_contain_text("archive: annex")
    assert accessible(page) == []


def test_pools_for_two_uses_are_built_as_one_plan(page: Page) -> None:
    sign_in(page)
    ids = page.request.get("/api/drives/matching?filter=free shelf:cold").json()["ids"]
    page.goto(f"/compare?view=split&drives={','.join(map(str, ids))}&backup_where=barn&backup_link=1 Gbit/s")
    page.get_by_role("button", name="Build these as one plan…").click()
    page.get_by_label("Pool for small database").fill("large-images")
    page.get_by_role("button", name="Draw up the plan").click()
    expect(page.get_by_text("Change 1 of this plan gives this name.")).to_be_visible()
    page.get_by_label("Pool for small database").fill("log")
    assert accessible(page) == []
    page.get_by_role("button", name="Draw up the plan").click()
    page.wait_for_url(re.compile(r"/changes/plans/\d+"))
    expect(page.get_by_role("heading", name="1. Build pool large-images")).to_be_visible()
    expect(page.get_by_text("Backup barn, at most 24 h old").first).to_be_visible()
    assert accessible(page) == []

    # One sheet says that it is part of a plan, and leads back to it.
    page.get_by_role("link", name="Build pool log").click()
    expect(page.get_by_text("Sheet 2 of 2 of the plan")).to_be_visible()
    page.get_by_role("link", name="Pools for large images, small database").click()
    both = page.get_by_role("button", name="Approve both")
    expect(both).to_be_disabled()
    page.get_by_label("Type large-images to confirm").fill("large-images")
    page.get_by_role("textbox", name="Your password").fill("fernhollow")
    expect(both).to_be_disabled()
    page.get_by_label("Type log to confirm").fill("log")
    both.click()
    expect(page.get_by_role("link", name="Go to the pool")).to_have_count(2)
    expect(page.get_by_role("button", name=re.compile("^Approve"))).to_have_count(0)
    page.goto("/pools")
    for name in ("large-images", "log"):
        expect(page.get_by_role("row", name=re.compile(f"^{name} healthy"))).to_be_visible()
    page.goto("/changes")
    expect(page.get_by_role("link", name="of a plan").first).to_be_visible()
