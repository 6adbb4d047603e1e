"""A pool that fills up, as one person makes it larger, through a failure on the way, and gives it larger drives."""

from __future__ import annotations

import re
import time

import pytest
from playwright.sync_api import Page, expect
from sqlmodel import select

from pairshelf.core.changes.kinds import request_of
from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.inventory import DriveRecord
from pairshelf.engine import approver
from pairshelf.engine.pools import devices
from pairshelf.store.database import transaction
from pairshelf.store.repositories.drives_and_pools import add_records
from pairshelf.store.tables import JobRow, PoolRow, Service, Setting
from tests.ui.conftest import accessible, sign_in

pytestmark = pytest.mark.ui


def speed(factor: int) -> None:
    with transaction() as session:
        session.merge(Setting(key="speed", value={"factor": factor}))


def drives(name: str, count: int, size: int, service: Service = Service.FREE) -> list[int]:
    records = [DriveRecord(name, i + 1, f"{name}-{i + 1}", size, Kind.HDD, site="Fernhollow") for i in range(count)]
    with transaction() as session:
        return [r.id or 0 for r in add_records(session, records, service=service)]


def pair(name: str) -> int:
    """A pool of two copies with a volume over all of it."""
    request = request_of("build-pool", {"name": name, "scheme": "copies-2", "drives": drives("Oak", 2, 200 * 10**9), "volume": "v",
                                        "file_system": "xfs"})  # fmt: skip
    with transaction() as session:
        sheet = approver.draw_up(session, "build-pool", request, "ida")
    with transaction() as session:
        return approver.approve(session, sheet.number, "ida", name, devices())[1].pool_id or 0


def approve(page: Page, confirm: str | None) -> None:
    if confirm:
        page.get_by_label(f"Type {confirm} to confirm").fill(confirm)
        page.get_by_role("textbox", name="Your password").fill("fernhollow")
    page.get_by_role("button", name=re.compile("^Approve")).click()
    page.get_by_role("link", name="Go to the pool").click()


def settled(page: Page) -> None:
    """All jobs have ended, and the page shows it."""
    until = time.monotonic() + 90
    while True:
        with transaction() as session:
            if not session.exec(select(JobRow).where(JobRow.state.in_(("waiting", "running", "held")))).all():  # type: ignore[attr-defined]
                break
        assert time.monotonic() < until
        time.sleep(0.1)
    # What is not loaded yet shows no job either, nor a page that has not begun to.
    expect(page.get_by_role("heading", level=1)).to_be_visible()
    expect(page.get_by_role("status", name="Loading")).to_have_count(0)
    expect(page.get_by_role("heading", name="Under way")).to_be_hidden()


def test_from_full_to_larger_through_a_failure_and_on_to_larger_drives(page: Page) -> None:
    pool = pair("herbs")
    sign_in(page)
    page.goto(f"/pools/{pool}")
    settled(page)
    page.get_by_role("button", name="Write sample files").click()
    settled(page)

    # The ways, side by side: copies do not grow by one drive, and it is said what does.
    drives("Elm", 2, 200 * 10**9)
    page.get_by_role("link", name="Make it larger…").click()
    expect(page.get_by_role("article", name="One more set of 2")).to_contain_text("Suggested")
    expect(page.get_by_role("article", name="One more drive")).to_contain_text("Not possible")
    assert accessible(page) == []

    # Two copies become double parity with two drives more; one was put into a bay while the page was open.
    page.get_by_role("button", name=re.compile("^Elm bay 1,")).click()
    page.get_by_role("button", name=re.compile("^Elm bay 2,")).click()
    expect(page.get_by_text("2 picked")).to_be_visible()
    row = page.get_by_role("row", name=re.compile("^to parity-2"))
    speed(300)
    row.get_by_role("button", name="Draw up the sheet").click()
    expect(page.get_by_role("heading", name="Convert pool herbs from copies-2 to parity-2")).to_be_visible()
    assert accessible(page) == []
    approve(page, "herbs")
    front = page.get_by_role("region", name="Restripe")
    expect(front).to_contain_text("parity-2, 1 set of 4")
    assert accessible(page) == []

    # A drive fails on the way; the front stands still; it is replaced, and goes on.
    devices().fail("Elm-1")
    expect(page.get_by_text("unprotected").or_(page.get_by_text("degraded")).first).to_be_visible()
    expect(page.get_by_text("Held: waits until every place")).to_be_visible()
    (new,) = drives("Ash", 1, 200 * 10**9)
    speed(0)
    page.get_by_role("button", name="Replace the drive…").click()
    page.get_by_role("row", name=re.compile("Ash bay 1")).get_by_role("button", name="Draw up the sheet").click()
    approve(page, "Ash-1")
    settled(page)
    expect(page.get_by_text("All drives are well. Survives any 2 drive failures.")).to_be_visible()
    assert new

    # One drive more; then its volume takes all there is.
    (one,) = drives("Yew", 1, 200 * 10**9)
    page.goto(f"/pools/{pool}/grow?drives={one}")
    page.get_by_role("article", name="One more drive").get_by_role("button", name="Draw up the sheet").click()
    approve(page, "herbs")
    settled(page)
    page.get_by_role("button", name="Extend its volumes by what is left").click()
    expect(page.get_by_role("heading", name=re.compile("Extend volume herbs.v"))).to_be_visible()
    approve(page, None)
    settled(page)
    page.get_by_role("button", name="Read files back").click()
    expect(page.get_by_text("All files read back as written")).to_be_visible()

    # Larger drives for all five, over a path that is kept.
    larger = drives("Fir", 5, 260 * 10**9)
    page.goto(f"/pools/{pool}/grow?drives={','.join(map(str, larger))}")
    page.get_by_role("article", name=re.compile("^5 larger drives")).get_by_role(
        "button", name="Draw up the sheet"
    ).click()
    approve(page, None)
    path = page.get_by_role("region", name="Path of larger drives")
    for step in range(5):
        expect(path).to_contain_text(f"{step} of 5")
        path.get_by_role("button", name="Draw up the next step").click()
        approve(page, page.get_by_text(re.compile("^Type Fir-")).inner_text().split()[1])
        settled(page)
    expect(path).to_be_hidden()
    with transaction() as session:
        row = session.exec(select(PoolRow).where(PoolRow.name == "herbs")).one()
        assert row.capacity == 3 * 241
        assert not session.exec(select(JobRow).where(JobRow.pool_id == pool, JobRow.state == "failed")).all()
    page.get_by_role("button", name="Check now").click()
    check = page.get_by_role("region", name="Check")
    expect(check.get_by_role("row", name="Mismatches 0")).to_be_visible()
    expect(check.get_by_role("row", name="Files differing 0")).to_be_visible()


