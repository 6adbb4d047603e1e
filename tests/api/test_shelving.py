"""Bays, and drives that come and go: written down, put right, pulled, put in elsewhere, gone for good."""

from __future__ import annotations

import json
from typing import Any

import pytest
from sqlmodel import select

from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.inventory import DriveRecord
from pairshelf.engine.io.volume_io import files_on
from pairshelf.engine.observe import observe
from pairshelf.engine.pools import devices, open_pool
from pairshelf.store.database import transaction
from pairshelf.store.tables import DriveRow, Shelf, Site
from tests import console
from tests.api.conftest import PASSWORD, Person, do
from tests.engine.helpers import carry_all, check, pool_state


def drive(who: Person, serial: str) -> Any:
    with transaction() as session:
        number = session.exec(select(DriveRow.id).where(DriveRow.serial == serial)).one()
    return who.get(f"/api/drives/{number}").get_json()["drive"]


def shelf_id(name: str) -> int:
    with transaction() as session:
        return session.exec(select(Shelf.id).where(Shelf.name == name)).one() or 0


def happens(who: Person, what: str, serial: str) -> Any:
    answer = who.post(f"/api/stand-in/drives/{drive(who, serial)['id']}", {"what": what})
    observe(devices())
    return answer


def put_in(who: Person, bay: int, serial: str | None = None, shelf: str = "A", size: str = "200 GiB") -> Any:
    body = {"shelf_id": shelf_id(shelf), "bay": bay, "size": size} | ({"serial": serial} if serial else {})
    answer = who.post("/api/stand-in/drives", body)
    observe(devices())
    return answer


def filled(who: Person) -> None:
    """Some files on the office's volume; the shelf has no more bays than drives."""
    volumes = who.get("/api/volumes").get_json()["volumes"]
    number = next(v["id"] for v in volumes if v["ref"] == "cold/office")
    assert who.post(f"/api/volumes/{number}/fill", {"share": 0.2}).status_code == 200
    carry_all()
    with transaction() as session:
        session.exec(select(Shelf).where(Shelf.name == "A")).one().bays = 5


def test_a_failed_drive_is_replaced_in_its_own_bay_of_a_full_shelf(lab: Person) -> None:
    filled(lab)
    happens(lab, "fail", "A2")
    assert put_in(lab, 2).get_json()["code"] == "bay-taken"
    assert happens(lab, "pull", "A2").status_code == 200
    out = drive(lab, "A2")
    assert (out["shelf"], out["left"], out["condition"], out["pool"]) == (None, "A bay 2", "missing", "cold")
    assert [d["serial"] for d in lab.get("/api/drives/out").get_json()["drives"]] == ["A2"]
    assert lab.get("/api/shelves").get_json()["out"] == 1
    assert pool_state(1)[0] == "degraded", "one that had failed is not waited for"
    fresh = put_in(lab, 2).get_json()["serial"]
    # What appears in the bay is offered first, and is taken in on the way.
    first = lab.get("/api/pools/1/replacements?slot=1").get_json()["candidates"][0]
    assert (first["serial"], first["new"], first["reason"], first["place"]) == (fresh, True, None, "A bay 2")
    assert lab.post("/api/drives/take-in", {"ids": [first["drive_id"]]}).status_code == 200
    do(lab, "replace-drive", pool_id=1, slot=1, drive_id=first["drive_id"])
    carry_all()
    assert pool_state(1)[0] == "healthy" and check(1).report["mismatches"] == 0
    # Put back elsewhere, the old one has failed still, and belongs to nothing.
    refused = put_in(lab, 2, "A2").get_json()
    assert (refused["code"], refused["field"]) == ("bay-taken", "bay")
    assert lab.post("/api/drives/retire", {"ids": [out["id"]], "to": "returned under warranty"}).status_code == 200
    assert lab.get("/api/drives/out").get_json()["drives"] == []
    gone = lab.get("/api/drives/retired").get_json()["drives"]
    assert [(d["serial"], d["retired_to"], d["pool"]) for d in gone] == [("A2", "returned under warranty", None)]
    assert "it still holds old data of pool cold" in lab.get("/api/logbook").get_json()["entries"][0]["sentence"]


