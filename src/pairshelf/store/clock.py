"""What time it is: the machine's clock, and how far the house of simulated devices has gone ahead of it.

Days can be let pass for simulated devices (``engine.passing``); everything that is dated then is. How long somebody
has been signed in, and whether a worker gives signs of life, is told by the machine's own clock.
"""

from __future__ import annotations

import contextlib
import datetime as dt
import os

from pairshelf.store.settings import settings

#: When the file was last changed, and what it said then.
_known: tuple[str, int, dt.timedelta] = ("", 0, dt.timedelta())


def wall() -> dt.datetime:
    """The machine's clock."""
    return dt.datetime.now(dt.UTC)


def ahead() -> dt.timedelta:
    """How far the house's clock is ahead of the machine's."""
    global _known
    path = str(settings().devices / "clock")
    try:
        changed = os.stat(path).st_mtime_ns
    except OSError:
        return dt.timedelta()
    if _known[:2] != (path, changed):
        with contextlib.suppress(OSError, ValueError), open(path) as kept:
            _known = path, changed, dt.timedelta(seconds=float(kept.read()))
    return _known[2] if _known[0] == path else dt.timedelta()


def now() -> dt.datetime:
    """The house's clock: when what happens now happens."""
    return wall() + ahead()


def go_ahead(by: dt.timedelta) -> dt.datetime:
    """Put the house's clock forward; never back. What it says then."""
    path, seconds = settings().devices / "clock", (ahead() + max(by, dt.timedelta())).total_seconds()
    path.parent.mkdir(parents=True, exist_ok=True)
    new = path.with_suffix(".new")
    new.write_text(str(seconds))
    new.replace(path)
    return now()
