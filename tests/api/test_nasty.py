"""Whatever is sent to draw up a change, the answer is a sheet or says what is wrong and where; nothing else happens."""

from __future__ import annotations

import io
import random
import tarfile
from dataclasses import fields
from itertools import product
from typing import Any

import pytest
from sqlalchemy import text

from pairshelf.core.changes.kinds import KINDS
from pairshelf.engine.observe import observe
from pairshelf.engine.pools import devices
from pairshelf.store.database import transaction
from tests.api.conftest import IQN, Person

#: Values of all sorts; among them names of things that are there, so that some get further in.
VALUES: list[Any] = [
    "", " ", "x" * 300, "a/b", "..", "/", "/../x", "נפח", "📁", "\0", "a\nb", "%s", "'; drop table volume; --", "{1..", "{1..9}",
    "0", "-1", "1e400", "NaN", "inf", "١٢ GiB", "5 GiB", "99999999999999999999 TB", "all", "1", None, True, 0, -1, 3, 2**31, 2**63, 2**70,
    1.5, -0.5, 1e308, [], [1], [1, 1], ["x"], [None], [[]], {}, {"a": 1}, [2**70], "cold", "cold/office", "cold/disk", "office",
    "disk", "elm", "fir", "/srv/office", "desk", "ash", ["ash"], ["ash:read"], ["ash:"], [":"], ["desk:write", "desk:read"],
    IQN + "t", IQN + "fir", IQN, [IQN + "fir"], "xfs", "none", "parity-1", "spread", "10.0.0.1/24", "::1/64", "1 Gbit/s", "by-date",
]  # fmt: skip
_COUNTS = text("""
select 'volume', count(*), sum(size) from volume union all select 'piece', count(*), sum(count) from volume_piece
union all select 'mount', count(*), 0 from mount union all select 'share', count(*), 0 from share
union all select 'right', count(*), 0 from share_right union all select 'target', count(*), 0 from target
union all select 'party', count(*), 0 from party union all select 'initiator', count(*), 0 from initiator
union all select 'pool', count(*), 0 from pool union all select 'job', count(*), 0 from job order by 1
""")


def _stands() -> list[Any]:
    with transaction() as session:
        return list(session.connection().execute(_COUNTS).all())


GOOD: dict[str, dict[str, Any]] = {
    "make-volumes": {"pool": "cold", "name": "v-{1..2}", "size": "10 GiB", "file_system": "xfs"},
    "rename-volume": {"volume": "cold/office", "name": "papers"},
    "resize-volume": {"volume": "cold/office", "size": "all"},
    "mount-volume": {"volume": "cold/office", "host": "elm", "mount_point": "/srv/again"},
    "make-share": {
        "volume": "cold/office",
        "name": "scans",
        "rights": ["ash:read"],
        "quota": "5 GiB",
        "folder": "scans",
    },
    "make-target": {"iqn": IQN + "u", "host": "elm", "volume": "cold/disk", "initiators": [IQN + "fir"]},
    "declare-initiator": {"iqn": IQN + "birch-and-more"},
    "add-party": {"name": "g", "members": ["ash", "reed"]},
    "set-host": {"host": "fir", "address": "10.1.0.7"},
}


def _body(dice: random.Random, names: list[str], good: dict[str, Any]) -> dict[str, Any]:
    """A good body with one or two values spoilt, or one that is all chance."""
    if good and dice.random() < 0.7:
        return {**good, **{n: dice.choice(VALUES) for n in dice.sample(names, min(len(names), dice.randrange(3)))}}
    return {n: dice.choice(VALUES) for n in names if dice.random() < 0.8}


def test_a_sheet_or_a_reason_and_nothing_done(lab: Person) -> None:
    dice = random.Random(1)
    before = _stands()
    drawn = 0
    for kind in KINDS.values():
        names = [f.name for f in fields(kind.request)]
        for _ in range(14):
            body = _body(dice, names, GOOD.get(kind.id, {}))
            answer = lab.post(f"/api/sheets/{kind.id}", body)
            found = answer.get_json()
            assert answer.status_code in (200, 400, 403, 404, 409, 422), (kind.id, body, found)
            if answer.status_code == 200:
                drawn += 1
            else:
                assert answer.content_type.startswith("application/problem+json"), (kind.id, body)
                assert found["title"] and found["code"], (kind.id, body, found)
    assert drawn > 10, "some of it makes sense"
    assert _stands() == before


