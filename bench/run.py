"""The benchmark figures, as ratios to this machine's own speed in the same run where that makes sense."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

from pairshelf.core.drives import Drive
from pairshelf.core.erasure import parity
from pairshelf.core.report import answer_json
from pairshelf.core.search import all_layouts

MIB = 2**20


def best(act: Callable[[], object], runs: int = 5) -> float:
    """The shortest of several runs, seconds."""
    times = []
    for _ in range(runs):
        started = time.perf_counter()
        act()
        times.append(time.perf_counter() - started)
    return min(times)


def line(what: str, figure: str) -> None:
    print(f"{what:<58}{figure:>26}", flush=True)


def layouts() -> None:
    took = {}
    for count in (12, 24, 60, 120):
        drives = [Drive(f"d{i}", 14 * 10**12) for i in range(count)]
        took[count] = best(lambda d=drives: answer_json(all_layouts(d)))
        line(f"all layouts of {count} drives", f"{took[count] * 1000:.1f} ms")
    line("  time for 120 over time for 12 (drives x 10)", f"{took[120] / took[12]:.1f}")


def kernel() -> None:
    data = [np.random.default_rng(i).integers(0, 256, 8 * MIB, np.uint8) for i in range(8)]
    whole = np.concatenate(data)
    target = np.empty_like(whole)
    copy = whole.nbytes / best(lambda: np.copyto(target, whole))
    line("memory copy", f"{copy / 1e9:.2f} GB/s")
    for name, count in (("XOR (P)", 1), ("P+Q", 2), ("P+Q+R", 3)):
        rate = whole.nbytes / best(lambda c=count: parity(data, c))
        line(f"parity of 8 drives, {name}", f"{rate / copy:.2f} of memory copy")


def server() -> None:
    """A server with 10,000 drives: the import, and the shelves in Chromium."""
    from pairshelf.launch.cluster import Cluster, free_port

    folder = Path(tempfile.mkdtemp(prefix="pairshelf-bench-"))
    folder.chmod(0o755)
    cluster = Cluster(folder / "postgres")
    cluster.start()
    os.environ["PAIRSHELF_DATABASE_URL"] = cluster.url
    os.environ["PAIRSHELF_DEVICES"] = str(folder / "devices")
    web = None
    try:
        _import()
        port = free_port()
        command = [sys.executable, "-m", "gunicorn", "-k", "gthread", "-w", "2", "--threads", "16",
                   "-b", f"127.0.0.1:{port}", "--log-level", "error", "--graceful-timeout", "1", "pairshelf.api.wsgi:app"]  # fmt: skip
        web = subprocess.Popen(command)
        time.sleep(4)
        _screen(f"http://127.0.0.1:{port}")
    finally:
        if web:
            web.terminate()
            web.wait(20)
        cluster.stop()
        shutil.rmtree(folder, ignore_errors=True)


def _import() -> None:
    from pairshelf.api.accounts import add_user
    from pairshelf.core.inventory import against_each_other
    from pairshelf.formats.inventory_csv import read_inventory
    from pairshelf.store.database import migrate, transaction
    from pairshelf.store.estate import add_records, what_is_taken

    migrate()
    rows = "".join(f"S{i // 24},{i % 24 + 1},N{i},{4 + i % 5 * 2} TB,hdd\n" for i in range(10_000))
    raw = ("shelf,bay,serial,size,kind\n" + rows).encode()
    started = time.perf_counter()
    with transaction() as session:
        reading = read_inventory(raw)
        assert not reading.errors and not against_each_other(reading.rows, what_is_taken(session))
        add_records(session, [r for _, r in reading.rows])
    line("import of 10,000 drives (read, compared, stored)", f"{time.perf_counter() - started:.2f} s")
    with transaction() as session:
        add_user(session, "bench", "only for this", "administrator")


def _screen(url: str) -> None:
    from playwright.sync_api import sync_playwright

    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path=shutil.which("chromium"), args=["--no-sandbox", "--disable-gpu"]
        )
        page = browser.new_page(base_url=url, viewport={"width": 1280, "height": 800})
        page.goto("/")
        page.get_by_label("Name").fill("bench")
        page.get_by_role("textbox", name="Password").fill("only for this")
        page.get_by_role("button", name="Sign in").click()
        page.get_by_role("heading", name="What needs you").wait_for()
        started = time.perf_counter()
        page.goto("/shelves")
        page.locator("[data-drive]").first.wait_for()
        line("shelves with 10,000 drives: address to first spines", f"{(time.perf_counter() - started) * 1000:.0f} ms")
        spine = page.locator("[data-drive]").nth(3)
        spine.click()
        started = time.perf_counter()
        page.locator("[data-drive]").nth(5).click()
        page.get_by_text("2 drives chosen").wait_for()
        line("  a click to the drive being chosen", f"{(time.perf_counter() - started) * 1000:.0f} ms")
        started = time.perf_counter()
        page.get_by_label("Filter drives").fill("new 8TB shelf:S400")
        page.get_by_text(re.compile("^5 match$")).wait_for()
        line("  a filter typed to its answer", f"{(time.perf_counter() - started) * 1000:.0f} ms")
        browser.close()


if __name__ == "__main__":
    layouts()
    kernel()
    server()
