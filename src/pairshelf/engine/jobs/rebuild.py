"""A drive that has come to a place, filled from the rest."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import delete
from sqlmodel import Session, col

from pairshelf.core.domain.drives import Drive, Kind
from pairshelf.core.errors import NotPossible
from pairshelf.core.figures import durations
from pairshelf.core.layouts.regions import rows_missed
from pairshelf.engine.jobs import trying
from pairshelf.engine.jobs.kind import JobKind, Proof
from pairshelf.engine.jobs.starting import meet, start
from pairshelf.engine.jobs.work import Held, Work
from pairshelf.engine.pools import OpenPool, label_of, refresh_state
from pairshelf.store.tables import DriveRow, JobRow, MemberState, MissedWrite, PoolPlace


def step(work: Work) -> float:
    job, pool = work.job, work.pool
    slot = job.member
    place = pool.place(slot)
    if place.state == MemberState.MISSING:
        raise Held("the drive being filled is away; the rebuild begins again when it is back")
    if place.state != MemberState.REBUILDING:
        raise NotPossible("The drive being filled failed, or its place was given to another.", code="superseded")
    if not pool.serves():
        raise Held(f"pool {pool.row.name} is {pool.row.state}")
    if job.cursor == 0:
        _label(work, place)
    missed = job.report.get("missed")
    only = None if missed is None else frozenset(missed)
    done = work.any_io.refill(slot, job.cursor, job.report.get("at", (0, 0)), work.most, job.total, only)
    job.cursor, place.rebuilt_to = done.cursor, done.serves_to
    damaged = int(job.report.get("damaged", 0)) + len(work.any_io.damaged)
    filled = int(job.report.get("filled", 0)) + done.extents
    job.report = {**job.report, "at": done.at, "damaged": damaged, "filled": filled}
    if done.whole:
        mine = col(MissedWrite.place_id) == place.number
        work.session.connection().execute(delete(MissedWrite).where(mine, col(MissedWrite.absence) <= place.absence))
        place.state, place.rebuilt_to = MemberState.ACTIVE, 0
        refresh_state(work.session, pool)
    return done.extents / max(1, rows_missed(pool.layout, slot, only)) * job.seconds


def _label(work: Work, place: PoolPlace) -> None:
    drive = work.session.get(DriveRow, place.drive_id)
    assert drive is not None
    work.world.open(drive.serial, drive.size).write_label(label_of(work.pool.row, place.slot))


def start_rebuild(
    session: Session, pool: OpenPool, slot: int, who: str, sheet_id: int | None = None, *,
    missed: Sequence[int] | None = None,
) -> JobRow:  # fmt: skip
    """Fill the drive that now stands at a slot; a rebuild of that slot still open is begun again. ``missed``: one that
    was away, and lacks only what stands in these regions."""
    place = pool.place(slot)
    drive = session.get(DriveRow, place.drive_id)
    assert drive is not None
    new = Drive("new", drive.size, Kind(drive.kind), drive.rate)
    absent = [str(p.slot) for p in pool.members if p.state != MemberState.ACTIVE and p.slot != slot]
    takes = durations.rebuild(pool.layout, str(slot), new, absent=absent)
    place.state, place.rebuilt_to = MemberState.REBUILDING, 0
    total = max(1, pool.layout.filled(slot))
    report: dict[str, Any] = {"serial": drive.serial}
    seconds = takes.idle
    if missed is not None:
        report["missed"] = list(missed)
        seconds *= rows_missed(pool.layout, slot, frozenset(missed)) / max(1, pool.layout.used_extents[slot])
    if open_one := meet(session, pool.row.id, "rebuild", slot=slot):
        open_one.cursor, open_one.spent, open_one.seconds, open_one.total = 0, 0.0, seconds, total
        open_one.report = report
        return open_one
    return start(session, JobRow(
        kind="rebuild", pool_id=pool.row.number, sheet_id=sheet_id, slot=slot, asked_by=who, total=total,
        seconds=seconds, report=report,
    ))  # fmt: skip


def _outcome(report: Mapping[str, Any], pool: str) -> str:
    if damaged := report.get("damaged"):
        return (
            f"Rebuild in {pool} finished; {damaged} GiB of drive {report.get('serial')} could not be computed, because another "
            "drive could not be read there either. A check says which files are damaged."
        )
    if "missed" in report:
        return (
            f"Drive {report.get('serial')} of {pool} is up to date again: {report.get('filled', 0)} GiB had changed while it was "
            "away."
        )
    return f"Rebuild in {pool} finished: drive {report.get('serial')} holds all its data."


KIND = JobKind(
    "rebuild", "Rebuild", "Everything can be used; reading and writing are slower until it ends.", step, _outcome,
    proves=Proof("rebuild_hours", counts=lambda job: "missed" not in job.report), tries=trying.fills,
)  # fmt: skip
