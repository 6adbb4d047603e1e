"""The description says all there is: who may ask, and every answer; and what is answered is as described."""

from __future__ import annotations

import os
from typing import Any

import openapi_spec_validator
import pytest
from sqlmodel import select

from pairshelf.api import turns
from pairshelf.api.description import FILES, PROBLEMS
from pairshelf.services import accounts
from pairshelf.store.database import transaction
from pairshelf.store.tables import User
from tests.api.conftest import PASSWORD, Person
from tests.soak.requests import findings


@pytest.fixture
def described(app: Any) -> dict[str, Any]:
    found: dict[str, Any] = app.test_client().get("/api/openapi.json").get_json()
    return found


def test_it_is_valid(described: dict[str, Any]) -> None:
    openapi_spec_validator.validate(described)


def test_every_route_says_who_may_ask_and_what_can_go_wrong(described: dict[str, Any]) -> None:
    assert set(described["components"]["securitySchemes"]) == {"session", "token"}
    for path, ways in described["paths"].items():
        for method, operation in ways.items():
            where = f"{method} {path}"
            assert set(operation["responses"]) == {"200", *map(str, PROBLEMS)}, where
            assert (method == "get") == ("token" not in (operation["security"] or [{}])[0]), where
            assert operation["summary"], where
    for answer in described["components"]["responses"].values():
        assert list(answer["content"]) == ["application/problem+json"]


def test_files_are_of_the_kind_described(lab: Person, described: dict[str, Any]) -> None:
    assert set(FILES) <= set(described["paths"])
    assert lab.get("/api/inventory.csv").mimetype == FILES["/api/inventory.csv"]


def test_wrong_methods_say_which_are_right(lab: Person) -> None:
    answer = lab.post("/api/today", method="DELETE")
    assert (answer.status_code, answer.get_json()["code"]) == (405, "no-such-method")
    assert "GET" in answer.headers["Allow"]


def test_requests_made_from_the_description(lab: Person, app: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    """A quarter of a minute of it; ``make soak`` goes on for as long as wanted."""
    monkeypatch.setattr(turns, "LONGEST_WORK", 0.4)

    def sign_in() -> tuple[str, str]:
        # Requests may have shut ida out, given her another password, or guessed at hers.
        with transaction() as session:
            ida = session.exec(select(User).where(User.name == "ida")).one()
            ida.active, ida.role, ida.password_hash = True, "administrator", accounts.hashed(PASSWORD)
            session.connection().exec_driver_sql("delete from attempts")
        who = Person(app.test_client())
        assert who.sign_in("ida").status_code == 200
        cookie = who.client.get_cookie(app.config["SESSION_COOKIE_NAME"])
        assert cookie is not None
        return who.csrf, cookie.value

    seconds = float(os.environ.get("SECONDS_OF_REQUESTS", "12"))
    number = int(os.environ.get("SEED") or 7)
    answered, found = findings(app, sign_in, examples=max(3, int(seconds) // 5), seconds=seconds, number=number)
    assert not found, "\n\n".join(found)
    assert answered.total() > 200 and answered[200] > 40 and answered[401] < 40, answered
