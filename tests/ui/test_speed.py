"""Speed as it is measured in a browser: on a pool, beside a job, over time, between layouts; and a pool that is full."""

from __future__ import annotations

import re
import time

import pytest
from playwright.sync_api import Page, Route, expect
from sqlalchemy import func
from sqlmodel import select

from pairshelf.store.database import transaction
from pairshelf.store.tables import SampleFile, Setting, Shelf, VolumeRow
from tests.ui.conftest import accessible, sign_in
from tests.ui.test_growing import settled
from tests.ui.test_moving import approve, do, drives, filled
from tests.ui.test_steady import refusing

pytestmark = pytest.mark.ui

NUMBER = re.compile(r"^[\d\u202f]+$")


def test_users_are_played_measured_beside_a_job_and_ended(page: Page) -> None:
    pool = do(
        "build-pool", name="drawer", scheme="parity-2", drives=tuple(drives("Larch", 6)), volume="v", file_system="xfs"
    )
    filled(pool, 0.4)
    sign_in(page)
    page.goto(f"/pools/{pool}")
    settled(page)
    speed = page.get_by_role("region", name="Speed")
    expect(speed.get_by_text("Nothing that is stored is changed.")).to_be_visible()
    speed.get_by_role("button", name="Measure…").click()
    dialog = page.get_by_role("dialog", name="Measure drawer")
    dialog.get_by_label("What users ask for").click()
    page.get_by_role("option", name="database").click()
    expect(dialog.get_by_label("At once")).to_have_value("32")
    dialog.get_by_label("Beside").click()
    page.get_by_role("option", name="a check").click()
    dialog.get_by_text("fast", exact=True).click()
    dialog.get_by_role("button", name="Measure").click()
    row = dialog.get_by_role("row", name=re.compile("database, 32 at once"))
    expect(row.get_by_role("cell").nth(1)).to_have_text(NUMBER)
    expect(dialog.get_by_text(re.compile(r"Check, fast: it costs users [78]\d % of their requests"))).to_be_visible()
    expect(dialog.get_by_role("img", name=re.compile("Drives at work: Larch bay 1 \\d+ %"))).to_be_visible()
    assert accessible(page) == []
    # More at once than is played is refused at its field.
    dialog.get_by_label("At once").fill("100000")
    dialog.get_by_label("At once").blur()
    page.keyboard.press("Escape")
    expect(dialog).to_be_hidden()

    # Users that go on: seen in the next round, and as a line over time.
    speed.get_by_role("button", name="Let simulated users work…").click()
    speed.get_by_label("no more than").check()
    speed.get_by_label("Requests a second").fill("40")
    speed.get_by_role("button", name="Begin").click()
    expect(speed.get_by_text(re.compile("Simulated users of v: file server, 40 requests a second"))).to_be_visible()
    expect(speed.get_by_role("row", name=re.compile("file server, 8 at once, 40.s wanted"))).to_be_visible()
    speed.get_by_role("button", name="Over time").click()
    expect(speed.get_by_role("img", name=re.compile(r"Pool drawer: requests now \d+.s"))).to_be_visible()
    expect(speed.get_by_role("img", name=re.compile(r"Pool drawer: response time now \d+ ms"))).to_be_visible()
    page.reload()
    expect(speed.get_by_role("row", name=re.compile("40.s wanted"))).to_be_visible()
    speed.get_by_role("button", name="End it").click()
    expect(speed.get_by_text("Nothing that is stored is changed.")).to_be_visible()


def test_layouts_are_run_against_one_another(page: Page) -> None:
    sign_in(page)
    page.goto("/compare?what=what-if&what-if=8x4TB&workload=database&survive=1")
    settled(page)
    measured = page.get_by_role("region", name="Measured")
    # What is out of sight is laid out once it comes into view, and moves what stands under it.
    measured.scroll_into_view_if_needed()
    measured.get_by_role("button", name=re.compile("Measure these")).click()
    rows = measured.get_by_role("row")
    expect(rows.nth(1)).to_be_visible()
    expect(measured.get_by_text("As a database, 32 requests at once.")).to_be_visible()
    expect(rows.nth(1).get_by_role("cell").nth(1)).to_have_text(re.compile(r"/s$"))
    assert rows.count() > 2
    assert accessible(page) == []
    # Asked anew in vain, what was found and measured stays.
    asked: list[Route] = []
    page.route("**/api/compare", refusing(503, "no", asked))
    with transaction() as session:
        session.exec(select(Shelf)).first().name = "Alder"  # type: ignore[union-attr]
    until = time.monotonic() + 90
    while not asked:
        assert time.monotonic() < until
        page.wait_for_timeout(100)
    page.wait_for_timeout(500)
    expect(rows.nth(1)).to_be_visible()
    page.unroute("**/api/compare")
    # Another question: what was measured was not measured for it.
    measured.get_by_label("What users ask for").click()
    page.get_by_role("option", name="video recorder").click()
    expect(measured.get_by_text("The question has changed since it was measured.")).to_be_visible()


