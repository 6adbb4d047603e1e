"""Drives let go, as a person does it: two used ones sold from a mixed shelf, one that dies half-way, two pairs of eyes, a
pool taken apart and put together again."""

from __future__ import annotations

import json
import re
import time
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page, expect
from sqlmodel import select

from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.inventory import DriveRecord
from pairshelf.engine.pools import devices
from pairshelf.store.database import transaction
from pairshelf.store.repositories.drives_and_pools import add_records
from pairshelf.store.tables import DriveRow, Service, Setting, WipeRow
from tests.ui.conftest import accessible, answered, sign_in

pytestmark = pytest.mark.ui
SIZE = 60 * 2**30


def speed(factor: int) -> None:
    with transaction() as session:
        session.merge(Setting(key="speed", value={"factor": factor}))


def shelf(*kinds: Kind, **nature: Any) -> list[int]:
    """A shelf of used drives."""
    records = [
        DriveRecord("Bench", i + 1, f"BX-{i + 1}", SIZE, k, site="Fernhollow", holds="old data of a shop")
        for i, k in enumerate(kinds)
    ]
    with transaction() as session:
        ids = [r.id or 0 for r in add_records(session, records, service=Service.FREE)]
    for record in records:
        own = ["sanitize-overwrite"] if record.kind is Kind.HDD else ["block-erase"]
        devices().be(record.serial, SIZE, record.kind, **{"commands": own, "protected": 0, "reassigned": []} | nature)
    return ids


def approve(page: Page, confirm: str, password: str = "fernhollow") -> None:
    page.get_by_label(f"Type {confirm} to confirm").fill(confirm)
    page.get_by_role("textbox", name="Your password").fill(password)
    page.get_by_role("button", name=re.compile("^Approve")).click()


def all_ended(count: int) -> None:
    until = time.monotonic() + 90
    while True:
        with transaction() as session:
            states = list(session.exec(select(WipeRow.state)))
        if len(states) == count and "open" not in states:
            return
        assert time.monotonic() < until, states
        time.sleep(0.1)


def test_two_used_drives_are_wiped_proven_and_sold(page: Page, tmp_path: Path) -> None:
    shelf(Kind.HDD, Kind.SSD, Kind.HDD)
    sign_in(page)
    page.get_by_role("link", name="Disposal").click()
    for bay in (1, 2):
        page.get_by_role("button", name=re.compile(f"^Bench bay {bay}, BX-{bay}")).click()
    how = page.get_by_role("region", name="How they are wiped")
    expect(how).to_contain_text("sanitise by overwriting")
    expect(how).to_contain_text("block erase")
    how.get_by_text("why not the others").first.click()
    expect(how).to_contain_text("writing does not reach")
    how.get_by_text("a sample").click()
    expect(how).to_contain_text("would be missed with a probability of")
    how.get_by_text("everything", exact=True).click()
    how.get_by_label("Where they go").fill("sold to the reading room")
    assert accessible(page) == []
    how.get_by_role("button", name="Draw up the sheet for 2 drives").click()
    expect(page.get_by_role("heading", name="Wipe 2 drives")).to_be_visible()
    expect(page.get_by_text("BX-1", exact=True).first).to_be_visible()
    approve(page, "2 drives")
    all_ended(2)
    page.get_by_role("link", name="Disposal").first.click()
    expect(page.get_by_role("heading", name="2 of 2 wiped and verified")).to_be_visible()
    expect(page.get_by_role("article", name="Certificate 2")).to_contain_text("PURGE", ignore_case=True)
    page.get_by_label("Look up").fill("BX-1")
    expect(page.locator(".index-card")).to_have_count(1)
    with page.expect_download() as got:
        page.locator(".index-card").get_by_role("link", name="signed file").click()
    signed = tmp_path / "signed.json"
    got.value.save_as(signed)
    # Handed out: nothing to beware of, they are wiped.
    for bay in (1, 2):
        page.get_by_role("button", name=re.compile(f"^Bench bay {bay}, BX-{bay}")).click()
    page.get_by_text("What would a laboratory read?").is_hidden()
    page.get_by_role("button", name="Hand out…").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("To whom").fill("the reading room")
    dialog.get_by_role("button", name="Draw up the change sheet").click()
    expect(page.get_by_role("heading", name="2 drives leave the house")).to_be_visible()
    expect(page.get_by_text("was not wiped")).to_be_hidden()
    page.get_by_role("button", name=re.compile("^Approve")).click()
    expect(page.get_by_text("approved by ida")).to_be_visible()
    with transaction() as session:
        left = session.exec(
            select(DriveRow).where(DriveRow.service == "retired", DriveRow.retired_to == "sold to the reading room")
        ).all()
        assert len(left) == 2
    # Whoever bought one looks whether it is true, without signing in; and whether a changed one is.
    page.context.clear_cookies()
    page.goto("/verify")
    page.locator("input[type='file']").set_input_files(signed)
    expect(page.get_by_role("heading", name="It is true")).to_be_visible()
    assert accessible(page) == []
    told = json.loads(signed.read_text())
    told["signature"] = told["signature"][:-4] + "AAAA"
    (tmp_path / "false.json").write_text(json.dumps(told))
    page.locator("input[type='file']").set_input_files(tmp_path / "false.json")
    expect(page.get_by_role("heading", name="It is not true")).to_be_visible()


