"""A process that is told to end first lets what it does beside come to an end."""

from __future__ import annotations

import asyncio
import contextlib
import multiprocessing
import threading
import time
from collections.abc import AsyncIterator, Callable
from pathlib import Path

import procrastinate
import pytest

from pairshelf.engine import own_threads, watcher, worker
from pairshelf.engine.io.side_by_side import each
from pairshelf.engine.queue import receiver
from tests.server import forget_connections


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
    assert time.monotonic() - began < 10
    assert own_threads.wait_for(threads[:1]) == []


def _is_at_it(until: Callable[[], object], began: Path) -> None:
    """In the middle of something when told to end, and not over at once: what it writes, it writes side by side."""
    began.with_suffix(".began").touch()
    until()
    for _ in range(3):
        time.sleep(0.2)
        each(Path.touch, [began.with_suffix(".one"), began.with_suffix(".other")])
    began.with_suffix(".over").touch()


def _carries(at: Path) -> None:
    forget_connections()
    vars(worker).update(
        keep_records=lambda: _is_at_it(worker._stopping.wait, at / "records"),
        read_drafts=lambda: _is_at_it(worker._stopping.wait, at / "drafts"),
    )
    worker.main()


def _watches(at: Path) -> None:
    forget_connections()
    watcher.main([lambda stopping: _is_at_it(stopping.wait, at / "besides")], after_jobs=0)


def _stopped_after(seconds: float, app: procrastinate.App) -> bool:
    """Whether the queue came to its end, told to so long after it began."""

    async def carried() -> bool:
        carrying = worker.Carrying(app)
        await asyncio.sleep(seconds)
        carrying.stop()
        carrying.stop()
        ended, _ = await asyncio.wait([carrying.task], timeout=20)
        return bool(ended)

    return asyncio.new_event_loop().run_until_complete(carried())


def _told_at_any_time() -> None:
    late = [at for at in range(0, 100, 4) if not _stopped_after(at / 1000, receiver())]
    assert not late, "milliseconds after beginning"


def _told_in_vain_once() -> None:
    app = receiver()
    opened = app.open_async

    @contextlib.asynccontextmanager
    async def loses_one() -> AsyncIterator[procrastinate.App]:
        with contextlib.suppress(asyncio.CancelledError):
            await asyncio.sleep(1)
        async with opened() as here:
            yield here

    vars(app)["open_async"] = loses_one
    assert _stopped_after(0.1, app)


@pytest.mark.usefixtures("db")
@pytest.mark.parametrize("which", [_told_at_any_time, _told_in_vain_once])
def test_a_queue_stops_also_in_the_midst_of_beginning(which: Callable[[], None]) -> None:
    # In a process of its own: what a queue cut short leaves behind ends with it.
    process = multiprocessing.get_context("fork").Process(target=which)
    process.start()
    process.join(120)
    alive = process.is_alive()
    process.kill()
    assert not alive
    assert process.exitcode == 0


@pytest.mark.usefixtures("db")
@pytest.mark.parametrize(("who", "works"), [(_carries, 2), (_watches, 1)])
def test_what_is_done_beside_comes_to_its_end(who: Callable[[Path], None], works: int, tmp_path: Path) -> None:
    process = multiprocessing.get_context("fork").Process(target=who, args=(tmp_path,))
    process.start()
    until = time.monotonic() + 60
    while len(list(tmp_path.glob("*.began"))) < works:
        assert time.monotonic() < until, "it did not begin"
        time.sleep(0.05)
    time.sleep(0.3)
    process.terminate()
    process.join(30)
    assert process.exitcode == 0
    assert len(list(tmp_path.glob("*.over"))) == works, "it ended before what it does beside"
