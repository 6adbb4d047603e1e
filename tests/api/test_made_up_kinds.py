"""A new kind is one module and one line: API, engine and console take it up by themselves."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
import typer
from sqlmodel import select

from pairshelf.api.app import served
from pairshelf.cli import planning
from pairshelf.core.changes.kinds import KINDS
from pairshelf.store.database import transaction
from pairshelf.store.tables import DriveRow, VolumeRow
from tests import console
from tests.api.conftest import PASSWORD, Person, do
from tests.engine.helpers import build, carry_all, check, files_intact, fill, happens, pool_state, shelf
from tests.made_up import at_home


@pytest.fixture
def ida(lab: Person, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Person:
    """At the lab, in an application made after the new kinds had come."""
    at_home(tmp_path, monkeypatch)
    who = Person(served().test_client())
    assert who.sign_in("ida").status_code == 200
    return who


def test_a_kind_of_change_and_its_job_through_the_api(ida: Person) -> None:
    kinds = ida.get("/api/kinds").get_json()
    (kind,) = [k for k in kinds["changes"] if k["id"] == "describe-volume"]
    assert (kind["name"], kind["act"]) == ("describe volume", "manage-volumes")
    assert [(f["name"], f["kind"], f["required"]) for f in kind["fields"]] == [
        ("volume", "text", True), ("words", "text", True), ("twice", "check", False),
    ]  # fmt: skip
    assert {"id": "count-files", "name": "Counting files", "notices": "Nobody notices."} in kinds["jobs"]
    path = "/api/sheets/describe-volume"
    assert path in ida.get("/api/openapi.json").get_json()["paths"]
    refused = ida.post(path, {"volume": "cold/office", "words": " "})
    assert (refused.status_code, refused.get_json()["field"]) == (400, "words")
    assert ida.post(path, {"volume": "cold/nothing", "words": "x"}).get_json()["facts"]["kind"] == "volume"
    done = do(ida, "describe-volume", volume="cold/office", words="maps", twice=True)
    carry_all()
    sheet = ida.get(f"/api/sheets/{done['id']}").get_json()
    assert (sheet["jobs"][0]["name"], sheet["jobs"][0]["outcome"]) == ("Counting files", "0 files counted in cold.")
    assert ida.get("/api/logbook").get_json()["entries"][0]["sentence"] == "0 files counted in cold."
    volumes = ida.get("/api/volumes").get_json()["volumes"]
    assert [v["purpose"] for v in volumes if v["ref"] == "cold/office"] == ["maps maps"]


def test_who_may_not_is_told(ida: Person, person: Any) -> None:
    wren = Person(served().test_client())
    wren.sign_in("wren")
    assert wren.post("/api/sheets/describe-volume", {"volume": "cold/office", "words": "x"}).status_code == 403


def test_from_the_console(ida: Person, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(planning.plan_app, "registered_commands", list(planning.plan_app.registered_commands))
    planning.add_command(KINDS["describe-volume"])
    monkeypatch.setattr(console, "_COMMAND", typer.main.get_command(planning.app))
    monkeypatch.setenv("PAIRSHELF_PASSWORD", PASSWORD)
    monkeypatch.setenv("PAIRSHELF_USER", "ida")
    words = ["plan", "describe-volume", "--volume", "cold/office", "--words", "maps", "--json"]
    status, out, said = console.run(words)
    assert status == 0, said
    assert console.run(["approve", str(json.loads(out)["id"])])[0] == 0
    carry_all()
    with transaction() as session:
        assert "maps" in [v.purpose for v in session.exec(select(VolumeRow))]
    assert "Counting files" in console.run(["jobs", "--ended"])[1]


def test_a_scheme_is_compared_built_and_keeps_its_promise(ida: Person) -> None:
    asked = {"shorthand": "8x4TB", "survive": 3}
    found = [x for x in ida.post("/api/compare", asked).get_json()["layouts"] if x["scheme"] == "copies-4"]
    assert found and all(x["survives"]["guaranteed"] == 3 for x in found)
    status, out, said = console.run(["layout", "8x4TB", "--scheme", "copies-4", "--sets", "2", "--json"])
    assert status == 0, said
    assert json.loads(out)["survives"]["guaranteed"] == 3
    pool = build(shelf(4, name="Q", size=40 * 2**30), "copies-4", name="four")
    carry_all()
    fill(pool)
    carry_all()
    for serial in ("Q1", "Q2", "Q3"):
        happens("fail", serial)
    assert pool_state(pool)[0] == "unprotected" and files_intact(pool)


def test_a_file_system_is_offered_and_used(ida: Person) -> None:
    listed = ida.get("/api/access/hosts").status_code
    assert listed == 200
    pool = build(shelf(4, name="R", size=40 * 2**30), "parity-1", name="p2")
    do(ida, "delete-volume", volume="p2/v")
    do(ida, "make-volumes", pool="p2", name="w", size="100 GiB", file_system="plain")
    carry_all()
    with transaction() as session:
        (volume,) = (v for v in session.exec(select(VolumeRow)) if v.name == "w")
        assert (volume.file_system, volume.overhead) == ("plain", 2**30)
    assert check(pool).report["mismatches"] == 0
    report = console.run(["layout", "4x4TB", "--scheme", "parity-1", "--file-system", "plain", "--json"])
    doors = {d["change"]: d for d in json.loads(report[1])["doors"]}
    assert doors["shrink-volume"]["why"] == "plain shrinks when nobody looks."


def test_a_format_has_its_route(ida: Person) -> None:
    described = ida.get("/api/openapi.json").get_json()["paths"]["/api/compare/export/txt"]["post"]
    assert list(described["responses"]["200"]["content"]) == ["text/plain"]
    answer = ida.post("/api/compare/export/txt", {"shorthand": "4x4TB"})
    assert answer.mimetype == "text/plain" and "parity-1" in answer.get_data(as_text=True).split("\n")
    assert "comparison.txt" in answer.headers["Content-Disposition"]


def test_a_figure_is_listed_explained_and_exported(ida: Person) -> None:
    kinds = ida.get("/api/kinds").get_json()
    (told,) = [f for f in kinds["figures"] if f["id"] == "bytes_per_watt"]
    assert told["unit"] == "bytes" and told["more_is_better"] and told["listed"] and told["explained"]
    asked = {"shorthand": "4x4TB"}
    found = ida.post("/api/compare", asked).get_json()["layouts"]
    assert all(
        x["figures"]["bytes_per_watt"] == pytest.approx(x["space"]["usable"] / x["cost"]["watts"]) for x in found
    )
    cut = ida.post("/api/compare/cut", asked | {"scheme": "parity-1", "sets": 1}).get_json()
    assert [e["formula"] for e in cut["explanations"] if e["figure"] == "bytes_per_watt"] == ["usable / watts"]
    heads, *_ = ida.post("/api/compare/export/csv", asked).get_data(as_text=True).split("\n")
    assert "bytes_per_watt_bytes" in heads
    assert "a watt" in console.run(["layouts", "4x4TB"])[1]
    assert "Capacity for each watt" in console.run(["layout", "4x4TB", "--scheme", "parity-1", "--explain"])[1]


def test_a_caution_is_listed_and_said_wherever_layouts_are(ida: Person) -> None:
    assert ida.get("/api/schemes").get_json()["cautions"]["few-drives"] == "few drives"
    few = {"shorthand": "5x4TB"}
    for layout in ida.post("/api/compare", few).get_json()["layouts"]:
        members = sum(len(one) for one in layout["sets"])
        said = [c["sentence"] for c in layout["cautions"] if c["code"] == "few-drives"]
        assert said == ([f"Only {members} drives."] if members < 4 else [])
    assert "Only 3 drives." in ida.post("/api/compare/export/csv", few).get_data(as_text=True)
    assert "! Only 3 drives." in console.run(["layout", "3x4TB", "--scheme", "parity-1"])[1]


def test_a_way_to_fail_is_offered_done_and_found_out(ida: Person) -> None:
    (told,) = [f for f in ida.get("/api/kinds").get_json()["faults"] if f["id"] == "blank-an-extent"]
    assert told["not_when"] == {"missing": "It is away."}
    pool = build(shelf(4, name="Q", size=40 * 2**30), "parity-1", name="four")
    carry_all()
    with transaction() as session:
        drive = session.exec(select(DriveRow).where(DriveRow.serial == "Q1")).one()
    fill(pool)
    carry_all()
    path = f"/api/stand-in/drives/{drive.id}"
    assert ida.post(path, {"what": "blank-an-extent"}).status_code == 200
    assert f"{drive.serial}: made to forget 3 things" in ida.get("/api/logbook").get_json()["entries"][0]["sentence"]
    assert check(pool).report["mismatches"] == 1
    happens("pull", drive.serial)
    refused = ida.post(path, {"what": "blank-an-extent"})
    assert (refused.status_code, refused.get_json()["title"]) == (409, "It is away.")
    refused = ida.post(path, {"what": "sing"})
    assert (refused.status_code, refused.get_json()["field"]) == (400, "what")


def test_a_list_is_read_wherever_lists_are(ida: Person, tmp_path: Path) -> None:
    rows = [["id", "serial", "size", "kind", "shelf", "bay"], ["Z1", "Z1", "4 TB", "hdd", "Q", "1"],
            ["Z2", "Z2", "4 TB", "hdd", "Q", "2"]]  # fmt: skip
    answer = ida.send("/api/inventory", json.dumps(rows).encode())
    assert answer.status_code == 200, answer.get_json()
    with transaction() as session:
        assert session.exec(select(DriveRow).where(DriveRow.serial == "Z2")).one().size == 4 * 10**12
    listed = tmp_path / "drives.json"
    listed.write_text(json.dumps(rows))
    status, out, said = console.run(["layout", str(listed), "--scheme", "copies-2", "--json"])
    assert status == 0, said
    assert json.loads(out)["scheme"] == "copies-2"
    prices = [["model", "size", "kind", "price"], ["Keel", "4 TB", "hdd", "100"]]
    bought = ida.send("/api/prices", json.dumps(prices).encode())
    assert bought.status_code == 200, bought.get_json()
    offered = ida.get("/api/kinds").get_json()["tables"]
    assert [t["accepts"] for t in offered if t["id"] == "json"] == [[".json"]]
