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

from pairshelf.api.problems import status_of
from pairshelf.core.errors import Denied
from pairshelf.services import accounts, attempts
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


def test_signing_out_ends_the_session_wherever_its_cookie_is(app: Any, person: Callable[[str], Person]) -> None:
    ida = person("ida")
    cookie = ida.client.get_cookie("pairshelf")
    assert cookie is not None
    ida.post("/api/sign-out")
    thief = app.test_client()
    thief.set_cookie("pairshelf", cookie.value)
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
