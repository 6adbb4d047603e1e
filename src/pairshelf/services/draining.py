"""Drains as they stand: what is still on each drive, where it goes, and what may fail meanwhile."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from sqlmodel import Session, col, select

from pairshelf.core.domain.estate import EstateDrive, EstatePool
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.errors import NotFound, NotPossible
from pairshelf.core.figures.survival import after_failures, survival
from pairshelf.engine.jobs import pacing
from pairshelf.engine.log import log
from pairshelf.store.repositories.drives_and_pools import load_drives, load_pools
from pairshelf.store.tables import DrainRow, JobRow, JobState, PoolPlace

#: Drains that have ended and are still shown.
_LATELY = 5


@dataclass(frozen=True, slots=True)
class Leaving:
    """A drive that is being emptied, or has been."""

    drive: EstateDrive
    pool: str | None
    #: Bytes that stood on it at the start, and that still stand there.
    held: int
    left: int
    #: The drive that its place is copied onto; none in a spread pool.
    onto: EstateDrive | None
    job_id: int | None


@dataclass(frozen=True, slots=True)
class TouchedPool:
    """A pool that is touched, and how many more drives of it may fail: as promised, and just now."""

    pool: EstatePool
    promised: int
    now: int
    serves: bool


@dataclass(frozen=True, slots=True)
class DrainState:
    """A drain and how it stands."""

    row: DrainRow
    drives: tuple[Leaving, ...]
    pools: tuple[TouchedPool, ...]
    jobs: tuple[int, ...]

    @property
    def left(self) -> int:
        """Bytes that still stand there."""
        return sum(d.left for d in self.drives)


def drains(session: Session) -> list[DrainState]:
    """Those under way, then the last that have ended."""
    going = list(session.exec(select(DrainRow).where(col(DrainRow.ended_at).is_(None)).order_by(col(DrainRow.id))))
    over = select(DrainRow).where(col(DrainRow.ended_at).is_not(None)).order_by(col(DrainRow.ended_at).desc())
    rows = [*going, *session.exec(over.limit(_LATELY))]
    return [_standing(session, row) for row in rows]


def _standing(session: Session, row: DrainRow) -> DrainState:
    drives = load_drives(session, row.drives)
    open_jobs = list(session.exec(
        select(JobRow).where(JobRow.drain_id == row.id, col(JobRow.state).not_in((JobState.DONE, JobState.FAILED)))
        .order_by(col(JobRow.id))
    ))  # fmt: skip
    touched = {p for p in session.exec(select(JobRow.pool_id).where(JobRow.drain_id == row.id)) if p is not None}
    if row.ended_at is None:
        touched |= set(session.exec(select(PoolPlace.pool_id).where(col(PoolPlace.drive_id).in_(row.drives))))
    pools = load_pools(session, touched)
    copies = {(j.pool_id, j.slot): j for j in open_jobs if j.kind == "copy"}
    moving = {j.pool_id: j for j in open_jobs if j.kind == "drain"}
    found = []
    places = {p.drive.id: (pool, p) for pool in pools for p in pool.places if p.drive is not None}
    for drive in drives:
        held = row.held.get(str(drive.id), 0)
        if row.ended_at is not None or drive.id not in places:
            found.append(Leaving(drive, None, held * EXTENT, 0, None, None))
            continue
        pool, place = places[drive.id]
        onto = next((d for slot, d in pool.copies if slot == place.slot), None)
        job = copies.get((pool.id, place.slot)) or moving.get(pool.id)
        left = pool.layout.used_extents[place.slot]
        if job is not None and onto is not None:
            left = sum(max(0, first + rows - max(first, job.cursor)) for first, rows in pool.layout.rows_of(place.slot))
        found.append(
            Leaving(drive, pool.name, max(held, left) * EXTENT, left * EXTENT, onto, job.number if job else None)
        )
    kept = tuple(
        TouchedPool(pool, survival(pool.layout).guaranteed, after_failures(pool.layout, pool.absent).more_guaranteed,
             pool.state not in ("lost", "unreachable"))
        for pool in pools
    )  # fmt: skip
    return DrainState(row, tuple(found), kept, tuple(j.number for j in open_jobs))


def steer(session: Session, drain_id: int, act: Literal["pause", "resume", "gentle", "fast"], who: str) -> int:
    """Pause, resume, or pace everything that a drain moves; how many jobs that concerned."""
    row = session.get(DrainRow, drain_id)
    if row is None:
        raise NotFound("drain")
    if row.ended_at is not None:
        raise NotPossible("This draining has ended.", code="ended")
    jobs: Sequence[JobRow] = session.exec(
        select(JobRow).where(JobRow.drain_id == drain_id, col(JobRow.state).not_in((JobState.DONE, JobState.FAILED)))
        .order_by(col(JobRow.id)).with_for_update()
    ).all()  # fmt: skip
    concerned = 0
    for job in jobs:
        if act == "pause" and job.state != JobState.PAUSED:
            pacing.pause(session, job)
        elif act == "resume" and job.state == JobState.PAUSED:
            pacing.resume(session, job)
        elif act in ("gentle", "fast") and job.pace != act:
            job.pace = act
        else:
            continue
        concerned += 1
    log(session, who, f"drain-{act}", row.subject, f"Draining {row.subject}: {_SAID[act]}.", drain=drain_id)
    return concerned


_SAID = {"pause": "paused", "resume": "resumed", "gentle": "gently from now on", "fast": "fast from now on"}
