"""A process that is told to end first lets what it does beside come to an end."""

from __future__ import annotations

import os
import signal
import threading
import time
from collections.abc import Callable, Iterator

import pytest

from pairshelf.engine import own_threads, watcher, worker
from pairshelf.engine.io.side_by_side import each


def test_all_are_waited_for_together_and_who_is_late_is_named() -> None:
    stopping = threading.Event()

    def soon(_event: threading.Event) -> None:
        stopping.wait()
        time.sleep(0.1)

    def late(_event: threading.Event) -> None:
        stopping.wait()
        time.sleep(30)

    threads = own_threads.begin([soon, late], stopping)
    assert own_threads.wait_for(threads, 0) == ["soon", "late"]
    stopping.set()
    began = time.monotonic()
    assert own_threads.wait_for([*threads, *threads], 0.5) == ["late", "late"], "each of them had half a second"
    assert time.monotonic() - began < 1.5
    assert own_threads.wait_for(threads[:1]) == []


@pytest.fixture
def as_before(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """The signals and words of these processes are those of the tests again afterwards."""
    kept = {number: signal.getsignal(number) for number in (signal.SIGTERM, signal.SIGINT)}
    monkeypatch.setattr(worker, "_stopping", threading.Event())
    for module in (worker, watcher):
        monkeypatch.setattr(module, "quiet_log", lambda: None)
    monkeypatch.setattr(watcher, "use_few_connections", lambda: None)
    yield
    for number, handler in kept.items():
        signal.signal(number, handler)


def _is_at_it(until: Callable[[], object], said: list[str]) -> None:
    """In the middle of something when told to end, and not over at once: what it writes, it writes side by side."""
    threading.Timer(0.2, os.kill, (os.getpid(), signal.SIGTERM)).start()
    until()
    for _ in range(3):
        time.sleep(0.2)
        each(said.append, ["written", "written"])
    said.append("over")


@pytest.mark.usefixtures("db", "as_before")
def test_who_carries_jobs_ends_after_what_writes_records(monkeypatch: pytest.MonkeyPatch) -> None:
    said: list[str] = []
    monkeypatch.setattr(worker, "keep_records", lambda: _is_at_it(worker._stopping.wait, said))
    monkeypatch.setattr(worker, "read_drafts", lambda: _is_at_it(worker._stopping.wait, said))
    worker.main()
    assert said.count("over") == 2, "it ended before what it does beside"


@pytest.mark.usefixtures("db", "as_before")
def test_who_keeps_watch_ends_after_what_it_is_at(monkeypatch: pytest.MonkeyPatch) -> None:
    said: list[str] = []
    watcher.main([lambda stopping: _is_at_it(stopping.wait, said)], after_jobs=0)
    assert said[-1:] == ["over"], "it ended before what it does beside"
