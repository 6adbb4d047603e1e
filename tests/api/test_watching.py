"""Histories, thresholds, days that pass and metrics as the API answers them; refusals at their fields."""

from __future__ import annotations

import csv
import datetime as dt
import io
from collections.abc import Callable
from typing import Any

import pytest
from prometheus_client.openmetrics.parser import text_string_to_metric_families
from sqlmodel import col, select

from pairshelf.core.watching.series import SERIES
from pairshelf.engine.carry import carry
from pairshelf.engine.history import take_round
from pairshelf.store import clock
from pairshelf.store.database import transaction
from pairshelf.store.tables import DriveRow, LogRow, VolumeRow
from tests.api.conftest import Person
from tests.engine.helpers import all_here, at_once, build, carry_all, do, fill, happens, open_jobs, shelf


def _number(name: str) -> int:
    with transaction() as session:
        return session.exec(select(VolumeRow).where(VolumeRow.name == name)).one().number


def _round(back: float = 0) -> None:
    with transaction() as session:
        take_round(session, clock.now() - dt.timedelta(seconds=back))


def _history(who: Person, **query: Any) -> Any:
    return who.client.get("/api/history", query_string=query)


def test_what_was_recorded_comes_as_points_and_as_a_list(lab: Person) -> None:
    office = _number("office")
    _round(40)
    fill(1, 0.4, office)
    carry_all()
    _round()
    told = _history(lab, series="volume-files", of=office, hours=0.05).get_json()
    assert (told["of"], told["unit"], told["grain"], told["seconds"]) == ("office", "bytes", "round", 10)
    assert [p["mean"] > 0 for p in told["points"]] == [False, True]
    volume = next(v for v in lab.get("/api/pools/1").get_json()["volumes"] if v["id"] == office)
    assert told["points"][-1]["mean"] == volume["files_bytes"] and told["full_at"] == volume["for_files"]
    listed = lab.client.get("/api/history.csv", query_string={"series": "volume-files", "of": office, "hours": 0.05})
    assert "volume-files-of-office.csv" in listed.headers["Content-Disposition"]
    rows = list(csv.reader(io.StringIO(listed.get_data(as_text=True))))
    assert rows[0] == ["begins at (UTC)", "seconds", "mean (bytes)", "lowest (bytes)", "highest (bytes)", "rounds"]
    assert [int(r[2]) for r in rows[1:]] == [p["mean"] for p in told["points"]]
    # What was recorded stays what it was when looked at from later.
    before = _history(
        lab, series="volume-files", of=office, hours=0.05, until=(clock.now() - dt.timedelta(seconds=20)).isoformat()
    )
    assert [p["mean"] for p in before.get_json()["points"]] == [0]
    assert {s["id"] for s in lab.get("/api/series").get_json()["series"]} == {s.id for s in SERIES}
    assert lab.get("/api/series").get_json()["bytes_in_ten_years"] > 1e6


@pytest.mark.parametrize(
    ("query", "status", "field"),
    [
        ({"series": "nonsense", "of": 1}, 400, "series"),
        ({"series": "pool-given", "of": 999}, 400, "of"),
        ({"series": "volume-files", "of": 999}, 400, "of"),
        ({"series": "drive-used", "of": 999}, 400, "of"),
        ({"series": "pool-given", "of": 1, "hours": 0}, 422, "hours"),
        ({"series": "pool-given", "of": 1, "hours": "nan"}, 422, "hours"),
        ({"series": "pool-given", "of": 1, "hours": 1e9}, 422, "hours"),
        ({"series": "pool-given", "of": 1, "until": "2026-11-27T12:00:00"}, 400, "until"),
        ({"series": "pool-given", "of": 1, "until": "0001-01-01T00:00:00Z", "hours": 87840}, 400, "until"),
    ],
)
def test_histories_that_make_no_sense_are_refused(lab: Person, query: dict[str, Any], status: int, field: str) -> None:
    answer = _history(lab, **query)
    assert (answer.status_code, answer.get_json()["field"]) == (status, field), answer.get_json()


