"""The worker is killed with SIGKILL at many points; whoever goes on finds everything right."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable

import pytest
from sqlalchemy import event
from sqlmodel import select

from pairshelf.core.domain.units import GIB
from pairshelf.engine import carry as carry_module
from pairshelf.engine.carry import carry, pick_up_the_dropped
from pairshelf.engine.pools import devices
from pairshelf.services.simulated_use import install_application
from pairshelf.standin.hosts import Machines
from pairshelf.standin.media import Media
from pairshelf.store import database
from pairshelf.store.database import transaction
from pairshelf.store.tables import Application, Host, JobRow, Setting, Site
from tests.engine.helpers import (
    at_once,
    build,
    carry_all,
    check,
    do,
    files_intact,
    fill,
    happens,
    open_jobs,
    pool_state,
    replace,
    shelf,
)  # fmt: skip
from tests.server import forget_connections

pytestmark = [pytest.mark.usefixtures("db"), pytest.mark.crash]


def dies_at(point: int, work: Callable[[], None]) -> bool:
    """Do the work in a process that is killed at its ``point``-th write, flush or commit; whether it finished."""
    child = os.fork()
    if child:
        return os.waitpid(child, 0)[1] == 0
    try:
        forget_connections()
        left = point

        def count(*_: object) -> None:
            nonlocal left
            left -= 1
            if left <= 0:
                os.kill(os.getpid(), signal.SIGKILL)

        for kind, names in (
            (Media, ("write", "flush", "write_label")),
            (Machines, ("write", "move", "make_folder", "close")),
        ):
            for name in names:
                _count_calls(kind, name, count)
        event.listen(database.engine(), "commit", count)
        work()
    except BaseException:
        os._exit(1)
    os._exit(0)


def _count_calls(kind: type, name: str, count: Callable[[], None]) -> None:
    """Count before and after, so that a death may fall on either side of the act."""
    act = getattr(kind, name)

    def counted(self: object, *arguments: object, **more: object) -> None:
        count()
        act(self, *arguments, **more)
        count()

    setattr(kind, name, counted)


def _finish_through_crashes(job: int, between: Callable[[], None] = lambda: None) -> int:
    """Carry a job with a worker that dies later and later; how many died. ``between``: what is done after each."""
    deaths = 0
    for point in range(1, 400, 3):
        database.engine().dispose()
        died = not dies_at(point, lambda: carry(job))
        deaths += died
        with transaction() as session:
            state = session.get(JobRow, job).state  # type: ignore[union-attr]
        if state == "done":
            return deaths
        # One that came back with nothing done found the dead one's lock still held: the server takes a moment.
        assert state in ("waiting", "running"), "a death is no failure"
        between()
    raise AssertionError("never finished")


@pytest.fixture(autouse=True)
def small_steps(db: str, monkeypatch: pytest.MonkeyPatch) -> None:
    at_once()
    monkeypatch.setattr(carry_module, "_MOST", 9)


def test_first_sync_and_filling_through_crashes() -> None:
    pool = build(shelf(5), "parity-2")
    filling = fill(pool, 0.3)
    (sync,) = open_jobs("first-sync")
    assert _finish_through_crashes(filling) >= 5
    assert _finish_through_crashes(sync) >= 5
    assert check(pool).report["mismatches"] == 0
    assert files_intact(pool)


def test_a_recorder_that_overwrites_its_oldest_through_crashes() -> None:
    """Whoever reads between a death and the going on finds every file that is in the books as it was written."""
    pool = build(shelf(4, size=30 * GIB), "parity-1")
    carry_all()
    do("set-keep-rule", volume="p/v", above=70)
    carry(fill(pool, 0.7))

    def intact() -> None:
        assert files_intact(pool)

    again = fill(pool, 1.0)
    with transaction() as session:
        session.get_one(JobRow, again).total += 60
    assert _finish_through_crashes(again, intact) >= 5
    intact()
    assert check(pool).report["mismatches"] == 0


@pytest.mark.parametrize("scheme", ["parity-1", "copies-3", "stepped-2"])
def test_rebuild_through_crashes_with_writes_between(scheme: str) -> None:
    pool = build(shelf(6), scheme, sets=2 if scheme == "copies-3" else 1)
    fill(pool, 0.3)
    carry_all()
    happens("fail", "A2")
    replace(pool, 1, shelf(1, name="B")[0])
    filling = fill(pool, 0.5)
    (rebuild,) = open_jobs("rebuild")
    assert dies_at(12, lambda: carry(rebuild)) is False
    database.engine().dispose()
    dies_at(9, lambda: carry(filling))
    assert _finish_through_crashes(rebuild) >= 3
    carry(filling)
    assert pool_state(pool)[0] == "healthy"
    assert check(pool).report["mismatches"] == 0
    assert files_intact(pool)


def test_a_failed_drive_and_a_crash_together_lose_nothing() -> None:
    pool = build(shelf(5), "parity-1")
    carry_all()
    for point in range(2, 40, 4):
        filling = fill(pool, 0.05 + point / 60)
        database.engine().dispose()
        dies_at(point, lambda job=filling: carry(job))  # type: ignore[misc]
        if point == 18:
            happens("fail", "A4")
        carry(filling)
    assert files_intact(pool)
    replace(pool, 3, shelf(1, name="B")[0])
    carry_all()
    assert check(pool).report["mismatches"] == 0


def test_a_killed_worker_process_is_taken_over_from() -> None:
    """The real worker, killed for real; the next one picks its job up by itself."""
    with transaction() as session:
        session.merge(Setting(key="speed", value={"factor": 60}))
    pool = build(shelf(5), "parity-2")
    command = [sys.executable, "-m", "pairshelf.launch.worker"]
    first = subprocess.Popen(command)
    _until(lambda: _cursor("first-sync") > 0)
    first.kill()
    first.wait()
    reached = _cursor("first-sync")
    at_once()
    second = subprocess.Popen(command)
    try:
        _until(lambda: not open_jobs())
    finally:
        second.terminate()
        second.wait(15)
    assert 0 < reached < 59
    assert check(pool).report["mismatches"] == 0


def test_dropped_jobs_are_enqueued_again_and_held_ones_are_not_taken_twice() -> None:
    build(shelf(4), "parity-1")
    assert pick_up_the_dropped() == 0, "it waits in the queue"
    with transaction() as session:
        session.connection().exec_driver_sql("delete from procrastinate_jobs")
    assert pick_up_the_dropped() == 1
    assert pick_up_the_dropped() == 0
    with transaction() as session:
        session.connection().exec_driver_sql("delete from procrastinate_jobs")
    with database.held_lock(database.Lock.JOB, open_jobs()[0]):
        assert pick_up_the_dropped() == 0
        carry(open_jobs()[0])
    assert _cursor("first-sync") == 0


def _cursor(kind: str) -> int:
    with transaction() as session:
        return session.exec(select(JobRow.cursor).where(JobRow.kind == kind)).one()


def _until(condition: Callable[[], bool], seconds: float = 120) -> None:
    until = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < until, "waited too long"
        time.sleep(0.05)


def test_self_repair_and_thin_writing_of_a_spread_pool_through_crashes() -> None:
    ids = shelf(7, size=40 * GIB)
    pool = do("build-pool", name="s", scheme="spread", drives=tuple(ids), volume="v", volume_size="90 GiB", thin=True,
              protection="parity-1:4", file_system="xfs").pool_id or 0  # fmt: skip
    carry_all()
    assert _finish_through_crashes(fill(pool, 0.5)) >= 5
    happens("fail", "A3")
    (repair,) = open_jobs("self-repair")
    assert _finish_through_crashes(repair) >= 3
    assert pool_state(pool)[0] == "healthy"
    assert files_intact(pool)
    assert check(pool).report["mismatches"] == 0


@pytest.mark.parametrize("way", ["mount", "point"])
def test_an_application_moved_and_brought_back_through_crashes(way: str) -> None:
    pool = do("build-pool", name="p", scheme="parity-1", drives=tuple(shelf(4)), volume="v", file_system="xfs").pool_id
    with transaction() as session:
        session.add(Host(name="elm", site_id=session.exec(select(Site.id)).first() or 0))
        session.flush()
        install_application(
            session, "ida", host="elm", name="log", kind="database", owner="log", folder="/var/log-data", size="30 GiB"
        )
    hosts = devices().hosts
    before = {n: hosts.read("elm", f"/var/log-data/{n}") for n in hosts.files("elm", "/var/log-data")}
    if way == "point":
        do("mount-volume", volume="p/v", host="elm", mount_point="/srv/v")
    carry_all()
    do("move-application", application="elm/log", volume="p/v", way=way)
    (move,) = open_jobs("move-application")
    assert _finish_through_crashes(move) >= 5
    assert {n: hosts.read("elm", f"/var/log-data.aside/{n}") for n in before} == before
    assert files_intact(pool or 0)
    do("undo-move", application="elm/log")
    (undo,) = open_jobs("undo-move")
    assert _finish_through_crashes(undo) >= 2
    after = {n: hosts.read("elm", f"/var/log-data/{n}") for n in hosts.files("elm", "/var/log-data")}
    assert {n: after[n] for n in before} == before
    assert len(after) == len(before) + 1
    assert hosts.entries("elm", "/var/log-data.aside") is None
    with transaction() as session:
        app = session.exec(select(Application)).one()
        assert (app.running, app.volume_id, app.folder) == (True, None, "/var/log-data")
