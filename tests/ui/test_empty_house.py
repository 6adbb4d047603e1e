"""The first day in an empty house: from the one-time link to a protected volume, with no file and nothing to read."""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Locator, Page, expect
from sqlmodel import select

from pairshelf.services.accounts import setup_link
from pairshelf.store.database import transaction
from pairshelf.store.tables import LogRow, VolumeRow
from tests.ui.conftest import accessible

pytestmark = pytest.mark.ui

#: Clicks, and fields filled in.
MOST_ACTS = 40


@pytest.fixture
def house(template: str) -> str:
    """Nobody, and nothing."""
    return template


class Hands:
    """Somebody at the page, whose acts are counted."""

    def __init__(self, page: Page) -> None:
        self.page, self.acts = page, 0

    def click(self, what: Locator) -> None:
        self.acts += 1
        what.click()

    def fill(self, label: str, words: str, *, exact: bool = False) -> None:
        self.acts += 1
        self.page.get_by_role("textbox", name=label, exact=exact).fill(words)

    def press(self, name: str | re.Pattern[str]) -> None:
        self.click(self.page.get_by_role("button", name=name))

    def follow(self, name: str) -> None:
        self.click(self.page.get_by_role("link", name=name))


@pytest.fixture
def newcomer(browser: Browser, site: str) -> Iterator[Hands]:
    context = browser.new_context(base_url=site, viewport={"width": 1280, "height": 800})
    page = context.new_page()
    errors: list[str] = []
    page.on("pageerror", lambda error: errors.append(str(error)))
    page.goto(setup_link() or "")
    yield Hands(page)
    context.close()
    assert not errors


def test_from_the_link_to_a_protected_volume(newcomer: Hands) -> None:
    me, page = newcomer, newcomer.page
    expect(page.get_by_text("simulated stand-ins")).to_be_visible()
    me.fill("Your name here", "ada")
    me.fill("Password", "a good password", exact=True)
    me.fill("Once more", "a good passwort")
    me.press("Create")
    expect(page.get_by_text("The two differ.")).to_be_visible()
    me.fill("Once more", "a good password")
    me.press("Create")

    # Today names the one step that is possible now.
    expect(page.get_by_text("Write down the first shelf with what is in it")).to_be_visible()
    assert accessible(page) == []
    me.follow("Begin")
    expect(page.get_by_role("heading", name="The first shelf")).to_be_visible()
    expect(page.get_by_text("simulated stand-ins")).to_be_visible()
    assert accessible(page) == []
    me.fill("Name of the shelf", "Tower")
    me.fill("Drives in it", "6x4TB hdd, KL-7 4TB tape")
    me.press("Add shelf")
    expect(page.get_by_text("“tape” is not")).to_be_visible()
    me.fill("Drives in it", "6x4TB hdd\nKL-7 4TB hdd")
    me.press("Add shelf")
    expect(page.get_by_text("7 drives on 1 shelf")).to_be_visible()
    expect(page.get_by_role("checkbox", name="serial KL-7")).to_be_visible()
    # What was written down is chosen already.
    expect(page.get_by_text("7 drives selected")).to_be_visible()
    me.press("Compare layouts")
    expect(page.get_by_text("· suggested")).to_be_visible()
    me.press("Build this…")
    me.fill("Name of the pool", "cold")
    me.fill("Name of its first volume", "scans")
    me.press("Draw up the change sheet")
    expect(page.get_by_text("simulated stand-ins")).to_be_visible()
    me.fill("Type cold to confirm", "cold")
    me.fill("Your password", "a good password")
    # The drives are blank: nothing is erased.
    me.press("Approve")
    me.follow("Go to the pool")
    expect(page.get_by_text("All drives are well.")).to_be_visible()
    expect(page.get_by_role("heading", name="cold", exact=True)).to_be_visible()
    assert me.acts <= MOST_ACTS
    with transaction() as session:
        assert [v.name for v in session.exec(select(VolumeRow))] == ["scans"]
        written = [e.sentence for e in session.exec(select(LogRow).order_by(LogRow.id))]
    assert "7 drives written down in Tower." in written


def test_an_empty_house_names_only_steps_that_are_possible(newcomer: Hands) -> None:
    me, page = newcomer, newcomer.page
    me.fill("Your name here", "ada")
    me.fill("Password", "a good password", exact=True)
    me.fill("Once more", "a good password")
    me.press("Create")
    expect(page.get_by_role("heading", name="What needs you")).to_be_visible()
    for path, step in (
        ("/pools", "Go to the shelves"), ("/changes", "Compare layouts"),
        ("/compare", "Write down a shelf with drives"), ("/build", "Compare layouts"),
    ):  # fmt: skip
        page.goto(path)
        expect(page.get_by_role("link", name=step).first).to_be_visible()
    page.goto("/access/hosts")
    expect(page.get_by_role("button", name="Add host…")).to_be_visible()
    # A comparison needs no drives: three examples, each an answer.
    for number in range(3):
        page.goto("/compare")
        page.locator(".example").nth(number).click()
        expect(page.get_by_text("· suggested")).to_be_visible()
        expect(page).to_have_title("Compare layouts · Pair Shelf")
    page.goto("/shelves/import")
    with page.expect_download() as got:
        page.get_by_role("link", name="A template to fill in").click()
    assert got.value.suggested_filename == "drives.csv"
    heads = got.value.path().read_text().strip().split(",")
    assert {"shelf", "bay", "serial", "size", "kind"} <= set(heads)
