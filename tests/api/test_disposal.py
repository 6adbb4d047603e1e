"""Disposal through the API: methods judged, a lot prepared and approved, certificates, two pairs of eyes, a laboratory."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

import pytest

from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.units import GIB
from pairshelf.engine.carry import carry
from pairshelf.engine.pools import devices
from pairshelf.store.database import transaction
from pairshelf.store.tables import DriveRow
from tests.api.conftest import PASSWORD, Person
from tests.engine.helpers import carry_all, fill, happens, shelf

SIZE = 24 * GIB


def to_sell(count: int = 2, **nature: Any) -> list[int]:
    ids = shelf(count, size=SIZE, name="S")
    with transaction() as session:
        for number in ids:
            row = session.get_one(DriveRow, number)
            row.holds = "old data of pool barn, readable"
            devices().be(
                row.serial,
                SIZE,
                Kind.HDD,
                **{"commands": ["sanitize-overwrite"], "protected": 0, "reassigned": [2], **nature},
            )
    return ids


def sheet_of(person: Person, kind: str, **body: Any) -> dict[str, Any]:
    answer = person.post(f"/api/sheets/{kind}", body)
    assert answer.status_code == 200, answer.get_json()
    found: dict[str, Any] = answer.get_json()
    return found


def approve(person: Person, sheet: dict[str, Any]) -> Any:
    return person.post(
        f"/api/sheets/{sheet['id']}/approve", {"confirm": sheet["body"]["confirm"] or "", "password": PASSWORD}
    )


def wiped(person: Person, ids: list[int], **body: Any) -> None:
    assert approve(person, sheet_of(person, "wipe", drives=ids, **body)).status_code == 200
    carry_all()


def test_methods_are_judged_drive_by_drive(lab: Person) -> None:
    able, plain = to_sell(1), shelf(1, size=SIZE, name="P")
    devices().be("P1", SIZE, Kind.HDD, commands=[], reassigned=[1], protected=0)
    member = lab.get("/api/pools/1").get_json()["places"][0]["drive_id"]
    found = lab.get(f"/api/disposal/methods?drives={able[0]},{plain[0]},{member}&category=purge&sample=6").get_json()
    first, second, third = found["drives"]
    assert next(o for o in first["offers"] if o["suggested"])["id"] == "sanitize-overwrite"
    assert next(o for o in second["offers"] if o["suggested"])["id"] == "destroy"
    assert "reassigned" in next(o for o in second["offers"] if o["id"] == "overwrite")["why_not"]
    assert (
        "belongs to pool" in third["why_kept"]
        and first["chance_missed"] == pytest.approx(17 / 23)
        and found["hours"] > 0
    )
    for wrong, field in (("drives=999", "drives"), (f"drives={able[0]}&category=magic", "category"),
                         (f"drives={able[0]}&sample=0", "sample"), ("drives=x", "drives")):  # fmt: skip
        answer = lab.get(f"/api/disposal/methods?{wrong}")
        assert answer.status_code in (400, 404) and answer.get_json()["field"] == field, wrong


def test_an_operator_prepares_and_an_administrator_approves(lab: Person, person: Callable[[str], Person]) -> None:
    ids = to_sell()
    sheet = sheet_of(person("osric"), "wipe", drives=ids, destination="sold")
    assert sheet["may_approve"] is False and "administrator" in sheet["why_not"]
    assert approve(person("osric"), sheet).status_code == 403
    assert person("wren").post("/api/sheets/wipe", {"drives": ids}).status_code == 403
    assert approve(lab, sheet).status_code == 200
    lot = lab.get("/api/disposal").get_json()["lots"][0]
    assert (
        {d["state"] for d in lot["drives"]} == {"open"}
        and lot["job"]["name"] == "Wiping"
        and lot["job"]["pool_id"] is None
    )
    carry_all()
    shown = lab.get("/api/disposal").get_json()
    assert {d["state"] for d in shown["lots"][0]["drives"]} == {"wiped"} and shown["certificates"] == 2
    assert all(d["wiped_at"] and d["holds"] is None for d in shown["drives"] if d["id"] in ids)


def test_certificates_are_found_printed_and_verified_by_anybody(lab: Person, stranger: Person) -> None:
    ids = to_sell()
    assert lab.post(f"/api/drives/{ids[0]}", {"facts": {"property_number": "FH-0312"}}, "PATCH").status_code == 200
    wiped(lab, ids, destination="the reading room")
    for search, count in (("S1", 1), ("reading", 2), ("nobody", 0), ("2", 2), ("purge S2", 1)):
        assert len(lab.get(f"/api/disposal/certificates?search={search}").get_json()["certificates"]) == count, search
    page = lab.get("/api/disposal/certificates?limit=1").get_json()
    assert page["more"] and page["certificates"][0]["number"] == 2
    one = lab.get("/api/disposal/certificates/1").get_json()
    assert {"label": "Serial", "text": "S1"} in one["rows"] and {"label": "Property number", "text": "FH-0312"} in one[
        "rows"
    ]
    signed = lab.get("/api/disposal/certificates/1/file")
    assert "attachment" in signed.headers["Content-Disposition"]
    for path in ("certificates/1/card", "certificates/1/label", f"lots/{one['lot']}/cards"):
        assert lab.get(f"/api/disposal/{path}").data.startswith(b"%PDF")
    for path in ("certificates/9", "certificates/9/file", "lots/999/cards"):
        assert lab.get(f"/api/disposal/{path}").status_code == 404
    whole = lab.get(f"/api/disposal/lots/{one['lot']}/file")
    of_lot = stranger.post("/api/disposal/verify", {"content": whole.text}).get_json()
    assert of_lot["good"] and "2 drives wiped" in of_lot["sentence"] and of_lot["rows"] == []
    drives = json.loads(whole.text)["of_drives"]
    assert len(drives) == 2 and all(
        stranger.post("/api/disposal/verify", {"content": json.dumps(d)}).get_json()["good"] for d in drives
    )
    spoilt = json.loads(whole.text) | {"payload": drives[0]["payload"]}
    assert not stranger.post("/api/disposal/verify", {"content": json.dumps(spoilt)}).get_json()["good"]
    assert lab.get("/api/disposal/lots/999/file").status_code == 404
    true = stranger.post("/api/disposal/verify", {"content": signed.text}).get_json()
    assert (
        true["good"] and true["fingerprint"] == one["fingerprint"] and {"label": "Serial", "text": "S1"} in true["rows"]
    )
    told = json.loads(signed.text)
    told["payload"] = told["payload"][:-6] + ("A" if told["payload"][-6] != "A" else "B") + told["payload"][-5:]
    false = stranger.post("/api/disposal/verify", {"content": json.dumps(told)}).get_json()
    assert not false["good"] and not false["rows"]
    assert [k["kty"] for k in stranger.get("/api/disposal/keys").get_json()["keys"]] == ["OKP"]
    assert stranger.get("/api/disposal/certificates").status_code == 401
    lab.post("/api/disposal/keys/new", {})
    assert stranger.post("/api/disposal/verify", {"content": signed.text}).get_json()["good"]


def test_two_pairs_of_eyes_are_two_people(lab: Person, person: Callable[[str], Person]) -> None:
    assert lab.post("/api/disposal/rules", {"two_pairs": True, "house": "Fernhollow"}, "PUT").status_code == 200
    assert person("osric").post("/api/disposal/rules", {"two_pairs": False, "house": "x"}, "PUT").status_code == 403
    sheet = sheet_of(person("osric"), "wipe", drives=to_sell())
    first = approve(lab, sheet).get_json()
    assert first["state"] == "draft" and first["seconded_by"] == "ida"
    assert not lab.get("/api/disposal").get_json()["lots"]
    again = approve(lab, sheet)
    assert again.status_code == 409 and again.get_json()["code"] == "same-person"
    second = approve(person("maud"), sheet).get_json()
    assert second["state"] == "approved"
    carry_all()
    said = lab.get("/api/disposal/certificates/1").get_json()
    assert "ida and " in said["approved_by"] and said["house"] == "Fernhollow"
    assert lab.post("/api/disposal/rules", {"two_pairs": True, "house": " "}, "PUT").status_code == 400


def test_a_lot_is_paused_and_stopped(lab: Person) -> None:
    sheet = sheet_of(lab, "wipe", drives=to_sell(), category="clear", methods=["overwrite"])
    approve(lab, sheet)
    job = lab.get("/api/disposal").get_json()["lots"][0]["job"]["id"]
    assert lab.post(f"/api/jobs/{job}/pause", {}).get_json()["jobs"][0]["state"] == "paused"
    assert lab.post(f"/api/jobs/{job}/resume", {}).status_code == 200
    left = [3]

    def stop() -> bool:
        left[0] -= 1
        return left[0] < 0

    carry(job, stop=stop)
    lot = lab.get("/api/disposal").get_json()["lots"][0]
    assert all(0 < d["erased"] < 1 and d["seconds_left"] > 0 and d["rate"] > 0 for d in lot["drives"])
    assert lab.post(f"/api/disposal/lots/{job}/stop", {}).get_json() == {"count": 2}
    shown = lab.get("/api/disposal").get_json()
    assert {d["state"] for d in shown["lots"][0]["drives"]} == {"partly"} and shown["certificates"] == 0
    assert lab.post(f"/api/disposal/lots/{job}/stop", {}).status_code == 409
    assert lab.post("/api/disposal/lots/9999/stop", {}).status_code == 404


def test_a_laboratory_reads_what_is_legible_before_and_nothing_after(lab: Person) -> None:
    pool = lab.get("/api/pools/1").get_json()
    volume = next(v for v in pool["volumes"] if v["file_system"] != "none")
    carry(fill(1, 0.9, volume["id"]))
    drive = pool["places"][0]["drive_id"]
    areas = {a["name"]: a for a in lab.get(f"/api/drives/{drive}/laboratory").get_json()["areas"]}
    shown = areas["shown"]
    assert shown["legible"][0]["whose"] == f"{pool['name']}/{volume['name']}" and shown["legible"][0]["extents"] > 3
    assert shown["blank"] + shown["noise"] + sum(w["extents"] for w in shown["legible"]) == shown["cells"]
    assert 2 in shown["strip"]
    (out,) = to_sell(1)
    happens("warn", "S1")
    wiped(lab, [out])
    after = lab.get(f"/api/drives/{out}/laboratory").get_json()["areas"]
    assert {a["name"] for a in after} == {"held back", "shown", "reassigned"}
    assert all(a["noise"] == 0 and not a["legible"] for a in after)
    assert lab.get("/api/drives/9999/laboratory").status_code == 404


def test_a_person_makes_drives_stall_slow_down_and_die(lab: Person) -> None:
    first, second = to_sell()
    approve(lab, sheet_of(lab, "wipe", drives=[first, second], category="clear", methods=["overwrite"]))
    job = lab.get("/api/disposal").get_json()["lots"][0]["job"]["id"]
    for drive, what in ((first, "stall"), (second, "die-soon")):
        assert lab.post(f"/api/stand-in/drives/{drive}", {"what": what}).status_code == 200
    left = [8]

    def stop() -> bool:
        left[0] -= 1
        return left[0] < 0

    carry(job, stop=stop)
    lot = lab.get("/api/disposal").get_json()["lots"][0]
    assert [d["state"] for d in lot["drives"]] == ["open", "partly"] and "does not answer for now" in lot["drives"][0][
        "held"
    ]
    lab.post(f"/api/stand-in/drives/{first}", {"what": "answer"})
    lab.post(f"/api/stand-in/drives/{first}", {"what": "slow-down"})
    carry_all()
    assert lab.get("/api/disposal").get_json()["lots"][0]["drives"][0]["state"] == "wiped"