def test_a_pulled_drive_is_where_it_is_put_in(lab: Person) -> None:
    filled(lab)
    happens(lab, "pull", "A1")
    assert pool_state(1)[0] == "degraded" and drive(lab, "A1")["bay"] is None
    taken = put_in(lab, 3, "A1").get_json()
    assert taken["code"] == "bay-taken"
    assert lab.post("/api/stand-in/drives", {"shelf_id": shelf_id("A"), "bay": 9, "serial": "A3"}).get_json()[
        "code"
    ] in ("bad-input", "serial-taken")
    with transaction() as session:
        session.exec(select(Shelf).where(Shelf.name == "A")).one().bays = 9
    again = put_in(lab, 9, "A3").get_json()
    assert (again["code"], "A bay 3" in again["title"]) == ("serial-taken", True)
    # Whatever is typed beside the serial, it is the drive it was.
    assert put_in(lab, 9, "A1", size="8 TB").status_code == 200
    back = drive(lab, "A1")
    assert (back["bay"], back["left"], back["size"], back["condition"]) == (9, None, 200 * 2**30, "good")
    assert pool_state(1)[0] == "healthy" and check(1).report["mismatches"] == 0
    moved = [e["sentence"] for e in lab.get("/api/logbook").get_json()["entries"]]
    assert "Drive A1 is now in A bay 9." in moved


def test_a_drive_goes_back_into_its_bay_unless_another_is_there(lab: Person) -> None:
    happens(lab, "pull", "A1")
    assert happens(lab, "put-back", "A1").status_code == 200
    assert (drive(lab, "A1")["bay"], pool_state(1)[0]) == (1, "healthy")
    happens(lab, "pull", "A1")
    put_in(lab, 1)
    refused = happens(lab, "put-back", "A1").get_json()
    assert (refused["code"], drive(lab, "A1")["condition"]) == ("bay-taken", "missing")
    # Found out by the devices alone: it answers, and is on no shelf.
    devices().put_back("A1")
    observe(devices())
    assert (drive(lab, "A1")["shelf"], drive(lab, "A1")["condition"]) == (None, "good")


def test_a_shelf_and_its_drives_are_written_down_at_once(lab: Person) -> None:
    made = lab.post("/api/shelves", {"name": "Tower", "bays": 6, "host": "oak", "drives": "2x4TB hdd\nKL-7 8TB ssd"})
    found = made.get_json()
    rows = [lab.get(f"/api/drives/{i}").get_json()["drive"] for i in found["drive_ids"]]
    assert [(r["bay"], r["size"], r["kind"], r["service"], r["host"]) for r in rows] == [
        (1, 4 * 10**12, "hdd", "free", "oak"), (2, 4 * 10**12, "hdd", "free", "oak"), (3, 8 * 10**12, "ssd", "free", "oak"),
    ]  # fmt: skip
    assert rows[2]["serial"] == "KL-7" and rows[0]["serial"] != rows[1]["serial"]
    more = lab.post(f"/api/shelves/{found['shelf_id']}/drives", {"drives": "3x4TB"}).get_json()
    assert len(more["drive_ids"]) == 3
    for body, field in (
        ({"drives": "1x4TB"}, "drives"),
        ({"drives": "KL-7 4TB"}, "drives"),
        ({"drives": ""}, "drives"),
    ):
        assert lab.post(f"/api/shelves/{found['shelf_id']}/drives", body).get_json()["field"] == field
    for body, field in (
        ({"name": "Tower", "bays": 4}, "name"), ({"name": " ", "bays": 4}, "name"), ({"name": "T", "bays": 0}, "bays"),
        ({"name": "T", "bays": 2, "drives": "3x4TB"}, "drives"), ({"name": "T", "bays": 2, "drives": "2x4TB tape"}, "drives"),
    ):  # fmt: skip
        assert lab.post("/api/shelves", body).get_json()["field"] == field
    assert "T" not in [s["name"] for s in lab.get("/api/shelves").get_json()["shelves"]], "nothing half done"


def test_no_second_main_site_is_made_in_a_house_that_has_one(lab: Person) -> None:
    def sites() -> set[str]:
        return {s["site"] for s in lab.get("/api/shelves").get_json()["shelves"]}

    with transaction() as session:
        session.exec(select(Site)).one().name = only = "Fernhollow"
    assert lab.post("/api/shelves", {"name": "One", "bays": 2}).status_code == 200
    assert lab.post("/api/shelves", {"name": "Two", "bays": 2, "site": only.upper()}).status_code == 200
    assert lab.post("/api/hosts", {"name": "yew"}).status_code == 200
    assert sites() == {only}
    assert lab.post("/api/shelves", {"name": "Far", "bays": 2, "site": "Barn", "host": "rowan"}).status_code == 200
    # Now there are two to choose from; a host says which.
    assert lab.post("/api/shelves", {"name": "Three", "bays": 2}).get_json()["field"] == "site"
    assert lab.post("/api/shelves", {"name": "Three", "bays": 2, "host": "rowan"}).status_code == 200
    assert next(s["site"] for s in lab.get("/api/shelves").get_json()["shelves"] if s["name"] == "Three") == "Barn"
    assert lab.post("/api/hosts", {"name": "yew"}).get_json()["code"] == "name-taken"


