"""Whatever is sent to draw up a change, the answer is a sheet or says what is wrong and where; nothing else happens."""

from __future__ import annotations

import random
from dataclasses import fields
from typing import Any

import pytest
from sqlalchemy import text

from pairshelf.core.changes.kinds import KINDS
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


@pytest.mark.parametrize("seed", [1, 2])
def test_a_sheet_or_a_reason_and_nothing_done(lab: Person, seed: int) -> None:
    dice = random.Random(seed)
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
