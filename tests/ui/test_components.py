"""Parts of the screens by themselves, on a page of their own: what they show, send and say, with nothing behind."""

from __future__ import annotations

import fcntl
import json
import mimetypes
import re
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, Route, expect

from pairshelf.api.app import create_app
from pairshelf.api.kinds import kinds
from pairshelf.core.domain.acts import Act

pytestmark = pytest.mark.ui

WEB = Path(__file__).resolve().parents[2] / "web"
Answers = dict[str, Any]
Show = Callable[..., Page]


@pytest.fixture(scope="session")
def built(common: Path) -> Path:
    """The page with every component that is tested here, built once a run."""
    out = common / "alone"
    with (common / "alone.lock").open("w") as door:
        fcntl.flock(door, fcntl.LOCK_EX)
        if not out.exists():
            command = ["node", "node_modules/vite/bin/vite.js", "build", "alone", "--config", "vite.config.ts"]
            subprocess.run([*command, "--outDir", str(out)], cwd=WEB, check=True, capture_output=True)
    return out


@pytest.fixture(scope="session")
def known() -> Any:
    """What the server says of kinds and figures."""
    with create_app().test_request_context():
        return kinds.__wrapped__().model_dump(mode="json")


@pytest.fixture
def show(browser: Browser, built: Path, known: Any) -> Iterator[Show]:
    """Show a component with properties; ``answers`` are given to what it asks, by method and path. What it sent
    stands in ``page.sent``."""
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    page = context.new_page()
    errors: list[str] = []
    page.on("pageerror", lambda error: errors.append(str(error)))
    sent: list[tuple[str, Any]] = []
    acts = [act.value for act in Act]
    answers: Answers = {
        "GET /api/me": {"user": {"id": 1, "name": "ida", "role": "administrator", "acts": acts},
                        "csrf": "x", "setup_needed": False},
        "GET /api/kinds": known,
        "GET /api/comparisons": {"comparisons": [], "more": False},
    }  # fmt: skip

    def serve(route: Route) -> None:
        path = route.request.url.split("alone.example", 1)[1].split("?")[0]
        if not path.startswith("/api/"):
            name = path.lstrip("/") if path.startswith("/assets/") else "index.html"
            file = built / name
            route.fulfill(body=file.read_bytes(), content_type=mimetypes.guess_type(file.name)[0] or "text/html")
            return
        asked = f"{route.request.method} {path}"
        if route.request.method != "GET":
            sent.append((asked, route.request.post_data_json))
        answer = answers.get(asked, (404, {"code": "not-found", "title": f"Nothing answers {asked}."}))
        status, body = answer if isinstance(answer, tuple) else (200, answer)
        route.fulfill(status=status, body=json.dumps(body), content_type="application/json")

    context.route("**/*", serve)

    def begin(name: str, props: Any = None, given: Answers | None = None) -> Page:
        answers.update(given or {})
        page.goto("http://alone.example/")
        page.evaluate("given => window.show(given)", {"name": name, "props": props or {}})
        page.sent = sent  # type: ignore[attr-defined]
        page.answers = answers  # type: ignore[attr-defined]
        return page

    yield begin
    context.close()
    assert not errors


def said(page: Page) -> list[list[Any]]:
    """What the component called back."""
    found: list[list[Any]] = page.evaluate("window.said")
    return found


# -- forms -------------------------------------------------------------------------------------------------------

FIELDS = [
    {"name": "size", "label": "Size", "initial": "1 TB", "required": True},
    {"name": "purpose", "label": "Purpose"},
    {"name": "share", "label": "Share", "optional": True},
]
ASK = {"kind": "rename-volume", "children": "Rename…", "fields": FIELDS, "body": {"volume": "cold/scans"}}


