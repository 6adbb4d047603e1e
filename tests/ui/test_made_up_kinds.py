"""A kind of change that came later is found, filled in and approved on the screens, though none was written for it."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
import uvicorn
from playwright.sync_api import Page, expect
from sqlmodel import select

from pairshelf.api import served
from pairshelf.launch.cluster import free_port
from pairshelf.store.database import transaction
from pairshelf.store.tables import SheetRow
from tests.engine.helpers import carry_all
from tests.made_up import at_home
from tests.ui.conftest import accessible, sign_in

pytestmark = pytest.mark.ui


@pytest.fixture
def site(db: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[str]:
    """The demo estate behind a server in this process, where the new kinds are."""
    at_home(tmp_path, monkeypatch)
    port = free_port()
    running = uvicorn.Server(uvicorn.Config(served.Served, factory=True, port=port, http=served.Patient, ws="none",
                                            log_level="error", timeout_graceful_shutdown=1))  # fmt: skip
    thread = threading.Thread(target=running.run, daemon=True)
    thread.start()
    until = time.monotonic() + 90
    while not running.started:
        assert time.monotonic() < until
        time.sleep(0.05)
    yield f"http://127.0.0.1:{port}"
    running.should_exit = True
    thread.join(10)


def test_a_kind_without_a_screen_of_its_own(page: Page) -> None:
    sign_in(page)
    page.keyboard.press("Control+k")
    page.get_by_label("What to find or do").fill("describe")
    page.get_by_role("option", name="Describe volume").click()
    expect(page.get_by_role("heading", name="Draw up a change")).to_be_visible()
    expect(page.get_by_text("Say what a volume is for, and count what lies on it.")).to_be_visible()
    page.get_by_role("combobox", name="Volume").fill("archive/herbarium-archive")
    page.get_by_label("Words").fill(" ")
    page.get_by_role("button", name="Draw up the change sheet").click()
    expect(page.get_by_text("Say what it is for.")).to_be_visible()
    page.get_by_label("Words").fill("pressed flowers")
    page.get_by_label("Twice").check()
    assert accessible(page) == []
    page.get_by_role("button", name="Draw up the change sheet").dblclick()
    expect(page.get_by_role("heading", name="Describe archive/herbarium-archive")).to_be_visible()
    with transaction() as session:
        drawn = session.exec(select(SheetRow).where(SheetRow.kind == "describe-volume")).all()
        assert len(drawn) == 1, "a double click is one wish"
    expect(page.get_by_text("pressed flowers pressed flowers")).to_be_visible()
    page.get_by_role("button", name="Approve").click()
    expect(page.get_by_text("Counting files")).to_be_visible()
    carry_all()
    expect(page.get_by_text("0 files counted in archive.")).to_be_visible()


def test_who_may_not_reads_why(page: Page) -> None:
    sign_in(page, "wren")
    page.goto("/changes/draw/describe-volume")
    expect(
        page.get_by_text("Only an operator or administrator can do this; you are signed in as viewer.")
    ).to_be_visible()
    expect(page.get_by_role("button", name="Draw up the change sheet")).to_be_disabled()
    page.goto("/changes/draw/make-share")
    expect(page.get_by_text("Only an administrator can do this; you are signed in as viewer.")).to_be_visible()


def test_what_stays_empty_is_left_to_its_usual_value(page: Page) -> None:
    sign_in(page)
    page.goto("/changes/draw/make-volumes")
    page.get_by_label("Pool", exact=False).first.fill("archive")
    page.get_by_role("textbox", name="Name").fill("letters")
    page.get_by_role("textbox", name="Size").fill("1 TB")
    expect(page.get_by_role("textbox", name="Reserved share")).to_have_value("")
    page.get_by_role("button", name="Draw up the change sheet").click()
    expect(page.get_by_role("heading", name="Make volume letters in pool archive")).to_be_visible()
    with transaction() as session:
        (sheet,) = session.exec(select(SheetRow).where(SheetRow.kind == "make-volumes")).all()
    # ext4 keeps 5 % back unless said otherwise; a zero nobody typed would take that away.
    assert sheet.request["reserved_share"] is None and sheet.request["count"] == 1


def test_a_figure_of_our_own_is_a_column_and_a_fault_a_button(page: Page) -> None:
    sign_in(page)
    page.goto("/compare?what=what-if&what-if=5x4TB")
    expect(page.get_by_role("button", name="Sort by a watt")).to_be_visible()
    ids = page.request.get("/api/drives/matching?filter=free shelf:cold").json()["ids"]
    page.goto(f"/shelves?drive={ids[0]}")
    page.get_by_role("button", name="Blank an extent").click()
    expect(page.get_by_text("Forgotten.")).to_be_visible()
