"""What building costs: 60 large drives from nothing to every byte verified, and screens over a large estate."""

from __future__ import annotations

import http.client
import os
import random
import re
import shutil
import socket
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from sqlalchemy import Engine
from sqlmodel import select

from bench.common import line
from pairshelf.engine.jobs.check import start_check
from pairshelf.engine.jobs.fill import start_fill

BLOCK = 4096
#: The figures that are allowed.
ALL_SECONDS, SCREEN_MS, REQUESTS_A_SECOND = 60, 60, 50
#: Open streams, and half-sent requests, that answers are timed beside; whose the streams are.
STREAMS, LISTENERS = 500, 25
#: As a job of some hours does at the usual speed.
CHANGES_A_SECOND = 4


@contextmanager
def surroundings() -> Iterator[Path]:
    """A database and a room of devices of their own."""
    from pairshelf.launch.cluster import Cluster
    from pairshelf.store import database

    folder = Path(tempfile.mkdtemp(prefix="pairshelf-bench-"))
    folder.chmod(0o755)
    cluster = Cluster(folder / "postgres")
    cluster.start()
    os.environ["PAIRSHELF_DATABASE_URL"] = cluster.url
    os.environ["PAIRSHELF_DEVICES"] = str(folder / "devices")
    _forget()
    database.migrate()
    try:
        yield folder
    finally:
        database.engine().dispose()
        cluster.stop()
        shutil.rmtree(folder, ignore_errors=True)
        _forget()


def _forget() -> None:
    from pairshelf.engine import pools, queue
    from pairshelf.store import database
    from pairshelf.store import settings as store_settings

    for cached in (store_settings.settings, database.engine, pools.devices, queue._sender):
        cached.cache_clear()


