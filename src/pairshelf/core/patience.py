"""Long reckonings ask now and then whether their answer is still wanted.

The core knows neither clock nor caller: whoever asks hands in what is to be asked, and that ends the work by an
error of its own when nobody waits any more or it has taken too long. Asked in the innermost loops that grow with
what is asked; without a caller who cares it costs next to nothing.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

_ask: ContextVar[Callable[[], None] | None] = ContextVar("ask", default=None)


def still_wanted() -> None:
    """Whatever the caller raises when the answer is not wanted any more."""
    if (ask := _ask.get()) is not None:
        ask()


@contextmanager
def as_long_as(ask: Callable[[], None]) -> Iterator[None]:
    """Reckon within, asking ``ask`` now and then; it raises to end the work."""
    before = _ask.set(ask)
    try:
        yield
    finally:
        _ask.reset(before)