def test_a_shelf_is_changed_and_its_drives_and_pools_follow(lab: Person) -> None:
    number, (site,) = shelf_id("A"), {s["site"] for s in lab.get("/api/shelves").get_json()["shelves"]}
    path = f"/api/shelves/{number}"
    as_is = next(s for s in lab.get("/api/shelves").get_json()["shelves"] if s["id"] == number)
    said = {"name": "A", "bays": as_is["bays"], "site": site, "host": as_is["host"] or ""}
    changed = {**said, "name": "Attic", "bays": as_is["bays"] + 2, "host": "yew"}
    assert lab.post(path, changed, method="PUT").status_code == 200
    assert (drive(lab, "A1")["shelf"], drive(lab, "A1")["host"]) == ("Attic", "yew")
    places = [p["place"] for p in lab.get("/api/pools/1").get_json()["places"]]
    assert places and all(p.startswith("Attic bay") for p in places)
    with transaction() as session:
        assert {p.host for p in open_pool(session, 1).members} == {"yew"}
    for other, field in (
        ({**changed}, "name"), ({**changed, "name": " "}, "name"), ({**changed, "bays": 1}, "bays"), ({**changed, "bays": 0}, "bays"),
    ):  # fmt: skip
        assert lab.post(path, other, method="PUT").get_json()["field"] == field
    lab.post("/api/shelves", {"name": "Other", "bays": 2, "site": site})
    assert lab.post(path, {**changed, "name": "Other"}, method="PUT").get_json()["code"] == "name-taken"
    assert lab.post(path, {**changed, "site": "Barn"}, method="PUT").get_json()["field"] == "site"
    assert lab.post("/api/shelves/999", changed, method="PUT").status_code == 404
    # What a worker finds is found where it is now.
    happens(lab, "pull", "A1")
    assert happens(lab, "put-back", "A1").status_code == 200
    assert drive(lab, "A1")["shelf"] == "Attic" and pool_state(1)[0] == "healthy"


def test_two_drives_put_into_one_bay_at_once_are_both_there(lab: Person) -> None:
    lab.post("/api/shelves", {"name": "Tower", "bays": 2})
    body = {"shelf_id": shelf_id("Tower"), "bay": 1, "size": "200 GiB"}
    # Nobody has looked at the first one yet.
    assert lab.post("/api/stand-in/drives", {**body, "serial": "P"}).status_code == 200
    assert lab.post("/api/stand-in/drives", {**body, "serial": "Q"}).get_json()["code"] == "bay-taken"
    assert lab.post("/api/stand-in/drives", {**body, "bay": 2, "serial": "P"}).get_json()["code"] == "serial-taken"
    # By hand, past all that: one of them lies beside the shelves, and is put in elsewhere.
    devices().put_in(
        DriveRecord(
            "Tower", 1, "R", 200 * 2**30, Kind.HDD, site=lab.get("/api/shelves").get_json()["shelves"][0]["site"]
        )
    )
    observe(devices())
    assert drive(lab, "P")["bay"] == 1
    assert [d["serial"] for d in lab.get("/api/stand-in/beside").get_json()["drives"]] == ["R"]
    assert lab.post("/api/stand-in/beside", {"shelf_id": shelf_id("Tower"), "serials": ["R"]}).status_code == 200
    observe(devices())
    assert drive(lab, "R")["bay"] == 2


def test_what_is_empty_leaves_and_what_is_not_stays(lab: Person) -> None:
    shelf = lab.post(
        "/api/shelves", {"name": "Tower", "bays": 2, "host": "oak", "site": "Barn", "drives": "KL-1 4TB"}
    ).get_json()
    path = f"/api/shelves/{shelf['shelf_id']}"
    assert "KL-1 is in it" in lab.post(path, method="DELETE").get_json()["title"]
    assert lab.post("/api/hosts/remove", {"name": "oak"}).get_json()["title"] == "oak still has shelf Tower."
    assert lab.post("/api/drives/retire", {"ids": shelf["drive_ids"], "to": "sold"}).status_code == 200
    assert lab.post(path, method="DELETE").status_code == 200
    assert lab.post("/api/sites/remove", {"name": "Barn"}).get_json()["title"] == "Barn still has host oak."
    assert lab.post("/api/hosts/remove", {"name": "oak"}).status_code == 200
    assert lab.post("/api/sites/remove", {"name": "Barn"}).status_code == 200
    assert "mount" in lab.post("/api/hosts/remove", {"name": "elm"}).get_json()["title"]
    for route in ("/api/hosts/remove", "/api/sites/remove"):
        assert lab.post(route, {"name": "nowhere"}).status_code == 404
    assert lab.post("/api/hosts", {"name": "yew"}).status_code == 200
    assert "yew" in lab.get("/api/hosts").get_json()["hosts"]