def test_thresholds_are_kept_and_change_what_today_says(lab: Person, person: Callable[[str], Person]) -> None:
    office = _number("office")
    fill(1, 0.5, office)
    carry_all()
    all_here()
    assert lab.get("/api/today").get_json()["well"] is True
    path = f"/api/volumes/{office}/thresholds"
    assert lab.post(path, {"tell": 0.3, "urgent": 0.45}, method="PUT").get_json() == {"tell": 0.3, "urgent": 0.45}
    today = lab.get("/api/today").get_json()
    assert today["well"] is False and today["verdict"] == "One thing needs you before long."
    (glance,) = today["glances"]
    assert (glance["level"], glance["well"], glance["still"]) == (2, False, "survives any 2 drive failures")
    assert glance["files"] <= glance["given"] <= glance["capacity"]
    for body, field in (({"tell": 0.5, "urgent": 0.4}, "urgent"), ({"tell": 0.01, "urgent": 0.4}, "tell")):
        refused = lab.post(path, body, method="PUT")
        assert (refused.status_code, refused.get_json()["field"]) == (400, field)
    assert lab.post("/api/pools/99/thresholds", {"tell": 0.5, "urgent": 0.6}, method="PUT").status_code == 404
    assert person("wren").post(path, {"tell": 0.5, "urgent": 0.6}, method="PUT").status_code == 403
    assert lab.post(path, {"tell": 0.8, "urgent": 0.9}, method="PUT").status_code == 200
    assert lab.get("/api/today").get_json()["well"] is True
    with transaction() as session:
        said = session.exec(
            select(LogRow.sentence).where(LogRow.act == "thresholds-set").order_by(col(LogRow.id))
        ).all()
    assert said == [f"Volume office: told at {a} %, pressing at {b} %." for a, b in ((30, 45), (80, 90))]


def test_the_gravest_pool_comes_first_and_says_what_may_still_fail(lab: Person) -> None:
    all_here()
    happens("fail", "A1")
    (glance,) = lab.get("/api/today").get_json()["glances"]
    assert (glance["state"], glance["still"]) == ("degraded", "survives 1 more failure")
    happens("fail", "A2")
    today = lab.get("/api/today").get_json()
    assert today["glances"][0]["still"] == "survives no further failure"
    assert today["verdict"].startswith("One thing needs you now")
    happens("pull", "A3")
    happens("pull", "A4")
    (glance,) = lab.get("/api/today").get_json()["glances"]
    assert (glance["state"], glance["still"]) == ("unreachable", "nothing is lost; wait for what is away")


def test_days_pass_when_asked_and_stop_when_asked(lab: Person, person: Callable[[str], Person]) -> None:
    told = lab.post("/api/stand-in/time", {"hours": 48}).get_json()
    assert dt.datetime.fromisoformat(told["until"]) - dt.datetime.fromisoformat(told["now"]) > dt.timedelta(hours=47)
    assert lab.get("/api/stand-in/time").get_json()["until"] == told["until"]
    assert lab.post("/api/stand-in/time/stop").get_json()["until"] is None
    assert lab.get("/api/stand-in/time").get_json()["until"] is None
    assert lab.post("/api/stand-in/time", {"hours": 0}).status_code == 422
    assert person("wren").post("/api/stand-in/time", {"hours": 1}).status_code == 403
    # Nobody is signed out by a year that passes, and a worker that was heard of just now is not away.
    clock.go_ahead(dt.timedelta(days=365))
    assert lab.get("/api/today").status_code == 200
    refused = lab.post("/api/stand-in/writes", {"volume_id": _number("office"), "a_day": "a lot"}, method="PUT")
    assert (refused.status_code, refused.get_json()["field"]) == (400, "a_day")


def test_what_is_used_is_said_of_drives_shelves_and_pools(lab: Person) -> None:
    (shelf,) = lab.get("/api/shelves").get_json()["shelves"]
    drives = lab.get(f"/api/drives?shelves={shelf['id']}").get_json()["drives"]
    assert all(d["used"] > 0 for d in drives)
    assert shelf["used"] == sum(d["used"] for d in drives)
    assert shelf["in_pools"] == shelf["size"] == sum(d["size"] for d in drives)
    glance = lab.get("/api/pools").get_json()["pools"][0]["glance"]
    # Five drives, two of them redundancy: what volumes have is three fifths of what stands on drives, to a row.
    assert 0 <= shelf["used"] - glance["given"] * 5 // 3 < 5 * 2**30
    facts = {f["label"]: f["bytes"] for f in lab.get(f"/api/drives/{drives[0]['id']}").get_json()["facts"]}
    assert facts["Used on it"] + facts["Free on it"] == facts["Size"]


def _families(text: str) -> dict[str, Any]:
    return {f.name: f for f in text_string_to_metric_families(text)}


