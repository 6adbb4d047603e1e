"""A drive that has come to a place, filled from the rest."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlmodel import Session

from pairshelf.core.drives import Drive, Kind
from pairshelf.core.errors import NotPossible
from pairshelf.core.figures import durations
from pairshelf.core.layouts.spread import SpreadLayout
from pairshelf.core.placement import stripe_count
from pairshelf.engine.jobs.kind import JobKind, Proof
from pairshelf.engine.jobs.pieces import next_on
from pairshelf.engine.jobs.starting import meet, start
from pairshelf.engine.jobs.work import Held, Work
from pairshelf.engine.pool_io import Run
from pairshelf.engine.pools import OpenPool, label_of, refresh_state
from pairshelf.store.tables import DriveRow, JobRow, MemberState, PoolPlace


def _refill(work: Work, place: PoolPlace) -> float:
    """A member of a spread pool is filled where it stands; it serves when all of it is there."""
    job, pool = work.job, work.pool
    layout, slot = pool.layout, place.slot or 0
    assert isinstance(layout, SpreadLayout)
    volume, stripe = job.report.get("at", (0, 0))
    ahead = next_on(layout, slot, (volume, stripe), work.most)
    for stretch, column in ahead:
        ((_, block),) = work.spread_io.column(stretch, slot)
        work.spread_io.put(slot, int(stretch.spots[0, column, 1]), block)
    work.any_io.flush()
    if ahead:
        last = ahead[-1][0]
        job.report = {**job.report, "at": [last.volume.volume, last.first + 1]}
        job.cursor = min(job.total - 1, job.cursor + len(ahead))
        return len(ahead) / job.total * job.seconds
    job.cursor = job.total
    place.state, place.rebuilt_to = MemberState.ACTIVE, 0
    refresh_state(work.session, pool)
    return 0.0


def step(work: Work) -> float:
    job, pool = work.job, work.pool
    slot = job.slot or 0
    place = pool.place(slot)
    if place.state == MemberState.MISSING:
        raise Held("the drive being filled is away; the rebuild begins again when it is back")
    if place.state != MemberState.REBUILDING:
        raise NotPossible("The drive being filled failed, or its place was given to another.", code="superseded")
    if not pool.serves():
        raise Held(f"pool {pool.row.name} is {pool.row.state}")
    if job.cursor == 0:
        _label(work, place)
    if isinstance(pool.layout, SpreadLayout):
        return _refill(work, place)
    ahead = [r for r in work.io.runs(job.cursor, job.total) if slot in _members(pool, r)]
    rows = sum(r.rows for r in ahead)
    if not ahead:
        job.cursor = job.total
    else:
        first = ahead[0]
        run = Run(first.band, first.group, first.row, min(first.rows, work.most), first.number)
        work.io.rebuild(run, slot)
        work.io.flush()
        job.cursor = run.number + run.rows if run.rows < rows else job.total
        rows_done = run.rows
    place.rebuilt_to = job.cursor
    if job.cursor >= job.total:
        place.state, place.rebuilt_to = MemberState.ACTIVE, 0
        refresh_state(work.session, pool)
    used = max(1, pool.layout.used_extents[slot])
    return (rows_done / used * job.seconds) if ahead else 0.0


def _label(work: Work, place: PoolPlace) -> None:
    drive = work.session.get(DriveRow, place.drive_id)
    assert drive is not None
    work.world.open(drive.serial, drive.size).write_label(label_of(work.pool.row, place.slot))


def _members(pool: OpenPool, run: Run) -> tuple[int, ...]:
    return pool.layout.bands[run.band].groups[run.group].members


def start_rebuild(session: Session, pool: OpenPool, slot: int, who: str, sheet_id: int | None = None) -> JobRow:
    """Fill the drive that now stands at a slot; a rebuild of that slot still open is begun again."""
    place = pool.place(slot)
    drive = session.get(DriveRow, place.drive_id)
    assert drive is not None
    new = Drive("new", drive.size, Kind(drive.kind), drive.rate)
    absent = [str(p.slot) for p in pool.members if p.state != MemberState.ACTIVE and p.slot != slot]
    takes = durations.rebuild(pool.layout, str(slot), new, absent=absent)
    place.state, place.rebuilt_to = MemberState.REBUILDING, 0
    total = stripe_count(pool.layout)
    if isinstance(pool.layout, SpreadLayout):
        total = pool.layout.used_extents[slot]
    total = max(1, total)
    if open_one := meet(session, pool.row.id, "rebuild", slot=slot):
        open_one.cursor, open_one.spent, open_one.seconds, open_one.total = 0, 0.0, takes.idle, total
        open_one.report = {"serial": drive.serial}
        return open_one
    return start(session, JobRow(
        kind="rebuild", pool_id=pool.row.id, sheet_id=sheet_id, slot=slot, asked_by=who, total=total,
        seconds=takes.idle, report={"serial": drive.serial},
    ))  # fmt: skip


def _outcome(report: Mapping[str, Any], pool: str) -> str:
    return f"Rebuild in {pool} finished: drive {report.get('serial')} holds all its data."


KIND = JobKind(
    "rebuild", "Rebuild", "Everything can be used; reading and writing are slower until it ends.", step, _outcome,
    proves=Proof("rebuild_hours"),
)  # fmt: skip