def test_one_dies_half_way_and_the_page_says_what_to_do(page: Page) -> None:
    ids = shelf(Kind.HDD, Kind.HDD, commands=[])
    devices().be("BX-2", SIZE, Kind.HDD, dies_after=6)
    sign_in(page)
    page.goto(f"/disposal?drives={ids[0]},{ids[1]}")
    how = page.get_by_role("region", name="How they are wiped")
    expect(how).to_contain_text("No method reaches this on it")
    how.get_by_role("button", name="Clear is enough for it").first.click()
    expect(how.get_by_role("button", name="Draw up the sheet", exact=True)).to_be_visible()
    how.get_by_text("Clear", exact=True).click()
    how.get_by_role("button", name="Draw up the sheet for 2 drives").click()
    approve(page, "2 drives")
    all_ended(2)
    page.goto("/disposal")
    lot = page.get_by_role("region", name="A lot that was wiped")
    expect(lot.get_by_role("heading")).to_have_text("1 of 2 wiped and verified")
    expect(lot).to_contain_text("BX-2 (Bench bay 2) is only partly wiped")
    expect(lot).to_contain_text("have it destroyed")
    expect(page.locator(".index-card")).to_have_count(1)
    page.get_by_role("link", name="Today").first.click()
    expect(page.get_by_text("Drive BX-2 is only partly wiped: wipe it again, or have it destroyed.")).to_be_visible()


def test_two_pairs_of_eyes_and_a_lot_that_is_stopped(page: Page) -> None:
    ids = shelf(Kind.HDD, commands=[])
    sign_in(page)
    page.goto("/settings")
    with answered(page):
        page.get_by_label("Two administrators approve what is wiped or taken apart").check()
    page.goto(f"/disposal?drives={ids[0]}")
    how = page.get_by_role("region", name="How they are wiped")
    how.get_by_text("Clear", exact=True).click()
    how.get_by_role("button", name="Draw up the sheet", exact=True).click()
    approve(page, "BX-1")
    expect(page.get_by_text("ida has approved it.")).to_be_visible()
    approve(page, "BX-1")
    expect(page.get_by_text("it takes another administrator")).to_be_visible()
    page.goto("/settings")
    with answered(page):
        page.get_by_label("Two administrators approve what is wiped or taken apart").uncheck()
    speed(60)
    page.goto(f"/disposal?drives={ids[0]}")
    how.get_by_text("Clear", exact=True).click()
    how.get_by_role("button", name="Draw up the sheet", exact=True).click()
    approve(page, "BX-1")
    expect(page.get_by_text("approved by ida")).to_be_visible()
    page.goto("/disposal")
    lot = page.get_by_role("region", name="Being wiped")
    expect(lot).to_contain_text("blank")
    lot.get_by_role("button", name="Stop the lot…").click()
    lot.get_by_role("button", name="Stop it").click()
    expect(page.get_by_role("region", name="A lot that was wiped")).to_contain_text("stopped by ida")


def test_a_pool_is_taken_apart_and_put_together_again(page: Page) -> None:
    ids = shelf(Kind.HDD, Kind.HDD)
    sign_in(page)
    page.goto(f"/compare?drives={ids[0]},{ids[1]}")
    from pairshelf.core.changes.kinds import request_of
    from pairshelf.engine import approver

    request = request_of(
        "build-pool", {"name": "shed", "scheme": "copies-2", "drives": ids, "volume": "v", "file_system": "xfs"}
    )
    with transaction() as session:
        sheet = approver.draw_up(session, "build-pool", request, "ida")
    with transaction() as session:
        pool = approver.approve(session, sheet.number, "ida", "shed", devices())[1].pool_id
    page.goto(f"/pools/{pool}")
    page.get_by_role("button", name="Take it apart…").click()
    page.get_by_role("dialog").get_by_role("button", name="Draw up the change sheet").click()
    expect(page.get_by_role("heading", name="Take pool shed apart")).to_be_visible()
    expect(page.get_by_text("it can be put together again, while nothing was written")).to_be_visible()
    approve(page, "shed")
    page.get_by_role("link", name="Disposal").first.click()
    former = page.get_by_role("region", name="Former pool shed")
    expect(former).to_contain_text("it can be put together again")
    page.get_by_role("button", name=re.compile("^Bench bay 1, BX-1")).click()
    expect(page.get_by_role("region", name="How they are wiped")).to_contain_text(
        "It is kept. Pool shed may be put together again"
    )
    former.get_by_role("button", name="Put it together again").click()
    page.get_by_role("button", name=re.compile("^Approve")).click()
    page.get_by_role("link", name="Go to the pool").click()
    expect(page.get_by_role("heading", name=re.compile("shed"))).to_be_visible()
