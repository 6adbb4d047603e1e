"""Letting days pass for the simulated house: its clock goes forward in strides, and its hosts write what they write.

Jobs go on at their own pace meanwhile. What is recorded, condensed and told is what would have been, with a round at
the end of each stride.
"""

from __future__ import annotations

import datetime as dt
import time

from sqlmodel import Session, col, select

from pairshelf.core.domain.units import EXTENT
from pairshelf.core.errors import PairShelfError
from pairshelf.engine.history import Watch
from pairshelf.engine.jobs.fill import HOSTS, Writer, start_fill
from pairshelf.engine.log import log
from pairshelf.engine.pools import open_pool
from pairshelf.engine.schedules import begin_due
from pairshelf.store import clock
from pairshelf.store.database import Lock, held_lock, tell, transaction
from pairshelf.store.repositories.holdings import load_holdings
from pairshelf.store.tables import HostWrites, JobRow, JobState, Setting, VolumeRow, now

#: How far the clock goes at once.
STRIDE = dt.timedelta(hours=6)
#: Seconds that writing in a stride is waited for; what takes longer goes on in the next one.
_PATIENCE = 20.0
#: What says until when days pass.
_KEY = "passing"


def begin(session: Session, who: str, span: dt.timedelta) -> dt.datetime:
    """Let so much time pass from now on; until when."""
    until = now() + span
    session.merge(Setting(key=_KEY, value={"until": until.isoformat()}))
    log(session, who, "time-passes", "", f"Time passes for the simulated devices, until {until:%Y-%m-%d %H:%M} UTC.")
    tell(session, "setting")
    return until


def until(session: Session) -> dt.datetime | None:
    """Until when time passes; None: at the machine's own pace."""
    row = session.get(Setting, _KEY)
    return None if row is None else dt.datetime.fromisoformat(row.value["until"])


def stop(session: Session) -> None:
    """No more than has passed."""
    row = session.get(Setting, _KEY)
    if row is not None:
        session.delete(row)
        tell(session, "setting")


def stride(watch: Watch) -> bool:
    """One stride forward, if time is to pass; whether there is another one to go."""
    with transaction() as session:
        if until(session) is None:
            return False
    with held_lock(Lock.PASSING) as mine:
        if mine is None:
            return False
        with transaction() as session:
            end = until(session)
            if end is None:
                return False
            row = session.get_one(Setting, _KEY, with_for_update=True)
            to, jobs = min(now() + STRIDE, end), list[int]()
            if (written := _written_to(row)) and written > now():
                to = written  # A worker ended before the clock went on: that much was written.
            elif to > now():
                jobs = _write(session, to - now())
                row.value = {**row.value, "written_to": to.isoformat()}
        _wait_for(jobs)
        clock.go_ahead(to - now())
        begin_due()
        # Somebody else may be recording just now.
        for _ in range(20):
            if watch.look():
                break
            time.sleep(0.05)
        with transaction() as session:
            # What was asked for meanwhile counts.
            end = until(session)
            over = end is None or now() >= end
            if over:
                stop(session)
            else:
                tell(session, "setting")
        return not over


def _written_to(row: Setting) -> dt.datetime | None:
    """Until when hosts have written what they write."""
    return dt.datetime.fromisoformat(row.value["written_to"]) if "written_to" in row.value else None


def _write(session: Session, by: dt.timedelta) -> list[int]:
    """Start to write what hosts write in a stretch of time, as far as there is room; the jobs."""
    jobs = []
    rows = session.exec(select(HostWrites).order_by(col(HostWrites.volume_id)).with_for_update()).all()
    held = {v.id: v for p in load_holdings(session) for v in p.volumes} if rows else {}
    for row in rows:
        row.owed = min(row.owed + int(row.a_day * (by / dt.timedelta(days=1))), 30 * row.a_day)
        extents = row.owed // EXTENT
        if not (volume := held[row.volume_id]).kept_by_rule:
            extents = min(extents, (volume.for_files - volume.files) // EXTENT)
        if extents < 1:
            continue
        written_to = session.get_one(VolumeRow, row.volume_id)
        try:
            pool = open_pool(session, written_to.pool_id)
            job = start_fill(session, pool, written_to, 1.0, HOSTS, Writer(name="host", extents=extents))
        except PairShelfError:
            # It cannot be written now: the pool does not serve, or something else is being written. It stays owed.
            continue
        row.owed -= extents * EXTENT
        jobs.append(job.number)
    return jobs


def _wait_for(jobs: list[int]) -> None:
    """Until what was started is written, or has to wait itself, or it has taken too long."""
    until_then = time.monotonic() + _PATIENCE
    while jobs and time.monotonic() < until_then:
        with transaction() as session:
            open_ones = select(JobRow.id).where(
                col(JobRow.id).in_(jobs), col(JobRow.state).not_in((JobState.DONE, JobState.FAILED, JobState.HELD))
            )
            if session.exec(open_ones).first() is None:
                return
        time.sleep(0.1)
