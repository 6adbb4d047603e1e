"""A job is done: what it proves of the promise, and what it found, in a sentence."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.domain.units import EXTENT
from pairshelf.engine.jobs.fill import HOSTS
from pairshelf.engine.jobs.kinds import JOBS
from pairshelf.engine.jobs.work import Work
from pairshelf.engine.log import SYSTEM, log
from pairshelf.store.tables import JobRow, JobState, now

#: Extents of a stream long enough to say something of the speed.
_LONG_STREAM = 256


def note_moved(work: Work) -> None:
    """Keep with the job what its step made the drives do, where that is part of what it proves."""
    proof = JOBS[work.job.kind].proves
    if proof is not None and proof.counts(work.job):
        work.note_moved()


def finish(work: Work) -> None:
    """The job is done: say so in the logbook."""
    job = work.job
    job.state, job.finished_at, job.why_held = JobState.DONE, now(), None
    job.spent = job.seconds
    _measure(work)
    if job.asked_by == HOSTS:
        return
    facts = {k: v for k, v in job.report.items() if k != "moved"}
    log(work.session, SYSTEM, f"{job.kind}-finished", work.pool.row.name, outcome(job, work.pool.row.name), **facts)


def finish_lot(session: Session, job: JobRow) -> None:
    """A job on drives of no pool is done: say what became of them."""
    sums_up = JOBS[job.kind].sums_up
    states = sums_up(session, job) if sums_up is not None else {}
    job.state, job.finished_at, job.why_held = JobState.DONE, now(), None
    job.spent, job.report = job.seconds, {**job.report, **states}
    log(session, SYSTEM, f"{job.kind}-finished", job.report.get("serial") or "disposal", outcome(job, ""), **states)


def outcome(job: JobRow, pool: str) -> str:
    """What a finished job found, in a sentence."""
    return JOBS[job.kind].outcome(job.report, pool)


def _measure(work: Work) -> None:
    """Keep, beside the promise, what the drives really had to do: the busiest one's extents over its rate."""
    job, row = work.job, work.pool.row
    proof = JOBS[job.kind].proves
    moved = {int(k): v for k, v in job.report.get("moved", {}).items()}
    if proof is None or not moved or job.report.get("of_two_layouts"):
        return
    hours = proof.figure.endswith("hours")
    if not hours and job.total < _LONG_STREAM:
        return
    members = work.pool.layout.members
    seconds = max(extents * EXTENT / members[slot].mean_rate for slot, extents in moved.items())
    value = seconds / 3600 if hours else job.total * EXTENT / seconds
    row.measured = {**row.measured, proof.figure: value, **proof.besides(job)}
