"""Heavy questions take turns: one person's wait for one another, and all together never take more than about half
of a process, since only one is worked on at a time while the others' answers go on beside it.

Each has a deadline, and ends when its asker has left.
"""

from __future__ import annotations

import fcntl
import os
import threading
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from flask import request

from pairshelf.core.errors import NotNow, NotPossible
from pairshelf.core.patience import as_long_as
from pairshelf.store.settings import settings

#: Seconds a heavy question may wait for its turn, and then be worked on.
LONGEST_WAIT, LONGEST_WORK = 30.0, 20.0
#: Heavy questions of one person, and of all, that wait in one process: each holds a thread.
MOST_WAITING, MOST_OF_ALL = 10, 20
_POLL = 0.02

_turn = threading.Lock()
_guard = threading.Lock()
_waiting: Counter[int] = Counter()


class NobodyWaits(NotPossible):
    """Nobody waits for the answer any more."""

    def __init__(self) -> None:
        super().__init__("Nobody waits for this answer any more.", code="gone")


def _gone() -> bool:
    event = request.environ.get("asgi.scope", {}).get("pairshelf.gone")
    return event is not None and event.is_set()


@contextmanager
def heavy_turn(user_id: int) -> Iterator[None]:
    """Work on a heavy question of this person. NotNow when too many wait, or their turn takes
    too long to come; NotPossible when it takes too long itself."""
    with _guard:
        if _waiting[user_id] >= MOST_WAITING or _waiting.total() >= MOST_OF_ALL:
            raise NotNow("Other questions are still being worked on; wait for their answers.", code="too-many-questions")  # fmt: skip
        _waiting[user_id] += 1
    try:
        with _one_of(user_id), _in_turn(_turn):
            until = time.monotonic() + LONGEST_WORK

            def ask() -> None:
                if time.monotonic() > until:
                    raise NotPossible(
                        f"This takes longer than {LONGEST_WORK:.0f} seconds, too long to wait for here. Ask with fewer "
                        "drives, uses or steps; the console command takes as long as it takes.",
                        code="takes-too-long",
                    )
                if _gone():
                    raise NobodyWaits

            with as_long_as(ask):
                yield
    finally:
        with _guard:
            _waiting[user_id] -= 1


@contextmanager
def _in_turn(lock: threading.Lock) -> Iterator[None]:
    until = time.monotonic() + LONGEST_WAIT
    while not lock.acquire(timeout=_POLL * 5):
        _patience(until)
    try:
        yield
    finally:
        lock.release()


@contextmanager
def _one_of(user_id: int) -> Iterator[None]:
    """The only heavy question of this person on this machine, in whatever process; a lock that a kill frees."""
    folder = settings().devices / "asking"
    folder.mkdir(parents=True, exist_ok=True)
    path: Path = folder / f"{user_id}.lock"
    descriptor = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        until = time.monotonic() + LONGEST_WAIT
        while True:
            try:
                fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError:
                _patience(until)
                time.sleep(_POLL)
        yield
    finally:
        os.close(descriptor)


def _patience(until: float) -> None:
    if _gone():
        raise NobodyWaits
    if time.monotonic() > until:
        raise NotNow("Other questions took too long; ask again in a moment.", code="too-many-questions")