#: They would end the session, or take long on purpose.
LEFT_OUT = (
    "/api/sign-in",
    "/api/sign-out",
    "/api/password",
    "/api/setup",
    "/api/users/{user_id}",
    "/api/compare/export/pdf",
)


def test_no_other_route_falls_over_either(lab: Person) -> None:
    """Every route of the description, with values of all sorts in its path, query and body."""
    dice = random.Random(7)
    described = lab.get("/api/openapi.json").get_json()
    schemas = described["components"]["schemas"]
    for path, ways in described["paths"].items():
        if path in LEFT_OUT or path.startswith("/api/sheets/"):
            continue
        for way, route in ways.items():
            content = route.get("requestBody", {}).get("content", {}).get("application/json")
            names = list(schemas[content["schema"]["$ref"].split("/")[-1]]["properties"]) if content else []
            for _ in range(6):
                address, query = path, {}
                for given in route.get("parameters", []):
                    if given["in"] == "path":
                        address = address.replace(f"{{{given['name']}}}", str(dice.choice((0, 1, 2, 10**12))))
                    elif dice.random() < 0.7:
                        query[given["name"]] = str(dice.choice(VALUES))
                body = {n: dice.choice(VALUES) for n in names if dice.random() < 0.85}
                answer = lab.client.open(
                    address, method=way.upper(), query_string=query, json=body if way != "get" else None,
                    headers={"X-CSRFToken": lab.csrf},
                )  # fmt: skip
                assert answer.status_code < 500, (way, address, query, body, answer.get_data(as_text=True)[:500])


_NO_TEXT = [
        ("/api/sheets/build-pool", "[" * 2000 + "]" * 2000),
        ("/api/sheets/build-pool", '{"name": ' + "[" * 2000 + "]" * 2000 + "}"),
        ("/api/compare", '{"shorthand": ' + '{"a": ' * 2000 + "1" + "}" * 2001),
        ("/api/sheets/add-party", '{"name": "\\ud800"}'),
        ("/api/sheets/add-party", '{"name": "a\\u0000b"}'),
        ("/api/users", '{"name": "x", "password": "\\udfff and more", "role": "viewer"}'),
        ("/api/password", '{"old": "\\ud800\\ud800", "new": "\\ud800 and more"}'),
        ("/api/comparisons", '{"name": "\\udead", "question": "?", "drives": []}'),
    ]  # fmt: skip


def test_what_no_text_is(lab: Person, stranger: Person) -> None:
    for who, (path, body) in product((lab, stranger), _NO_TEXT):
        answer = who.client.post(path, data=body, content_type="application/json", headers={"X-CSRFToken": who.csrf})
        assert answer.status_code in (400, 401, 409, 422), answer.get_data(as_text=True)[:300]
        assert answer.get_json()["title"], (path, body[:40])


def test_signing_in_with_what_no_text_is(stranger: Person) -> None:
    for body in (
        '{"name": "\\ud800", "password": "x"}',
        '{"name": "ida", "password": "\\ud800"}',
        "[" * 2000,
        '{"name": "\\u0000", "password": "x"}',
    ):
        answer = stranger.client.post("/api/sign-in", data=body, content_type="application/json",
                                      headers={"X-CSRFToken": stranger.csrf})  # fmt: skip
        assert answer.status_code in (400, 401, 422), body


def test_a_path_longer_than_a_host_can_keep(lab: Person) -> None:
    for part in ["x" * 300, "נ" * 150, "📁" * 60]:
        answer = lab.post(
            "/api/sheets/mount-volume", {"volume": "cold/office", "host": "elm", "mount_point": f"/srv/{part}"}
        )
        assert (answer.status_code, answer.get_json()["field"]) == (400, "mount_point")
        assert lab.client.get("/api/hosts/1/folder", query_string={"path": f"/srv/{part}"}).status_code in (
            400,
            404,
            409,
        )