def test_metrics_are_read_with_a_token_and_are_what_the_screens_say(
    lab: Person, stranger: Person, person: Callable[[str], Person]
) -> None:
    def read(token: str) -> Any:
        return stranger.client.get("/metrics", headers={"Authorization": f"Bearer {token}"} if token else {})

    assert read("").status_code == 401 == read("x").status_code
    assert "Bearer" in read("").headers["WWW-Authenticate"]
    assert person("osric").post("/api/metrics-token").status_code == 403
    token = lab.post("/api/metrics-token").get_json()["token"]
    assert lab.get("/api/metrics-token").get_json() == {"token": None, "there": True}
    answer = read(token)
    assert answer.mimetype == "application/openmetrics-text"
    found = _families(answer.get_data(as_text=True))
    glance = lab.get("/api/today").get_json()["glances"][0]
    for figure in ("capacity", "given", "files"):
        (sample,) = found[f"pairshelf_pool_{figure}_bytes"].samples
        assert (sample.labels, sample.value) == ({"pool": "cold"}, glance[figure])
    states = {s.labels["pairshelf_pool_state"]: s.value for s in found["pairshelf_pool_state"].samples}
    assert states["healthy"] == 1 and sum(states.values()) == 1
    with transaction() as session:
        assert len(found["pairshelf_drive_size_bytes"].samples) == len(session.exec(select(DriveRow.id)).all())
    assert [found[f"pairshelf_{who}_present"].samples[0].value for who in ("worker", "watcher")] == [0, 0]
    assert found["pairshelf_pool_checked_timestamp_seconds"].samples == []  # never checked: unknown, not nought
    # Another token takes its place; then none.
    second = lab.post("/api/metrics-token").get_json()["token"]
    assert (read(token).status_code, read(second).status_code) == (401, 200)
    assert lab.post("/api/metrics-token/drop").get_json()["there"] is False
    assert read(second).status_code == 401


def test_the_page_for_trouble_and_the_lamp(lab: Person, person: Callable[[str], Person]) -> None:
    assert lab.get("/api/trouble/1").get_json()["over"] is True
    happens("fail", "A2")
    told = lab.get("/api/trouble/1").get_json()
    assert (told["over"], told["title"], told["link"]) == (
        False,
        "The drive in A bay 2 has failed",
        "/pools/1?replace=2",
    )
    assert any("A2" in line["sentence"] for line in told["happened"])
    (shelf,) = told["shelves"]
    matters = {m["page"] for m in lab.get("/api/today").get_json()["matters"]}
    assert "/trouble/1" in matters
    # The lamp is on the drive, so whoever looks sees it; it touches nothing of what the drive stores.
    assert lab.post("/api/drives/2/lamp", {"on": True}, method="PUT").get_json() == {"on": True}
    assert [d["lit"] for d in lab.get(f"/api/drives?shelves={shelf}").get_json()["drives"]] == [
        False,
        True,
        False,
        False,
        False,
    ]
    assert lab.get("/api/trouble/1").get_json()["drives"][0]["lit"] is True
    for _ in range(2):
        assert lab.post("/api/drives/2/lamp", {"on": False}, method="PUT").status_code == 200
    assert lab.get("/api/drives/2").get_json()["drive"]["lit"] is False
    assert lab.post("/api/drives/99/lamp", {"on": True}, method="PUT").status_code == 404
    assert person("wren").post("/api/drives/2/lamp", {"on": True}, method="PUT").status_code == 403
    assert lab.get("/api/trouble/99").status_code == 404
    # A third one is pulled, and a fourth: unreachable, and never said to be lost.
    happens("pull", "A3")
    happens("pull", "A4")
    told = lab.get("/api/trouble/1").get_json()
    assert told["title"] == "Pool cold is away, not lost"
    assert {d["word"] for d in told["drives"]} == {"failed", "missing"} and len(told["keep_in"]) == 2


def test_a_pool_that_is_restriped_is_seen_at_a_glance_too(
    person: Callable[[str], Person], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Half way: between the two layouts, everything that is said of it can be said."""
    at_once()
    drives = shelf(5, name="R")
    pool = build(drives[:3], "parity-1", name="way")
    fill(pool, 0.5)
    carry_all()
    do("convert-pool", pool="way", scheme="parity-2", drives=(drives[3],))
    (job,) = open_jobs("restripe")
    monkeypatch.setattr("pairshelf.engine.carry._MOST", 3)
    steps = iter([False] * 3 + [True] * 10)
    carry(job, stop=lambda: next(steps))
    who = person("ida")
    for path in (f"/api/pools/{pool}", "/api/pools", "/api/today", "/api/shelves", f"/api/trouble/{pool}"):
        assert who.get(path).status_code == 200, path
    glance = who.get(f"/api/pools/{pool}").get_json()["glance"]
    assert glance["given"] <= glance["capacity"] and glance["still"] == "survives any one drive failure"
    shelf_id = who.get("/api/shelves").get_json()["shelves"][0]["id"]
    used = [d["used"] for d in who.get(f"/api/drives?shelves={shelf_id}").get_json()["drives"]]
    assert all(0 < u <= 60 * 2**30 for u in used[:4]) and used[4] is None
    _round()
