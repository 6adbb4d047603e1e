"""The web server: nobody who holds a socket keeps anybody else from an answer, and every stream says what answers."""

from __future__ import annotations

import contextlib
import json
import socket
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any
from urllib.parse import urlparse

import pytest
import requests
import uvicorn

from pairshelf.api import guard, turns
from pairshelf.api import served as module
from pairshelf.engine import signs
from pairshelf.launch.cluster import free_port
from pairshelf.store.database import transaction
from pairshelf.store.tables import DriveRow
from tests.api.conftest import PASSWORD
from tests.engine.helpers import shelf

pytestmark = pytest.mark.alone


@pytest.fixture
def server(app: Any, monkeypatch: pytest.MonkeyPatch) -> Iterator[str]:
    """The real server in a thread, with little patience; its address."""
    monkeypatch.setattr(module, "HEAD_TIME", 1.0)
    monkeypatch.setattr(module, "BODY_TIME", 1.5)
    monkeypatch.setattr(module, "BEAT", 0.6)
    monkeypatch.setattr(module, "THREADS", 6)
    port = free_port()
    config = uvicorn.Config(module.Served, factory=True, port=port, http=module.Patient, ws="none", log_level="error",
                            timeout_graceful_shutdown=1)  # fmt: skip
    running = uvicorn.Server(config)
    thread = threading.Thread(target=running.run, daemon=True)
    thread.start()
    until = time.monotonic() + 20
    while not running.started:
        assert time.monotonic() < until
        time.sleep(0.02)
    yield f"http://127.0.0.1:{port}"
    running.should_exit = True
    thread.join(10)


class Client(requests.Session):
    """Somebody at a browser, over a real connection."""

    def __init__(self, server: str, name: str) -> None:
        super().__init__()
        self.server = server
        self.headers["X-CSRFToken"] = self.ask("GET", "/api/me").json()["csrf"]
        answer = self.ask("POST", "/api/sign-in", json={"name": name, "password": PASSWORD})
        assert answer.status_code == 200
        self.headers["X-CSRFToken"] = answer.json()["csrf"]

    def ask(self, method: str, path: str, **more: Any) -> requests.Response:
        return self.request(method, self.server + path, timeout=40, **more)


def _connect(server: str) -> socket.socket:
    address = urlparse(server)
    return socket.create_connection((address.hostname, address.port), 5)


class Listening:
    """An open stream, read in a thread."""

    def __init__(self, client: Client) -> None:
        self.lines: list[str] = []
        self.status = 0
        self.ended = threading.Event()
        threading.Thread(target=self._read, args=(client,), daemon=True).start()

    def _read(self, client: Client) -> None:
        own = requests.Session()
        own.cookies.update(client.cookies)
        with (
            contextlib.suppress(requests.RequestException),
            own.get(client.server + "/api/events", stream=True, timeout=30) as answer,
        ):
            self.status = answer.status_code
            for line in answer.iter_lines(chunk_size=1, decode_unicode=True):
                self.lines.append(line)
        self.ended.set()

    def hears(self, wanted: Callable[[list[str]], bool], seconds: float = 8) -> bool:
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            if wanted(self.lines):
                return True
            time.sleep(0.02)
        return False


def test_open_streams_and_half_sent_requests_keep_nobody_waiting(server: str) -> None:
    people = [Client(server, name) for name in ("ida", "maud", "osric")]
    streams = [Listening(p) for p in people for _ in range(15)]
    halves = []
    for number in range(90):
        half = _connect(server)
        head = (
            b"POST /api/sign-in HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/json\r\nContent-Length: 90\r\n"
        )
        half.sendall(b"GET /api/health HTT" if number % 2 else head + b'\r\n{"name": ')
        halves.append(half)
    assert all(s.hears(lambda lines: "data: everything" in lines) for s in streams)
    began = time.monotonic()
    for person in people:
        assert person.ask("GET", "/api/today").status_code == 200
    assert time.monotonic() - began < 5
    with transaction() as session:
        session.add(DriveRow(serial="X1", size=10**12, kind="hdd"))
    # By name, or, where it fell before the server had begun to listen, as part of everything.
    assert all(s.hears(lambda ls: any("drive" in x for x in ls) or ls.count("data: everything") > 1) for s in streams)
    # Whoever sends half a head is hung up on, half a body is answered.
    for number, half in enumerate(halves):
        half.settimeout(8)
        said = half.recv(4096)
        assert said == b"" if number % 2 else said.startswith(b"HTTP/1.1 408")
        half.close()


def test_a_half_sent_second_request_is_hung_up_on_too(server: str) -> None:
    one = _connect(server)
    one.sendall(b"GET /api/health HTTP/1.1\r\nHost: localhost\r\n\r\n")
    said = b""
    while not said.endswith(b"}"):
        said += one.recv(65536)
    assert said.startswith(b"HTTP/1.1 200")
    one.sendall(b"GET /api/he")
    one.settimeout(8)
    assert one.recv(4096) == b""


