"""Everything moved off drives of a spread pool that are to leave it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlmodel import Session

from pairshelf.core.domain.device import Devices
from pairshelf.core.domain.units import EXTENT, format_size
from pairshelf.core.layouts.stripe_moves import StripeMoves
from pairshelf.engine.jobs.kind import JobKind
from pairshelf.engine.jobs.moving_stripes import MOST, make
from pairshelf.engine.jobs.starting import meet, start
from pairshelf.engine.jobs.work import Held, Work
from pairshelf.engine.pools import OpenPool, open_pool
from pairshelf.engine.relayout import leave_empty
from pairshelf.store.tables import JobRow, MemberState


def step(work: Work) -> float:
    job, pool = work.job, work.pool
    leaving = [p.member for p in pool.members if p.draining]
    if not pool.serves():
        raise Held(f"pool {pool.row.name} is {pool.row.state}; it goes on when it can be read")
    if any(pool.place(s).state == MemberState.MISSING for s in leaving):
        raise Held("a drive that is being emptied is away; it goes on when that is back")
    layout = work.spread_io.layout
    moves = StripeMoves(layout, pool.closed()).off(leaving, min(work.most, MOST))
    if moves:
        make(work, moves)
    left = sum(pool.layout.used_extents[s] for s in leaving)
    if left and not moves:
        raise Held(
            f"there is no room for the last {format_size(left * EXTENT)} that stand on drives that are to leave; it goes on "
            "when a drive is added, or volumes are shrunk or deleted"
        )
    # Volumes may have been deleted, or given stripes before it began: what is left is counted anew.
    job.total = max(1, job.total, job.cursor + 1)
    job.cursor = max(job.cursor, job.total - left) if left else job.total
    job.report = {**job.report, "extents": job.report["extents"] + len(moves)}
    if not left:
        leave_empty(work.session, pool, leaving, job.sheet_id)
    return len(moves) / job.total * job.seconds


def start_drain(
    session: Session, pool: OpenPool, seconds: float, who: str, drain_id: int, sheet_id: int | None
) -> JobRow:
    """Move everything off the members that are marked."""
    meet(session, pool.row.id, "drain")
    held = sum(pool.layout.used_extents[p.member] for p in pool.members if p.draining)
    return start(session, JobRow(
        kind="drain", pool_id=pool.row.number, sheet_id=sheet_id, drain_id=drain_id, asked_by=who, total=max(1, held),
        seconds=seconds, pace="gentle", report={"extents": 0},
    ))  # fmt: skip


def _outcome(report: Mapping[str, Any], pool: str) -> str:
    return f"Draining in {pool} finished: {report['extents']} GiB stand on other drives, and those that were to leave have left."


def _give_up(session: Session, job: JobRow, _world: Devices) -> None:
    """What has not moved stays where it is, and may be written to again."""
    assert job.pool_id is not None
    for place in open_pool(session, job.pool_id).places:
        place.draining = False


KIND = JobKind(
    "drain", "Draining", "Everything can be used, and protection does not drop; reading and writing are slower "
    "until it ends.", step, _outcome, give_up=_give_up,
)  # fmt: skip
