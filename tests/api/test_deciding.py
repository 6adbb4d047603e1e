"""Deciding through the API: one layout in full, exports, saved comparisons, the price list, backups."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

import pytest

from pairshelf.store.database import transaction
from pairshelf.store.tables import Comparison
from tests.api.conftest import Person
from tests.api.test_story import statements
from tests.engine.helpers import build, shelf

PRICES = b"maker,model,size,kind,price\nMade Up,M8,8 TB,hdd,180.00 EUR\nMade Up,M4,4 TB,hdd,100.00 EUR\n"


def _what_if(**more: Any) -> dict[str, Any]:
    return {"shorthand": "6x8TB@oak,6x8TB@elm", **more}


def test_a_comparison_carries_every_figure(person: Callable[[str], Person]) -> None:
    who = person("wren")
    found = who.post("/api/compare", _what_if(afr=0.02, user_share=0.3, price=100, backup_link="1 Gbit/s")).get_json()
    first = found["layouts"][0]
    assert first["key"] == found["recommended"] and first["pareto"]
    assert {b["name"]: b["value"] for b in found["basis"]}["afr"] == 0.02
    assert len(first["survives"]["curve"]) == 13 and first["restore_hours"] > 10 and first["cost"]["total"] == 1200
    assert any(c["arranged"] == "shelf" for c in found["layouts"])
    cut = who.post(
        "/api/compare/cut", _what_if(scheme="copies-2", sets=6, arranged="shelf", failed_shelves=["oak"])
    ).get_json()
    assert cut["after"]["survives"] and cut["domains"][0]["guaranteed"] == 1
    assert {d["change"] for d in cut["doors"]} >= {"add-drive", "shrink-volume"}
    assert {e["figure"] for e in cut["explanations"]} >= {"usable", "yearly_damage", "mttdl_hours"}
    lost = who.post("/api/compare/cut", _what_if(scheme="copies-2", sets=6, failed_hosts=["oak"])).get_json()
    assert not lost["after"]["survives"]
    growth = who.post("/api/compare/growth", _what_if(scheme="parity-2", sets=1, larger="16 TB")).get_json()
    assert [p["way"] for p in growth["paths"]] == ["add-drive", "add-set", "larger-drives"]


def test_the_cut_of_every_layout_of_a_comparison_is_that_layout(person: Callable[[str], Person]) -> None:
    who = person("ida")
    shelf(4, name="A", size=8 * 10**12)
    ids = [*range(1, 5), *shelf(4, name="B", size=4 * 10**12)]
    body = {"drive_ids": ids, "spares_for": "shelf", "spares": 1}
    for question in ({"drive_ids": ids}, body):
        layouts = who.post("/api/compare", question).get_json()["layouts"]
        assert layouts
        for x in layouts:
            spares = 1 if question is body else len(x["spares"])
            asked = {
                **question,
                "scheme": x["scheme"],
                "sets": len(x["sets"]),
                "spares": spares,
                "arranged": x["arranged"],
                "workload": "general",
            }
            again = who.post("/api/compare/cut", asked).get_json()["layout"]
            for figure in ("sets", "spares", "yearly_damage", "rebuild_hours", "load", "figures"):
                assert again[figure] == x[figure], figure


def test_an_arranged_layout_is_built_as_it_was_shown(person: Callable[[str], Person]) -> None:
    who = person("ida")
    ids = [*shelf(3, name="A", size=8 * 10**12), *shelf(3, name="B", size=8 * 10**12)]
    found = who.post("/api/compare", {"drive_ids": ids, "survive_shelves": 1, "file_system": "xfs"}).get_json()[
        "layouts"
    ]
    pairs = next(x for x in found if x["scheme"] == "copies-2" and x["arranged"])
    order = [int(d) for one in pairs["sets"] for d in one]
    sheet = who.post("/api/sheets/build-pool", {
        "name": "p", "scheme": "copies-2", "drives": order, "sets": 3, "spares": 0, "volume": "v", "file_system": "xfs",
    }).get_json()  # fmt: skip
    done = who.post(f"/api/sheets/{sheet['id']}/approve", {"confirm": "p", "password": "a good password"}).get_json()
    pool = who.get(f"/api/pools/{done['pool_id']}").get_json()
    by_set: dict[int, set[str]] = {}
    for place in pool["places"]:
        by_set.setdefault(place["set"], set()).add(place["place"].split()[0])
    assert all(shelves == {"A", "B"} for shelves in by_set.values())
    assert pool["volumes"][0]["for_files"] == pairs["space"]["usable"], "what was promised is what is built"


@pytest.mark.parametrize(
    ("path", "body", "field"),
    [
        ("/api/compare", _what_if(need="20"), None),
        ("/api/compare", _what_if(need="20T"), "need"),
        ("/api/compare", _what_if(afr=2), "afr"),
        ("/api/compare", _what_if(rate="fast"), "rate"),
        ("/api/compare", _what_if(workload="games"), "workload"),
        ("/api/compare", {"shorthand": "0x4TB"}, "drives"),
        ("/api/compare", {"shorthand": "10000x4TB"}, "drives"),
        ("/api/compare", {"shorthand": "4x4TB@"}, "drives"),
        ("/api/compare", {}, "drives"),
        ("/api/compare/cut", _what_if(scheme="nonsense", sets=1), "scheme"),
        ("/api/compare/cut", _what_if(scheme="parity-2", sets=0), "sets"),
        ("/api/compare/cut", _what_if(scheme="parity-2", sets=2, arranged="moon"), "arranged"),
        ("/api/compare/growth", _what_if(scheme="parity-2", sets=1, larger="1 MB"), "larger"),
        ("/api/compare/spread", _what_if(volumes=[]), "volumes"),
        ("/api/compare/spread", _what_if(volumes=[{"size": "1T", "protection": "copies-2"}]), "volumes.0.size"),
        ("/api/compare/spread", _what_if(volumes=[{"size": "1 TB", "protection": "copies-9"}]), "volumes.0.protection"),
        ("/api/compare/spread", _what_if(domain="moon", volumes=[{"size": "1 TB", "protection": "copies-2"}]), "domain"),
        ("/api/compare/split", _what_if(uses=[{"name": "a", "workload": "general"}]), "uses"),
        ("/api/compare/buy", {"bays": 4, "need": "1 TB"}, "prices"),
    ],
)  # fmt: skip
def test_bad_questions_are_refused_at_their_field(
    person: Callable[[str], Person], path: str, body: dict[str, Any], field: str | None
) -> None:
    answer = person("wren").post(path, body)
    if field is None:  # twenty bytes are a need that is met
        assert answer.status_code == 200
        return
    assert answer.status_code in (400, 409)
    assert answer.get_json()["field"] == field and answer.content_type == "application/problem+json"


def test_exports(person: Callable[[str], Person]) -> None:
    who = person("wren")
    csv = who.post("/api/compare/export/csv", _what_if())
    assert csv.content_type.startswith("text/csv") and csv.data.count(b"\r\n") > 20
    content = json.loads(who.post("/api/compare/export/json", _what_if(title="Two oaks")).data)
    assert content["title"] == "Two oaks" and len(content["drives_compared"]) == 12
    pdf = who.post("/api/compare/export/pdf", _what_if(keys=["parity-2:2:0"]))
    assert pdf.data.startswith(b"%PDF-")
    assert who.post("/api/compare/export/pdf", _what_if(keys=["nonsense"])).get_json()["code"] == "nothing-to-print"
    svg = who.post("/api/compare/export/svg", _what_if(scheme="parity-2", sets=2))
    assert svg.content_type.startswith("image/svg+xml") and b"<svg" in svg.data


def test_saved_comparisons(person: Callable[[str], Person]) -> None:
    ida, wren = person("ida"), person("wren")
    body = _what_if(
        name="  Oak and   elm ", note="for the board", address="?what-if=x", keys=["parity-2:2:0", "gone:1:0"]
    )
    assert wren.post("/api/comparisons", body).status_code == 403
    saved = ida.post("/api/comparisons", body).get_json()
    assert (saved["name"], saved["question"], [x["key"] for x in saved["layouts"]]) == (
        "Oak and elm",
        "what-if=x",
        ["parity-2:2:0"],
    )
    again = person("maud").post("/api/comparisons", {**body, "name": "OAK AND ELM"})
    assert again.status_code == 409 and "already" in again.get_json()["title"]
    assert wren.get(f"/api/comparisons/{saved['id']}").get_json() == saved
    for name in ("", " ", "x" * 200, "a\u202eb"):
        assert ida.post("/api/comparisons", {**body, "name": name}).get_json()["field"] == "name"
    assert (
        ida.post("/api/comparisons", {**body, "name": "n", "keys": ["gone:1:0"]}).get_json()["code"]
        == "nothing-to-save"
    )
    renamed = ida.post(f"/api/comparisons/{saved['id']}/rename", {"name": "Later"}).get_json()
    assert renamed["name"] == "Later" and renamed["layouts"] == saved["layouts"]
    for i in range(3):
        assert ida.post("/api/comparisons", {**body, "name": f"n{i}"}).status_code == 200
    page = wren.get("/api/comparisons?limit=2").get_json()
    assert [c["name"] for c in page["comparisons"]] == ["n2", "n1"] and page["more"]
    assert ida.post(f"/api/comparisons/{saved['id']}/remove").status_code == 200
    assert ida.get(f"/api/comparisons/{saved['id']}").status_code == 404
    book = ida.get("/api/logbook").get_json()
    assert {"comparison-saved", "comparison-removed"} <= {e["act"] for e in book["entries"]}


def test_the_price_list_is_stored_whole_or_not_at_all(person: Callable[[str], Person]) -> None:
    who = person("osric")
    assert who.send("/api/prices", PRICES).get_json() == {"stored": 2, "errors": []}
    bad = who.send("/api/prices", PRICES + b"Made Up,M4,4 TB,tape,1 EUR\n").get_json()
    assert bad["stored"] == 0 and bad["errors"][0]["row"] == 4
    assert [m["model"] for m in who.get("/api/prices").get_json()["models"]] == ["M4", "M8"]
    assert person("wren").send("/api/prices", PRICES).status_code == 403
    found = who.post("/api/compare/buy", {"bays": 8, "need": "20 TB", "survive": 1, "then": ["30 TB"]}).get_json()
    first = found["purchases"][0]
    assert first["cheapest_in_all"] and first["later"][0]["need"] == 30 * 10**12
    assert first["cost"] == first["count"] * {"Made Up M8": 180, "Made Up M4": 100}[first["model"]]


def test_drives_take_what_they_lack_from_the_price_list(person: Callable[[str], Person]) -> None:
    who = person("ida")
    rows = "".join(f"A,{i},S{i},8 TB,hdd,M8\n" for i in range(1, 5))
    assert who.send("/api/inventory", f"shelf,bay,serial,size,kind,model\n{rows}".encode()).get_json()["stored"]
    body = {"drive_ids": [1, 2, 3, 4]}
    assert who.post("/api/compare", body).get_json()["layouts"][0]["cost"]["total"] is None
    assert who.send("/api/prices", PRICES).get_json()["stored"] == 2
    assert who.post("/api/compare", body).get_json()["layouts"][0]["cost"]["total"] == 720
    facts = {f["label"]: f for f in who.get("/api/drives/1").get_json()["facts"]}
    assert facts["Price"]["text"] == "180.00 EUR" and "price list" in facts["Price"]["source"]
    assert facts["Yearly failure rate"]["source"] == "assumed for its kind"


def test_spread_and_split(person: Callable[[str], Person]) -> None:
    who = person("wren")
    spread = who.post(
        "/api/compare/spread", _what_if(domain="shelf", volumes=[{"size": "1 TiB", "protection": "copies-2"}])
    ).get_json()
    assert spread["volumes"][0]["stripes"] == 1024 and spread["self_repair"] is False
    assert spread["space"]["copies-2"]["raw"] == 96 * 10**12
    too_many = who.post("/api/compare/spread", _what_if(volumes=[{"size": "40 TiB", "protection": "copies-2"}]))
    assert too_many.get_json()["field"] == "volumes"
    uses = [{"name": "images", "workload": "media", "need": "30 TB"}, {"name": "log", "workload": "database"}]
    split = who.post("/api/compare/split", _what_if(uses=uses)).get_json()
    assert split["meets"] and sorted(d for s in split["shares"] for d in s["drives"]) == sorted(split["labels"])


def test_backups_are_recorded_facts(person: Callable[[str], Person]) -> None:
    who = person("osric")
    pool = build(shelf(5))
    path = f"/api/pools/{pool}/backups"
    assert who.get(path).get_json()["without"] == ["v"]
    found = who.post(path, {"place": " town  hall ", "age_hours": 168, "link": "1 Gbit/s"}).get_json()
    assert found["without"] == [] and found["backups"][0]["place"] == "town hall"
    assert found["backups"][0]["restore_hours"] > 0
    volume = who.get(f"/api/pools/{pool}").get_json()["volumes"][0]
    own = who.post(path, {"volume_id": volume["id"], "place": "vault", "age_hours": 1, "link": "10 Gbit/s"}).get_json()
    assert own["backups"][0]["restore_hours"] == pytest.approx(volume["for_files"] / 1.25e9 / 3600)
    assert len(who.post(path, {"place": "elsewhere", "age_hours": 2, "link": "1 Gbit/s"}).get_json()["backups"]) == 2
    for body, field in (
        ({"place": "", "age_hours": 1, "link": "1 Gbit/s"}, "place"), ({"place": "x", "age_hours": -1, "link": "1 Gbit/s"}, "age_hours"),
        ({"place": "x", "age_hours": 1, "link": "0"}, "link"), ({"volume_id": 999, "place": "x", "age_hours": 1, "link": "1MB"}, "volume_id"),
    ):  # fmt: skip
        assert who.post(path, body).get_json()["field"] == field
    assert len(who.post(f"{path}/forget", {"volume_id": volume["id"]}).get_json()["backups"]) == 1
    assert who.post(f"{path}/forget", {"volume_id": volume["id"]}).status_code == 404


def test_a_comparison_takes_the_same_statements_whatever_its_size(person: Callable[[str], Person]) -> None:
    who = person("ida")
    few, many = shelf(4, name="A", size=4 * 10**12), shelf(40, name="B", size=4 * 10**12)
    who.post("/api/compare", {"drive_ids": few})
    with statements() as first:
        assert who.post("/api/compare", {"drive_ids": few}).status_code == 200
    with statements() as second:
        assert who.post("/api/compare", {"drive_ids": [*few, *many]}).status_code == 200
    assert len(first) == len(second) < 6


def test_what_an_older_version_saved_is_shown_still(person: Callable[[str], Person]) -> None:
    who = person("ida")
    shown = who.post("/api/compare", _what_if()).get_json()["layouts"][0]
    saved = who.post(
        "/api/comparisons", {**_what_if(), "name": "then", "address": "what=what-if", "keys": [shown["key"]]}
    )
    number = saved.get_json()["id"]
    with transaction() as session:
        row = session.get(Comparison, number)
        assert row is not None
        (kept,) = row.layouts["layouts"]
        older = {k: v for k, v in kept.items() if k not in ("load", "figures")}
        newer = {
            **older,
            "figures": {k: v for k, v in kept["figures"].items() if k not in ("efficiency", "small_writes")},
        }
        row.layouts = {"layouts": [older, newer]}
    found = who.get(f"/api/comparisons/{number}").get_json()["layouts"]
    for one in found:
        assert one["figures"]["efficiency"] == shown["figures"]["efficiency"]
        assert one["figures"]["small_writes"] == shown["speed"]["random_write_rmw"] and one["load"]["writes"] is None
        assert one["figures"]["usable"] == shown["space"]["usable"]
