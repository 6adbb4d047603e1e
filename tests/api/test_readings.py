"""Readings, rules, scans, error recovery, schedules and the calendar, as screens and calendar programs ask for them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from typing import Any

import pytest
from icalendar import Calendar

from pairshelf.engine.history import Watch
from pairshelf.engine.observe import observe
from pairshelf.engine.pools import devices
from pairshelf.store import clock
from tests.api.conftest import Person, do
from tests.engine.helpers import build, carry_all, happens, shelf


@pytest.fixture
def lab(lab: Person) -> Person:
    """With a pool of four, and two free drives."""
    build(shelf(4, name="K"), "parity-1", name="kept")
    shelf(2, name="F")
    carry_all()
    return lab


def drive(person: Person, serial: str) -> dict[str, Any]:
    (found,) = person.get(f"/api/drives/matching?filter=serial:{serial}").get_json()["ids"] or [0]
    if not found:
        every = person.get(f"/api/shelves?filter=serial:{serial}").get_json()["matched"]
        (found,) = every
    return person.get(f"/api/drives/{found}").get_json()["drive"]  # type: ignore[no-any-return]


def look(seconds: float = 10) -> None:
    clock.go_ahead(dt.timedelta(seconds=seconds))
    Watch().look()
    observe(devices())


def test_readings_say_what_they_mean_where_they_stand_and_what_was_found(
    lab: Person, person: Callable[[str], Person]
) -> None:
    f1 = drive(lab, "F1")
    path = f"/api/drives/{f1['id']}/readings"
    told = person("wren").get(path).get_json()
    assert told["level"] == "well" and told["answers"] and told["scan"] is None
    line = next(x for x in told["lines"] if x["id"] == "reassigned")
    assert line["standard"] == "ATA attribute 5" and line["unit"] == "count" and line["series"] == "drive-reassigned"
    look()
    age = f"/api/stand-in/drives/{f1['id']}/ageing"
    assert lab.put(age, {"reading": "temperature", "more": 400}).status_code == 200
    assert lab.put(age, {"reading": "reassigned", "more": 60, "a_day": 1}).get_json()["level"] == "failing"
    look()
    told = lab.get(path).get_json()
    assert [r["rule"] for r in told["reasons"]] == ["reassigned", "reassigned-week"] and told["since"]
    assert {(s["reading"], s["more"]) for s in told["ageing"]} >= {("temperature", 400.0)}
    assert drive(lab, "F1")["situations"] == ["free", "failing"]
    refused = lab.put(age, {"reading": "wear", "more": 1})
    assert refused.status_code == 400 and refused.get_json()["field"] == "reading"
    assert person("wren").put(age, {"reading": "temperature", "more": 1}).status_code == 403
    assert lab.get("/api/drives/99999/readings").status_code == 404


def test_a_warning_is_a_word_that_can_be_filtered_for(lab: Person) -> None:
    f2 = drive(lab, "F2")
    look()
    happens_ = lab.post(f"/api/stand-in/drives/{f2['id']}", {"what": "lose-sectors", "count": 2})
    assert happens_.status_code == 200
    look()
    assert drive(lab, "F2")["situations"] == ["free", "warns"]
    assert lab.get("/api/shelves?filter=warns").get_json()["matched"] == [f2["id"]]
    (matter,) = [m for m in lab.get("/api/today").get_json()["matters"] if "F2" in m["sentence"]]
    assert (matter["act"], matter["link"]) == ("Scan it", f"/shelves?drive={f2['id']}")
    (job,) = lab.post(f"/api/drives/{f2['id']}/scan").get_json()["jobs"]
    assert (job["kind"], job["pool_id"], job["report"]["serial"]) == ("scan", None, "F2")
    # While it is scanned nobody is asked for anything.
    assert not [m for m in lab.get("/api/today").get_json()["matters"] if "F2" in m["sentence"]]
    refused = lab.post(f"/api/drives/{f2['id']}/scan")
    assert refused.status_code == 409 and refused.get_json()["code"] == "already-running"
    carry_all()
    look()
    # Nothing else has what stood there: it counts as failing from now on.
    told = lab.get(f"/api/drives/{f2['id']}/readings").get_json()
    assert told["level"] == "failing" and told["scan"]["unreadable"] == 2 and told["scan"]["mended"] == 0


def test_a_members_scan_is_its_pools_and_shows_there(lab: Person, person: Callable[[str], Person]) -> None:
    member = drive(lab, "K2")
    pool = member["pool_id"]
    assert person("wren").post(f"/api/pools/{pool}/scan").status_code == 403
    (job,) = person("osric").post(f"/api/drives/{member['id']}/scan").get_json()["jobs"]
    assert job["pool_id"] == pool and job["pace"] == "gentle"
    shown = lab.get(f"/api/pools/{pool}").get_json()
    assert shown["why_no_scan"].startswith("A surface scan of this pool is under way")
    assert shown["why_no_check"] == "A surface scan of this pool is under way; wait for it."
    carry_all()
    shown = lab.get(f"/api/pools/{pool}").get_json()
    assert shown["why_no_scan"] is None and shown["last_scan"]["outcome"].endswith("all of it can be read.")
    assert shown["last_check"] is None


def test_rules_are_seen_by_all_and_changed_by_those_who_look_after_drives(
    lab: Person, person: Callable[[str], Person]
) -> None:
    body = {"kind": "hdd", "rule": "reassigned", "limit": 12}
    assert person("wren").put("/api/failing-rules", body).status_code == 403
    kinds = {
        k["kind"]: {r["id"]: r for r in k["rules"]}
        for k in person("osric").put("/api/failing-rules", body).get_json()["kinds"]
    }
    assert (kinds["hdd"]["reassigned"]["limit"], kinds["ssd"]["reassigned"]["limit"]) == (12, 50)
    assert "wear" not in kinds["hdd"] and kinds["nvme"]["wear"]["usual"] == 95
    assert person("wren").get("/api/failing-rules").get_json()["kinds"][0]["rules"]
    for bad, field in (
        ({**body, "kind": "tape"}, "kind"),
        ({**body, "rule": "smell"}, "rule"),
        ({**body, "limit": -2}, "limit"),
    ):
        refused = lab.put("/api/failing-rules", bad)
        assert refused.status_code == 400 and refused.get_json()["field"] == field
    off = lab.put("/api/failing-rules", {**body, "limit": None}).get_json()
    assert next(r for r in off["kinds"][0]["rules"] if r["id"] == "reassigned")["limit"] is None


def test_error_recovery_is_judged_and_set(lab: Person, person: Callable[[str], Person]) -> None:
    member = drive(lab, "K1")
    devices().be("K1", member["size"], recovery_settable=True)
    told = lab.get(f"/api/drives/{member['id']}/readings").get_json()["recovery"]
    assert not told["well"] and told["better"] == 7 and told["settable"]
    path = f"/api/drives/{member['id']}/error-recovery"
    assert person("wren").put(path, {"seconds": 7}).status_code == 403
    assert lab.put(path, {"seconds": 7}).get_json()["well"]
    assert lab.put(path, {"seconds": 0}).get_json()["field"] == "seconds"
    devices().be("K1", member["size"], recovery_settable=False)
    refused = lab.put(path, {"seconds": 9})
    assert (refused.status_code, refused.get_json()["code"]) == (409, "not-settable")


def test_a_pool_acts_early_where_an_administrator_says_so(lab: Person, person: Callable[[str], Person]) -> None:
    pool = drive(lab, "K1")["pool_id"]
    assert person("osric").put(f"/api/pools/{pool}/acts-early", {"on": True}).status_code == 403
    assert not lab.get(f"/api/pools/{pool}").get_json()["acts_early"]
    lab.put(f"/api/pools/{pool}/acts-early", {"on": True})
    assert lab.get(f"/api/pools/{pool}").get_json()["acts_early"]


def test_spares_are_among_what_can_take_a_place_and_say_what_they_stand_by_for(lab: Person) -> None:
    pool, f1 = drive(lab, "K1")["pool_id"], drive(lab, "F1")["id"]
    do(lab, "add-spares", pool="kept", drives=[f1], spares_for="shelf")
    (spare,) = lab.get(f"/api/pools/{pool}").get_json()["spares"]
    assert (spare["drive_id"], spare["scope"]) == (f1, "shelf")
    found = lab.get(f"/api/pools/{pool}/replacements?slot=1").get_json()
    assert found["may_stand_by"]
    candidate = next(c for c in found["candidates"] if c["drive_id"] == f1)
    assert candidate["spare"] and candidate["reason"] is None
    happens("warn", "K2")
    assert not lab.get(f"/api/pools/{pool}/replacements?slot=1").get_json()["may_stand_by"]


# -- by the calendar -----------------------------------------------------------------------------------


def test_a_schedule_is_set_seen_and_ended(lab: Person, person: Callable[[str], Person]) -> None:
    pool = drive(lab, "K1")["pool_id"]
    path = f"/api/pools/{pool}/schedules"
    body = {"day": 6, "at": "02:30", "zone": "Europe/Paris", "weeks": 2, "pace": "gentle"}
    assert person("wren").put(f"{path}/check", body).status_code == 403
    (told,) = person("osric").put(f"{path}/check", body).get_json()["schedules"]
    assert told["words"] == "every 2 weeks on Sunday at 02:30 (Europe/Paris)" and told["set_by"] == "osric"
    assert person("wren").get("/api/schedules").get_json()["schedules"] == [told]
    for change, field in (({"at": "25:00"}, "at"), ({"zone": "Nowhere"}, "zone"), ({"weeks": None}, "weeks"),
                          ({"day": 9}, "day"), ({"pace": "wild"}, "pace")):  # fmt: skip
        refused = lab.put(f"{path}/check", {**body, **change})
        assert refused.status_code == 400 and refused.get_json()["field"] == field
    assert lab.put(f"{path}/wipe", body).get_json()["field"] == "what"
    assert lab.put("/api/pools/999/schedules/check", body).status_code == 404
    assert lab.post(f"{path}/scan/end").status_code == 404
    assert lab.post(f"{path}/check/end").get_json()["schedules"] == []


def test_a_calendar_is_read_at_its_private_address_only_and_only_while_its_person_may(
    lab: Person, person: Callable[[str], Person], stranger: Person
) -> None:
    pool = drive(lab, "K1")["pool_id"]
    lab.put(
        f"/api/pools/{pool}/schedules/scan",
        {"day": 0, "at": "04:00", "zone": "America/New_York", "weeks": None, "which": 1},
    )
    wren = person("wren")
    assert not wren.get("/api/calendar-address").get_json()["there"]
    address = wren.post("/api/calendar-address").get_json()["address"]
    path = "/calendar/" + address.rsplit("/", 1)[1]
    found = stranger.client.get(path)
    assert found.status_code == 200 and found.content_type.startswith("text/calendar")
    (event,) = Calendar.from_ical(found.data).walk("VEVENT")
    assert event["summary"] == "Surface scan of kept" and event["rrule"]["BYDAY"] == ["1MO"]
    assert str(event["url"]).endswith(f"/pools/{pool}")
    assert wren.get("/api/calendar-address").get_json()["read_at"]
    # Another address, and the one before opens nothing; nor does what is none.
    other = "/calendar/" + wren.post("/api/calendar-address").get_json()["address"].rsplit("/", 1)[1]
    assert stranger.client.get(path).status_code == 404 and stranger.client.get(other).status_code == 200
    assert stranger.client.get("/calendar/x.ics").status_code == 404
    assert stranger.client.get("/api/schedules").status_code == 401
    people = {p["name"]: p["id"] for p in lab.get("/api/users").get_json()["users"]}
    lab.post(f"/api/users/{people['wren']}", {"active": False}, method="PATCH")
    assert stranger.client.get(other).status_code == 404
