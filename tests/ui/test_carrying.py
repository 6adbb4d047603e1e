"""A pool moved to another box: packed here, unpacked there, bays shuffled and one drive forgotten at first."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from pairshelf.store.database import transaction
from pairshelf.store.tables import Setting, Shelf, Site
from tests.conftest import House, database_from
from tests.ui.conftest import accessible, answered, serving, sign_in
from tests.ui.test_growing import settled
from tests.ui.test_moving import approve, do, drives, filled

pytestmark = pytest.mark.ui


@contextmanager
def another_house(house: House, server: str, devices: Path) -> Iterator[str]:
    """Another installation with its own books and its own room, behind a server and a worker; its address. Meanwhile
    this process works on its books."""
    with pytest.MonkeyPatch.context() as patch, database_from(house, server, devices, patch), serving([]) as url:
        yield url


def test_a_pool_is_moved_to_another_box_with_bays_shuffled_and_one_drive_forgotten(
    page: Page, browser: Browser, demo_house: House, server: str, tmp_path: Path
) -> None:
    pool = do("build-pool", name="moor", scheme="parity-1", drives=tuple(drives("Heath", 4)), volume="peat",
              file_system="xfs")  # fmt: skip
    do("add-party", name="moss")
    do("mount-volume", volume="moor/peat", host="sorrel", mount_point="/srv/peat")
    do("make-share", volume="moor/peat", name="bogs", rights=("moss:write",))
    sign_in(page)
    page.goto(f"/pools/{pool}")
    settled(page)
    filled(pool, 0.5)
    settled(page)
    expect(page.get_by_role("region", name="On its drives")).to_contain_text("All 4 say what this pool is")

    page.goto("/shelves")
    page.get_by_role("button", name="More for shelf Heath").click()
    with page.expect_download() as packed:
        page.get_by_role("menuitem", name="Pack its drives into a box").click()
    box = tmp_path / "heath.zip"
    packed.value.save_as(box)
    page.goto(f"/pools/{pool}")
    expect(page.get_by_text("Nothing is lost").first).to_be_visible()

    with another_house(demo_house, server, tmp_path / "there") as url:
        with transaction() as session:
            site = session.get_one(Site, 1)
            # Both are copies of one demo; really there are two.
            session.merge(Setting(key="installation", value={"id": "b" * 32}))
            session.add(Shelf(site_id=site.number, name="Attic", bays=6))
        context = browser.new_context(base_url=url, viewport={"width": 1280, "height": 800})
        there = context.new_page()
        sign_in(there)
        there.goto("/shelves")
        wrong = tmp_path / "wrong.zip"
        wrong.write_bytes(b"PK no box")
        there.locator("input[type=file]").set_input_files(wrong)
        expect(there.get_by_text("This is no box of drives")).to_be_visible()
        there.locator("input[type=file]").set_input_files(box)
        beside = there.get_by_role("region", name="Beside the shelves")
        expect(beside).to_contain_text("4 simulated drives")
        assert accessible(there) == []
        beside.get_by_text("Heath-3 ·").click()
        beside.get_by_role("combobox").or_(beside.get_by_role("textbox")).first.click()
        there.get_by_role("option", name="Attic, 6 free").click()
        beside.get_by_role("button", name="Put them in, in any order").click()
        expect(beside).to_contain_text("1 simulated drive.")

        there.goto("/pools")
        found = there.get_by_role("region", name="Found on drives: moor")
        expect(found).to_contain_text(
            "3 of the 4 drives of pool moor are here; it can be brought in, without Heath-3 for now."
        )
        expect(found).to_contain_text("written by another installation")
        expect(found.get_by_role("img", name=re.compile("Heath-3, not here"))).to_be_visible()
        assert accessible(there) == []
        found.get_by_role("button", name="Bring it in…").click()
        expect(there.get_by_role("heading", name="Bring in pool moor")).to_be_visible()
        expect(there.get_by_text("Make the mount of peat at /srv/peat on sorrel again")).to_be_visible()
        expect(there.get_by_text("is made without moss:write: not known here")).to_be_visible()
        assert accessible(there) == []
        approve(there)

        there.goto("/pools")
        there.get_by_role("link", name="moor").click()
        expect(there.get_by_text("unprotected").first).to_be_visible()
        volume = there.get_by_role("region", name="Volume peat")
        expect(volume).to_contain_text("mounted by sorrel at /srv/peat")
        expect(volume).to_contain_text("shared as bogs")
        volume.get_by_role("button", name="Read files back").click()
        expect(there.get_by_text("All files read back as written")).to_be_visible()

        address = there.url
        there.goto("/shelves")
        with answered(there):
            there.get_by_role("region", name="Beside the shelves").get_by_role("button", name="Put them in").click()
        there.goto(address)
        expect(there.get_by_text("All drives are well").first).to_be_visible()
        settled(there)
        expect(there.get_by_role("region", name="Check")).to_contain_text("Mismatches0")
        context.close()