def test_a_person_has_so_many_streams_and_others_theirs(server: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(module, "MOST_OF_ONE", 3)
    wren, ida = Client(server, "wren"), Client(server, "ida")
    for _ in range(3):
        assert Listening(wren).hears(bool)
    refused = wren.ask("GET", "/api/events")
    assert (refused.status_code, refused.json()["code"]) == (429, "too-many-streams")
    assert refused.headers["content-type"] == "application/problem+json"
    assert Listening(ida).hears(bool)
    assert requests.get(server + "/api/events", timeout=9).status_code == 401


def test_a_stream_ends_with_its_session(server: str) -> None:
    ida = Client(server, "ida")
    stream = Listening(ida)
    assert stream.hears(bool)
    ida.ask("POST", "/api/sign-out")
    assert stream.ended.wait(8)


def test_a_stream_says_what_answers(server: str) -> None:
    def states(lines: list[str]) -> list[dict[str, bool]]:
        return [json.loads(line[6:]) for line in lines if line.startswith("data: {")]

    stream = Listening(Client(server, "wren"))
    nobody = {"database": True, "worker": False, "watcher": False}
    assert stream.hears(lambda lines: nobody in states(lines)), "neither runs here"
    signs.give(signs.WORKER)
    assert stream.hears(lambda lines: states(lines)[-1:] == [nobody | {"worker": True}])
    signs.give(signs.WATCHER)
    assert stream.hears(lambda lines: states(lines)[-1:] == [dict.fromkeys(nobody, True)])


def test_bodies_have_limits_by_route(server: str) -> None:
    ida = Client(server, "ida")
    csv = b"\n" * (2 * 1024 * 1024)
    long = ida.ask("POST", "/api/sign-in", data=csv, headers={"Content-Type": "application/json"})
    assert (long.status_code, long.json()["code"]) == (413, "too-large")
    assert ida.ask("POST", "/api/inventory/preview", files={"file": ("x.csv", csv)}).status_code in (200, 400)
    assert ida.ask("POST", "/api/inventory/preview", files={"file": ("x.csv", b"x" * 17 * 2**20)}).status_code == 413
    assert guard.most_body("/api/sheets/build-pool") < guard.most_body("/api/prices")


def test_a_body_in_pieces_arrives_whole(server: str) -> None:
    ida = Client(server, "ida")
    shelf(4)
    body = json.dumps({"name": "p", "scheme": "parity-1", "drives": [1, 2, 3, 4]}).encode()

    def pieces() -> Iterator[bytes]:
        for i in range(0, len(body), 9):
            yield body[i : i + 9]

    answer = ida.ask("POST", "/api/sheets/build-pool", data=pieces(), headers={"Content-Type": "application/json"})
    assert answer.status_code == 200, answer.text


#: Divides sixty drives of many sizes among four uses: minutes, if it were let.
HARD = {
    "shorthand": ",".join(f"{1 + i % 3}x{2 + i}TB" for i in range(30)),
    "uses": [{"name": f"u{i}", "workload": "general", "need": f"{i + 1}TB", "survive": 1} for i in range(4)],
}


def test_a_heavy_question_ends_in_time_and_says_what_to_do(server: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(turns, "LONGEST_WORK", 1.0)
    began = time.monotonic()
    answer = Client(server, "wren").ask("POST", "/api/compare/split", json=HARD)
    assert (answer.status_code, answer.json()["code"]) == (409, "takes-too-long"), answer.text
    assert "fewer drives" in answer.json()["title"]
    assert time.monotonic() - began < 10


def test_whoever_waits_too_long_for_a_turn_may_ask_again(server: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(turns, "LONGEST_WAIT", 0.3)
    monkeypatch.setattr(turns, "LONGEST_WORK", 4.0)
    wren = Client(server, "wren")
    with ThreadPoolExecutor(2) as beside:
        both = list(beside.map(lambda _: wren.ask("POST", "/api/compare/split", json=HARD), range(2)))
    said = {a.status_code: (a.json()["code"], a.json()["title"]) for a in both}
    # That it was not its turn says nothing of the question: what was answered before goes on being shown.
    assert said[429] == ("too-many-questions", "Other questions took too long; ask again in a moment.")
    assert said[409][0] == "takes-too-long"


def test_a_heavy_question_ends_when_its_asker_leaves(server: str) -> None:
    wren = Client(server, "wren")
    with pytest.raises(requests.RequestException):
        wren.request("POST", server + "/api/compare/split", json=HARD, timeout=1.0)
    until = time.monotonic() + 10
    while turns._turn.locked():
        assert time.monotonic() < until, "it is worked on still"
        time.sleep(0.05)


def test_heavy_questions_wait_for_one_another_and_others_do_not(server: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(turns, "LONGEST_WORK", 2.5)
    monkeypatch.setattr(turns, "MOST_WAITING", 3)
    wren, ida = Client(server, "wren"), Client(server, "ida")
    answers: list[int] = []

    def ask() -> None:
        answers.append(wren.ask("POST", "/api/compare/split", json=HARD).status_code)

    asking = [threading.Thread(target=ask) for _ in range(5)]
    for one in asking:
        one.start()
    time.sleep(0.6)
    assert ida.ask("GET", "/api/today").status_code == 200
    assert answers.count(409) < 3, "an easy question is answered while heavy ones wait"
    for one in asking:
        one.join(30)
    assert sorted(answers) == [409, 409, 409, 429, 429]
    quick = wren.ask("POST", "/api/compare", json={"shorthand": "6x4TB"})
    assert quick.status_code == 200


def test_sixteen_mebibytes_of_nothing_are_refused_at_once(server: str) -> None:
    ida = Client(server, "ida")
    began = time.monotonic()
    answer = ida.ask("POST", "/api/inventory/preview", files={"file": ("x.csv", b"\n" * 16 * 2**20)})
    assert (answer.status_code, answer.json()["code"]) == (400, "too-many-rows")
    assert time.monotonic() - began < 3