def test_a_full_pool_on_a_phone(page: Page) -> None:
    pool = do("build-pool", name="drawer", scheme="parity-1", drives=tuple(drives("Larch", 3)))
    do("make-volumes", pool="drawer", name="scans", size="300 GiB", thin=True, file_system="none")
    with transaction() as session:
        session.merge(Setting(key="speed", value={"factor": 0}))
        assert session.exec(select(VolumeRow).where(VolumeRow.pool_id == pool)).one()
    filled(pool, 0.9)
    page.set_viewport_size({"width": 390, "height": 844})
    sign_in(page)
    needs = page.get_by_role("region", name="What needs you")
    said = re.compile("Pool drawer is full. What is written to scans waits, and goes on by itself")
    expect(needs.get_by_text(said)).to_be_visible()
    needs.locator("div", has_text=said).last.get_by_role("link", name="What happened, and what not to do").click()
    trouble = page.get_by_role("article", name="Trouble")
    expect(trouble.get_by_role("heading", name=said)).to_be_visible()
    expect(trouble.get_by_text(re.compile("^Nothing is lost"))).to_be_visible()
    expect(trouble.get_by_role("link", name="reclaim what was deleted, and empty the bins")).to_be_visible()
    expect(trouble.get_by_text("Deleting a volume in haste")).to_be_visible()
    assert accessible(page) == []
    assert page.evaluate("document.documentElement.scrollWidth") <= 390

    # A drive is added; nobody has to tell the write to go on.
    page.set_viewport_size({"width": 1280, "height": 900})
    page.goto("/changes")
    new = drives("Elm", 1)
    do("add-drives", pool="drawer", drives=tuple(new))
    page.goto(f"/pools/{pool}")
    expect(page.get_by_role("region", name="Under way").get_by_text("Restripe", exact=True)).to_be_hidden()
    with transaction() as session:
        (volume,) = session.exec(select(VolumeRow.id).where(VolumeRow.pool_id == pool)).all()
    until = time.monotonic() + 90
    while time.monotonic() < until:
        with transaction() as session:
            taken = session.exec(select(func.sum(SampleFile.extents)).where(SampleFile.volume_id == volume)).one()
        if taken > 150:
            break
        time.sleep(0.5)
    assert taken > 150, "what waited did not go on"


def test_a_sheet_says_what_becomes_of_the_whole_house(page: Page) -> None:
    do(
        "build-pool",
        name="drawer",
        scheme="parity-1",
        drives=tuple(drives("Larch", 3)),
        volume="v",
        volume_size="20 GiB",
    )
    drives("Elm", 1)
    sign_in(page)
    page.goto("/pools")
    page.get_by_role("link", name="drawer").first.click()
    page.get_by_role("button", name="Take it apart…").click()
    page.get_by_role("dialog").get_by_role("button", name=re.compile("Draw up")).click()
    expect(page.get_by_role("heading", name="Totals now and afterwards")).to_be_visible()
    expect(page.get_by_role("row", name=re.compile("Drives in use 13 10"))).to_be_visible()
    expect(page.get_by_role("row", name=re.compile("Free drives 31 34"))).to_be_visible()
    expect(page.get_by_role("row", name=re.compile("Allocated to volumes 80.02 TB 80.00 TB"))).to_be_visible()
    approve(page, "drawer")
    expect(page.get_by_role("heading", name="Totals before and after")).to_be_visible()
    expect(page.get_by_role("row", name=re.compile("Free drives 31 34"))).to_be_visible()
