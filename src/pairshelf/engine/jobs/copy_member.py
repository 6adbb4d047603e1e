"""A drive that still works, copied onto the one that takes its place: redundancy stays whole throughout."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlmodel import Session

from pairshelf.core.domain.device import Unreadable
from pairshelf.core.domain.drives import Drive, Kind
from pairshelf.core.errors import NotPossible
from pairshelf.core.figures import durations
from pairshelf.engine.growing import change_over
from pairshelf.engine.jobs import trying
from pairshelf.engine.jobs.kind import JobKind
from pairshelf.engine.jobs.starting import meet, start
from pairshelf.engine.jobs.work import Held, Work
from pairshelf.engine.pools import OpenPool
from pairshelf.engine.relayout import place_of
from pairshelf.store.tables import DriveRow, JobRow, MemberState


def step(work: Work) -> float:
    job, pool = work.job, work.pool
    slot = job.member
    beside, place = pool.copy_beside(slot), pool.place(slot)
    if beside is None:
        raise NotPossible("The copying was left off.", code="superseded")
    if not pool.serves():
        raise Held(f"pool {pool.row.name} is {pool.row.state}; it goes on when it can be read")
    if beside.state == MemberState.MISSING:
        raise Held("the drive that takes the place is away; the copy begins again when it is back")
    if place.state != MemberState.ACTIVE:
        raise Held("the drive that is being copied is away; the copy goes on when it is back")
    io = work.any_io
    source, target = io.members[slot].device, io.members[slot].twin
    assert source is not None and target is not None
    # The cursor is a row: what is given room or written behind it meanwhile reaches both drives anyway.
    done, computed = 0, int(job.report.get("computed", 0))
    for first, rows in pool.layout.rows_of(slot):
        low = max(first, job.cursor)
        count = min(first + rows - low, work.most - done)
        if count <= 0:
            continue
        try:
            target.write(low, source.read(low, count))
        except Unreadable:
            computed += io.mend(slot, low, count)
        done += count
        job.cursor = low + count
    target.flush()
    beside.rebuilt_to = job.cursor
    job.report = {**job.report, "computed": computed}
    if not any(first + rows > job.cursor for first, rows in pool.layout.rows_of(slot)):
        job.cursor = job.total
        change_over(work.session, pool, slot, job, work.world)
    else:
        job.total = max(job.total, job.cursor + 1)
    return done / max(1, int(job.report["rows"])) * job.seconds


def copy_onto(
    session: Session, pool: OpenPool, slot: int, member: Drive, drive: DriveRow, who: str, sheet_id: int | None
) -> JobRow:
    """A drive, ``member`` as layouts see it, comes to stand beside the one at a slot, and is made its copy."""
    beside = place_of(pool.row, member, drive, None)
    beside.beside, beside.state = slot, MemberState.COPYING
    session.add(beside)
    pool.places.append(beside)
    session.flush()
    return start_copy(session, pool, slot, drive, who, sheet_id)


def start_copy(
    session: Session, pool: OpenPool, slot: int, drive: DriveRow, who: str, sheet_id: int | None = None
) -> JobRow:
    """Copy the member at a slot onto the drive that stands beside it."""
    meet(session, pool.row.id, "copy", slot=slot)
    held = pool.layout.rows_of(slot)
    old = session.get(DriveRow, pool.place(slot).drive_id)
    assert old is not None
    new = Drive("new", drive.size, Kind(drive.kind), drive.rate)
    seconds = durations.copy(pool.layout, slot, new).idle
    return start(session, JobRow(
        kind="copy", pool_id=pool.row.number, sheet_id=sheet_id, slot=slot, asked_by=who,
        total=max((first + rows for first, rows in held), default=1), seconds=seconds,
        report={"serial": drive.serial, "from": old.serial, "rows": sum(rows for _, rows in held)},
    ))  # fmt: skip


def _outcome(report: Mapping[str, Any], pool: str) -> str:
    computed = report.get("computed")
    besides = f"; {computed} GiB could not be read from it and came from the others" if computed else ""
    return f"{report.get('serial')} has taken the place of {report.get('from')} in {pool}{besides}."


KIND = JobKind(
    "copy", "Copy of a drive", "Everything can be used, and protection does not drop; reading is slower until "
    "it ends.", step, _outcome, tries=trying.copies,
)  # fmt: skip
