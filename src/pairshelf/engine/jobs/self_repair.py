"""What stood on a failed member of a spread pool, put on free extents of others."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlmodel import Session

from pairshelf.core.figures import durations
from pairshelf.core.layouts.stripe_moves import StripeMoves
from pairshelf.engine.jobs.kind import JobKind, Proof
from pairshelf.engine.jobs.moving_stripes import MOST, make
from pairshelf.engine.jobs.starting import meet, start
from pairshelf.engine.jobs.work import Held, Work
from pairshelf.engine.pools import OpenPool, refresh_state
from pairshelf.store.tables import JobRow, MemberState


def step(work: Work) -> float:
    """Stripe by stripe: what the failed member held is computed and put on a free extent of another."""
    job, pool = work.job, work.pool
    slot = job.member
    if not pool.serves():
        raise Held(f"pool {pool.row.name} is {pool.row.state}")
    moves = StripeMoves(work.spread_io.layout, pool.closed()).off([slot], min(work.most, MOST))
    if moves:
        make(work, moves)
    left = pool.layout.used_extents[slot]
    if left and not moves:
        raise Held("no drive has room to take what the failed one held; put a drive in its place")
    job.cursor = min(job.total, job.cursor + len(moves))
    if not left:
        job.cursor = job.total
        pool.place(slot).state = MemberState.EMPTIED
        refresh_state(work.session, pool)
    return len(moves) / job.total * job.seconds


def start_self_repair(session: Session, pool: OpenPool, slot: int, who: str) -> JobRow | None:
    """Put what stands on a failed member of a spread pool on free extents of others; None where nothing does."""
    held = pool.layout.used_extents[slot]
    if not held:
        pool.place(slot).state = MemberState.EMPTIED
        return None
    if under_way := meet(session, pool.row.id, "self-repair", slot=slot):
        return under_way
    takes = durations.rebuild(pool.layout, str(slot))
    return start(session, JobRow(
        kind="self-repair", pool_id=pool.row.number, slot=slot, total=held, seconds=takes.idle, asked_by=who,
    ))  # fmt: skip


def _outcome(_report: Mapping[str, Any], pool: str) -> str:
    return f"Self-repair of {pool} finished: all stripes are whole again."


KIND = JobKind(
    "self-repair", "Self-repair", "Everything can be used; reading and writing are slower until it ends.", step,
    _outcome, proves=Proof("rebuild_hours"),
)  # fmt: skip