def test_numbers_that_are_none(lab: Person) -> None:
    for typed in ["²", "1,²", "١", "9" * 30, "-1", "1.5"]:
        assert lab.client.get("/api/drives", query_string={"shelves": typed}).status_code in (200, 400)
        assert lab.client.get("/api/drives/by-id", query_string={"ids": typed}).status_code in (200, 400)


def test_a_text_where_a_file_is_meant(lab: Person) -> None:
    for path in ["/api/inventory", "/api/inventory/preview", "/api/prices"]:
        answer = lab.client.post(path, data={"file": "a,b\n1,2"}, headers={"X-CSRFToken": lab.csrf})
        assert (answer.status_code, answer.get_json()["field"]) == (422, "file")


def test_a_drive_of_any_serial_is_put_in_and_its_image_taken(lab: Person) -> None:
    for bay, serial in enumerate([".", "..", "📁" * 64, "ÄÖ ß", "../../x", 'a"b'], 30):
        _any_serial(lab, serial, bay)


def _any_serial(lab: Person, serial: str, bay: int) -> None:
    shelf_id = lab.get("/api/shelves").get_json()["shelves"][0]["id"]
    with transaction() as session:
        session.connection().execute(text("update shelf set bays = 50"))
    put = lab.post("/api/stand-in/drives", {"shelf_id": shelf_id, "bay": bay, "size": "6 TB", "serial": serial})
    assert put.status_code == 200, put.get_json()
    observe(devices())
    with transaction() as session:
        drive = session.connection().execute(text("select id from drive where serial = :s"), {"s": serial}).scalar_one()
    assert lab.post(f"/api/stand-in/drives/{drive}", {"what": "fail"}).status_code == 200
    for what in ("pull", "put-back"):
        assert lab.post(f"/api/stand-in/drives/{drive}", {"what": what}).status_code == 200
    devices()._clear(serial)
    observe(devices())
    taken = lab.post("/api/drives/take-in", {"ids": [drive]})
    assert taken.status_code == 200, taken.get_json()
    parts = {"scheme": "gpt", "parts": [{"size": "5 GiB"}]}
    assert lab.post(f"/api/drives/{drive}/partitions", parts, "PUT").status_code == 200
    image = lab.get(f"/api/drives/{drive}/partitions/image")
    assert image.status_code == 200
    with tarfile.open(fileobj=io.BytesIO(image.data)) as archive:
        (name,) = archive.getnames()
    assert name.isascii() and "/" not in name and not name.startswith(".")


@pytest.mark.parametrize(
    "wrong", [{"size": "9.5 EB"}, {"maker": "a\0b"}, {"holds": "\0"}, {"model": "x" * 300}, {"serial": "x" * 65}]
)
def test_no_drive_can_be_put_in_that_could_not_be_read(wrong: dict[str, str], lab: Person) -> None:
    shelf_id = lab.get("/api/shelves").get_json()["shelves"][0]["id"]
    with transaction() as session:
        session.connection().execute(text("update shelf set bays = 50"))
    before = lab.get("/api/logbook").get_json()["entries"][0]["id"]
    answer = lab.post("/api/stand-in/drives", {"shelf_id": shelf_id, "bay": 41, **wrong})
    assert answer.status_code == 400
    assert answer.get_json()["field"] == next(iter(wrong))
    assert not devices().arrivals()
    assert lab.get("/api/logbook").get_json()["entries"][0]["id"] == before, (
        "nothing was done, and nothing is in the logbook"
    )


def test_a_full_disk_is_said_and_nothing_is_changed(lab: Person) -> None:
    with transaction() as session:
        session.connection().exec_driver_sql(
            "create function full_disk() returns trigger language plpgsql as $$ begin "
            "raise exception 'could not extend file' using errcode = '53100'; end $$; "
            "create trigger full_disk before insert on change_sheet for each row execute function full_disk()"
        )
    answer = lab.post("/api/sheets/add-party", {"name": "moss"})
    assert (answer.status_code, answer.get_json()["code"]) == (503, "disk-full")
    assert "full" in answer.get_json()["title"]