def test_drives_leave_together_or_not_at_all(lab: Person) -> None:
    shelf = lab.post("/api/shelves", {"name": "Tower", "bays": 4, "drives": "2x4TB"}).get_json()
    one, two = shelf["drive_ids"]
    member = drive(lab, "A1")["id"]
    for ids, code in (([one, member], "drive-stays"), ([one, 9999], "drive-gone")):
        assert lab.post("/api/drives/retire", {"ids": ids, "to": "sold"}).get_json()["code"] == code
    assert lab.post("/api/drives/retire", {"ids": [one], "to": " "}).get_json()["field"] == "to"
    assert lab.get(f"/api/drives/{one}").get_json()["drive"]["service"] == "free"
    assert lab.post("/api/drives/retire", {"ids": [one, two], "to": "sold"}).get_json() == {"count": 2}
    assert lab.post("/api/drives/retire", {"ids": [one], "to": "sold"}).get_json()["code"] == "drive-stays"
    assert lab.get("/api/drives/matching?filter=4TB").get_json()["ids"] == []


def test_a_fact_is_put_right_and_what_stood_there_is_kept(lab: Person, person: Any) -> None:
    number = drive(lab, "A1")["id"]
    path = f"/api/drives/{number}"
    assert lab.post(path, {"facts": {"price": "99 EUR", "use": "scans"}}, method="PATCH").status_code == 200
    facts = {f["label"]: f["text"] for f in lab.get(path).get_json()["facts"]}
    assert (facts["Price"], facts["Intended use"]) == ("99.00 EUR", "scans")
    entry = lab.get("/api/logbook").get_json()["entries"][0]
    assert entry["sentence"] == "Facts of drive A1 put right: price, currency, use."
    for said, field in (({"size": "8 TB"}, "size"), ({"use": "scans"}, "use"), ({"serial": "X"}, "serial")):
        assert lab.post(path, {"facts": said}, method="PATCH").get_json()["field"] == field
    assert person("wren").post(path, {"facts": {"use": "x"}}, method="PATCH").status_code == 403


def test_a_list_puts_facts_right_and_moves_what_has_moved(lab: Person) -> None:
    # Two free drives have changed places, one is new, A1 to A5 are on no list: they stay.
    lab.post("/api/shelves", {"name": "Tower", "bays": 4, "drives": "K1 4TB, K2 4TB"})
    raw = b"shelf,bay,serial,size,kind,use\nTower,2,K1,4 TB,hdd,scans\nTower,1,K2,4 TB,hdd,\nTower,3,K3,4 TB,hdd,\n"
    shown = lab.send("/api/inventory/preview", raw).get_json()
    assert (shown["new"], shown["same"], shown["gone"]) == (1, 0, [])
    assert [[f["fact"] for f in c["facts"]] for c in shown["changed"]] == [["bay", "use"], ["bay"]]
    assert drive(lab, "K1")["bay"] == 1
    assert lab.send("/api/inventory", raw).get_json()["stored"]
    assert [(drive(lab, s)["bay"], drive(lab, s)["service"]) for s in ("K1", "K2", "K3")] == [
        (2, "free"),
        (1, "free"),
        (3, "new"),
    ]
    clash = lab.send("/api/inventory", b"shelf,bay,serial,size,kind\nTower,1,K9,4 TB,hdd\nA,1,A1,8 TB,hdd\n").get_json()
    assert not clash["stored"] and [(e["row"], e["column"]) for e in clash["errors"]] == [(2, "bay"), (3, "size")]