def test_a_refusal_stands_at_its_field_until_that_is_changed(show: Show) -> None:
    refused = (400, {"code": "bad-input", "title": "That is too much.", "field": "size"})
    page = show("SheetAct", ASK, {"POST /api/sheets/rename-volume": refused})
    page.get_by_role("button", name="Rename…").click()
    page.get_by_role("button", name="Draw up the change sheet").click()
    size = page.get_by_role("textbox", name="Size")
    expect(size).to_have_attribute("aria-invalid", "true")
    expect(page.get_by_text("That is too much.")).to_be_visible()
    expect(page.get_by_role("alert")).to_have_count(0)
    page.get_by_role("textbox", name="Purpose").fill("scans")
    expect(page.get_by_text("That is too much.")).to_be_visible()
    size.fill("2 TB")
    expect(page.get_by_text("That is too much.")).to_have_count(0)
    page.answers["POST /api/sheets/rename-volume"] = {"id": 7}  # type: ignore[attr-defined]
    page.get_by_role("button", name="Draw up the change sheet").click()
    expect(page.get_by_label("address")).to_have_text("/changes/7")
    # What may stay empty and has no usual value is left out; what is fixed goes along.
    assert page.sent[-1] == (  # type: ignore[attr-defined]
        "POST /api/sheets/rename-volume", {"volume": "cold/scans", "size": "2 TB", "purpose": "scans"},
    )  # fmt: skip


def test_a_refusal_of_no_field_that_is_shown_is_said_all_the_same(show: Show) -> None:
    refused = (409, {"code": "busy", "title": "Pool cold is being checked.", "field": "volume"})
    page = show("SheetAct", ASK, {"POST /api/sheets/rename-volume": refused})
    page.get_by_role("button", name="Rename…").click()
    page.get_by_role("button", name="Draw up the change sheet").click()
    expect(page.get_by_role("alert")).to_contain_text("Pool cold is being checked.")
    page.get_by_role("button", name="Leave it").click()
    expect(page.get_by_role("dialog")).to_have_count(0)


def test_two_quick_clicks_send_one_thing(show: Show) -> None:
    drive = {"shelf": {"id": 3, "name": "Loft"}, "bay": 5}
    page = show("PutIn", drive, {"POST /api/stand-in/drives": {"serial": "OS-1"}})
    page.get_by_role("textbox", name="Other data on it").fill("  ")
    page.get_by_text("flash", exact=True).click()
    page.evaluate("const b = [...document.querySelectorAll('button[type=submit]')][0]; b.click(); b.click()")
    page.wait_for_function("window.said.length > 0")
    assert [name for name, *_ in said(page)] == ["onClose"]
    assert page.sent == [  # type: ignore[attr-defined]
        (
            "POST /api/stand-in/drives",
            {"shelf_id": 3, "bay": 5, "size": "14 TB", "kind": "ssd", "holds": None, "serial": None},
        )
    ]


def test_what_cannot_be_done_says_why_and_does_nothing(show: Show) -> None:
    page = show("Act", {"why": "The pool is locked.", "children": "Fill it"})
    button = page.get_by_role("button", name="Fill it")
    expect(button).to_have_attribute("aria-disabled", "true")
    button.focus()
    expect(page.get_by_text("The pool is locked.")).to_be_visible()
    button.click(force=True)
    assert said(page) == []
    page = show("Act", {"children": "Fill it"})
    page.get_by_role("button", name="Fill it").click()
    assert [name for name, *_ in said(page)] == ["onClick"]


def test_who_may_not_is_told_who_may(show: Show) -> None:
    why = "Only an operator or administrator can do this; you are signed in as viewer."
    user = {"id": 2, "name": "wren", "role": "viewer", "acts": ["look"], "denied": {"manage-volumes": why}}
    viewer = {"user": user, "csrf": "x", "setup_needed": False}
    page = show("SheetAct", ASK, {"GET /api/me": viewer})
    page.get_by_role("button", name="Rename…").focus()
    expect(page.get_by_text(why)).to_be_visible()


def test_no_trouble_shows_nothing(show: Show) -> None:
    page = show("Trouble", {"error": None})
    expect(page.get_by_label("address")).to_be_visible()
    expect(page.get_by_role("alert")).to_have_count(0)


# -- what is kept in the address ---------------------------------------------------------------------------------

