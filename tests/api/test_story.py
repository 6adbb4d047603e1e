"""The API along the way through: lists, comparison, sheets, two people at once, and how many statements it takes."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

import psycopg
import pytest
from sqlalchemy import event

from pairshelf.engine.pools import devices
from pairshelf.store import database
from tests.api.conftest import PASSWORD, Person
from tests.engine.helpers import at_once, build, carry_all, fill, happens, shelf

HEAD = "shelf,bay,serial,size,kind,holds\n"


def _list(count: int, start: int = 0) -> bytes:
    rows = (f"S{i // 24},{i % 24 + 1},N{start + i},4 TB,hdd,{'somebody' if i == 0 else ''}\n" for i in range(count))
    return (HEAD + "".join(rows)).encode()


def _take_all(who: Person, count: int) -> list[int]:
    assert who.send("/api/inventory", _list(count)).get_json()["stored"]
    drives = who.get("/api/drives?shelves=1").get_json()["drives"]
    assert {d["service"] for d in drives} == {"new"}
    ids = [d["id"] for d in drives]
    assert who.post("/api/drives/take-in", {"ids": ids}).get_json() == {"taken": count}
    return ids


def test_a_list_is_stored_whole_or_not_at_all(person: Callable[[str], Person]) -> None:
    who = person("osric")
    preview = who.send("/api/inventory/preview", _list(5)).get_json()
    assert (preview["good_rows"], preview["stored"]) == (5, False)
    assert who.get("/api/shelves").get_json()["drives"] == 0
    spoilt = _list(5) + b"S0,3,N99,4 TB,hdd,\nS0,20,N98,4 TB,tape,\n"
    answer = who.send("/api/inventory", spoilt).get_json()
    assert [(e["row"], e["column"]) for e in answer["errors"]] == [(7, "bay"), (8, "kind")]
    assert who.get("/api/shelves").get_json()["drives"] == 0
    assert who.send("/api/inventory", _list(5)).get_json()["stored"]
    again = who.send("/api/inventory/preview", _list(5)).get_json()
    assert (again["errors"], again["new"], again["same"], again["changed"], again["gone"]) == ([], 0, 5, [], [])
    exported = who.get("/api/inventory.csv").data
    assert exported.count(b"\r\n") == 6
    assert who.send("/api/inventory", b"\x00\x01").get_json()["code"] == "binary-file"


def test_ten_thousand_drives_in_seconds(person: Callable[[str], Person]) -> None:
    who = person("ida")
    started = time.monotonic()
    assert who.send("/api/inventory", _list(10_000)).get_json()["stored"]
    assert time.monotonic() - started < 60, "seconds, not minutes; the figure itself is in the benchmarks"
    shelves = who.get("/api/shelves?filter=new hdd >%3D 4TB bay:3").get_json()
    assert (shelves["drives"], shelves["matching"]) == (10_000, 417)


def test_from_comparison_to_an_approved_sheet(person: Callable[[str], Person]) -> None:
    at_once()
    who = person("ida")
    ids = _take_all(who, 8)
    answer = who.post("/api/compare", {"drive_ids": ids, "survive": 1}).get_json()
    pick = next(x for x in answer["layouts"] if x["scheme"] == "parity-2" and len(x["sets"]) == 2)
    order = [int(i) for one in pick["sets"] for i in one]
    cut = who.post(
        "/api/compare/cut",
        {"drive_ids": ids, "scheme": "parity-2", "sets": 2, "failed": pick["sets"][0][:3]},
    ).get_json()
    assert cut["after"]["survives"] is False and "set 1" in cut["after"]["sentence"]
    body = {"name": "cold", "scheme": "parity-2", "sets": 2, "drives": order, "volume": "scans", "file_system": "xfs"}
    sheet = who.post("/api/sheets/build-pool", body).get_json()
    assert [e["holds"] for e in sheet["body"]["erases"] if e["holds"]] == ["somebody"]
    path = f"/api/sheets/{sheet['id']}/approve"
    assert who.post(path, {"confirm": "warm", "password": PASSWORD}).get_json()["field"] == "confirm"
    assert who.post(path, {"confirm": "cold", "password": "wrong"}).get_json()["field"] == "password"
    assert who.get("/api/pools").get_json()["pools"] == []
    assert who.post(path, {"confirm": "cold", "password": PASSWORD}).get_json()["state"] == "approved"
    carry_all()
    pool = who.get(f"/api/pools/{who.get('/api/pools').get_json()['pools'][0]['id']}").get_json()
    assert (
        pool["volumes"][0]["for_files"]
        == who.post("/api/compare", {"drive_ids": ids, "file_system": "xfs"}).get_json()["layouts"][
            [x["key"] for x in answer["layouts"]].index(pick["key"])
        ]["space"]["usable"]
    )
    sentences = [e["sentence"] for e in who.get("/api/logbook").get_json()["entries"]]
    assert "Build pool cold: approved." in sentences and "ida signed in." in sentences


def test_two_administrators_approve_for_the_same_drive(app: Any, person: Callable[[str], Person]) -> None:
    at_once()
    ida, maud = person("ida"), person("maud")
    ids = _take_all(ida, 6)
    sheets = []
    for who, name, drives in ((ida, "one", ids[:4]), (maud, "two", ids[2:])):
        body = {"name": name, "scheme": "parity-1", "drives": drives, "volume": "v"}
        sheets.append((who, name, who.post("/api/sheets/build-pool", body).get_json()["id"]))
    answers: list[tuple[int, str]] = []
    together = threading.Barrier(2)

    def approve(who: Person, name: str, sheet: int) -> None:
        together.wait()
        answer = who.post(f"/api/sheets/{sheet}/approve", {"confirm": name, "password": PASSWORD})
        answers.append((answer.status_code, answer.get_data(as_text=True)))

    threads = [threading.Thread(target=approve, args=s) for s in sheets]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    answers.sort()
    assert [a[0] for a in answers] == [200, 409], answers
    assert "in use in pool" in answers[1][1] or "changed" in answers[1][1]
    assert len(ida.get("/api/pools").get_json()["pools"]) == 1
    free = [d for d in ida.get("/api/drives?shelves=1").get_json()["drives"] if d["service"] == "free"]
    assert len(free) == 2


def test_a_double_click_approves_once(person: Callable[[str], Person]) -> None:
    at_once()
    who = person("ida")
    ids = _take_all(who, 4)
    body = {"name": "p", "scheme": "parity-1", "drives": ids, "volume": "v"}
    sheet = who.post("/api/sheets/build-pool", body).get_json()["id"]
    path, yes = f"/api/sheets/{sheet}/approve", {"confirm": "p", "password": PASSWORD}
    assert [who.post(path, yes).status_code for _ in range(2)] == [200, 409]


def test_an_approval_holds_for_what_was_shown(person: Callable[[str], Person]) -> None:
    at_once()
    who = person("ida")
    ids = _take_all(who, 4)
    body = {"name": "p", "scheme": "parity-1", "drives": ids, "volume": "v"}
    sheet = who.post("/api/sheets/build-pool", body).get_json()["id"]
    happens("warn", "N1")
    answer = who.post(f"/api/sheets/{sheet}/approve", {"confirm": "p", "password": PASSWORD})
    assert (answer.status_code, answer.get_json()["code"]) == (409, "changed-since")
    assert who.get("/api/pools").get_json()["pools"] == []


def test_a_silent_drive_stops_the_building(person: Callable[[str], Person]) -> None:
    """The device is pulled, and nobody has noticed yet: nothing is half built."""
    at_once()
    who = person("ida")
    ids = _take_all(who, 4)
    body = {"name": "p", "scheme": "parity-1", "drives": ids, "volume": "v"}
    sheet = who.post("/api/sheets/build-pool", body).get_json()["id"]
    devices().pull("N2")
    answer = who.post(f"/api/sheets/{sheet}/approve", {"confirm": "p", "password": PASSWORD})
    assert (answer.status_code, answer.get_json()["code"]) == (409, "drive-silent")
    assert who.get("/api/pools").get_json()["pools"] == []
    assert {d["service"] for d in who.get("/api/drives?shelves=1").get_json()["drives"]} == {"free"}


def test_what_a_host_starts_from_is_never_offered(person: Callable[[str], Person]) -> None:
    who = person("ida")
    rows = "shelf,bay,serial,size,kind,host,starts its host\nA,1,X,1 TB,nvme,h,yes\nA,2,Y,1 TB,nvme,h,\n"
    assert who.send("/api/inventory", rows.encode()).get_json()["stored"]
    who.post("/api/drives/take-in", {"ids": [1, 2]})
    assert who.get("/api/drives/matching?filter=nvme").get_json()["ids"] == [2]
    answer = who.post("/api/sheets/build-pool", {"name": "p", "scheme": "single", "drives": [1], "volume": "v"})
    assert answer.status_code == 409 and "starts from it" in answer.get_json()["title"]


def test_a_spare_is_drawn_as_what_it_is(person: Callable[[str], Person]) -> None:
    at_once()
    ids = shelf(5)
    pool = build(ids, "parity-1", spares=1)
    (spare,) = person("wren").get(f"/api/pools/{pool}").get_json()["cut"]["spares"]
    assert spare == {"id": f"spare-{ids[-1]}", "size": 60 * 2**30, "extents": 59, "kind": "hdd"}


@contextmanager
def statements() -> Iterator[list[str]]:
    said: list[str] = []

    def note(_c: object, _u: object, statement: str, *_: object) -> None:
        said.append(statement)

    event.listen(database.engine(), "before_cursor_execute", note)
    yield said
    event.remove(database.engine(), "before_cursor_execute", note)


@pytest.mark.parametrize(
    ("path", "most"),
    [
        ("/api/today", 30), ("/api/shelves", 7), ("/api/drives?shelves=1,2", 4), ("/api/pools", 19),
        ("/api/pools/1", 43), ("/api/jobs", 8), ("/api/logbook", 4), ("/api/sheets", 4),
    ],
)  # fmt: skip
def test_screens_take_few_statements_however_much_there_is(
    path: str, most: int, person: Callable[[str], Person]
) -> None:
    at_once()
    for name in ("A", "B", "C"):
        build(shelf(5, name=name), "parity-1", name=f"pool-{name}")
    carry_all()
    fill(1)
    carry_all()
    who = person("ida")
    # What lies where is worked out once, and again when it changes.
    assert who.get("/api/shelves").status_code == 200
    with statements() as said:
        assert who.get(path).status_code == 200
    assert len(said) <= most, said


def test_without_a_database_the_answer_is_clear(db: str, person: Callable[[str], Person]) -> None:
    who = person("ida")
    server, name = db.rsplit("/", 1)
    with psycopg.connect(f"{server}/postgres", autocommit=True) as admin:
        admin.execute(f"alter database {name} with allow_connections false")
        admin.execute("select pg_terminate_backend(pid) from pg_stat_activity where datname = %s", (name,))
        answer = who.get("/api/today")
        assert (answer.status_code, answer.get_json()["code"]) == (503, "no-database")
        admin.execute(f"alter database {name} with allow_connections true")
    assert who.get("/api/today").status_code == 200


def test_changes_are_told_to_those_who_listen(db: str, person: Callable[[str], Person]) -> None:
    with psycopg.connect(db, autocommit=True) as listener:
        listener.execute("listen pairshelf")
        assert person("ida").send("/api/inventory", _list(3)).get_json()["stored"]
        told = {n.payload for n in listener.notifies(timeout=5, stop_after=6)}
    assert {"drive", "shelf", "site", "logbook"} <= told
