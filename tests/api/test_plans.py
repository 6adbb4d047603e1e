"""Several changes as one plan: drawn up together or not at all, done together or not at all."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest
from sqlmodel import select

from pairshelf.store.database import transaction
from pairshelf.store.tables import DriveRow, PoolRow, SheetRow
from tests.api.conftest import PASSWORD, Person, do
from tests.engine.helpers import at_once, carry_all, happens, shelf


def _pool(name: str, drives: list[int], **more: Any) -> dict[str, Any]:
    return {
        "kind": "build-pool",
        "request": {"name": name, "scheme": "copies-2", "drives": drives, "volume": "v", **more},
    }


def _drawn(who: Person, *sheets: dict[str, Any], title: str = "Two pools") -> Any:
    return who.post("/api/plans", {"title": title, "sheets": list(sheets)})


def _pools() -> list[str]:
    with transaction() as session:
        return sorted(session.exec(select(PoolRow.name)))


def test_a_split_is_built_as_one_plan(person: Callable[[str], Person]) -> None:
    at_once()
    who = person("ida")
    ids = shelf(8, size=2 * 10**12)
    uses = [
        {"name": "images", "workload": "media", "need": "3 TB"},
        {"name": "notes", "workload": "database", "need": "1 TB"},
    ]
    shares = who.post("/api/compare/split", {"drive_ids": ids, "uses": uses}).get_json()["shares"]
    sheets = [
        {"kind": "build-pool", "request": {
            "name": s["name"], "scheme": s["layout"]["scheme"], "sets": len(s["layout"]["sets"]), "volume": "v",
            "drives": [int(d) for one in s["layout"]["sets"] for d in one],
        }}
        for s in shares
    ]  # fmt: skip
    plan = _drawn(who, *sheets, title="Pools for images, notes").get_json()
    assert [s["body"]["title"] for s in plan["sheets"]] == ["Build pool images", "Build pool notes"]
    first, second = (s["id"] for s in plan["sheets"])
    shown = who.get(f"/api/sheets/{first}").get_json()["plan"]
    assert (shown["number"], shown["of"], shown["next"]) == (1, 2, second)
    confirms = {str(first): "images", str(second): "notes"}
    done = who.post(f"/api/plans/{plan['id']}/approve", {"confirms": confirms, "password": PASSWORD})
    assert done.status_code == 200 and [s["state"] for s in done.get_json()["sheets"]] == ["approved"] * 2
    carry_all()
    pools = who.get("/api/pools").get_json()["pools"]
    assert {p["name"]: p["state"] for p in pools} == {"images": "healthy", "notes": "healthy"}
    usable = {s["name"]: s["layout"]["space"]["usable"] for s in shares}
    for line in pools:
        (volume,) = who.get(f"/api/pools/{line['id']}").get_json()["volumes"]
        assert volume["for_files"] == pytest.approx(usable[line["name"]], abs=2**30)


def test_what_cannot_stand_together_is_refused_at_its_field_and_nothing_is_kept(
    person: Callable[[str], Person],
) -> None:
    who = person("ida")
    ids = shelf(4)
    wrong = [
        ((_pool("one", ids[:2]), _pool("two", ids[1:3])), "sheets.1.drives"),
        ((_pool("one", ids[:2]), _pool("ONE", ids[2:])), "sheets.1.name"),
        ((_pool("one", ids[:2]), _pool("", ids[2:])), "sheets.1.name"),
        ((_pool("one", ids[:2]), _pool("two", ids[2:], volume_size="90 TB")), "sheets.1.volume_size"),
        ((_pool("one", ids[:2]), {"kind": "brew-tea", "request": {}}), "sheets.1.kind"),
        ((_pool("one", ids[:2]), {"kind": "rename-volume", "request": {"volume": "x"}}), "sheets.1.name"),
        ((_pool("one", ids[:2]), {"kind": "build-pool", "request": {"name": "b", "scheme": 7, "drives": []}}), None),
    ]  # fmt: skip
    for sheets, field in wrong:
        answer = _drawn(who, *sheets)
        assert answer.status_code == 400, answer.get_json()
        assert field is None or answer.get_json()["field"] == field, answer.get_json()
    assert _drawn(who, _pool("one", ids[:2]), title=" ").get_json()["field"] == "title"
    with transaction() as session:
        assert not session.exec(select(SheetRow)).all()
    assert _drawn(person("osric"), _pool("one", ids[:2])).status_code == 403
    assert _drawn(person("wren"), _pool("one", ids[:2])).status_code == 403


def test_all_of_a_plan_is_done_or_nothing(person: Callable[[str], Person]) -> None:
    at_once()
    who = person("ida")
    ids = shelf(4)
    plan = _drawn(who, _pool("one", ids[:2]), _pool("two", ids[2:])).get_json()
    first, second = (s["id"] for s in plan["sheets"])
    path = f"/api/plans/{plan['id']}/approve"
    right = {"confirms": {str(first): "one", str(second): "two"}, "password": PASSWORD}
    unsure = who.post(path, {**right, "confirms": {str(first): "one", str(second): "tow"}})
    assert (unsure.status_code, unsure.get_json()["field"]) == (400, f"confirms.{second}")
    assert who.post(path, {**right, "password": "wrong"}).status_code == 403
    assert person("osric").post(path, right).status_code == 403
    assert _pools() == []
    way = f"/api/plans/{plan['id']}/in-the-way"
    assert who.get(way).get_json()["sentence"] is None and person("osric").get(way).status_code == 403
    happens("fail", "A4")
    assert who.get(way).get_json()["sentence"].startswith("Build pool two: ")
    assert who.get(f"/api/sheets/{first}/in-the-way").get_json()["sentence"] is None
    gone = who.post(path, right)
    assert gone.status_code == 409 and gone.get_json()["title"].startswith("Build pool two: ")
    assert _pools() == []
    with transaction() as session:
        assert {d.service for d in session.exec(select(DriveRow))} == {"free"}
    # The one that can be is approved by itself; the rest is put away.
    alone = who.post(f"/api/sheets/{first}/approve", {"confirm": "one", "password": PASSWORD})
    assert alone.status_code == 200 and _pools() == ["one"]
    left = who.post(f"/api/plans/{plan['id']}/withdraw").get_json()
    assert [s["state"] for s in left["sheets"]] == ["approved", "withdrawn"]
    again = who.post(path, right)
    assert (again.status_code, again.get_json()["code"]) == (409, "nothing-pending")
    assert who.get("/api/plans/99").status_code == 404


def test_a_plan_of_different_kinds_shows_each_passphrase_once(person: Callable[[str], Person]) -> None:
    at_once()
    who = person("ida")
    ids = shelf(4)
    do(who, "add-party", name="ash")
    plan = _drawn(
        who, _pool("one", ids[:2], encrypted=True), _pool("two", ids[2:], encrypted=True),
        {"kind": "add-party", "request": {"name": "bay"}},
    ).get_json()  # fmt: skip
    confirms = {str(s["id"]): s["body"]["confirm"] for s in plan["sheets"] if s["body"]["confirm"]}
    done = who.post(f"/api/plans/{plan['id']}/approve", {"confirms": confirms, "password": PASSWORD}).get_json()
    said = [s["passphrase"] for s in done["sheets"]]
    assert said[0] and said[1] and said[0] != said[1] and said[2] is None
    assert not any(s["passphrase"] for s in who.get(f"/api/plans/{plan['id']}").get_json()["sheets"])