BENCH = {
    "drives": [{"id": n, "place": f"Bench bay {n}", "shelf": "Bench", "serial": f"BX-{n}", "size": 4 * 10**12,
                "kind": "hdd", "condition": "good", "service": "free", "holds": None, "wiped_at": None}
               for n in (1, 2, 3)],
    "former": [], "lots": [], "two_pairs": False, "house": "Fernhollow", "certificates": 0,
}  # fmt: skip


def at_once(page: Page, *presses: str) -> None:
    """Press several things in one moment: nothing is drawn between."""
    page.evaluate(
        """names => {
             const all = [...document.querySelectorAll("[aria-label], button, a")];
             const found = names.map(n => all.find(e => (e.ariaLabel ?? e.textContent).startsWith(n)));
             for (const one of found) one.dispatchEvent(new MouseEvent("click", { bubbles: true, cancelable: true }));
           }""",
        presses,
    )


def test_what_is_picked_in_one_moment_is_all_picked(show: Show) -> None:
    page = show("Disposal", given={"GET /api/disposal": BENCH})
    bays = [page.get_by_role("button", name=f"Bench bay {n}") for n in (1, 2, 3)]
    for bay in bays:
        expect(bay).to_have_attribute("aria-pressed", "false")
    at_once(page, "Bench bay 1", "Bench bay 3", "Bench bay 2")
    expect(page.get_by_text("3 picked.")).to_be_visible()
    for bay in bays:
        expect(bay).to_have_attribute("aria-pressed", "true")
    assert page.evaluate("new URLSearchParams(location.search).get('drives')") == "1,3,2"
    # Let go and picked again, each counted.
    at_once(page, "Bench bay 3", "Bench bay 1", "Bench bay 3")
    expect(page.get_by_text("2 picked.")).to_be_visible()
    assert page.evaluate("new URLSearchParams(location.search).get('drives')") == "2,3"
    at_once(page, "Bench bay 1", "Pick none", "Bench bay 2")
    expect(page.get_by_text("1 picked.")).to_be_visible()
    expect(bays[1]).to_have_attribute("aria-pressed", "true")
    page.reload()
    page.evaluate("window.show({ name: 'Disposal', props: {} })")
    expect(page.get_by_text("1 picked.")).to_be_visible()


OFFER = {"id": "overwrite", "name": "overwriting", "about": "Zeros.", "category": "purge", "why_not": None,
         "suggested": "It reaches all.", "by_hand": False}  # fmt: skip
JUDGED = {"id": 1, "place": "Bench bay 1", "serial": "BX-1", "size": 4 * 10**12, "kind": "hdd", "holds": None,
          "commands": ["write"], "protected": 0, "reassigned": 0, "spare": False, "encrypts": False, "sector": 512,
          "why_kept": None, "offers": [OFFER], "hours": 8.0, "chance_missed": 0.25}  # fmt: skip


def test_what_was_said_of_all_stays_when_one_more_is_picked(show: Show) -> None:
    methods = {"drives": [JUDGED], "hours": 8.0, "at_once": {}}
    page = show("Disposal", given={"GET /api/disposal": BENCH, "GET /api/disposal/methods": methods})
    page.get_by_role("button", name="Bench bay 1").click()
    how = page.get_by_role("region", name="How they are wiped")
    how.get_by_text("Clear", exact=True).click()
    how.get_by_text("a sample").click()
    how.get_by_label("Where they go").fill("the reading room")
    methods["drives"] = [JUDGED, JUDGED | {"id": 2, "place": "Bench bay 2", "serial": "BX-2"}]
    page.get_by_role("button", name="Bench bay 2").click()
    expect(how.get_by_role("row", name=re.compile("BX-2"))).to_be_visible()
    page.answers["POST /api/sheets/wipe"] = {"id": 7}  # type: ignore[attr-defined]
    how.get_by_role("button", name="Draw up the sheet for 2 drives").click()
    expect(page.get_by_label("address")).to_have_text("/changes/7")
    _, asked = page.sent[-1]  # type: ignore[attr-defined]
    assert (asked["drives"], asked["category"], asked["sample"]) == ([1, 2], "clear", 200)
    assert asked["destination"] == "the reading room"


