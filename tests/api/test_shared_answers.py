"""Answers that are worked out once for several who ask the same: never an old one, never somebody else's."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable

import pytest
from sqlmodel import select

from pairshelf.api import shared_answers
from pairshelf.store.database import transaction
from pairshelf.store.tables import PoolRow, User
from tests.api.conftest import Person
from tests.api.test_story import statements
from tests.engine.helpers import at_once, build, do, shelf

# Whatever anybody does on the same server is a change: nothing else runs beside these.
pytestmark = pytest.mark.alone


def test_many_who_ask_at_once_get_one_working_out() -> None:
    done: list[str] = []

    def work(name: str) -> Callable[[], bytes]:
        def slowly() -> bytes:
            time.sleep(0.05)
            done.append(name)
            return name.encode()

        return slowly

    found: list[bytes] = []
    threads = [
        threading.Thread(target=lambda: found.append(shared_answers.shared("q-1", "s1", work("a")))) for _ in range(6)
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert (done, found) == (["a"], [b"a"] * 6)
    assert shared_answers.shared("q-1", "s2", work("b")) == b"b", "something has changed"
    assert shared_answers.shared("q-2", "s2", work("c")) == b"c", "another question"


def test_what_fails_is_asked_again() -> None:
    def wrong() -> bytes:
        raise ValueError

    with pytest.raises(ValueError):
        shared_answers.shared("q-3", "s", wrong)
    assert shared_answers.shared("q-3", "s", lambda: b"right") == b"right"


def test_two_are_worked_out_side_by_side_and_one_that_hangs_holds_nobody_up(monkeypatch: pytest.MonkeyPatch) -> None:
    at_work, most, lock = 0, 0, threading.Lock()

    def work() -> bytes:
        nonlocal at_work, most
        with lock:
            at_work, most = at_work + 1, max(most, at_work + 1)
        time.sleep(0.02)
        with lock:
            at_work -= 1
        return b""

    def ask(question: str, how: Callable[[], bytes]) -> threading.Thread:
        thread = threading.Thread(target=shared_answers.shared, args=(question, "s", how))
        thread.start()
        return thread

    for thread in [ask(f"side-{n}", work) for n in range(8)]:
        thread.join()
    assert most == 2
    over = threading.Event()

    def hang() -> bytes:
        over.wait(20)
        return b""

    monkeypatch.setattr(shared_answers, "_HOLDS_UP", 0.1)
    hanging = [ask(f"hangs-{n}", hang) for n in range(2)]
    time.sleep(0.1)
    assert shared_answers.shared("quick", "s", lambda: b"here") == b"here"
    assert all(thread.is_alive() for thread in hanging)
    over.set()
    for thread in hanging:
        thread.join()
    # Its turn was none, so none was given back: there are still two.
    most = 0
    for thread in [ask(f"after-{n}", work) for n in range(8)]:
        thread.join()
    assert most == 2


def test_a_change_shows_at_once_and_rights_are_asked_every_time(person: Callable[[str], Person]) -> None:
    at_once()
    build(shelf(4), "parity-1", name="p")
    ida, wren = person("ida"), person("wren")
    wren.get("/api/pools"), ida.get("/api/pools")  # that they were seen is a change too
    first = wren.get("/api/pools/1").get_json()
    with statements() as said:
        assert ida.get("/api/pools/1").get_json() == first
    assert len(said) == 1, "who is asking, and nothing else"
    for number in range(5):
        with transaction() as session:
            session.exec(select(PoolRow)).one().name = f"p{number}"
        assert wren.get("/api/pools/1").get_json()["name"] == f"p{number}"
    do("rename-volume", volume="p4/v", name="scans")
    assert [v["name"] for v in ida.get("/api/pools/1").get_json()["volumes"]] == ["scans"]
    with transaction() as session:
        session.exec(select(User).where(User.name == "wren")).one().active = False
    assert wren.get("/api/pools/1").status_code == 401
    assert ida.get("/api/pools/1").status_code == 200


def test_what_time_alone_changes_shows_soon(person: Callable[[str], Person], monkeypatch: pytest.MonkeyPatch) -> None:
    who = person("ida")
    who.get("/api/today")
    monkeypatch.setattr(shared_answers.time, "monotonic", lambda now=time.monotonic(): now + 3)
    with statements() as said:
        who.get("/api/today")
    assert len(said) > 1
