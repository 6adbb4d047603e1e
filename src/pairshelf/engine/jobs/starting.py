"""Making jobs: recorded, and handed to the workers, in the transaction of whoever starts them."""

from __future__ import annotations

from sqlmodel import Session, col, select

from pairshelf.core.errors import Busy, Locked, NotServing
from pairshelf.core.policies.beside import Then, Under, meetings
from pairshelf.engine import keys
from pairshelf.engine.pools import OpenPool
from pairshelf.engine.queue import enqueue
from pairshelf.store.tables import JobRow, JobState, now


def start(session: Session, job: JobRow) -> JobRow:
    """Record a job and hand it to the workers, in the caller's transaction."""
    session.add(job)
    session.flush()
    enqueue(session, job.number)
    return job


def end_unfinished(job: JobRow, why: str) -> None:
    """A job ends before it is done."""
    job.state, job.finished_at, job.error, job.why_held = JobState.FAILED, now(), why, None


def open_jobs(session: Session, pool_id: int | None) -> list[JobRow]:
    """The jobs of a pool that have not ended."""
    query = select(JobRow).where(
        JobRow.pool_id == pool_id, col(JobRow.state).not_in((JobState.DONE, JobState.FAILED))
    ).order_by(col(JobRow.id))  # fmt: skip
    return list(session.exec(query))


def meet(
    session: Session, pool_id: int | None, kind: str, *, volume_id: int | None = None, slot: int | None = None,
    besides: JobRow | None = None,
) -> JobRow | None:  # fmt: skip
    """What the table of work side by side (``core.policies.beside``) says of new work: NotPossible where it is not
    begun; jobs that it ends are ended; the job that it joins, or that begins anew, is returned."""
    rows = [row for row in open_jobs(session, pool_id) if row is not besides]
    by_work: dict[int, JobRow] = {}
    under_way = []
    for row in rows:
        work = Under(row.kind, row.volume_id, row.slot)
        by_work[id(work)] = row
        under_way.append(work)
    kept = None
    for meeting, work in meetings(Under(kind, volume_id, slot), under_way):
        row = by_work[id(work)]
        if meeting.then is Then.REFUSED:
            raise Busy(meeting.said, job=row.id, kind=row.kind, code=meeting.code)
        if meeting.then is Then.ENDED:
            end_unfinished(row, meeting.said)
            session.flush()
        else:
            kept = row
    return kept


def require_serving(pool: OpenPool) -> None:
    """NotPossible while nothing can be read or written."""
    if not pool.serves():
        raise NotServing(pool.row.name, pool.row.state, "nothing can be written to it now")
    if pool.row.key is not None and not keys.is_open(pool.row.number):
        raise Locked(pool.row.name)
