"""Signs of life: a process says every two seconds that it is here, and others see whether it is."""

from __future__ import annotations

import contextlib
import datetime as dt
import threading

from sqlalchemy.exc import SQLAlchemyError
from sqlmodel import Session, col, select

from pairshelf.store.clock import wall
from pairshelf.store.database import transaction
from pairshelf.store.tables import Setting

#: Who gives signs: the process that carries jobs, and the one that keeps watch.
WORKER, WATCHER = "worker", "watcher"
#: Seconds from one sign to the next.
_EVERY = 2.0
#: Without a sign for so long, a process is taken to be away.
AWAY = dt.timedelta(seconds=12)


def give(who: str) -> None:
    """One sign of life of the ``WORKER`` or ``WATCHER``."""
    with transaction() as session:
        session.merge(Setting(key=who, value={"seen_at": wall().isoformat()}))


def keep_giving(who: str, stopping: threading.Event) -> None:
    """Give signs until told to stop, whatever else takes its time."""
    while not stopping.is_set():
        with contextlib.suppress(SQLAlchemyError):
            give(who)
        stopping.wait(_EVERY)


def away(session: Session) -> set[str]:
    """Who has not been heard of for a while, of the ``WORKER`` and the ``WATCHER``."""
    rows = session.exec(select(Setting).where(col(Setting.key).in_([WORKER, WATCHER])))
    return {WORKER, WATCHER} - {r.key for r in rows if wall() - dt.datetime.fromisoformat(r.value["seen_at"]) <= AWAY}
