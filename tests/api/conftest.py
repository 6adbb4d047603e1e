"""A client of the API that signs in and carries the token changes need."""

from __future__ import annotations

import io
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from flask.testing import FlaskClient
from sqlmodel import select

from pairshelf.api.app import create_app, served
from pairshelf.engine.own_log import quiet_log
from pairshelf.services.accounts import add_user, secret_key
from pairshelf.store.database import transaction
from pairshelf.store.tables import Host, Site
from tests.conftest import House, house_of
from tests.engine.helpers import at_once, carry_all, shelf

IQN = "iqn.2026-01.example.fernhollow:"
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

    def put(self, path: str, body: Any = None) -> Any:
        return self.post(path, body, method="PUT")

    def send(self, path: str, content: bytes) -> Any:
        return self.client.post(
            path, data={"file": (io.BytesIO(content), "list.csv")}, headers={"X-CSRFToken": self.csrf}
        )


def _people() -> None:
    with transaction() as session:
        for name, role in (
            ("ida", "administrator"),
            ("maud", "administrator"),
            ("osric", "operator"),
            ("wren", "viewer"),
        ):
            add_user(session, name, PASSWORD, role)


@pytest.fixture(scope="session")
def people_house(server: str, template: str, common: Path) -> House:
    """Nothing but four users."""
    return house_of(server, template, common, "people", _people)


@pytest.fixture(scope="session")
def lab_house(server: str, template: str, common: Path) -> House:
    """A pool of double parity with a volume mounted, shared, and one served; two hosts and three people."""
    return house_of(server, template, common, "lab", _lab)


@pytest.fixture
def house(request: pytest.FixtureRequest) -> str | House:
    """The lab for whoever works there, four users for the others, and for who asks for no application nobody."""
    names = request.fixturenames
    kind = "lab_house" if "lab" in names else "people_house" if "app" in names else "template"
    found: str | House = request.getfixturevalue(kind)
    return found


@pytest.fixture(scope="session")
def _application() -> Any:
    """Made once a process: describing a hundred routes takes longer than most tests."""
    return create_app("of another house")


@pytest.fixture
def app(db: str, _application: Any) -> Any:
    quiet_log()
    _application.config["SECRET_KEY"] = secret_key()
    return _application


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


def do(who: Person, kind: str, **body: Any) -> Any:
    """Draw up and approve; the answer of the approval."""
    sheet = who.post(f"/api/sheets/{kind}", body)
    assert sheet.status_code == 200, sheet.get_json()
    found = sheet.get_json()
    answer = who.post(f"/api/sheets/{found['id']}/approve", {"confirm": found["body"]["confirm"] or "", "password": PASSWORD})  # fmt: skip
    assert answer.status_code == 200, answer.get_json()
    return answer.get_json()


@pytest.fixture
def lab(person: Callable[[str], Person]) -> Person:
    """Ida, where a pool of double parity has a volume mounted, shared, and one served; two hosts, three people."""
    return person("ida")


def _lab() -> None:
    _people()
    at_once()
    ids = shelf(5, size=200 * 2**30)
    with transaction() as session:
        site = session.exec(select(Site)).first() or Site(name="Here")
        session.add(site)
        session.flush()
        session.add_all(Host(name=n, site_id=site.id or 0) for n in ("elm", "fir"))
    who = Person(served().test_client())
    assert who.sign_in("ida").status_code == 200
    do(who, "build-pool", name="cold", scheme="parity-2", drives=ids)
    do(who, "make-volumes", pool="cold", name="office", size="100 GiB", host="elm", mount_point="/srv/office")
    do(who, "make-volumes", pool="cold", name="disk", size="50 GiB", thin=True, file_system="none")
    for name in ("ash", "bay", "reed"):
        do(who, "add-party", name=name)
    do(who, "add-party", name="desk", members=["ash", "bay"])
    do(who, "make-share", volume="cold/office", name="desk", rights=["desk:write", "reed:read"], quota="20 GiB",
       bin_days=7, folder="desk")  # fmt: skip
    do(who, "set-host", host="fir", iqn=IQN + "fir", storage_address="10.0.0.2/24")
    do(who, "set-host", host="elm", iqn=IQN + "elm", storage_address="10.0.0.1/24", link="1 Gbit/s")
    do(who, "declare-initiator", iqn=IQN + "fir")
    do(who, "make-target", iqn=IQN + "t", host="elm", volume="cold/disk", initiators=[IQN + "fir"])
    carry_all()