def copy_speed(folder: Path) -> float:
    """Bytes a second that this machine copies from one file to another, to stable storage."""
    size = 512 * 2**20
    source, target = folder / "copy-a", folder / "copy-b"
    source.write_bytes(random.Random(1).randbytes(2**20) * (size // 2**20))
    started = time.perf_counter()
    with open(source, "rb") as a, open(target, "wb") as b:
        shutil.copyfileobj(a, b, 2**20)
        b.flush()
        os.fdatasync(b.fileno())
    took = time.perf_counter() - started
    source.unlink()
    target.unlink()
    return size / took


def sixty_drives() -> None:
    """60 drives of 14 TB in six sets of double parity: synced, filled, checked, every byte verified."""
    with surroundings() as folder:
        from pairshelf.core.changes.kinds import request_of
        from pairshelf.core.domain.drives import Kind
        from pairshelf.core.domain.inventory import DriveRecord
        from pairshelf.engine import approver
        from pairshelf.engine.carry import carry
        from pairshelf.engine.pools import devices, open_pool
        from pairshelf.store.database import transaction
        from pairshelf.store.repositories.drives_and_pools import add_records
        from pairshelf.store.tables import JobRow, Service, Setting, VolumeRow

        copy = copy_speed(folder)
        line("copy of a file, to stable storage", f"{copy / 1e6:.0f} MB/s")
        with transaction() as session:
            session.merge(Setting(key="speed", value={"factor": 0}))
            rows = [DriveRecord("B", i + 1, f"B{i}", 14 * 10**12, Kind.HDD) for i in range(60)]
            ids = [r.id or 0 for r in add_records(session, rows, service=Service.FREE)]
        whole = time.perf_counter()
        request = {"name": "b", "scheme": "parity-2", "drives": ids, "sets": 6, "volume": "v", "file_system": "xfs"}
        with transaction() as session:
            sheet = approver.draw_up(session, "build-pool", request_of("build-pool", request), "bench").id or 0
        with transaction() as session:
            pool_id = approver.approve(session, sheet, "bench", "b", devices())[1].pool_id or 0
        with transaction() as session:
            sync = session.exec(select(JobRow.id)).one() or 0
        seconds = {"first sync": timed(lambda: carry(sync))}
        with transaction() as session:
            volume = session.get(VolumeRow, 1)
            assert volume is not None
            filling = start_fill(session, open_pool(session, pool_id), volume, 1.0, "bench").id or 0
        seconds["filling"] = timed(lambda: carry(filling))
        with transaction() as session:
            checking = start_check(session, open_pool(session, pool_id), "bench").id or 0
        seconds["check, and every file read back"] = timed(lambda: carry(checking))
        took = time.perf_counter() - whole
        with transaction() as session:
            report = session.get(JobRow, checking).report  # type: ignore[union-attr]
        assert report["mismatches"] == 0 and not report["files_differing"] and report["files_read"] > 0
        raw = 60 * 13_038 * BLOCK
        for phase, took_here in seconds.items():
            line(f"  {phase}", f"{took_here:.1f} s = {raw / took_here / copy:.2f} of copy speed")
        verdict = f"{took:.1f} s = {took / ALL_SECONDS:.2f} of allowed"
        line("60 drives of 14 TB built, filled, every byte verified", verdict)


def timed(act: object) -> float:
    """Seconds an act takes."""
    started = time.perf_counter()
    act()  # type: ignore[operator]
    return time.perf_counter() - started


# -- screens over a large estate -------------------------------------------------------------------

_ESTATE = """
insert into site (id, name) values (1, 'Here');
insert into host (id, site_id, name, letters) select g, 1, 'host-' || lpad(g::text, 3, '0'), false from generate_series(1, 100) g;
insert into shelf (id, site_id, host_id, name, bays) select g, 1, 1 + g % 100, 'shelf-' || g, 24 from generate_series(1, 417) g;
insert into drive (id, shelf_id, bay, serial, size, kind, starts_host, service, condition, seen_at)
    select g, 1 + (g - 1) / 24, 1 + (g - 1) % 24, 'N' || g, 14000000000000, 'hdd', false,
           case when g <= 6000 then 'in-use' else 'free' end, 'good', now() from generate_series(1, 10000) g;
insert into pool (id, uid, name, scheme, sets, capacity, state, synced_to, tint, created_at, promised, measured)
    select g, 'u' || g, 'pool-' || lpad(g::text, 3, '0'), 'parity-2', 1, 130380, 'healthy', 13038, g % 8, now(), '{}', '{}'
    from generate_series(1, 500) g;
insert into pool_place (pool_id, slot, size, kind, shelf, drive_id, state, rebuilt_to)
    select 1 + (g - 1) / 12, (g - 1) % 12, 14000000000000, 'hdd', 'shelf-' || (1 + (g - 1) / 24), g, 'active', 0
    from generate_series(1, 6000) g;
insert into volume (id, pool_id, name, size, extents, thin, purpose, file_system, overhead, uuid, created_at)
    select g, 1 + (g - 1) / 10, 'volume-' || g, 1073741824000, 1000, false, '', 'xfs', 1073741824, 'u' || g, now()
    from generate_series(1, 5000) g;
insert into volume_piece (pool_id, volume_id, at, first, count)
    select 1 + (g - 1) / 10, g, 0, 1000 * ((g - 1) % 10), 1000 from generate_series(1, 5000) g;
insert into mount (host_id, volume_id, at) select 1 + g % 100, g, '/srv/volume-' || g from generate_series(1, 2000) g;
insert into party (id, name, kind) select g, 'person-' || g, 'person' from generate_series(1, 300) g;
insert into share (id, volume_id, name, encrypted) select g, g, 'share-' || lpad(g::text, 4, '0'), true from generate_series(1, 1000) g;
insert into share_right (share_id, party_id, may) select g, 1 + g % 300, 'write' from generate_series(1, 1000) g;
insert into sample_file (volume_id, name, first, extents, checksum, written_at, via, folder, writer)
    select 1 + g % 5000, 'f' || g, g / 5000, 1, 'x', now(), 'mount', '', 'w' from generate_series(1, 50000) g;
"""

SCREENS = (
    "/api/today", "/api/shelves", "/api/drives?shelves=1,2,3", "/api/pools", "/api/pools/77", "/api/volumes",
    "/api/access/hosts", "/api/access/shares", "/api/access/targets", "/api/jobs", "/api/sheets",
    "/api/depends/pull?kind=drive&name=N77", "/api/pools/77/room",
)  # fmt: skip


def screens() -> None:
    """10,000 drives, 500 pools, 5,000 volumes: what screens ask for, at 50 requests a second."""
    with surroundings():
        from pairshelf.services.accounts import add_user
        from pairshelf.store.database import engine, transaction

        with transaction() as session:
            session.connection().connection.driver_connection.execute(_ESTATE)
            add_user(session, "bench", "only for this", "administrator")
            for i in range(LISTENERS):
                add_user(session, f"listener{i}", "only for this", "viewer")
        # As the server does by itself within minutes.
        with engine().connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
            connection.exec_driver_sql("vacuum analyze")
        listeners: list[str] = []
        starts = [_one_start(engine(), listeners) for _ in range(STARTS)]
    for path in sorted(SCREENS, key=lambda path: -statistics.median(s["alone"][path] for s in starts)):
        line(f"  {path}", _of(starts, "alone", path) + " (95th)")
    line(f"  at half of it, {REQUESTS_A_SECOND // 2} requests a second", _of(starts, "half") + " (95th)")
    line(f"  while something changes {CHANGES_A_SECOND} times a second", _of(starts, "changing") + " (95th)")
    hard = statistics.median(s["pressed"][ALL] for s in starts)
    line(
        "  and one core is busy with something else",
        f"{_of(starts, 'pressed')} = {hard / (2 * SCREEN_MS):.2f} of allowed",
    )
    alone, beside = (statistics.median(s[how][ALL] for s in starts) for how in ("alone", "held"))
    line(
        f"  beside {STREAMS} open streams and {STREAMS} half-sent requests",
        f"{_of(starts, 'held')} = {beside / alone:.2f} of without",
    )
    line(
        f"10,000 drives, 500 pools, 5,000 volumes: {SECONDS * REQUESTS_A_SECOND} requests",
        f"{_of(starts, 'alone')} = {alone / SCREEN_MS:.2f} of allowed",
    )


#: The server is started so often, and the middle of what is measured counts: which of its processes takes which of the
#: visitors' connections is a matter of luck, and with bad luck one has most of the work.
STARTS = 3
SECONDS = 12
ALL = "all of them"


def _one_start(engine: Engine, listeners: list[str]) -> dict[str, dict[str, float]]:
    """Milliseconds within which 95 of 100 answers come, by circumstance and screen, of a server started for this.
    ``listeners``: who listens, signed in at the first start; more at once than people sign in would be refused."""
    from pairshelf.launch.cluster import free_port

    port = free_port()
    web = subprocess.Popen([sys.executable, "-m", "pairshelf.api.serve", "127.0.0.1", str(port), "2"])
    try:
        cookie = _cookie(port)
        # Every process has met every question before it counts.
        _load(port, cookie, seconds=8, rate=10)
        taken = {"half": _load(port, cookie, seconds=8, rate=REQUESTS_A_SECOND // 2)}
        taken["alone"] = _load(port, cookie, seconds=SECONDS, rate=REQUESTS_A_SECOND)
        with _changing(engine):
            taken["changing"] = _load(port, cookie, seconds=SECONDS, rate=REQUESTS_A_SECOND)
        with _changing(engine), _a_core_busy():
            taken["pressed"] = _load(port, cookie, seconds=SECONDS, rate=REQUESTS_A_SECOND)
        listeners += [_cookie(port, f"listener{i}") for i in range(len(listeners), LISTENERS)]
        with _holding(port, listeners):
            taken["held"] = _load(port, cookie, seconds=SECONDS, rate=REQUESTS_A_SECOND)
    finally:
        web.terminate()
        web.wait(20)
    return {
        how: {path: _p95(some) * 1000 for path, some in found.items()}
        | {ALL: _p95([t for some in found.values() for t in some]) * 1000}
        for how, found in taken.items()
    }


def _of(starts: list[dict[str, dict[str, float]]], how: str, path: str = ALL) -> str:
    """The middle of all starts in milliseconds, and what was least and most."""
    found = sorted(one[how][path] for one in starts)
    return f"{statistics.median(found):.0f} ms ({found[0]:.0f} to {found[-1]:.0f})"


@contextmanager
def _changing(engine: Engine) -> Iterator[None]:
    """Commit something again and again, as a job under way does: no answer stays good for long."""
    over = threading.Event()

    def change() -> None:
        while not over.wait(1 / CHANGES_A_SECOND):
            with engine.begin() as connection:
                connection.exec_driver_sql("update pool set tint = 7 - tint where id = 400")

    thread = threading.Thread(target=change)
    thread.start()
    try:
        yield
    finally:
        over.set()
        thread.join()


@contextmanager
def _a_core_busy() -> Iterator[None]:
    """Something else that takes all it gets of one core."""
    busy = subprocess.Popen([sys.executable, "-c", "while True: pass"])
    try:
        yield
    finally:
        busy.kill()
        busy.wait()


@contextmanager
def _holding(port: int, cookies: list[str]) -> Iterator[None]:
    """So many streams held open, and as many requests sent by half: heads and bodies."""
    held = []
    for number in range(STREAMS):
        one = socket.create_connection(("127.0.0.1", port), 10)
        cookie = cookies[number % len(cookies)]
        one.sendall(f"GET /api/events HTTP/1.1\r\nHost: localhost\r\nCookie: {cookie}\r\n\r\n".encode())
        held.append(one)
    for one in held:
        one.settimeout(30)
        assert one.recv(300).startswith(b"HTTP/1.1 200"), "a stream was refused"
    half = b"POST /api/sign-in HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/json\r\nContent-Length: 90\r\n\r\n{"
    for number in range(STREAMS):
        one = socket.create_connection(("127.0.0.1", port), 10)
        one.sendall(half if number % 2 else half[:40])
        held.append(one)
    try:
        yield
    finally:
        for one in held:
            one.close()


def _p95(times: list[float]) -> float:
    return sorted(times)[int(len(times) * 0.95)] if times else 0.0


def _cookie(port: int, name: str = "bench") -> str:
    """Sign in over the API; the session's cookie."""
    import json

    until = time.monotonic() + 30
    while True:
        try:
            one = http.client.HTTPConnection("127.0.0.1", port, timeout=5)
            one.request("GET", "/api/me")
            answer = one.getresponse()
            token = json.loads(answer.read())["csrf"]
            break
        except (OSError, ValueError, KeyError):
            if time.monotonic() > until:
                raise
            time.sleep(0.2)
    cookie = (answer.getheader("Set-Cookie") or "").split(";")[0]
    body = json.dumps({"name": name, "password": "only for this"})
    one.request(
        "POST", "/api/sign-in", body, {"Content-Type": "application/json", "X-CSRFToken": token, "Cookie": cookie}
    )
    answer = one.getresponse()
    answer.read()
    assert answer.status == 200, answer.status
    found = re.search(r"pairshelf=[^;]+", answer.getheader("Set-Cookie") or "")
    assert found
    return found[0]


def _load(port: int, cookie: str, *, seconds: int, rate: int) -> dict[str, list[float]]:
    """Ask for the screens in turn, so many times a second whatever the answers take; how long each took."""
    taken: dict[str, list[float]] = {path: [] for path in SCREENS}
    lock = threading.Lock()
    started = time.perf_counter() + 0.5

    def visitor(number: int, visitors: int) -> None:
        one = http.client.HTTPConnection("127.0.0.1", port, timeout=20)
        for turn in range(number, seconds * rate, visitors):
            due = started + turn / rate
            time.sleep(max(0.0, due - time.perf_counter()))
            path = SCREENS[turn % len(SCREENS)]
            one.request("GET", path, headers={"Cookie": cookie})
            answer = one.getresponse()
            answer.read()
            assert answer.status == 200, (path, answer.status)
            # From when it was due: a queue that builds up counts.
            with lock:
                taken[path].append(time.perf_counter() - due)

    visitors = 16
    threads = [threading.Thread(target=visitor, args=(n, visitors)) for n in range(visitors)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return taken


if __name__ == "__main__":
    sixty_drives()
    screens()
