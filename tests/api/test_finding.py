"""Everything that has a name is found, whatever it is."""

from __future__ import annotations

import pytest
from sqlmodel import select

from pairshelf.store.database import transaction
from pairshelf.store.tables import DriveRow
from tests.api.conftest import IQN, Person


def found(who: Person, words: str) -> list[tuple[str, str]]:
    answer = who.client.get("/api/find", query_string={"words": words})
    assert answer.status_code == 200
    return [(f["what"], f["name"]) for f in answer.get_json()["found"]]


def test_by_name_serial_iqn_and_person(lab: Person) -> None:
    assert ("drive", "A3") in found(lab, "a3")
    assert ("person", "reed") in found(lab, "reed")
    assert ("group", "desk") in found(lab, "desk") and ("share", "desk") in found(lab, "desk")
    assert ("target", IQN + "t") in found(lab, IQN + "t")
    assert ("initiator", IQN + "fir") in found(lab, "fernhollow:fir")
    assert ("host", "elm") in found(lab, "elm") and ("shelf", "A") in found(lab, "a")
    assert ("volume", "cold/office") in found(lab, "office cold")
    assert found(lab, "no such thing") == [] == found(lab, "  ")
    # A sign that stands for anything in the database stands for itself here.
    assert found(lab, "%") == [] == found(lab, "_")


def test_acts_come_first_with_what_they_apply_to(lab: Person) -> None:
    assert found(lab, "check cold")[0] == ("act", "Check pool cold")
    assert found(lab, "extend office")[0] == ("act", "Extend or shrink cold/office")
    assert not any(what == "act" for what, _ in found(lab, "replace"))
    with transaction() as session:
        number = session.exec(select(DriveRow.id).where(DriveRow.serial == "A3")).one()
    assert lab.post("/api/drives/retire", {"ids": [number], "to": "x"}).status_code == 409


@pytest.mark.parametrize("words", ["x" * 101])
def test_too_many_words_are_refused(lab: Person, words: str) -> None:
    assert lab.client.get("/api/find", query_string={"words": words}).status_code == 422
