"""A client of the API that signs in and carries the token changes need."""

from __future__ import annotations

import io
from collections.abc import Callable
from typing import Any

import pytest
from flask.testing import FlaskClient

from pairshelf.api.accounts import add_user
from pairshelf.api.app import served
from pairshelf.store.database import transaction

PASSWORD = "a good password"


class Person:
    """Somebody at a browser."""

    def __init__(self, client: FlaskClient) -> None:
        self.client = client
        self.csrf = client.get("/api/me").get_json()["csrf"]

    def sign_in(self, name: str, password: str = PASSWORD) -> Any:
        answer = self.post("/api/sign-in", {"name": name, "password": password})
        if answer.status_code == 200:
            self.csrf = answer.get_json()["csrf"]
        return answer

    def get(self, path: str) -> Any:
        return self.client.get(path)

    def post(self, path: str, body: Any = None, method: str = "POST") -> Any:
        return self.client.open(path, method=method, json=body or {}, headers={"X-CSRFToken": self.csrf})

    def send(self, path: str, content: bytes) -> Any:
        return self.client.post(
            path, data={"file": (io.BytesIO(content), "list.csv")}, headers={"X-CSRFToken": self.csrf}
        )


@pytest.fixture
def app(db: str) -> Any:
    with transaction() as session:
        for name, role in (
            ("ida", "administrator"),
            ("maud", "administrator"),
            ("osric", "operator"),
            ("wren", "viewer"),
        ):
            add_user(session, name, PASSWORD, role)
    return served()


@pytest.fixture
def person(app: Any) -> Callable[[str], Person]:
    def enter(name: str) -> Person:
        one = Person(app.test_client())
        assert one.sign_in(name).status_code == 200
        return one

    return enter


@pytest.fixture
def stranger(app: Any) -> Person:
    return Person(app.test_client())
