"""The drives' time shared between users and jobs; pausing jobs."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from sqlmodel import Session, col, select

from pairshelf.core.errors import NotPossible
from pairshelf.core.figures import durations
from pairshelf.engine.jobs.kinds import JOBS
from pairshelf.engine.queue import enqueue
from pairshelf.store.tables import JobRow, JobState, now


def users_work() -> list[str]:
    """Kinds of jobs that are the users' own work; the others take the drives' time from it."""
    return [kind.id for kind in JOBS.values() if kind.users_work]


def paces_under_way(session: Session, pool_ids: Collection[int]) -> dict[int, str]:
    """For each of these pools with a job under way that is not its users' work: that job's pace."""
    query = select(JobRow.pool_id, JobRow.pace).where(
        col(JobRow.pool_id).in_(pool_ids),
        JobRow.state == JobState.RUNNING,
        col(JobRow.kind).not_in(users_work()),
    )
    return {pool: pace for pool, pace in session.exec(query) if pool is not None}


def slowing(job: JobRow, paces: Mapping[int, str]) -> float:
    """How many times longer than undisturbed a job takes: users and jobs share the drives' time."""
    if job.pool_id is None:
        return 1.0
    if JOBS[job.kind].users_work:
        pace = paces.get(job.pool_id)
        return 1.0 if pace is None else 1 / (durations.GENTLE if pace == "gentle" else durations.FAST)
    return 1 / (1 - (durations.GENTLE if job.pace == "gentle" else durations.FAST))


def pause(session: Session, job: JobRow) -> None:
    """Stop after the step under way; everything done so far stays done."""
    if job.state not in (JobState.WAITING, JobState.RUNNING, JobState.HELD):
        raise NotPossible("Only a job that waits or runs can be paused.", code="not-running")
    job.state, job.why_held = JobState.PAUSED, None


def end(job: JobRow, who: str) -> None:
    """End a job unfinished: what it has done stays. NotPossible for one that would leave something half done."""
    if job.state in (JobState.DONE, JobState.FAILED):
        raise NotPossible("It has ended already.", code="not-running")
    if not JOBS[job.kind].may_end:
        raise NotPossible(f"{JOBS[job.kind].name} is not ended half done; pause it.", code="not-ended-halfway")
    job.state, job.why_held, job.finished_at = JobState.FAILED, None, now()
    job.error = f"Ended by {who} before it was done; what it had done stays."


def resume(session: Session, job: JobRow) -> None:
    """Go on where it stopped."""
    if job.state != JobState.PAUSED:
        raise NotPossible("Only a paused job can be resumed.", code="not-paused")
    job.state = JobState.WAITING
    enqueue(session, job.number)
