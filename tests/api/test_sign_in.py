"""Guessing is slowed and keeps nobody else out; sessions are rows that end."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import text

from pairshelf.api import hosts
from pairshelf.api.app import create_app
from pairshelf.api.problems import status_of
from pairshelf.core.errors import Denied
from pairshelf.services import accounts, attempts
from pairshelf.services.channels import set_address
from pairshelf.store import settings as store_settings
from pairshelf.store.database import transaction
from tests.api.conftest import PASSWORD, Person, do
from tests.engine.helpers import shelf


def _later(**by: int) -> None:
    """Let time pass for everybody who has to wait."""
    with transaction() as session:
        session.connection().execute(
            text("update attempts set wait_until = wait_until - :by, last_at = last_at - :by"),
            {"by": dt.timedelta(**by)},
        )


@given(failures=st.integers(0, 10**6), free=st.integers(1, 60), longest=st.floats(1, 1e4))
def test_waits_grow_and_end(failures: int, free: int, longest: float) -> None:
    counter = attempts.Counter("x", free, 1.0, longest)
    assert counter.wait(failures) <= counter.wait(failures + 1) <= longest
    assert (counter.wait(failures) > 0) == (failures >= free)


def test_a_guesser_waits_longer_and_longer(stranger: Person) -> None:
    for _ in range(5):
        assert stranger.sign_in("ida", "wrong").status_code == 401
    first = stranger.sign_in("ida")
    assert (first.status_code, first.get_json()["code"]) == (429, "too-many-attempts")
    waits = []
    for _ in range(4):
        waits.append(int(stranger.sign_in("ida").headers["Retry-After"]))
        _later(seconds=waits[-1])
        assert stranger.sign_in("ida", "wrong").status_code == 401
    assert waits == sorted(waits)
    assert waits[-1] >= 4 * waits[0]
    _later(seconds=60)
    assert stranger.sign_in("ida").status_code == 200, "the right password is let in once the wait is over"
    assert stranger.sign_in("ida", "wrong").status_code == 401, "and counting began anew"


def test_guessing_keeps_out_nobody_but_the_guesser(app: Any, person: Callable[[str], Person], stranger: Person) -> None:
    """Same address, as behind one router: who has signed in here before is not counted with the others."""
    ida = person("ida")
    for _ in range(12):
        stranger.sign_in("ida", "wrong")
    assert stranger.sign_in("ida").status_code == 429
    ids = shelf(4)
    assert do(ida, "build-pool", name="p", scheme="parity-1", drives=ids)["state"] == "approved"
    ida.post("/api/sign-out")
    ida.csrf = ida.get("/api/me").get_json()["csrf"]
    assert ida.sign_in("ida").status_code == 200, "on a device that is known"
    elsewhere = Person(app.test_client())
    elsewhere.client.environ_base["REMOTE_ADDR"] = "192.0.2.7"
    assert elsewhere.sign_in("ida").status_code == 200, "and from another address"


def test_wrong_passwords_at_an_approval_slow_that_session_alone(person: Callable[[str], Person]) -> None:
    ida, again = person("ida"), person("ida")
    ids = shelf(4)
    sheet = ida.post("/api/sheets/build-pool", {"name": "p", "scheme": "parity-1", "drives": ids}).get_json()["id"]
    answers = [
        ida.post(f"/api/sheets/{sheet}/approve", {"confirm": "p", "password": "x"}).status_code for _ in range(7)
    ]
    assert answers == [403] * 5 + [429] * 2
    assert again.post(f"/api/sheets/{sheet}/approve", {"confirm": "p", "password": PASSWORD}).status_code == 200


def test_attempts_side_by_side_count_like_one_after_the_other(app: Any) -> None:
    """The limit is counted before the password is looked at."""

    def guess(_: int) -> int:
        try:
            accounts.sign_in("ida", "wrong", "192.0.2.1")
        except Denied as denied:
            return status_of(denied)
        return 200

    with ThreadPoolExecutor(12) as pool:
        answers = list(pool.map(guess, range(48)))
    assert sorted(answers) == [401] * 5 + [429] * 43


def test_many_names_from_one_address_are_slowed_too(app: Any) -> None:
    statuses = []
    for number in range(40):
        with pytest.raises(Denied) as denied:
            accounts.sign_in(f"nobody{number}", "wrong", "192.0.2.1")
        statuses.append(status_of(denied.value))
    assert statuses[:30] == [401] * 30
    assert 429 in statuses[30:]


def test_guessing_a_passphrase_is_slowed_by_the_same(app: Any, person: Callable[[str], Person]) -> None:
    ida, ids = person("ida"), shelf(4)
    made = do(ida, "build-pool", name="p", scheme="parity-1", drives=ids, encrypted=True)
    pool, passphrase = made["pool_id"], made["passphrase"]
    assert ida.post(f"/api/pools/{pool}/lock").status_code == 200
    answers = [ida.post(f"/api/pools/{pool}/unlock", {"passphrase": "wrong"}).status_code for _ in range(7)]
    assert answers == [400] * 5 + [429] * 2
    with pytest.raises(Exception, match="not the passphrase"):
        accounts.unlock_pool(pool, "wrong", "ida", [attempts.Counter("pool from the console")])
    _later(minutes=10)
    assert ida.post(f"/api/pools/{pool}/unlock", {"passphrase": passphrase}).status_code == 200


def test_a_passphrase_is_asked_about_until_it_is_kept(person: Callable[[str], Person]) -> None:
    ida = person("ida")
    pool = do(ida, "build-pool", name="p", scheme="parity-1", drives=shelf(4), encrypted=True)["pool_id"]

    def asked() -> bool:
        return any("passphrase" in m["sentence"] for m in ida.get("/api/today").get_json()["matters"])

    assert asked()
    assert ida.post(f"/api/pools/{pool}/passphrase-kept").status_code == 200
    assert not asked()
    assert ida.post(f"/api/pools/{pool}/passphrase").status_code == 200
    assert asked(), "another one was shown"


def test_right_sign_ins_are_not_counted_as_guesses(app: Any) -> None:
    """Thirty-five people behind one address: each signs in, rightly, on a browser of their own."""
    for _ in range(35):
        assert Person(app.test_client()).sign_in("ida").status_code == 200
    # Wrong ones are, and a right one among them hides none.
    for number in range(29):
        assert Person(app.test_client()).sign_in(f"nobody{number}", "wrong").status_code == 401
    assert Person(app.test_client()).sign_in("ida").status_code == 200
    assert Person(app.test_client()).sign_in("nobody", "wrong").status_code == 401
    assert Person(app.test_client()).sign_in("ida").status_code == 429


def test_two_installations_on_one_host_name_leave_each_other_their_cookies(app: Any) -> None:
    one, two, again = (create_app(secret) for secret in ("one", "two", "one"))
    for name in ("SESSION_COOKIE_NAME", "DEVICE_COOKIE"):
        assert one.config[name] == again.config[name] != two.config[name]
    entered = app.test_client().post("/api/sign-in", json={"name": "ida", "password": PASSWORD})
    given = {c.split("=")[0] for c in entered.headers.getlist("Set-Cookie")}
    assert given <= {app.config["SESSION_COOKIE_NAME"], app.config["DEVICE_COOKIE"]}


@pytest.mark.parametrize(
    ("host", "status"),
    [
        ("localhost", 200), ("LOCALHOST:8321", 200), ("127.0.0.1:9", 200), ("[::1]:8321", 200), ("shelf.house.example", 200),
        ("localhost.:80", 200), ("lan.example:8321", 200),
        ("evil.example", 400), ("127.0.0.1.evil.example", 400), ("localhost@evil.example", 400), ("localhost/evil", 400),
        ("", 400), ("[::1", 400), ("10.0.0.9", 400), ("localhost, evil.example", 400),
    ],
)  # fmt: skip
def test_requests_that_mean_another_host_are_refused(
    host: str, status: int, app: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("PAIRSHELF_ALLOWED_HOSTS", "lan.example, other.example")
    store_settings.settings.cache_clear()
    hosts._known.clear()
    with transaction() as session:
        set_address(session, "ida", "https://shelf.house.example")
    for path in ("/api/health", "/", "/api/me"):
        answer = app.test_client().get(path, headers={"Host": host})
        assert answer.status_code in (status, 404 if path == "/" else status), (path, host)
        if status == 400:
            assert answer.get_json()["code"] == "unknown-host" and "evil" not in answer.get_data(as_text=True)


def test_signing_out_ends_the_session_wherever_its_cookie_is(app: Any, person: Callable[[str], Person]) -> None:
    ida = person("ida")
    cookie = ida.client.get_cookie(app.config["SESSION_COOKIE_NAME"])
    assert cookie is not None
    ida.post("/api/sign-out")
    thief = app.test_client()
    thief.set_cookie(app.config["SESSION_COOKIE_NAME"], cookie.value)
    assert thief.get("/api/today").status_code == 401


def test_somebody_shut_out_and_let_in_again_has_no_old_session(person: Callable[[str], Person]) -> None:
    ida, wren = person("ida"), person("wren")
    number = next(u["id"] for u in ida.get("/api/users").get_json()["users"] if u["name"] == "wren")
    for active in (False, True):
        assert ida.post(f"/api/users/{number}", {"active": active}, "PATCH").status_code == 200
        assert wren.get("/api/today").status_code == 401
    assert person("wren").get("/api/today").status_code == 200


def test_sessions_are_listed_and_ended_one_by_one(person: Callable[[str], Person]) -> None:
    here, there, other = person("ida"), person("ida"), person("wren")
    listed = here.get("/api/sessions").get_json()["sessions"]
    assert [s["own"] for s in listed].count(True) == 1 and len(listed) == 2
    foreign = other.get("/api/sessions").get_json()["sessions"][0]["id"]
    assert here.post(f"/api/sessions/{foreign}", method="DELETE").status_code == 404
    gone = next(s["id"] for s in listed if not s["own"])
    assert here.post(f"/api/sessions/{gone}", method="DELETE").status_code == 200
    assert there.get("/api/today").status_code == 401
    assert here.get("/api/today").status_code == 200


def test_a_session_nobody_uses_ends(person: Callable[[str], Person]) -> None:
    ida = person("ida")
    with transaction() as session:
        session.connection().execute(text("update session set seen_at = seen_at - interval '15 days'"))
    assert ida.get("/api/today").status_code == 401
