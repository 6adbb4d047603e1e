"""What stands in a spread pool, moved so that all its drives are filled alike: as drives have come, or stay after all."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlmodel import Session

from pairshelf.core.layouts.spread import spread_of
from pairshelf.core.layouts.stripe_moves import StripeMoves, uneven_extents, uneven_seconds
from pairshelf.engine.jobs.kind import JobKind
from pairshelf.engine.jobs.moving_stripes import MOST, make
from pairshelf.engine.jobs.starting import meet, open_jobs, start
from pairshelf.engine.jobs.work import Held, Work
from pairshelf.engine.pools import OpenPool
from pairshelf.store.tables import JobRow


def step(work: Work) -> float:
    job, pool = work.job, work.pool
    if not pool.serves():
        raise Held(f"pool {pool.row.name} is {pool.row.state}; it goes on when it can be read")
    layout = work.spread_io.layout
    moves = StripeMoves(layout, pool.closed()).evenly(min(work.most, MOST))
    if not moves:
        job.cursor = job.total
        return 0.0
    make(work, moves)
    left = uneven_extents(spread_of(pool.layout), pool.closed())
    job.total = max(1, job.total, job.cursor + 1)
    # What others write meanwhile makes it more uneven or less.
    job.cursor = min(job.total - 1, max(job.cursor, job.total - left))
    job.report = {**job.report, "extents": job.report["extents"] + len(moves)}
    return len(moves) / job.total * job.seconds


def start_evening(session: Session, pool: OpenPool, who: str, sheet_id: int | None = None) -> JobRow | None:
    """Even out, gently; None where it is as even as it can be."""
    extents = uneven_extents(spread_of(pool.layout), pool.closed())
    if not extents:
        return None
    if under_way := next((j for j in open_jobs(session, pool.row.id) if j.kind == "even-out"), None):
        under_way.total += extents
        return under_way
    meet(session, pool.row.id, "even-out")
    return start(session, JobRow(
        kind="even-out", pool_id=pool.row.number, sheet_id=sheet_id, asked_by=who, total=extents, pace="gentle",
        seconds=uneven_seconds(spread_of(pool.layout), extents), report={"extents": 0},
    ))  # fmt: skip


def _outcome(report: Mapping[str, Any], pool: str) -> str:
    return f"{pool} is evened out: {report['extents']} GiB were moved, and its drives are filled alike."


KIND = JobKind(
    "even-out", "Evening out", "Everything can be used, and protection does not drop; reading and writing are slower "
    "until it ends.", step, _outcome,
)  # fmt: skip
