"""What is worked out of each pool, kept in this process for as long as nothing of the pool changes.

Every transaction that changes anything of a pool leaves a line that says so (``pool_change``, written by triggers).
Who keeps something knows the snapshot that it was worked out after; anew is only what a transaction has changed that
this snapshot did not see. So nothing is ever older than what the database would answer.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Collection
from dataclasses import dataclass, field
from threading import Lock
from typing import Generic, TypeVar
from weakref import WeakKeyDictionary

from sqlalchemy import Engine, text
from sqlmodel import Session

_T = TypeVar("_T")

#: Lines stay for at least so many seconds; what is kept and was not asked for that long is worked out anew.
_LINES_STAY = 600.0
#: The database, the table and the start of the server tell whether it is still the one that transactions are counted in.
_LOOK = text("""
select pg_current_snapshot()::text, pg_current_xact_id_if_assigned() is null,
    (select oid from pg_database where datname = current_database()) || ' ' || 'pool_change'::regclass::oid
        || ' ' || pg_postmaster_start_time(),
    array(select id from pool where cast(:ids as integer[]) is null or id = any(:ids) order by name),
    array(select distinct pool_id from pool_change
          where made_by >= pg_snapshot_xmin(cast(:since as pg_snapshot))
            and not pg_visible_in_snapshot(made_by, cast(:since as pg_snapshot)))
""")
_OLDEST = text("select pg_snapshot_xmin(pg_current_snapshot())::text")
_SWEEP = text("delete from pool_change where made_by < cast(:before as xid8)")


@dataclass(slots=True)
class _Kept(Generic[_T]):
    lock: Lock = field(default_factory=Lock)
    found: dict[int, _T] = field(default_factory=dict)
    #: The snapshot after which it was worked out, of which database, and when somebody last asked.
    since: str | None = None
    of: str = ""
    asked: float = 0.0


class PerPool(Generic[_T]):
    """One thing that is worked out of each pool, from the database alone."""

    def __init__(self, work_out: Callable[[Session, list[int]], dict[int, _T]]) -> None:
        """``work_out`` finds it of these pools; a pool that is gone by then it leaves out."""
        self._work_out = work_out
        self._of: WeakKeyDictionary[Engine, _Kept[_T]] = WeakKeyDictionary()
        self._guard = Lock()

    def get(self, session: Session, pool_ids: Collection[int] | None = None) -> dict[int, _T]:
        """Of these pools, or of all, as the session sees them, in the order of their names; pools that are not there
        are left out."""
        session.flush()
        at = session.get_bind()
        with self._guard:
            kept = self._of.setdefault(at if isinstance(at, Engine) else at.engine, _Kept())
        with kept.lock:
            since = kept.since if time.monotonic() - kept.asked < _LINES_STAY / 2 else None
            asked = {"since": since, "ids": None if pool_ids is None else list(pool_ids)}
            snapshot, reads_only, of, wanted, changed = session.connection().execute(_LOOK, asked).one()
            known = dict(kept.found) if since is not None and of == kept.of else {}
            for pool in changed:
                known.pop(pool, None)
            missing = [pool for pool in wanted if pool not in known]
            if missing:
                known |= self._work_out(session, missing)
            # What this session has written itself may come to nothing yet.
            if reads_only:
                kept.found, kept.since, kept.of, kept.asked = known, snapshot, of, time.monotonic()
        return {pool: known[pool] for pool in wanted if pool in known}


class Sweeper:
    """Takes lines away that nobody needs any longer."""

    def __init__(self) -> None:
        self._before: str | None = None
        self._looked = -_LINES_STAY

    def sweep(self, session: Session) -> None:
        """Of transactions that had all ended when this was last called and did something: some minutes ago."""
        if time.monotonic() - self._looked < _LINES_STAY:
            return
        if self._before is not None:
            session.connection().execute(_SWEEP, {"before": self._before})
        self._before, self._looked = session.connection().execute(_OLDEST).scalar_one(), time.monotonic()
