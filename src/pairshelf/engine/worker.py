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
from procrastinate.worker import Worker as QueueWorker
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


class Carrying:
    """Takes what comes in the queue and carries it, until told to stop; to be made where a loop runs."""

    def __init__(self, app: procrastinate.App) -> None:
        self._app = app
        self._told = False
        self._queue = QueueWorker(
            app,
            concurrency=CONCURRENCY,
            install_signal_handlers=False,
            delete_jobs="always",
            fetch_job_polling_interval=1.0,
            shutdown_graceful_timeout=8,
        )
        self.task = asyncio.get_running_loop().create_task(self._serve())

    async def _serve(self) -> None:
        async with self._app.open_async():
            if not self._told:
                await self._queue.run()

    def stop(self) -> None:
        """Come to an end, also in the midst of beginning.

        Whoever waits for a connection with ``asyncio.wait_for`` loses a cancellation that comes just as the connection
        does. So a cancellation only ends the waiting sooner; what was told is kept, and looked at afterwards.
        """
        self._told = True
        self._queue.stop()
        if self._queue.run_task is None:
            self.task.cancel()

    async def end(self) -> None:
        """Wait until all has ended."""
        with contextlib.suppress(asyncio.CancelledError):
            await self.task


def main() -> None:
    """Run until told to stop. Ends with an error when the database is lost; whoever started it tries again."""
    quiet_log()
    app = receiver()
    register(app)
    with contextlib.suppress(OperationalError):
        pick_up_the_dropped()
    threads: list[threading.Thread] = []

    async def carry_all() -> None:
        carrying = Carrying(app)

        def stop() -> None:
            _stopping.set()
            carrying.stop()

        for number in (signal.SIGTERM, signal.SIGINT):
            asyncio.get_running_loop().add_signal_handler(number, stop)
        # From here on whoever ends this process waits for them.
        threads.extend(own_threads.begin([watch, keep_records, read_drafts, give_signs]))
        await carrying.end()

    try:
        asyncio.new_event_loop().run_until_complete(carry_all())
    finally:
        _stopping.set()
        own_threads.wait_for(threads)
        engine().dispose()
