"""The benchmark figures, as ratios to this machine's own speed in the same run where that makes sense."""

from __future__ import annotations

import os
import resource
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
from playwright.sync_api import Page, sync_playwright
from tests.browser import browser as browser_path

from bench.building import screens, sixty_drives
from bench.common import line
from bench.growing import growing
from bench.moving import moving
from bench.watching import watching
from bench.wiping import wiping
from pairshelf import demo
from pairshelf.core.domain.drives import Drive, Kind
from pairshelf.core.figures.report import answer_json
from pairshelf.core.layouts.erasure import parity
from pairshelf.core.layouts.placing import parse_volume, place, spread_pool
from pairshelf.core.search.buy import shopping
from pairshelf.core.search.candidates import Answer, Question, all_layouts
from pairshelf.core.search.split import Use, split
from pairshelf.formats.price_list_csv import read_price_list

MIB = 2**20


def best(act: Callable[[], object], runs: int = 5) -> float:
    """The shortest of several runs, seconds."""
    times = []
    for _ in range(runs):
        started = time.perf_counter()
        act()
        times.append(time.perf_counter() - started)
    return min(times)


#: All layouts with all figures of so many drives: seconds allowed in one process.
ALLOWED = {60: 0.04, 500: 0.5, 1000: 1.0}


def layouts() -> None:
    """The comparison: alike drives, and as mixed as can be: five sizes, two kinds, many shelves and hosts."""
    question = Question(need=10**13, survive=1)
    each: dict[int, float] = {}
    for count in (12, 24, 60, 120, 500, 1000):
        alike = [Drive(f"d{i}", 14 * 10**12) for i in range(count)]
        mixed = [
            Drive(f"d{i}", (4 + i % 5 * 2) * 10**12, Kind.HDD if i % 5 else Kind.SSD, shelf=f"s{i // 24}",
                  host=f"h{i // 96}", site="here") for i in range(count)
        ]  # fmt: skip
        allowed = ALLOWED.get(count)
        for name, drives in (("alike", alike), ("mixed", mixed)):
            took, found = timed_cold(drives, question)
            share = f" = {took / allowed:.2f} of allowed" if allowed else ""
            line(f"all layouts, all figures: {count} drives, {name}", f"{took * 1000:.0f} ms{share}")
            if name == "alike":
                each[count] = took / (count * len(found.considered))
    line("  time a drive and candidate, 1,000 over 60 drives", f"{each[1000] / each[60]:.2f}")
    line("  most memory so far", f"{resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MiB (200 allowed)")


def timed_cold(drives: list[Drive], question: Question) -> tuple[float, Answer]:
    """The shortest of three runs, each without what an earlier one has kept."""
    times = []
    for run in range(3):
        changed = [replace(d, afr=0.012 + run * 1e-6 + len(drives) * 1e-9) for d in drives]
        started = time.perf_counter()
        found = all_layouts(changed, question)
        answer_json(found)
        times.append(time.perf_counter() - started)
    return min(times), found


