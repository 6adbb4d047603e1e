"""A few threads for work that leaves the interpreter alone: hashing, reading and writing media."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from functools import lru_cache
from typing import TypeVar

_Given = TypeVar("_Given")
_Got = TypeVar("_Got")


@lru_cache(maxsize=2)
def _threads(_process: int) -> ThreadPoolExecutor:
    return ThreadPoolExecutor(max(2, min(8, os.cpu_count() or 2)), "side")


def each(act: Callable[[_Given], _Got], given: Iterable[_Given]) -> list[_Got]:
    """The act on each, side by side; results in order. A forked process gets threads of its own."""
    return list(_threads(os.getpid()).map(act, given))


def ahead(act: Callable[[_Given], _Got], given: Iterable[_Given], most: int = 4) -> Iterator[_Got]:
    """The act on each, in order, worked out a few ahead of whoever takes them."""
    threads = _threads(os.getpid())
    waiting = []
    for one in given:
        waiting.append(threads.submit(act, one))
        if len(waiting) >= most:
            yield waiting.pop(0).result()
    for future in waiting:
        yield future.result()