def test_a_warning_leads_to_the_exchange_and_the_front_can_be_turned(page: Page) -> None:
    pool = pair("herbs")
    sign_in(page)
    page.goto(f"/pools/{pool}")
    settled(page)
    drives("Elm", 2, 200 * 10**9)
    devices().warn("Oak-2")
    page.goto("/")
    page.get_by_role("link", name="Replace it").click()
    expect(page.get_by_role("dialog", name="Which drive takes the place?")).to_be_visible()
    row = page.get_by_role("row", name=re.compile("Elm bay 1"))
    row.get_by_role("button", name="Draw up the sheet").click()
    expect(page.get_by_text("It still works: it is copied onto Elm bay 1")).to_be_visible()
    speed(100)
    approve(page, "Elm-1")
    copying = page.get_by_role("region", name="Copy of place 2")
    expect(copying).to_contain_text("which then takes its place")
    expect(page.get_by_text("All drives serve; one of them is failing.")).to_be_visible()
    speed(0)
    expect(copying).to_be_hidden()
    settled(page)
    # The front of a restripe, turned round in the middle.
    (extra,) = drives("Ash", 1, 200 * 10**9)
    page.goto(f"/pools/{pool}/grow?drives={extra}")
    speed(100)
    page.get_by_role("row", name=re.compile("^to parity-1")).get_by_role("button", name="Draw up the sheet").click()
    approve(page, "herbs")
    page.get_by_role("button", name="Turn it round").click()
    approve(page, None)
    expect(page.get_by_role("heading", name="The front goes back")).to_be_visible()
    speed(0)
    settled(page)
    expect(page.get_by_text("copies-2 (RAID 1), 1 set of 2")).to_be_visible()


def test_from_the_shelves_to_the_ways_of_a_pool(page: Page) -> None:
    (extra,) = drives("Ash", 1, 14 * 10**12)
    sign_in(page)
    page.goto("/shelves?filter=shelf:ash")
    page.get_by_role("checkbox", name=re.compile("^Ash bay 1,")).click()
    page.get_by_role("button", name="Expand a pool…").click()
    page.get_by_role("menuitem", name="archive").click()
    expect(page).to_have_url(re.compile(f"/pools/1/grow\\?drives={extra}"))
    expect(page.get_by_text("1 picked")).to_be_visible()
    # A drive put into a bay while the page is open appears in it.
    drives("Rye", 1, 14 * 10**12)
    expect(page.get_by_role("button", name=re.compile("^Rye bay 1,"))).to_be_visible()
    assert accessible(page) == []


@pytest.mark.parametrize("width", [360, 1280])
def test_the_ways_fit_a_phone_and_a_desk(page: Page, width: int) -> None:
    page.set_viewport_size({"width": width, "height": 800})
    sign_in(page)
    page.goto("/pools/1/grow")
    expect(page.get_by_role("heading", name="Make archive larger")).to_be_visible()
    assert page.evaluate("document.documentElement.scrollWidth") <= width
    assert accessible(page) == []