def deciding() -> None:
    drives = [Drive(f"d{i}", 14 * 10**12) for i in range(24)]
    once = timed_cold(drives, Question())[0]
    pool, wanted = spread_pool(drives, "drive"), [parse_volume("20TiB:parity-2:8")]
    placing = best(lambda: place(pool, wanted), 3)
    line("placing a spread stripe of 8 of 24 drives", f"{placing / wanted[0].stripes * 1e6:.0f} us")
    models = read_price_list((Path(demo.__file__).parent / "prices.csv").read_bytes()).models
    bought = best(lambda: shopping(models, 24, Question(need=60 * 10**12, survive=2), then=(90 * 10**12,)), 1)
    line("what to buy, 10 models, 24 bays, over a comparison of 24", f"{bought / once:.0f} x")
    uses = [Use("a", "media", 60 * 10**12, 1), Use("b", "database", 10**13, 1)]
    line(
        "splitting 24 drives by two uses, over that comparison", f"{best(lambda: split(drives, uses), 1) / once:.0f} x"
    )


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
        command = [sys.executable, "-m", "pairshelf.api.serve", "127.0.0.1", str(port), "2"]
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
    from pairshelf.core.domain.inventory import against_each_other, differences
    from pairshelf.formats.inventory_csv import read_inventory
    from pairshelf.services.accounts import add_user
    from pairshelf.services.drive_lists import store_list
    from pairshelf.store.database import migrate, transaction
    from pairshelf.store.repositories.drives_and_pools import what_is_taken

    migrate()
    rows = "".join(f"S{i // 24},{i % 24 + 1},N{i},{4 + i % 5 * 2} TB,hdd\n" for i in range(10_000))
    raw = ("shelf,bay,serial,size,kind\n" + rows).encode()
    started = time.perf_counter()
    with transaction() as session:
        reading = read_inventory(raw)
        taken = what_is_taken(session)
        assert not reading.errors and not against_each_other(reading.rows, taken)
        store_list(session, reading, differences(reading.rows, taken), "bench", "a list")
    line("import of 10,000 drives (read, compared, stored)", f"{time.perf_counter() - started:.2f} s")
    with transaction() as session:
        add_user(session, "bench", "only for this", "administrator")


def _screen(url: str) -> None:
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=browser_path(), args=["--no-sandbox", "--disable-gpu"])
        page = browser.new_page(base_url=url, viewport={"width": 1280, "height": 800})
        page.goto("/")
        page.get_by_label("Name").fill("bench")
        page.get_by_role("textbox", name="Password").fill("only for this")
        page.get_by_role("button", name="Sign in").click()
        page.get_by_role("heading", name="What needs you").wait_for()
        _shelves(page)
        _compare(page)
        browser.close()


#: When the first spine was drawn, on the page's own clock, which begins with the address.
_FIRST = """new MutationObserver((_, seen) => {
  if (!document.querySelector("[data-drive]")) return;
  seen.disconnect();
  requestAnimationFrame(() => { window.firstSpine = performance.now(); });
}).observe(document, { childList: true, subtree: true })"""
#: From a click, and from a filter typed, to what came of it drawn.
_HANDLING = """async () => {
  const until = (change, there) => new Promise((resolve) => {
    const started = performance.now();
    const seen = new MutationObserver(() => {
      if (!there()) return;
      seen.disconnect();
      requestAnimationFrame(() => resolve(performance.now() - started));
    });
    seen.observe(document.body, { childList: true, characterData: true, subtree: true, attributes: true });
    change();
  });
  const rest = (ms) => new Promise((resolve) => setTimeout(resolve, ms));
  const chosen = () => document.querySelector('[aria-label="Chosen drives"]')?.innerText ?? "";
  const clicks = [];
  for (let i = 0; i < 11; i++) {
    const [before, spine] = [chosen(), document.querySelectorAll("[data-drive]")[10 + i]];
    clicks.push(await until(() => spine.dispatchEvent(new MouseEvent("click", { bubbles: true })), () => chosen() !== before));
    await rest(350);
  }
  const input = document.querySelector('[aria-label="Filter drives"]');
  const write = (text) => {
    Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(input, text);
    input.dispatchEvent(new Event("input", { bubbles: true }));
  };
  const filtered = async (text, there) => {
    const took = await until(() => write(text), there);
    await rest(500);
    write("");
    await rest(500);
    return took;
  };
  const [narrow, broad] = [[], []];
  const says = (text) => document.body.innerText.includes(text);
  for (let i = 0; i < 11; i++) {
    const shelf = document.querySelector.bind(document, `[aria-label="Shelf S${100 + i * 7}"]`);
    narrow.push(await filtered(`new shelf:S${100 + i * 7}`, () => says("24 match") && shelf()));
    broad.push(await filtered("hdd" + " ".repeat(i), () => says("10,000 match")));
  }
  return { clicks, narrow, broad };
}"""


