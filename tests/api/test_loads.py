"""Speed as it is asked for from a screen: played, measured, compared; who may, and what is refused at which field."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from sqlmodel import select

from pairshelf.engine.history import Watch
from pairshelf.store.database import transaction
from pairshelf.store.tables import VolumeRow
from tests.api.conftest import Person
from tests.engine.helpers import build, carry_all, fill, shelf


@pytest.fixture
def pool(lab: Person) -> tuple[int, int]:
    """A pool with something on its volume: their numbers."""
    made = build(shelf(6, name="K"), "parity-2", name="kept")
    fill(made)
    carry_all()
    with transaction() as session:
        return made, session.exec(select(VolumeRow.id).where(VolumeRow.pool_id == made)).one() or 0


def test_what_is_played_is_measured_in_the_next_round(lab: Person, pool: tuple[int, int]) -> None:
    number, volume = pool
    mixes = lab.get("/api/mixes").get_json()
    assert {m["id"] for m in mixes["mixes"]} >= {"files", "database", "machines", "recorder"}
    assert set(mixes["beside"]) == {"check", "scan", "first-sync", "rebuild"}
    path = f"/api/pools/{number}/speed"
    assert lab.get(path).get_json() == {"plays": [], "at": None, "found": None, "why_none": None}
    told = lab.put("/api/stand-in/load", {"volume_id": volume, "mix": "database", "wanted": 40}).get_json()
    assert [(p["mix"], p["at_once"], p["wanted"]) for p in told["plays"]] == [("database", 32, 40.0)]
    Watch().look()
    told = lab.get(path).get_json()
    (own,) = told["found"]["volumes"]
    assert own["rates"]["operations"] == pytest.approx(40, rel=0.15) and own["estimate"]["operations"] > 100
    assert len(told["found"]["drives"]) == 6 and told["found"]["beside"] is None
    history = lab.get(f"/api/history?series=volume-operations&of={volume}&hours=1").get_json()
    assert history["unit"] == "a second" and history["points"][-1]["mean"] == round(own["rates"]["operations"])
    assert history["full_at"] is None
    assert lab.put("/api/stand-in/load", {"volume_id": volume, "mix": ""}).get_json()["plays"] == []
    said = [e["act"] for e in lab.get("/api/logbook").get_json()["entries"]]
    assert "load-begun" in said and "load-ended" in said


def test_a_measurement_says_what_a_job_costs(lab: Person, pool: tuple[int, int]) -> None:
    number, volume = pool
    body = {"volume_id": volume, "mix": "machines", "beside": "check", "pace": "fast"}
    found = lab.post(f"/api/pools/{number}/measure", body).get_json()
    beside = found["beside"]
    assert beside["name"] == "Check" and beside["costs_users"] == pytest.approx(0.8, abs=0.1)
    assert beside["costs_users"] == pytest.approx(
        1 - beside["users"]["operations"] / beside["users_alone"]["operations"]
    )
    assert max(d["for_job"] for d in found["drives"]) == pytest.approx(0.8, abs=0.08)


def test_what_will_not_do_is_said_at_its_field(
    lab: Person, person: Callable[[str], Person], pool: tuple[int, int]
) -> None:
    number, volume = pool
    path = f"/api/pools/{number}/measure"
    for more, field in (
        ({"mix": "all"}, "mix"), ({"beside": "tea"}, "beside"), ({"pace": "wild"}, "pace"), ({"at_once": 9999}, "at_once"),
        ({"volume_id": 999}, "volume_id"),
    ):  # fmt: skip
        refused = lab.post(path, {"volume_id": volume, "mix": "files", **more})
        assert (refused.status_code, refused.get_json()["field"]) == (400, field)
    for more, field in (({"wanted": -1}, "wanted"), ({"mix": "all"}, "mix"), ({"volume_id": 999}, "volume_id")):
        refused = lab.put("/api/stand-in/load", {"volume_id": volume, "mix": "files", **more})
        assert (refused.status_code, refused.get_json()["field"]) == (400, field)
    assert person("wren").put("/api/stand-in/load", {"volume_id": volume, "mix": "files"}).status_code == 403
    assert person("wren").post(path, {"volume_id": volume, "mix": "files"}).status_code == 403
    assert lab.get("/api/pools/99/speed").status_code == 404


def test_layouts_are_run_against_one_another(lab: Person) -> None:
    asked = {"shorthand": "8x4TB", "workload": "database"}
    found = lab.post("/api/compare/measured", asked).get_json()
    assert found["mix"]["id"] == "database" and 1 < len(found["layouts"]) <= 4
    compared = lab.post("/api/compare", asked).get_json()
    assert [m["key"] for m in found["layouts"]] == [c["key"] for c in compared["layouts"]][: len(found["layouts"])]
    wide, copies = "parity-1:1:0", "copies-2:4:0"
    found = lab.post("/api/compare/measured", {**asked, "keys": [wide, copies], "mix": "small-writes"}).get_json()
    of = {m["key"]: m for m in found["layouts"]}
    assert set(of) == {wide, copies}
    # A small write costs two operations in copies, four in parity.
    assert of[copies]["whole"]["operations"] == pytest.approx(2 * of[wide]["whole"]["operations"], rel=0.2)
    for m in of.values():
        assert m["rebuild_hours"] > m["rebuild_estimate"] > 0
    refused = lab.post("/api/compare/measured", {**asked, "keys": ["parity-9:1:0"]})
    assert (refused.status_code, refused.get_json()["field"]) == (400, "keys")
    assert lab.post("/api/compare/measured", {**asked, "keys": ["x"] * 9}).status_code == 422
