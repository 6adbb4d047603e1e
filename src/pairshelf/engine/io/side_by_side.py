"""A few threads for work that leaves the interpreter alone: hashing, reading and writing media."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from functools import lru_cache
from threading import Lock, current_thread, local
from typing import TypeVar

_Given = TypeVar("_Given")
_Got = TypeVar("_Got")
_SIDE = "pairshelf-side"


@lru_cache(maxsize=4)
def _threads(_process: int, name: str) -> ThreadPoolExecutor:
    return ThreadPoolExecutor(max(2, min(8, os.cpu_count() or 2)), name)


class Tally(Counter[int]):
    """Counts that several threads add to."""

    def __init__(self) -> None:
        super().__init__()
        self._guard = Lock()

    def add(self, key: int, count: int) -> None:
        """So many more; none is lost to another thread that adds at the same time."""
        with self._guard:
            self[key] += count


_here = local()


@contextmanager
def in_turn() -> Iterator[None]:
    """What this thread does meanwhile, it does one after the other: where there is nothing to wait for, threads only cost."""
    _here.in_turn = True
    try:
        yield
    finally:
        _here.in_turn = False


def each(act: Callable[[_Given], _Got], given: Iterable[_Given]) -> list[_Got]:
    """The act on each, side by side; results in order. A forked process gets threads of its own."""
    if getattr(_here, "in_turn", False) or current_thread().name.startswith(_SIDE):
        # Asked for by one of these threads: were all of them to wait for one another, they would for ever.
        return [act(one) for one in given]
    return list(_threads(os.getpid(), _SIDE).map(act, given))


def ahead(act: Callable[[_Given], _Got], given: Iterable[_Given], most: int = 4) -> Iterator[_Got]:
    """The act on each, in order, worked out a few ahead of whoever takes them."""
    # Not those of ``each``: what is made ahead must not stand in the way of what is written now.
    threads = _threads(os.getpid(), "ahead")
    waiting = []
    for one in given:
        waiting.append(threads.submit(act, one))
        if len(waiting) >= most:
            yield waiting.pop(0).result()
    for future in waiting:
        yield future.result()
