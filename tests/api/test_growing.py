"""Growing through the API: the ways, the sheets they lead to, and the pool on its way."""

from __future__ import annotations

from pairshelf.core.domain.units import GIB
from pairshelf.engine.carry import carry
from tests.api.conftest import PASSWORD, Person
from tests.engine.helpers import carry_all, fill, happens, shelf


def approve(person: Person, sheet: dict[str, object]) -> None:
    body = {"confirm": sheet["body"]["confirm"] or "", "password": PASSWORD}  # type: ignore[index]
    answer = person.post(f"/api/sheets/{sheet['id']}/approve", body)
    assert answer.status_code == 200, answer.get_json()


def test_the_ways_lead_to_sheets_and_a_restripe_that_can_be_turned(lab: Person) -> None:
    before = lab.get("/api/pools/1").get_json()
    assert before["restripe"] is None and before["copies"] == [] and before["path"] == []
    new = shelf(2, size=200 * GIB, name="N")
    found = lab.get(f"/api/pools/1/ways?drives={new[0]}").get_json()
    way = next(w for w in found["ways"] if w["id"] == "add-drives")
    assert way["gain"] > 0 and way["hours"] > 0 and way["cut"]["members"] and way["suggested"]
    assert {d["id"] for d in found["drives"]} >= set(new)
    sheet = lab.post("/api/sheets/add-drives", way["request"])
    assert sheet.status_code == 200, sheet.get_json()
    approve(lab, sheet.get_json())
    pool = lab.get("/api/pools/1").get_json()
    assert pool["restripe"]["turned"] is False and pool["restripe"]["passed"] == 0
    assert len(pool["restripe"]["ribbon"]) == len(pool["places"]) == len(before["places"]) + 1
    assert "restriped" in pool["why_no_check"]
    assert lab.get("/api/pools/1/ways").get_json()["ways"][0]["suggested"] is None
    approve(lab, lab.post("/api/sheets/turn-restripe", {"pool": pool["name"]}).get_json())
    pool = lab.get("/api/pools/1").get_json()
    assert pool["restripe"]["turned"] and pool["restripe"]["leaving"] == ["N bay 1"]
    approve(lab, lab.post("/api/sheets/turn-restripe", {"pool": pool["name"]}).get_json())
    carry_all()
    after = lab.get("/api/pools/1").get_json()
    assert after["restripe"] is None and after["capacity"] == way["capacity"]
    proof = next(p for p in after["proofs"] if p["figure"] == "Restripe")
    assert proof["promised"] > 0


def test_a_drive_that_warns_leads_to_its_pool_and_is_copied(lab: Person) -> None:
    happens("warn", "A1")
    matter = next(m for m in lab.get("/api/today").get_json()["matters"] if "failing" in m["sentence"])
    assert matter["link"].startswith("/pools/1?replace=")
    (new,) = shelf(1, size=200 * GIB, name="N")
    assert lab.get("/api/pools/1").get_json()["places"][0]["why_not_replaceable"] is None
    approve(lab, lab.post("/api/sheets/replace-drive", {"pool_id": 1, "slot": 0, "drive_id": new}).get_json())
    pool = lab.get("/api/pools/1").get_json()
    assert pool["state"] == "healthy" and pool["copies"][0]["drive_id"] == new
    (line,) = lab.get("/api/pools").get_json()["pools"]
    assert (line["away"], line["spares"]) == (0, 0)
    assert not [m for m in lab.get("/api/today").get_json()["matters"] if "warn" in m["sentence"]]
    carry_all()
    assert lab.get("/api/pools/1").get_json()["places"][0]["drive_id"] == new


def test_a_path_shows_what_its_steps_bring(lab: Person) -> None:
    larger = [shelf(1, size=260 * GIB, name=f"L{i}")[0] for i in range(6)]
    approve(
        lab,
        lab.post(
            "/api/sheets/replace-larger", {"pool": lab.get("/api/pools/1").get_json()["name"], "drives": larger}
        ).get_json(),
    )
    path = lab.get("/api/pools/1").get_json()["path"]
    assert [bool(s["gain"]) for s in path] == [False] * (len(path) - 1) + [True]
    assert all(s["hours"] > 0 and not s["came"] for s in path)
    first = path[0]
    approve(
        lab,
        lab.post(
            "/api/sheets/replace-drive", {"pool_id": 1, "slot": first["slot"], "drive_id": first["drive_id"]}
        ).get_json(),
    )
    carry_all()
    assert [s["came"] for s in lab.get("/api/pools/1").get_json()["path"]] == [True] + [False] * (len(path) - 1)


def test_what_cannot_be_asked_is_refused_at_its_field(lab: Person) -> None:
    for query, status in (("x", 400), ("999999", 400), ("1,1", 400), ("1;2", 400)):
        answer = lab.get(f"/api/pools/1/ways?drives={query}")
        assert answer.status_code in (400, 422), (query, status)
        assert answer.get_json()["field"] == "drives"
    assert lab.get("/api/pools/99/ways").status_code == 404


def test_what_fills_up_leads_to_making_the_pool_larger(lab: Person) -> None:
    def said() -> list[dict[str, object]]:
        return [m for m in lab.get("/api/today").get_json()["matters"] if "full" in m["sentence"]]

    assert said() == []
    pool = lab.get("/api/pools/1").get_json()
    left = lab.post("/api/sheets/extend-volumes", {"pool": pool["name"]})
    if left.status_code == 200:
        approve(lab, left.get_json())
    carry_all()
    for volume in lab.get("/api/pools/1").get_json()["volumes"]:
        carry(fill(1, 0.97, volume["id"]))
    # What finds no room any longer waits for it, and says so; somebody may end it.
    for job in lab.get("/api/jobs").get_json()["jobs"]:
        assert job["state"] == "held" and "cold is full; what is written waits" in job["why_held"]
        assert lab.post(f"/api/jobs/{job['id']}/end").get_json()["jobs"][0]["state"] == "failed"
    (matter,) = said()
    assert (matter["act"], matter["link"], matter["gravity"]) == ("Make it larger", "/pools/1/grow", 1)
    new = shelf(1, size=200 * GIB, name="N")
    approve(lab, lab.post("/api/sheets/add-drives", {"pool": pool["name"], "drives": new}).get_json())
    assert [m["act"] for m in said()] == ["Watch it"]
    carry_all()
    assert [m["act"] for m in said()] == ["Extend it"]
    sheet = lab.post("/api/sheets/extend-volumes", {"pool": pool["name"]}).get_json()
    assert ["is thin" in said for said in sheet["body"]["cautions"]] == [True]
    approve(lab, sheet)
    # The volumes have room again, at the cost of the thin one beside them.
    (matter,) = said()
    assert "is full. What needs new room in its thin volumes has to wait" in str(matter["sentence"])


def test_drives_that_cannot_be_had_are_named_with_the_reason(lab: Person) -> None:
    new = shelf(4, size=200 * GIB, name="N")
    happens("pull", "N2")
    happens("fail", "N3")
    found = lab.get("/api/pools/1/ways").get_json()
    assert {"N1", "N4"} <= {d["serial"] for d in found["drives"]} and not {"N2", "N3"} & {
        d["serial"] for d in found["drives"]
    }
    reasons = {d["named"].split(",")[0]: d["why_not"] for d in found["not_to_be_had"]}
    assert reasons == {"N2": "It is not in a bay.", "N bay 3 (N3)": "It has failed."}
    refused = lab.get(f"/api/pools/1/ways?drives={new[2]}").get_json()
    way = next(w for w in refused["ways"] if w["id"] == "add-drives")
    assert "has failed" in way["why_not"]
