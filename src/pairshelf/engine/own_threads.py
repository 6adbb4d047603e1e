"""What a process does beside its main work, in threads of its own, and how it waits for them when it ends."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Sequence

import structlog

_logger = structlog.get_logger()
#: Seconds that all of them together are given to come to an end of what they are at.
_PATIENCE = 6.0


def begin(works: Sequence[Callable[..., object]], *given: object) -> list[threading.Thread]:
    """Each of the works, with what is ``given``, in a thread of its own; they do not keep the process from ending."""
    threads = [threading.Thread(target=work, args=given, name=work.__name__, daemon=True) for work in works]
    for thread in threads:
        thread.start()
    return threads


def wait_for(threads: Sequence[threading.Thread], patience: float = _PATIENCE) -> list[str]:
    """Wait until all have ended, each of which has been told to; the names of those that did not within ``patience``
    seconds. A process that ended without waiting would cut off what they write, and take from under them what they
    work with."""
    until = time.monotonic() + patience
    for thread in threads:
        thread.join(max(0.0, until - time.monotonic()))
    late = [t.name for t in threads if t.is_alive()]
    if late:
        _logger.info("cut off", threads=late)
    return late