def test_every_letter_counts_however_fast_they_are_typed(show: Show) -> None:
    page = show("Logbook", given={"GET /api/logbook": {"entries": [], "more": False}})
    box = page.get_by_role("textbox", name="Search the logbook")
    box.evaluate(
        """box => {
             const write = Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set;
             for (const letter of "cold store") {
               write.call(box, box.value + letter);
               box.dispatchEvent(new Event("input", { bubbles: true }));
             }
           }"""
    )
    expect(box).to_have_value("cold store")
    assert page.evaluate("new URLSearchParams(location.search).get('search')") == "cold store"
    box.fill("")
    assert page.evaluate("location.search") == ""


def test_back_asks_what_was_asked_before(show: Show) -> None:
    answer = {"power": None, "what": "it", "below": [], "hits": [], "stands": [], "sentence": "Nobody.", "people": []}
    page = show("Notice", given={"GET /api/depends/pull": answer})
    box = page.get_by_role("textbox", name=re.compile("shelf|host"))
    for name in ("Loft", "Cellar"):
        box.fill(name)
        with page.expect_request(re.compile(f"pull.*name={name}")):
            page.get_by_role("button", name="Work it out").click()
    page.get_by_role("combobox", name="What").click()
    page.get_by_role("option", name="host").click()
    expect(page.get_by_text("Choose a drive, a shelf")).to_be_visible()
    expect(box).to_have_value("")
    page.go_back()
    expect(box).to_have_value("Cellar")
    expect(page.get_by_text("Nobody.")).to_be_visible()
    page.go_back()
    expect(box).to_have_value("Loft")
    assert page.evaluate("new URLSearchParams(location.search).get('kind')") is None
    # Whoever has left the page is not called back to it.
    expect(page.get_by_text("Nobody.")).to_be_visible()
    box.fill("Cellar")
    at_once(page, "The way back", "Work it out")
    expect(page.get_by_label("address")).to_have_text("/access/people")
    assert page.evaluate("location.search") == ""


# -- layouts -----------------------------------------------------------------------------------------------------


def layout(key: str, known: Any, **figures: float | None) -> dict[str, Any]:
    values = {f["id"]: 1.0 for f in known["figures"]} | figures
    return {
        "key": key, "scheme": key, "trade_name": "", "description": "1 set of 4", "arranged": "", "part": "", "pareto": True,
        "figures": values, "space": {"usable": values["usable"]}, "rebuild_hours": values["rebuild_hours"],
        "survives": {"guaranteed": 1, "best_case": 1, "curve": [1.0, 1.0, 0.0]}, "sets": [["1"]], "spares": [], "withstands": [],
        "cost": {"currency": "EUR"},
    }  # fmt: skip


def listed(page: Page) -> list[str]:
    return [row.get_attribute("data-key") or "" for row in page.locator("tr[data-key]").all()]


def table(known: Any, *layouts: dict[str, Any], **more: Any) -> dict[str, Any]:
    found = {"layouts": list(layouts), "recommended": layouts[0]["key"]}
    return {"found": found, "body": {"shorthand": "4x4TB"}, "pins": []} | more


def test_layouts_are_sorted_the_better_way_first_then_the_other_then_as_suggested(show: Show, known: Any) -> None:
    rows = [layout("b", known, usable=2e12, rebuild_hours=5.0), layout("c", known, usable=3e12, rebuild_hours=None),
            layout("a", known, usable=1e12, rebuild_hours=9.0)]  # fmt: skip
    page = show("LayoutTable", table(known, *rows))
    expect(page.get_by_role("button", name="Sort by usable")).to_be_visible()
    assert listed(page) == ["b", "c", "a"]
    orders = []
    for head in ("usable", "rebuild"):
        for _ in range(3):
            page.get_by_role("button", name=f"Sort by {head}").click()
            orders.append("".join(listed(page)))
    # More capacity is better, a shorter rebuild is; what has no figure is last either way.
    assert orders == ["cba", "abc", "bca", "bac", "abc", "bca"]
    page.get_by_role("button", name="Sort by rebuild").click()
    heads = page.locator("th[aria-sort]")
    expect(heads).to_have_count(1)
    expect(heads).to_have_attribute("aria-sort", "ascending")


