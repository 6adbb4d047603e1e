"""The process that keeps watch: what matters is recorded and told, apart from the jobs and after them."""

from __future__ import annotations

import os
import signal
import threading
from collections.abc import Callable, Sequence

import structlog

from pairshelf.engine import own_threads, passing, signs
from pairshelf.engine.history import Watch
from pairshelf.engine.own_log import quiet_log
from pairshelf.store.database import engine, use_few_connections

_WATCH_EVERY = 1.0
_PASSING_EVERY = 1.0
#: So much later than jobs its work comes to a processor that both want (``nice``).
AFTER_JOBS = 5
_logger = structlog.get_logger()


def keep_watch(stopping: threading.Event) -> None:
    """Record every ten seconds what matters, and hold it against its thresholds."""
    kept = Watch()
    while not stopping.wait(_WATCH_EVERY):
        try:
            kept.look()
        except Exception as error:
            _logger.warning("history", error=f"{type(error).__name__}: {error}".split("\n")[0])


def give_signs(stopping: threading.Event) -> None:
    """Say that we are here."""
    signs.keep_giving(signs.WATCHER, stopping)


def let_time_pass(stopping: threading.Event) -> None:
    """Go on letting days pass for the simulated devices, where somebody has asked for that."""
    kept = Watch()
    while not stopping.wait(_PASSING_EVERY):
        try:
            while not stopping.is_set() and passing.stride(kept):
                pass
        except Exception as error:
            _logger.warning("passing", error=f"{type(error).__name__}: {error}".split("\n")[0])


def main(besides: Sequence[Callable[[threading.Event], None]] = (), *, after_jobs: int = AFTER_JOBS) -> None:
    """Run until told to stop, with what else is kept ``besides``, each in a thread of its own."""
    quiet_log()
    os.nice(after_jobs)
    use_few_connections()
    stopping = threading.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda _number, _frame: stopping.set())
    threads = own_threads.begin([keep_watch, let_time_pass, give_signs, *besides], stopping)
    stopping.wait()
    own_threads.wait_for(threads)
    engine().dispose()