def test_the_same_from_the_console(lab: Person, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("PAIRSHELF_PASSWORD", PASSWORD)
    monkeypatch.setenv("PAIRSHELF_USER", "osric")
    status, out, said = console.run(
        ["add-shelf", "Tower", "--bays", "4", "--drives", "KL-1 4TB, 2x8TB ssd", "--host", "oak", "--json"]
    )
    assert status == 0, said
    assert json.loads(out)["serials"][0] == "KL-1" and len(json.loads(out)["serials"]) == 3
    assert console.run(["correct", "KL-1", "use=archive", "price=99 EUR"])[0] == 0
    assert console.run(["correct", "KL-1", "use"])[0] == 2
    assert console.run(["retire", "KL-1", "nobody", "--to", "sold"])[0] == 2
    assert drive(lab, "KL-1")["service"] == "free"
    assert console.run(["retire", "KL-1", "--to", "sold"])[1] == "1 drive has left the house: sold.\n"
    assert drive(lab, "KL-1")["retired_to"] == "sold"
    monkeypatch.setenv("PAIRSHELF_USER", "wren")
    assert console.run(["add-shelf", "Shed"])[0] == 2


def test_why_a_drive_stays_is_told_with_it(lab: Person) -> None:
    assert drive(lab, "A1")["stays"] == "It belongs to pool cold; replace it there first."
    made = lab.post("/api/shelves", {"name": "Tower", "bays": 1, "drives": "KL-1 4TB"}).get_json()
    assert lab.get(f"/api/drives/{made['drive_ids'][0]}").get_json()["drive"]["stays"] is None


def test_only_who_may_approve_has_it_tried(lab: Person, person: Any) -> None:
    sheet = lab.post("/api/sheets/rename-volume", {"volume": "cold/office", "name": "desk"}).get_json()["id"]
    assert lab.get(f"/api/sheets/{sheet}/in-the-way").get_json() == {"sentence": None}
    assert person("wren").get(f"/api/sheets/{sheet}/in-the-way").status_code == 403
    assert lab.get("/api/sheets/9999/in-the-way").status_code == 404


def test_all_drives_of_a_pool_in_another_shelf_with_bays_shuffled_and_one_forgotten(lab: Person) -> None:
    """Too few: it waits. All but one: it serves, degraded. The one that was forgotten comes with only what changed."""
    filled(lab)
    with transaction() as session:
        members = [session.get_one(DriveRow, p.drive_id).serial for p in open_pool(session, 1).members]
    for serial in members:
        happens(lab, "pull", serial)
    assert pool_state(1)[0] == "unreachable"
    assert lab.post("/api/shelves", {"name": "Tower", "bays": 12, "host": "oak", "drives": ""}).status_code in (
        200,
        201,
    )
    *here, forgotten = members[::-1]
    bays = {serial: 12 - 2 * n for n, serial in enumerate(here)}
    for count, (serial, bay) in enumerate(bays.items(), start=1):
        assert put_in(lab, bay, serial, shelf="Tower").status_code == 200
        assert pool_state(1)[0] == (
            "unreachable" if len(members) - count > 2 else "unprotected" if len(members) - count == 2 else "degraded"
        )
    assert check_files(lab)
    volumes = lab.get("/api/volumes").get_json()["volumes"]
    number = next(v["id"] for v in volumes if v["ref"] == "cold/office")
    assert lab.post(f"/api/volumes/{number}/fill", {"share": 0.4}).status_code == 200
    carry_all()
    place = next(p for p in lab.get("/api/pools/1").get_json()["places"] if p["serial"] == forgotten)
    assert place["state"] == "missing" and 0 < place["missed"] <= 200 * 2**30
    assert put_in(lab, 1, forgotten, shelf="Tower").status_code == 200
    carry_all()
    assert pool_state(1)[0] == "healthy" and check(1).report["mismatches"] == 0 and check_files(lab)
    for serial, bay in {**bays, forgotten: 1}.items():
        found = drive(lab, serial)
        assert (found["shelf"], found["bay"], found["pool"]) == ("Tower", bay, "cold")
    # What would happen is worked out by where they stand now.
    power = lab.get("/api/depends/pull?kind=shelf&name=Tower").get_json()["power"]
    assert power["safe"] == "no" and "lose cold/" in power["sentence"]
    nothing = lab.get("/api/depends/pull?kind=shelf&name=A").get_json()["hits"]
    assert nothing == []


def check_files(who: Person) -> bool:
    """Every file of the office's volume reads back."""
    volumes = who.get("/api/volumes").get_json()["volumes"]
    number = next(v["id"] for v in volumes if v["ref"] == "cold/office")
    assert who.post(f"/api/volumes/{number}/read-files").status_code == 200
    carry_all()
    with transaction() as session:
        files = files_on(session, number)
        return bool(files) and all(f.intact for f in files)
