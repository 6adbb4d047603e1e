"""An estate small enough to be built, broken and rebuilt in a second."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from sqlmodel import col, select

from pairshelf.core.changes.kinds import request_of
from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.inventory import DriveRecord
from pairshelf.core.domain.units import GIB
from pairshelf.engine import approver, signs
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.carry import carry
from pairshelf.engine.jobs.check import start_check
from pairshelf.engine.jobs.fill import start_fill
from pairshelf.engine.jobs.read_files import start_reading
from pairshelf.engine.observe import observe
from pairshelf.engine.pools import devices, open_pool
from pairshelf.store.database import transaction
from pairshelf.store.repositories.drives_and_pools import add_records
from pairshelf.store.tables import JobRow, PoolRow, SampleFile, Service, Setting, VolumeRow
from tests.kept import look


def at_once() -> None:
    """Jobs take no longer than computing takes."""
    with transaction() as session:
        session.merge(Setting(key="speed", value={"factor": 0}))


def shelf(count: int, *, size: int = 60 * GIB, name: str = "A", service: Service = Service.FREE) -> list[int]:
    """A shelf of equal drives; their ids."""
    records = [DriveRecord(name, i + 1, f"{name}{i + 1}", size, Kind.HDD) for i in range(count)]
    with transaction() as session:
        return [r.id or 0 for r in add_records(session, records, service=service)]


def build(drives: list[int], scheme: str = "parity-2", *, sets: int = 1, spares: int = 0, name: str = "p") -> int:
    """A pool with one volume over all of it; its id."""
    return do("build-pool", name=name, scheme=scheme, drives=tuple(drives), sets=sets, spares=spares, volume="v",
              file_system="xfs").pool_id or 0  # fmt: skip


def all_here() -> None:
    """The worker and the watcher have just been heard of."""
    for who in (signs.WORKER, signs.WATCHER):
        signs.give(who)


def do(kind: str, **request: Any) -> Outcome:
    """Draw a sheet up and approve it, as a person would who has a screen open: what it shows is kept from before."""
    look()
    with transaction() as session:
        sheet = approver.draw_up(session, kind, request_of(kind, request), "ida")
    with transaction() as session:
        return approver.approve(session, sheet.id or 0, "ida", sheet.body["confirm"] or "", devices())[1]


def replace(pool: int, slot: int, drive: int) -> None:
    """Approve the replacement of a drive."""
    do("replace-drive", pool_id=pool, slot=slot, drive_id=drive)


def fill(pool: int, share: float = 0.4, volume_id: int | None = None) -> int:
    """Start writing sample files to its only volume, or this one; the job's id."""
    with transaction() as session:
        mine = select(VolumeRow).where(VolumeRow.pool_id == pool)
        volume = session.exec(mine).one() if volume_id is None else session.get_one(VolumeRow, volume_id)
        return start_fill(session, open_pool(session, pool), volume, share, "ida").id or 0


def check(pool: int) -> JobRow:
    """Check the pool to the end; the finished job."""
    with transaction() as session:
        job = start_check(session, open_pool(session, pool), "ida").id or 0
    carry(job)
    with transaction() as session:
        return session.get(JobRow, job)  # type: ignore[return-value]


def open_jobs(kind: str | None = None) -> list[int]:
    with transaction() as session:
        rows = session.exec(select(JobRow).where(col(JobRow.state).not_in(("done", "failed"))).order_by(col(JobRow.id)))
        return [r.id or 0 for r in rows if kind in (None, r.kind)]


def carry_all() -> None:
    """Carry all open jobs, and those they start, until none goes on: one that is held lets the others go first."""
    before: list[tuple[int, int]] = []
    while (now := _how_far()) != before:
        before = now
        for job, _ in now:
            carry(job, stop=_patience(job))


def _how_far() -> list[tuple[int, int]]:
    with transaction() as session:
        open_ones = select(JobRow.id, JobRow.cursor).where(col(JobRow.state).not_in(("done", "failed")))
        return [(job or 0, cursor) for job, cursor in session.exec(open_ones.order_by(col(JobRow.id)))]


def _patience(job: int) -> Callable[[], bool]:
    """Whether a job has been carried for two minutes, or held for a second and a half."""
    begun, looked, held = time.monotonic(), time.monotonic(), 0

    def over() -> bool:
        nonlocal looked, held
        if time.monotonic() - looked > 0.5:
            looked = time.monotonic()
            with transaction() as session:
                state = session.exec(select(JobRow.state).where(JobRow.id == job)).first()
            held = held + 1 if state == "held" else 0
        return held > 2 or time.monotonic() - begun > 120

    return over


def pool_state(pool: int) -> tuple[str, list[str]]:
    with transaction() as session:
        opened = open_pool(session, pool)
        return opened.row.state, [p.state for p in opened.members]


def happens(what: str, serial: str) -> None:
    """Something happens to a device, and is noticed."""
    world = devices()
    getattr(world, what)(serial)
    observe(world)


def files_intact(pool: int, volume_id: int | None = None) -> bool:
    """Read every file of its only volume, or of this one, back with a job of its own and compare."""
    with transaction() as session:
        mine = select(VolumeRow).where(VolumeRow.pool_id == pool)
        volume = session.exec(mine).one() if volume_id is None else session.get_one(VolumeRow, volume_id)
        job = start_reading(session, open_pool(session, pool), volume, "ida").id or 0
    carry(job)
    with transaction() as session:
        every = select(SampleFile) if volume_id is None else select(SampleFile).where(SampleFile.volume_id == volume_id)
        files = session.exec(every).all()
        return bool(files) and all(f.intact for f in files) and session.get(JobRow, job).state == "done"  # type: ignore[union-attr]


def pool_row(pool: int) -> PoolRow:
    with transaction() as session:
        return session.get(PoolRow, pool)  # type: ignore[return-value]
