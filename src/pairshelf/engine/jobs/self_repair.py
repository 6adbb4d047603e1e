"""What stood on a failed member of a spread pool, put on free extents of others."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlmodel import Session

from pairshelf.core.figures import durations
from pairshelf.engine.jobs.kind import JobKind, Proof
from pairshelf.engine.jobs.starting import meet, start
from pairshelf.engine.jobs.work import Held, Work
from pairshelf.engine.pools import OpenPool, refresh_state
from pairshelf.store.repositories.drives_and_pools import store_stripes
from pairshelf.store.tables import JobRow, MemberState


def step(work: Work) -> float:
    """Stripe by stripe: what the failed member held is computed and put on a free extent of another."""
    job, pool = work.job, work.pool
    slot = job.slot or 0
    if not pool.serves():
        raise Held(f"pool {pool.row.name} is {pool.row.state}")
    io = work.spread_io
    layout = io.layout
    changed: set[int] = set()
    done = 0
    for stretch, column in io.next_on(slot, (0, 0), min(work.most, 64)):
        volume = stretch.volume.volume
        spot = layout.another_spot(volume, stretch.first, column, pool.closed())
        if spot is None:
            if not done:
                raise Held("no drive has room to take what the failed one held; put a drive in its place")
            break
        ((_, block),) = io.column(stretch, slot)
        io.put(spot[0], spot[1], block)
        layout = layout.with_spot(volume, stretch.first, column, spot)
        changed.add(volume)
        done += 1
    io.flush()
    for volume in changed:
        store_stripes(work.session, pool.row.number, layout.volume(volume))
    pool.layout = layout
    job.cursor = min(job.total, job.cursor + done)
    if not layout.used_extents[slot]:
        job.cursor = job.total
        pool.place(slot).state = MemberState.EMPTIED
        refresh_state(work.session, pool)
    return done / job.total * job.seconds


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
