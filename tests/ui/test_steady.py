"""What is open on a screen stays open, with all that was typed, whatever the server does meanwhile."""

from __future__ import annotations

import json
import re
import time
from collections.abc import Callable

import pytest
from playwright.sync_api import Locator, Page, Route, expect
from sqlmodel import col, select

from pairshelf.store.database import transaction
from pairshelf.store.tables import PoolRow
from tests.ui.conftest import sign_in

pytestmark = pytest.mark.ui


@pytest.fixture
def number(db: str) -> int:
    """A pool of the house."""
    with transaction() as session:
        return session.exec(select(PoolRow).order_by(col(PoolRow.id))).first().number  # type: ignore[union-attr]


def _call_it(number: int, name: str) -> None:
    with transaction() as session:
        session.get_one(PoolRow, number).name = name


def test_a_dialog_outlives_a_server_that_does_not_answer(number: int, page: Page) -> None:
    sign_in(page)
    page.goto(f"/pools/{number}")
    page.get_by_role("button", name="Take it apart…").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label(re.compile("Days in which")).fill("23")
    refused: list[Route] = []

    page.route(f"**/api/pools/{number}", refusing(503, "no", refused))
    _call_it(number, "called otherwise")
    # Asked again five times, then it is an error.
    for _ in range(60):
        page.wait_for_timeout(250)
        if len(refused) > 5:
            break
    assert len(refused) > 5
    page.wait_for_timeout(500)
    expect(dialog.get_by_label(re.compile("Days in which"))).to_have_value("23")
    page.unroute(f"**/api/pools/{number}")
    _call_it(number, "called again")
    expect(page.locator("h1, h2").filter(has_text="called again").first).to_be_attached()
    expect(dialog.get_by_label(re.compile("Days in which"))).to_have_value("23")


def refusing(status: int, title: str, refused: list[Route]) -> Callable[[Route], None]:
    """Answers of a server that refuses; which were asked is kept in ``refused``."""

    def refuse(route: Route) -> None:
        refused.append(route)
        body = json.dumps({"title": title, "status": status})
        route.fulfill(status=status, content_type="application/problem+json", body=body)

    return refuse


def test_what_is_refused_is_shown_no_more_and_what_is_asked_too_often_is(number: int, page: Page) -> None:
    sign_in(page)
    page.goto(f"/pools/{number}")
    act = page.get_by_role("button", name="Take it apart…")
    for status, title in (
        (429, "Too many questions at once."),
        (404, "There is no pool 1."),
        (403, "Not yours to see."),
    ):
        expect(act).to_be_visible()
        refused: list[Route] = []

        page.route(f"**/api/pools/{number}", refusing(status, title, refused))
        _call_it(number, f"called otherwise {status}")
        if status == 429:
            for _ in range(60):
                if refused:
                    break
                page.wait_for_timeout(250)
            page.wait_for_timeout(500)
            assert refused
            expect(page.get_by_text(title)).to_have_count(0)
            expect(act).to_be_visible()
        else:
            expect(page.get_by_text(title).first).to_be_visible()
            expect(act).to_have_count(0)
        page.unroute(f"**/api/pools/{number}")
        page.reload()


def test_a_button_stays_the_same_when_it_is_known_who_may(number: int, page: Page) -> None:
    sign_in(page)
    held: list[Route] = []
    page.route("**/api/kinds", lambda route: held.append(route))
    page.goto(f"/pools/{number}")
    button = page.get_by_role("button", name="Take it apart…")
    expect(button).to_have_attribute("aria-disabled", "true")
    there = button.element_handle()
    held.pop().continue_()
    expect(button).to_have_attribute("aria-disabled", "false")
    assert there.evaluate("element => element.isConnected"), "pressed on one and released on another is no click"


def test_the_page_stands_still_while_something_is_pressed(number: int, page: Page) -> None:
    sign_in(page)
    page.goto(f"/pools/{number}")
    page.wait_for_load_state("networkidle")
    expect(page.get_by_role("status", name="Loading")).to_have_count(0)
    act = page.get_by_role("button", name="Take it apart…")

    def head(name: str) -> Locator:
        return page.locator("h1, h2").filter(has_text=name).first

    def press(name: str) -> bool:
        """Press, and let the server tell something meanwhile; whether that took less than a page stands still."""
        while True:
            act.hover()
            began = time.monotonic()
            page.mouse.down()
            if act.evaluate("element => element.matches(':active')"):
                break
            # Jobs are under way here, and what they tell may move the page until it is pressed.
            page.mouse.move(0, 0)
            page.mouse.up()
        with page.expect_response(f"**/api/pools/{number}"):
            _call_it(number, name)
        page.wait_for_timeout(300)
        return not head(name).is_visible() or time.monotonic() - began < 1.8

    while not press("moved meanwhile"):  # On a machine this slow it has gone on, as it may.
        page.mouse.move(0, 0)
        page.mouse.up()
        _call_it(number, "as before")
        expect(head("as before")).to_be_attached()
    assert not head("moved meanwhile").is_visible(), "what moves from under the pointer is not clicked"
    page.mouse.up()
    expect(page.get_by_role("dialog", name="Take moved meanwhile apart")).to_be_visible()
    expect(head("moved meanwhile")).to_be_attached()

    # Whoever marks a text, or forgets the finger on the glass, is told all the same.
    page.keyboard.press("Escape")
    expect(page.get_by_role("dialog")).to_have_count(0)
    press("called anew")
    expect(head("called anew")).to_be_attached()
    page.mouse.up()
