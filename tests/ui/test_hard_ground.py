"""What happens around an open screen: whatever does not answer is said within 20 seconds, and said no more when it does."""

from __future__ import annotations

import os
import signal
import time
from typing import Any

import psycopg
import pytest
from playwright.sync_api import Page, expect

from tests.ui.conftest import accessible, sign_in

pytestmark = [pytest.mark.ui, pytest.mark.alone]


def test_an_open_screen_says_what_does_not_answer(db: str, page: Page, children: list[Any]) -> None:
    web, worker, watcher = children
    sign_in(page)
    said = page.get_by_role("status").filter(has_text="answer")
    expect(said).to_have_count(0)
    for stopped, words in (
        (worker, "No worker answers"),
        (watcher, "No watcher answers"),
        (web, "Pair Shelf does not answer just now"),
    ):
        os.kill(stopped.pid, signal.SIGSTOP)
        began = time.monotonic()
        expect(said).to_contain_text(words, timeout=21_000)
        assert time.monotonic() - began < 20
        assert accessible(page) == []
        page.keyboard.press("Control+K")
        expect(page.get_by_role("dialog")).to_be_visible()
        lowest = "document.elementFromPoint(innerWidth / 2, innerHeight - 4).textContent"
        assert words in page.evaluate(lowest), "a dialog lies over the page, and over what is said there"
        page.keyboard.press("Escape")
        expect(page.get_by_role("dialog")).to_have_count(0)
        assert words not in page.evaluate(lowest)
        os.kill(stopped.pid, signal.SIGCONT)
        expect(said).to_have_count(0, timeout=20_000)
    server, name = db.rsplit("/", 1)
    with psycopg.connect(f"{server}/postgres", autocommit=True) as admin:
        admin.execute(f"alter database {name} with allow_connections false".encode())
        admin.execute("select pg_terminate_backend(pid) from pg_stat_activity where datname = %s", (name,))
        began = time.monotonic()
        expect(said).to_contain_text("The database does not answer", timeout=21_000)
        assert time.monotonic() - began < 20
        admin.execute(f"alter database {name} with allow_connections true".encode())
    expect(said).to_have_count(0, timeout=30_000)


def test_a_session_ended_elsewhere_leads_to_signing_in(page: Page) -> None:
    sign_in(page)
    other = page.context.browser.new_context(base_url=page.url, viewport={"width": 1280, "height": 800})  # type: ignore[union-attr]
    there = other.new_page()
    sign_in(there)
    there.goto("/settings")
    sessions = there.locator("section", has_text="Where you are signed in")
    expect(sessions.get_by_role("row")).to_have_count(2)
    sessions.get_by_role("button", name="End it").click()
    expect(sessions.get_by_role("row")).to_have_count(1)
    expect(page.get_by_role("button", name="Sign in")).to_be_visible(timeout=20_000)
    assert accessible(there) == []
    other.close()