def test_only_what_some_layout_has_is_a_column(show: Show, known: Any) -> None:
    page = show("LayoutTable", table(known, layout("a", known, cost_per_usable_tb=None)))
    expect(page.get_by_role("button", name="Sort by usable")).to_be_visible()
    expect(page.get_by_role("button", name="Sort by per TB")).to_have_count(0)
    page = show("LayoutTable", table(known, layout("a", known, cost_per_usable_tb=31.5)))
    expect(page.get_by_role("button", name="Sort by per TB")).to_be_visible()
    expect(page.get_by_text("31.50")).to_be_visible()


def test_many_layouts_begin_with_the_first_and_what_is_pinned(show: Show, known: Any) -> None:
    rows = [layout(f"k{i:02}", known) for i in range(20)]
    page = show("LayoutTable", table(known, *rows, pick="k19", pins=["k15"]))
    expect(page.locator("tr[data-key]")).to_have_count(14)
    assert listed(page)[-2:] == ["k15", "k19"]
    page.get_by_role("button", name="Show all 20 layouts").click()
    expect(page.locator("tr[data-key]")).to_have_count(20)


def test_a_fifth_is_not_pinned(show: Show, known: Any) -> None:
    rows = [layout(f"k{i}", known) for i in range(6)]
    page = show("LayoutTable", table(known, *rows, pins=["k0", "k1", "k2", "k3"]))
    boxes = page.get_by_role("checkbox")
    expect(boxes.nth(4)).to_be_disabled()
    boxes.nth(0).click()
    assert said(page) == [["onPin", "k0"]]


def test_side_by_side_the_better_one_is_strong(show: Show, known: Any) -> None:
    two = [layout("a", known, usable=2e12, rebuild_hours=9.0, watts=30), layout("b", known, usable=1e12, rebuild_hours=5.0, watts=30)]  # fmt: skip
    page = show("Pinned", {"layouts": two, "body": {}, "beside": ""})
    expect(page.get_by_role("cell", name="Power")).to_be_visible()

    def strong(label: str) -> list[bool]:
        cells = page.locator("tr", has=page.get_by_role("cell", name=label, exact=True)).locator("td.num").all()
        return [cell.evaluate("c => getComputedStyle(c).fontWeight") == "680" for cell in cells]

    assert strong("Usable capacity") == [True, False]
    assert strong("Rebuild of one drive") == [False, True]
    assert strong("Power") == [False, False]
    expect(page.locator("tr.faint", has=page.get_by_role("cell", name="Power", exact=True))).to_have_count(1)


def test_long_times_are_said_in_years_without_an_exponent(show: Show, known: Any) -> None:
    two = [layout("a", known, mttdl_hours=8766 * 1.234e8), layout("b", known, mttdl_hours=8766 * 4.56e6),
           layout("c", known, mttdl_hours=8766 * 201_992.0), layout("d", known, mttdl_hours=30.0)]  # fmt: skip
    page = show("Pinned", {"layouts": two, "body": {}, "beside": ""})
    row = page.locator("tr", has=page.get_by_role("cell", name="Mean time to data loss"))
    expect(row.locator("td.num")).to_have_text(["120 million years", "4.6 million years", "201\u202f992 years", "30 h"])


def test_sizes_follow_the_unit_that_was_chosen(show: Show, known: Any) -> None:
    page = show("LayoutTable", table(known, layout("a", known, usable=4e12)))
    expect(page.get_by_text("4.00 TB")).to_be_visible()
    page.evaluate("localStorage.setItem('pairshelf.units', 'binary')")
    page = show("LayoutTable", table(known, layout("a", known, usable=4 * 2.0**40)))
    expect(page.get_by_text("4.00 TiB")).to_be_visible()
