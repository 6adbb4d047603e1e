"""Takes docs/screenshots anew from the demo estate: its own database, its own devices, the way through."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from playwright.sync_api import Page, expect, sync_playwright
from tests.browser import browser as browser_path

from pairshelf.launch.cluster import free_port

ROOT = Path(__file__).resolve().parents[1]
SHOTS = ROOT / "docs" / "screenshots"


def main() -> None:
    """Start a demo apart from any other, walk through it, take the pictures."""
    var = Path(tempfile.mkdtemp(prefix="pairshelf-shots-"))
    var.chmod(0o755)
    port = free_port()
    env = {**os.environ, "PAIRSHELF_VAR": str(var), "PAIRSHELF_PORT": str(port)}
    demo = subprocess.Popen(
        [sys.executable, "-m", "pairshelf.launch.start", "demo"], env=env, stdout=subprocess.PIPE, text=True
    )
    assert demo.stdout
    while "Demo sign-in" not in demo.stdout.readline():
        if demo.poll() is not None:
            sys.exit("the demo did not start")
    try:
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(
                executable_path=browser_path(),
                args=["--no-sandbox", "--disable-gpu"],
            )
            url = f"http://127.0.0.1:{port}"
            page = signed_in(browser.new_context(base_url=url, viewport={"width": 1280, "height": 800}).new_page())
            speed(page)
            walk(page)
            dark = browser.new_context(base_url=url, viewport={"width": 1280, "height": 800}, color_scheme="dark")
            by_night = signed_in(dark.new_page())
            take(by_night, "compare-dark", f"/compare?what=what-if&what-if={STATIONS}&survive_shelves=1")
            narrow = browser.new_context(base_url=url, viewport={"width": 390, "height": 844})
            take(signed_in(narrow.new_page()), "trouble", "/trouble/1")
            browser.close()
    finally:
        demo.terminate()
        demo.wait(30)
        shutil.rmtree(var, ignore_errors=True)


def signed_in(page: Page) -> Page:
    """Sign in as the administrator of the demo."""
    page.goto("/")
    page.get_by_label("Name").fill("ida")
    page.get_by_role("textbox", name="Password").fill("fernhollow")
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("heading", name="What needs you").wait_for()
    return page


def take(page: Page, name: str, path: str | None = None, *, whole: bool = False) -> None:
    """One picture, once the page has come to rest."""
    if path:
        page.goto(path)
    page.wait_for_timeout(900)
    page.mouse.move(2, 2)
    page.evaluate("window.scrollTo(0, 0); document.activeElement?.blur()")
    page.wait_for_timeout(300)
    expect(page.get_by_role("status", name="Loading")).to_have_count(0, timeout=20_000)
    page.screenshot(path=SHOTS / f"{name}.png", full_page=whole)


#: The field stations' drives as a what-if: twelve alike on four hosts.
STATIONS = "3x8TB@yarrow-1,3x8TB@yarrow-2,3x8TB@yarrow-3,3x8TB@yarrow-4"


def decide(page: Page) -> None:
    """The views of deciding, then back to the comparison."""
    before = page.url
    for name in ("parity-2 (RAID 6), 1 set of 8", "parity-2 (RAID 60), 2 sets of 4", "copies-2 (RAID 10), 4 sets of 2"):
        page.get_by_label(f"Pin {name}", exact=True).click()
    take(
        page,
        "spread",
        f"/compare?view=spread&what=what-if&what-if={STATIONS}&domain=host&volumes=10 TiB=copies-2;40 GiB=copies-3",
        whole=True,
    )
    page.goto(before)
    page.get_by_text(re.compile("^Suggested")).wait_for()


def speed(page: Page) -> None:
    """What users get, beside a check; and layouts run against one another."""
    page.goto("/pools/1")
    page.get_by_role("region", name="Speed").get_by_role("button", name="Measure…").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Beside").click()
    page.get_by_role("option", name="a check").click()
    dialog.get_by_role("button", name="Measure").click()
    dialog.get_by_text(re.compile("it costs users")).wait_for()
    take(page, "speed")
    page.goto("/compare?what=what-if&what-if=12x8TB&workload=database&survive=1")
    measured = page.get_by_role("region", name="Measured")
    measured.get_by_role("button", name="Measure").click()
    measured.get_by_text("As a database").wait_for(timeout=60_000)
    page.wait_for_timeout(600)
    measured.screenshot(path=SHOTS / "measured.png")


def change(page: Page, kind: str, *, confirm: str = "", **body: object) -> None:
    """Draw a sheet up and approve it, without a picture."""
    csrf = page.request.get("/api/me").json()["csrf"]
    headers = {"X-CSRFToken": csrf}
    sheet = page.request.post(f"/api/sheets/{kind}", data=body, headers=headers).json()
    done = page.request.post(
        f"/api/sheets/{sheet['id']}/approve", data={"confirm": confirm, "password": "fernhollow"}, headers=headers
    )
    assert done.ok, done.text()


def access(page: Page) -> None:
    """Who reaches what: a share, a target with a mistyped initiator, an application on a volume."""
    iqn = "iqn.2026-01.example.fernhollow:"
    for name, system in (("germination-log", "xfs"), ("front-desk", "btrfs"), ("lab-disk", "none")):
        change(page, "make-volumes", pool="cold", name=name, size="800 GB", file_system=system)
    change(page, "mount-volume", volume="cold/front-desk", host="bramble", mount_point="/srv/front-desk")
    change(page, "make-share", volume="cold/front-desk", name="front-desk", folder="desk", rights=["front-desk:write"],
           quota="500 GB", bin_days=14, purpose="office files")  # fmt: skip
    change(page, "move-application", application="bramble/seedlog", volume="cold/germination-log")
    change(page, "declare-initiator", iqn=iqn + "sorrell")
    change(
        page,
        "make-target",
        iqn=iqn + "cold.lab-disk",
        host="bramble",
        volume="cold/lab-disk",
        initiators=[iqn + "sorrell"],
    )
    take(page, "shares", "/access/shares")


def grow(page: Page) -> None:
    """Two drives come to the Loft; the ways to grow, and the front of a restripe on its way."""
    for bay, size in ((11, "14 TB"), (12, "18 TB")):
        page.goto("/shelves?filter=shelf:loft")
        page.get_by_role("button", name=re.compile(f"^Loft bay {bay}, empty")).click()
        page.get_by_role("textbox", name="Size").fill(size)
        page.get_by_role("button", name="Put it in").click()
        page.get_by_role("checkbox", name=re.compile(f"^Loft bay {bay},.*new")).wait_for()
    take(page, "grow", "/pools/1/grow", whole=True)
    page.get_by_role("article", name="One more drive").get_by_role("button", name="Take it in").click()
    page.get_by_label("Type archive to confirm").fill("archive")
    page.get_by_role("textbox", name="Your password").fill("fernhollow")
    page.get_by_role("button", name=re.compile("^Approve")).click()
    page.get_by_role("link", name="Go to the pool").click()
    page.get_by_role("region", name="Restripe").get_by_text(re.compile("^[34]. %")).wait_for(timeout=60_000)
    take(page, "restripe")
    while page.get_by_role("heading", name="Under way").count():
        time.sleep(1)


def dispose(page: Page) -> None:
    """Drives of several kinds wiped as one lot, caught on the way."""
    ids = page.request.get("/api/drives/matching?filter=free shelf:annex").json()["ids"][:2]
    ids += page.request.get("/api/drives/matching?filter=free hdd shelf:yarrow-1").json()["ids"][:2]
    change(
        page, "wipe", confirm=f"{len(ids)} drives", drives=ids, category="clear", destination="sold to the reading room"
    )
    page.goto("/disposal")
    page.get_by_role("article", name="Certificate 1").wait_for(timeout=60_000)
    take(page, "disposal")


def drain(page: Page) -> None:
    """A field station is emptied, caught on the way and paused."""
    page.goto("/shelves")
    ids = [
        d for n in (2, 3, 4)
        for d in page.request.get(f"/api/drives/matching?filter=free hdd shelf:yarrow-{n}").json()["ids"]
    ]  # fmt: skip
    change(page, "build-pool", confirm="field", name="field", scheme="spread", domain="host", drives=ids, volume="field-notes",
           volume_size="4 TB", protection="copies-2", file_system="xfs")  # fmt: skip
    pool = next(p for p in page.request.get("/api/pools").json()["pools"] if p["name"] == "field")["id"]
    page.goto(f"/pools/{pool}")
    while page.get_by_role("heading", name="Under way").count():
        time.sleep(1)
    page.get_by_role("button", name="Write sample files").click()
    page.wait_for_timeout(4000)
    change(page, "drain", hosts=["yarrow-2"])
    page.goto("/draining")
    page.get_by_text(re.compile("^[3-7]. % left")).first.wait_for(timeout=60_000)
    page.get_by_role("button", name="Pause").click()
    page.get_by_role("button", name="Resume").wait_for()
    take(page, "draining")
    page.get_by_role("button", name="Resume").click()


def found(page: Page) -> None:
    """Drives say they belong to a pool that is not in the books; one of them is not here."""
    ids = [
        d for shelf in ("sorrel", "bramble")
        for d in page.request.get(f"/api/drives/matching?filter=free hdd shelf:{shelf}").json()["ids"]
    ]  # fmt: skip
    change(page, "build-pool", confirm="seed-bank", name="seed-bank", scheme="stepped-1", drives=ids, volume="seed-images",
           volume_size="3 TB", file_system="xfs")  # fmt: skip
    pool = next(p for p in page.request.get("/api/pools").json()["pools"] if p["name"] == "seed-bank")["id"]
    page.goto(f"/pools/{pool}")
    page.get_by_role("button", name="Write sample files").click()
    page.wait_for_timeout(4000)
    while page.get_by_role("heading", name="Under way").count():
        time.sleep(1)
    page.wait_for_timeout(3000)
    change(page, "take-apart", confirm="seed-bank", pool="seed-bank", keep_days=0)
    for what in ("pull", "put-back"):
        csrf = page.request.get("/api/me").json()["csrf"]
        page.request.post(
            f"/api/stand-in/drives/{ids[-1]}", data={"what": what, "count": 1}, headers={"X-CSRFToken": csrf}
        )
        page.wait_for_timeout(3000)
        if what == "pull":
            take(page, "found", "/pools")


def a_month(page: Page) -> None:
    """A month passes in which a host writes to the archive every day; how that looks on its pool."""
    page.goto("/pools/1")
    volume = page.get_by_role("region", name="Volume herbarium-archive")
    volume.get_by_role("button", name="Change").last.click()
    volume.get_by_label("Written a day").fill("1.1 TB")
    volume.get_by_role("button", name="Keep").click()
    volume.get_by_text(re.compile("It writes 1.10 TB")).wait_for()
    headers = {"X-CSRFToken": page.request.get("/api/me").json()["csrf"]}
    (old, *_) = page.request.get("/api/shelves?filter=shelf:tray failing").json()["matched"]

    def put(path: str, body: dict[str, object]) -> None:
        assert page.request.put(path, data=body, headers=headers).ok, path

    put(f"/api/stand-in/drives/{old}/ageing", {"reading": "reassigned", "more": 4, "a_day": 1.3})
    put("/api/pools/1/acts-early", {"on": True})
    told = {"kind": "mail", "address": "ida@fernhollow.example", "urgencies": ["now", "soon"]}
    assert page.request.post("/api/channels", data=told, headers=headers).ok
    page.goto("/settings")
    page.get_by_role("button", name="A month passes").click()
    page.get_by_role("button", name="Stop here").wait_for()
    page.get_by_role("button", name="A month passes").wait_for(timeout=180_000)
    put("/api/pools/1/schedules/check", {"day": 6, "at": "02:00", "zone": "Europe/Paris", "weeks": 4})
    put("/api/pools/1/schedules/scan", {"day": 5, "at": "02:00", "zone": "Europe/Paris", "weeks": None, "which": 1})
    page.goto("/pools/1")
    page.get_by_label("Span of time").first.click()
    page.get_by_role("option", name="the last month").click()
    page.get_by_role("img", name=re.compile("taken by files now")).wait_for()
    take(page, "pool", whole=True)
    page.goto(f"/shelves?drive={old}")
    page.get_by_role("region", name="Readings").get_by_text("reassigned sectors", exact=True).click()
    page.get_by_role("img", name=re.compile("reassigned sectors now")).wait_for()
    take(page, "readings")


def walk(page: Page) -> None:
    """The way through, with a picture of each main view."""
    a_month(page)
    take(page, "today", "/")
    page.goto("/shelves?filter=shelf:cold")
    page.get_by_role("button", name="Select all matching free drives").click()
    page.get_by_text("8 drives selected").wait_for()
    page.get_by_role("button", name="Compare layouts").click()
    page.get_by_text(re.compile("^Suggested")).wait_for()
    take(page, "compare")
    decide(page)
    page.get_by_role("button", name="Build this…").click()
    page.get_by_label("Name of the pool").fill("cold")
    page.get_by_label("Name of its first volume").fill("specimen-scans")
    page.get_by_label("Size of the volume").fill("12 TB")
    page.get_by_role("button", name="Draw up the change sheet").click()
    page.get_by_role("heading", name="Approval").wait_for()
    take(page, "change-sheet", whole=True)
    page.get_by_label("Type cold to confirm").fill("cold")
    page.get_by_role("textbox", name="Your password").fill("fernhollow")
    page.get_by_role("button", name=re.compile("^Approve")).click()
    page.get_by_role("link", name="Go to the pool").click()
    page.get_by_role("button", name="Write sample files").click()
    page.wait_for_timeout(2500)
    access(page)
    page.goto("/pools/1")
    page.get_by_role("heading", name="Figures").wait_for()
    while page.get_by_role("heading", name="Under way").count():
        time.sleep(1)
    grow(page)
    drain(page)
    found(page)
    dispose(page)
    page.goto("/shelves")
    page.get_by_role("checkbox", name=re.compile("^Loft bay 4,")).click()
    page.get_by_role("button", name="Make it fail").click()
    page.get_by_role("checkbox", name=re.compile("^Loft bay 4,.*failed")).wait_for()
    page.get_by_role("button", name="Clear").click()
    page.get_by_label("Close the drive's sheet").click()
    take(page, "shelves")
    take(page, "pool-degraded", "/pools/1")
    page.goto("/mailbox")
    page.get_by_role("article").first.wait_for(timeout=60_000)
    take(page, "messages")


if __name__ == "__main__":
    main()
