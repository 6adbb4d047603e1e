"""The redundancy of a new pool, or of a new volume of a spread pool, brought in step."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlmodel import Session

from pairshelf.core.figures import durations
from pairshelf.core.figures.durations import volume_sync
from pairshelf.engine.io.pool_io import ROWS
from pairshelf.engine.io.spread_io import Stretch
from pairshelf.engine.jobs import trying
from pairshelf.engine.jobs.kind import JobKind, Proof
from pairshelf.engine.jobs.starting import open_jobs, start
from pairshelf.engine.jobs.work import Held, Work
from pairshelf.engine.pools import OpenPool
from pairshelf.store.tables import JobRow, VolumeRow


def step(work: Work) -> float:
    job, pool = work.job, work.pool
    if not pool.whole:
        raise Held("waits until every place of the pool holds a drive with all its data")
    done = 0
    if job.volume_id is not None:
        placed = work.spread_io.volume(job.volume_id)
        done = min(work.most, max(0, len(placed.spots) - job.cursor))
        if done:
            work.spread_io.sync(Stretch(placed, job.cursor, done))
        job.cursor = job.cursor + done if done else job.total
    else:
        for run in work.io.runs(job.cursor, work.most, ROWS):
            work.io.sync(run)
            done += run.rows
        job.cursor += done
        pool.row.synced_to = job.cursor
    work.any_io.flush()
    return done / job.total * job.seconds


def start_first_sync(session: Session, pool: OpenPool, who: str, sheet_id: int | None) -> JobRow | None:
    """Bring the redundancy of a new pool in step; nothing to do without redundancy."""
    takes = durations.first_sync(pool.layout)
    total = pool.layout.stripes
    if takes is None or not total:
        pool.row.synced_to = total
        return None
    return start(session, JobRow(
        kind="first-sync", pool_id=pool.row.number, sheet_id=sheet_id, total=total, seconds=takes.idle, asked_by=who,
    ))  # fmt: skip


def start_sync_of_more(session: Session, pool: OpenPool, before: int, who: str, sheet_id: int | None) -> JobRow | None:
    """Bring the stripes in step that a pool has been given behind those it had; one under way goes on with them."""
    total = pool.layout.stripes
    if pool.layout.own_protection or total <= before:
        return None
    takes = durations.first_sync(pool.layout)
    if takes is None:
        pool.row.synced_to = total
        return None
    under_way = next((j for j in open_jobs(session, pool.row.id) if j.kind == "first-sync"), None)
    done = pool.row.synced_to
    spent = takes.idle * done / total
    if under_way is not None:
        under_way.total, under_way.seconds, under_way.spent = total, takes.idle, spent
        under_way.report = {**under_way.report, "more": True}
        return under_way
    return start(session, JobRow(
        kind="first-sync", pool_id=pool.row.number, sheet_id=sheet_id, total=total, cursor=done, seconds=takes.idle,
        spent=spent, asked_by=who, report={"more": True},
    ))  # fmt: skip


def start_volume_sync(
    session: Session, pool: OpenPool, volume: VolumeRow, who: str, sheet_id: int | None
) -> JobRow | None:
    """Bring the redundancy of a new volume of a spread pool in step; None where there is nothing to do."""
    layout = pool.layout
    own = layout.striped(volume.number)
    if own is None or not len(own.spots):
        return None
    stripes, width = own.slots.shape
    seconds = volume_sync(layout, stripes * width).idle
    return start(session, JobRow(
        kind="first-sync", pool_id=pool.row.number, volume_id=volume.id, sheet_id=sheet_id, total=stripes,
        seconds=seconds, asked_by=who,
    ))  # fmt: skip


def _outcome(_report: Mapping[str, Any], pool: str) -> str:
    return f"First sync of {pool} finished: all redundancy is in step."


def _of_whole_pool(job: JobRow) -> bool:
    return job.volume_id is None and not job.report.get("more")


KIND = JobKind(
    "first-sync", "First sync", "Everything can be used; writing is slower until it ends.", step, _outcome,
    proves=Proof("first_sync_hours", _of_whole_pool), tries=trying.brings_in_step,
)  # fmt: skip