def _shelves(page: Page) -> None:
    page.add_init_script(_FIRST)
    first = []
    for _ in range(9):
        page.goto("/shelves")
        page.locator("[data-drive]").first.wait_for()
        page.wait_for_timeout(700)
        first.append(page.evaluate("window.firstSpine"))
    line("shelves with 10,000 drives: address to first spines", _median(first[2:], 350))
    page.wait_for_timeout(1500)
    took = page.evaluate(_HANDLING)
    line("  a click to the drive being chosen", _median(took["clicks"], 80))
    line("  a filter typed to its answer: one shelf", _median(took["narrow"], 150))
    line("  a filter typed to its answer: all 10,000 pass", f"{sorted(took['broad'])[5]:.0f} ms")
    found = []
    for number in range(22):
        started = time.perf_counter()
        answer = page.request.get(f"/api/find?words={f'N{400 + number}' if number % 2 else f'replace%20N7{number}'}")
        assert answer.ok
        found.append((time.perf_counter() - started) * 1000)
    line("  Find and do, 10,000 drives", _median(found[2:], 100))


def _median(took: list[float], allowed: float) -> str:
    middle = sorted(took)[len(took) // 2]
    return f"{middle:.0f} ms = {middle / allowed:.2f} of allowed"


def pace() -> None:
    """How fast this machine is just now: times that are allowed are those of an idle one, where this is about 0.6 s."""

    def count() -> None:
        total = 0
        for number in range(10_000_000):
            total += number

    line("ten million additions in Python (about 0.6 s when idle)", f"{best(count, 2):.2f} s")


def second_start() -> None:
    """From the command to the first answered page of a demo that has been started before."""
    import socket
    import urllib.request

    var = Path(tempfile.mkdtemp(prefix="pairshelf-start-"))
    var.chmod(0o755)
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    env = {**os.environ, "PAIRSHELF_VAR": str(var), "PAIRSHELF_PORT": str(port)}
    took = 0.0
    try:
        for _ in range(2):
            started = time.perf_counter()
            demo_ = subprocess.Popen(
                [sys.executable, "-m", "pairshelf.launch.start", "demo"], env=env, stdout=subprocess.DEVNULL
            )
            while True:
                try:
                    urllib.request.urlopen(f"http://127.0.0.1:{port}/api/me", timeout=5)
                    break
                except OSError:
                    time.sleep(0.05)
            took = time.perf_counter() - started
            time.sleep(3)
            demo_.terminate()
            demo_.wait(60)
    finally:
        shutil.rmtree(var, ignore_errors=True)
    line("second start of the demo to the first answered page", f"{took:.1f} s = {took / 7:.2f} of allowed")


#: From a change to the figures drawn, in the page's own clock: a changed need, then another drive in the pick.
_REACTION = """async () => {
  const once = async (change) => {
    const table = document.querySelector("tr[data-key]").closest("section");
    return await new Promise((resolve) => {
      const started = performance.now();
      new MutationObserver((_, seen) => {
        seen.disconnect();
        requestAnimationFrame(() => resolve(performance.now() - started));
      }).observe(table, { childList: true, characterData: true, subtree: true });
      change();
    });
  };
  const write = (label, value) => () => {
    const input = document.querySelector(`input[placeholder="${label}"]`);
    Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(input, value);
    input.dispatchEvent(new Event("input", { bubbles: true }));
  };
  const took = [];
  for (let i = 0; i < 20; i++) {
    took.push(await once(write("5x4TB,3x8TB", `12x14TB@a, ${11 + (i % 2)}x12TB@b` + " ".repeat(i))));
    await new Promise((r) => setTimeout(r, 400));
  }
  return took.slice(6);  // both web processes have served it by then
}"""


def _compare(page: Page) -> None:
    page.goto("/compare?what=what-if&what-if=12x14TB@a, 12x12TB@b")
    page.locator("tr[data-key]").first.wait_for()
    page.wait_for_timeout(800)
    took = sorted(page.evaluate(_REACTION))
    line("a changed pick of 24 drives to its figures on screen", _median(took, 60))


if __name__ == "__main__":
    pace()
    second_start()
    layouts()
    deciding()
    kernel()
    sixty_drives()
    growing()
    wiping()
    moving()
    watching()
    screens()
    server()
    pace()
