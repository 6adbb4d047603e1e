"""The real thing: web server and worker as processes, and a headless Chromium in front of them."""

from __future__ import annotations

import multiprocessing
import os
import re
import time
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright
from sqlmodel import select

from pairshelf.demo import load_demo
from pairshelf.launch.cluster import free_port
from pairshelf.store.database import transaction
from pairshelf.store.tables import JobRow, JobState, Setting
from tests.browser import browser as browser_path
from tests.conftest import House, house_of
from tests.ui.begun import begin as begin_in
from tests.ui.begun import log_of

AXE = Path(__file__).resolve().parents[2] / "web" / "node_modules" / "axe-core" / "axe.min.js"
_QUIET = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync",
]  # fmt: skip

_COMPLAINS = re.compile(r"\[(?:warning|error) *\] (\w+)")
#: Drives that do not answer, jobs and errands that wait, a database that is stopped: these are told in stories.
_FORESEEN = {"device", "held", "errand", "database", "events"}

#: So long at the most is anything waited for. A guard, no measure: how busy the machine is, is not what is tested.
MOST = 90_000
expect.set_options(timeout=MOST)


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=browser_path(), args=_QUIET)
        yield browser
        browser.close()


#: Processes that begin with everything imported already: importing takes longer than most tests.
_READY = multiprocessing.get_context("forkserver")
_READY.set_forkserver_preload(["tests.ui.warm", "tests.server"])


def begin(module: str, *words: str, **given: Any) -> multiprocessing.process.BaseProcess:
    """``python -m MODULE WORDS`` as a process of its own, on the database and devices of this test."""
    surroundings = {n: v for n, v in os.environ.items() if n.startswith("PAIRSHELF_")}
    child = _READY.Process(target=begin_in, args=(module, list(words), surroundings, given))
    child.start()
    return child


@pytest.fixture
def children() -> list[multiprocessing.process.BaseProcess]:
    """The web server and the worker, once they run."""
    return []


@pytest.fixture(scope="session")
def demo_house(server: str, template: str, common: Path) -> House:
    """The demo estate, loaded once; simulated time at once."""

    def furnish() -> None:
        load_demo()
        with transaction() as session:
            session.merge(Setting(key="speed", value={"factor": 0}))
            # The archive of the demo is large; its jobs are not what is tested here.
            for job in session.exec(select(JobRow)):
                job.state = JobState.PAUSED

    return house_of(server, template, common, "demo", furnish)


@pytest.fixture
def house(demo_house: House) -> House:
    return demo_house


def _unforeseen() -> list[str]:
    """What the processes of this story wrote to their logs that is no event of the story."""
    found = []
    for log in log_of("").parent.glob("pairshelf.*.log"):
        for line in log.read_text().splitlines():
            complains = _COMPLAINS.search(line)
            if complains and complains[1] not in _FORESEEN and "OperationalError" not in line:
                found.append(f"{log.name}: {line}")
    return found


@contextmanager
def serving(children: list[multiprocessing.process.BaseProcess]) -> Iterator[str]:
    """The database and devices of this process behind a running server and worker; their address."""
    port = free_port()
    children += [
        begin("pairshelf.api.serve", "127.0.0.1", str(port), "1"),
        begin("pairshelf.launch.worker"),
        # With so many processes side by side it must not come last of all.
        begin("pairshelf.launch.watcher", after_jobs=0),
    ]
    url = f"http://127.0.0.1:{port}"
    until = time.monotonic() + 30
    while True:
        try:
            urllib.request.urlopen(f"{url}/api/health", timeout=2)
            break
        except OSError:
            assert time.monotonic() < until and children[0].is_alive()
            time.sleep(0.1)
    yield url
    for child in children:
        child.terminate()
    for child in children:
        child.join(15)
        assert child.exitcode is not None, "it did not stop"
    assert not _unforeseen(), "a server goes on after what it did not foresee; a test does not"


@pytest.fixture
def site(db: str, children: list[multiprocessing.process.BaseProcess]) -> Iterator[str]:
    """The demo estate behind a running server and worker; its address."""
    with serving(children) as url:
        yield url


@pytest.fixture
def page(browser: Browser, site: str) -> Iterator[Page]:
    """A page of its own; an error on it fails the test."""
    # Nothing moves that need not: what fades in and out is waited for, and painted, many times over.
    context = browser.new_context(base_url=site, viewport={"width": 1280, "height": 800}, reduced_motion="reduce")
    context.set_default_timeout(MOST)
    page = context.new_page()
    errors: list[str] = []
    page.on("pageerror", lambda error: errors.append(str(error)))
    yield page
    context.close()
    assert not errors


def sign_in(page: Page, name: str = "ida") -> None:
    page.goto("/")
    page.get_by_label("Name").fill(name)
    page.get_by_role("textbox", name="Password").fill("fernhollow")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("heading", name="What needs you")).to_be_visible()


@contextmanager
def answered(page: Page) -> Iterator[None]:
    """What is done here is asked of the server, and has its answer: a page that is left takes what is on its way along."""
    with page.expect_response(lambda response: response.request.method != "GET"):
        yield


def accessible(page: Page) -> list[str]:
    """What axe finds wrong on the page as it stands."""
    # Put in by the devtools protocol: the page's own policy allows no foreign script.
    if page.evaluate("typeof axe === 'undefined'"):
        page.evaluate(AXE.read_text())
    # Scrolled, the bar at the top lies over something, and that would count as too small.
    page.evaluate("window.scrollTo(0, 0)")
    # Of all it looked at only what is wrong is brought over: the rest is megabytes.
    found: list[str] = page.evaluate(
        "axe.run({runOnly: ['wcag2a', 'wcag2aa', 'wcag21aa', 'wcag22aa'], resultTypes: ['violations'], preload: false})"
        ".then(found => found.violations.map(v => `${v.id}: ${v.nodes[0].html.slice(0, 160)}`))"
    )
    return found
