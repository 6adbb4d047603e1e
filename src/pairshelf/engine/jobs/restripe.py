"""A pool that goes from one layout to another while it is used."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlmodel import Session

from pairshelf.core.layouts.restriping import Restriping
from pairshelf.engine.jobs import trying
from pairshelf.engine.jobs.kind import JobKind, Proof
from pairshelf.engine.jobs.starting import start
from pairshelf.engine.jobs.work import Held, Work
from pairshelf.engine.pools import OpenPool, keep_front, note_front
from pairshelf.engine.relayout import arrive
from pairshelf.store.tables import JobRow

#: Most extents gathered in one window: what it holds has to fit into memory.
_MOST = 16384


def step(work: Work) -> float:
    job, pool = work.job, work.pool
    if not pool.whole:
        raise Held("waits until every place of the pool holds a drive with all its data")
    io = work.restripe_io
    widest = max(band.data for band in io.walk.new)
    budget = min(work.most, _MOST)
    # The first windows are small: several to a step, each one's front kept before the next goes beyond it.
    while (window := io.move(max(1, budget // widest))) is not None:
        budget -= window.high - window.low
        if budget < widest:
            break
        keep_front(pool, io, work.world)
    note_front(pool, io)
    left = abs(io.walk.arrives - io.front)
    done = job.total - left - job.cursor
    job.cursor = job.total - left
    if window is None or not left:
        job.cursor = job.total
        arrive(work.session, pool, job)
    return max(0, done) / job.total * job.seconds


def start_restripe(session: Session, pool: OpenPool, seconds: float, who: str, sheet_id: int | None) -> JobRow:
    """Take the front of a pool whose way has been laid from one end to the other."""
    layout = pool.layout
    assert isinstance(layout, Restriping)
    walk = layout.walk
    return start(session, JobRow(
        kind="restripe", pool_id=pool.row.number, sheet_id=sheet_id, asked_by=who, seconds=seconds,
        total=max(1, abs(walk.arrives - walk.begins)), report={"to": f"{layout.both.new.scheme.id}, {layout.both.new.describe()}"},
    ))  # fmt: skip


def _outcome(report: Mapping[str, Any], pool: str) -> str:
    if report.get("turned"):
        return f"The front of {pool} is back where it began: the pool is as it was before the restripe."
    return f"Restripe of {pool} finished: {report.get('to')}."


def _going(job: JobRow) -> bool:
    # One that went back and forth has moved more than was promised.
    return not job.report.get("went_back")


KIND = JobKind(
    "restripe", "Restripe", "Everything can be used; reading and writing are slower until it ends.", step, _outcome,
    proves=Proof("restripe_hours", _going), tries=trying.walks,
)  # fmt: skip
