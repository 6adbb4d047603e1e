"""The worker process: carries jobs, looks at the devices, and picks up what a crash dropped.

What is recorded and told has a process of its own (``engine.watcher``), so that it never slows the jobs.
"""

from __future__ import annotations

import asyncio
import contextlib
import signal
import threading
import time

import procrastinate
import structlog
from sqlalchemy.exc import OperationalError

from pairshelf.engine import own_threads, signs
from pairshelf.engine.apply.pools.put_together import forget_those_that_are_over
from pairshelf.engine.approver import look_through_drafts
from pairshelf.engine.carry import carry, pick_up_the_dropped
from pairshelf.engine.early import act_early
from pairshelf.engine.errands import do_errands
from pairshelf.engine.io.files import empty_bins
from pairshelf.engine.keys import clear_keys
from pairshelf.engine.observe import look_after_a_rest, observe
from pairshelf.engine.own_log import quiet_log
from pairshelf.engine.pools import devices
from pairshelf.engine.queue import TASK, receiver
from pairshelf.engine.records import Recorder
from pairshelf.engine.schedules import begin_due
from pairshelf.store.database import Lock, engine, held_lock, transaction

#: Jobs one worker carries side by side.
CONCURRENCY = 8
_LOOK_EVERY = 0.5
_ROUND_EVERY = 3.0
_DRAFTS_EVERY = 60.0
_RECORDS_EVERY = 1.0

_stopping = threading.Event()
_logger = structlog.get_logger()


def register(app: procrastinate.App) -> None:
    """Tell the queue what its one task does."""

    @app.task(name=TASK, pass_context=False)
    def carry_job(job_id: int) -> None:
        carry(job_id, stop=_stopping.is_set)


def watch() -> None:
    """Look at the devices twice a second; every few seconds see to dropped jobs and say we are here."""
    last_round, rested = 0.0, False
    while not _stopping.is_set():
        try:
            if time.monotonic() - last_round > _ROUND_EVERY:
                last_round = time.monotonic()
                pick_up_the_dropped()
                do_errands()
                empty_bins()
                clear_keys()
                _forget_former_pools()
                act_early(devices())
                begin_due()
            with held_lock(Lock.WATCH) as mine:
                if mine is not None:
                    if not rested:
                        look_after_a_rest(devices())
                    rested = True
                    observe(devices())
        except Exception as error:
            # Whatever it was, the next look may fare better; a silent watcher would be worse.
            _logger.warning("watch", error=f"{type(error).__name__}: {error}".split("\n")[0])
            _stopping.wait(1)
        _stopping.wait(_LOOK_EVERY)


def _forget_former_pools() -> None:
    with transaction() as session:
        forget_those_that_are_over(session)


def read_drafts() -> None:
    """See now and then which drafts are out of date, so that they stop asking for anybody."""
    while not _stopping.wait(_DRAFTS_EVERY):
        try:
            look_through_drafts(devices())
        except Exception as error:
            _logger.warning("drafts", error=f"{type(error).__name__}: {error}".split("\n")[0])


def keep_records() -> None:
    """Write on pools' drives, about every second, what has changed of them."""
    recorder = Recorder(devices())
    while not _stopping.wait(_RECORDS_EVERY):
        try:
            recorder.write_due()
        except Exception as error:
            _logger.warning("records", error=f"{type(error).__name__}: {error}".split("\n")[0])


def give_signs() -> None:
    """Say that we are here."""
    signs.keep_giving(signs.WORKER, _stopping)


async def _serve(app: procrastinate.App) -> None:
    async with app.open_async():
        await app.run_worker_async(
            concurrency=CONCURRENCY,
            install_signal_handlers=False,
            delete_jobs="always",
            fetch_job_polling_interval=1.0,
            shutdown_graceful_timeout=8,
        )


def main() -> None:
    """Run until told to stop. Ends with an error when the database is lost; whoever started it tries again."""
    quiet_log()
    app = receiver()
    register(app)
    with contextlib.suppress(OperationalError):
        pick_up_the_dropped()
    threads = own_threads.begin([watch, keep_records, read_drafts, give_signs])
    loop = asyncio.new_event_loop()
    task = loop.create_task(_serve(app))

    def stop() -> None:
        _stopping.set()
        task.cancel()

    for number in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(number, stop)
    try:
        with contextlib.suppress(asyncio.CancelledError):
            loop.run_until_complete(task)
    finally:
        _stopping.set()
        own_threads.wait_for(threads)
        engine().dispose()
