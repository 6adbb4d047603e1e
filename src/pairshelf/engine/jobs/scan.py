"""The whole surface of drives read: of a pool's members, what cannot be read is computed from the others and written anew;
of a drive by itself it is only found. Nothing that stands anywhere is changed by it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sqlmodel import Session, col, select

from pairshelf.core.domain.device import Device, DeviceError, Unreadable
from pairshelf.core.domain.drives import Drive, Kind, extents_of
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.errors import NotPossible, PairShelfError
from pairshelf.core.policies.scanning import why_no_scan
from pairshelf.engine.io.side_by_side import each
from pairshelf.engine.jobs import trying
from pairshelf.engine.jobs.kind import JobKind
from pairshelf.engine.jobs.starting import meet, start
from pairshelf.engine.jobs.work import Held, LotWork, Work
from pairshelf.engine.pools import OpenPool
from pairshelf.engine.readings import note_scan
from pairshelf.store.tables import DriveRow, JobRow, JobState, MemberState, now

#: Extents read at once.
_CHUNK = 256


@dataclass(slots=True)
class _Part:
    """A drive's part of a step."""

    slot: int
    drive: DriveRow
    device: Device
    count: int
    #: Extents that could not be read.
    bad: list[int]


def step(work: Work) -> float:
    job, pool = work.job, work.pool
    if not pool.serves():
        raise Held(f"pool {pool.row.name} is {pool.row.state}; it goes on when it can be read")
    found: dict[str, dict[str, int]] = {k: dict(v) for k, v in job.report["drives"].items()}
    io, parts = work.any_io, list[_Part]()
    for place in pool.members:
        device = io.members[place.member].device
        if device is None or place.state != MemberState.ACTIVE or str(place.drive_id) not in found:
            continue
        drive = work.session.get_one(DriveRow, place.drive_id)
        count = min(work.most, extents_of(drive.size) - job.cursor)
        if count > 0:
            parts.append(_Part(place.member, drive, device, count, []))
    each(lambda part: part.bad.extend(_read(part.device, job.cursor, part.count, io.block)), parts)
    for part in parts:
        own = found[str(part.drive.id)]
        own["read"] += part.count
        for extent in part.bad:
            own["unreadable"] += 1
            own["mended"] += _mended(work, part, extent)
    io.flush()
    done = max((part.count for part in parts), default=job.total - job.cursor)
    job.cursor = min(job.total, job.cursor + done)
    job.report = {**job.report, "drives": found}
    if job.cursor >= job.total:
        _note(work.session, job, [p.drive_id for p in pool.members])
    return done / max(1, job.total) * job.seconds


def _read(device: Device, first: int, count: int, block: int) -> list[int]:
    """Extents that cannot be read among so many from one on."""
    bad, room = [], memoryview(bytearray(_CHUNK * block))
    for start_at in range(first, first + count, _CHUNK):
        many = min(_CHUNK, first + count - start_at)
        try:
            device.read_into(start_at, room[: many * block])
        except Unreadable:
            for extent in range(start_at, start_at + many):
                try:
                    device.read_into(extent, room[:block])
                except Unreadable:
                    bad.append(extent)
    return bad


def _mended(work: Work, part: _Part, extent: int) -> bool:
    """Whether what stood there could be had from the others, or nothing stood there; written anew."""
    io = work.any_io
    if not any(first <= extent < first + rows for first, rows in work.pool.layout.rows_of(part.slot)):
        # No stripe has it: whatever is there, nobody will ask for it.
        io.write_member(part.slot, extent, bytes(io.block))
        return True
    try:
        io.mend(part.slot, extent, 1)
    except DeviceError:
        raise
    except PairShelfError:
        return False
    return True


def step_alone(work: LotWork) -> float:
    """A drive that is in no pool, a step further."""
    job = work.job
    drive = work.session.get(DriveRow, job.report["drive"])
    assert drive is not None
    if drive.service not in ("free", "new", "in-use"):
        raise NotPossible(f"Drive {drive.serial} is {drive.service} now.", code="drive-not-free")
    if drive.condition == "failed":
        raise NotPossible(f"Drive {drive.serial} has failed.", code="drive-failed")
    count = max(1, min(int(job.total * work.share), job.total - job.cursor))
    device = work.world.open(drive.serial, drive.size)
    try:
        bad = _read(device, job.cursor, count, work.world.block)
    except DeviceError:
        raise Held(f"drive {drive.serial} does not answer; it goes on when it does") from None
    own = dict(job.report["drives"][str(drive.id)])
    own["read"] += count
    own["unreadable"] += len(bad)
    job.cursor += count
    job.report = {**job.report, "drives": {str(drive.id): own}}
    if job.cursor >= job.total:
        _note(work.session, job, [drive.id])
    return count / job.total * job.seconds


def _note(session: Session, job: JobRow, there: list[int | None]) -> None:
    """What was found is kept with each drive that is still there."""
    for number, found in job.report["drives"].items():
        if int(number) in there and found["read"]:
            note_scan(session, int(number), job.created_at, now(), found)


def start_pool_scan(session: Session, pool: OpenPool, who: str, pace: str = "gentle") -> JobRow:
    """Read every drive of a pool through, side by side. Raises where it cannot be done now."""
    if why := why_no_scan(pool.row.state, synced=pool.synced):
        raise NotPossible(why[1], code=why[0])
    meet(session, pool.row.id, "scan")
    drives = [session.get_one(DriveRow, p.drive_id) for p in pool.members
              if p.state == MemberState.ACTIVE and p.drive_id is not None]  # fmt: skip
    longest = max(drives, key=_seconds)
    return start(session, JobRow(
        kind="scan", pool_id=pool.row.number, total=max(extents_of(d.size) for d in drives), seconds=_seconds(longest),
        asked_by=who, pace=pace, report={"drives": {str(d.id): _nothing() for d in drives}},
    ))  # fmt: skip


def start_lone_scan(session: Session, drive: DriveRow, who: str) -> JobRow:
    """Read a drive through that is a member of no pool. NotPossible while that is under way, or it does not answer."""
    if drive.service not in ("free", "new", "in-use") or drive.condition not in ("good", "failing"):
        how = drive.condition if drive.condition not in ("good", "failing") else drive.service
        raise NotPossible(f"Drive {drive.serial} is {how}; its surface cannot be read.", code="drive-not-free")
    going = select(JobRow).where(JobRow.kind == "scan", col(JobRow.pool_id).is_(None),
                                 col(JobRow.state).not_in((JobState.DONE, JobState.FAILED)))  # fmt: skip
    if any(job.report["drive"] == drive.id for job in session.exec(going)):
        raise NotPossible("This drive is being scanned already.", code="already-running")
    return start(session, JobRow(
        kind="scan", total=extents_of(drive.size), seconds=_seconds(drive), asked_by=who,
        report={"drive": drive.id, "serial": drive.serial, "drives": {str(drive.id): _nothing()}},
    ))  # fmt: skip


def _nothing() -> dict[str, int]:
    return {"read": 0, "unreadable": 0, "mended": 0}


def _seconds(drive: DriveRow) -> float:
    """Reading it through: bytes over its mean rate."""
    known = Drive("", drive.size, Kind(drive.kind), drive.rate)
    return extents_of(drive.size) * EXTENT / known.mean_rate


def _outcome(report: Mapping[str, Any], pool: str) -> str:
    found = list(report["drives"].values())
    bad, mended = sum(f["unreadable"] for f in found), sum(f["mended"] for f in found)
    what = f"{len(found)} drives of {pool}" if pool else f"Drive {report.get('serial')}"
    said = f"{what} read through: {sum(f['read'] for f in found):,} GiB".replace(",", "\u202f")
    if not bad:
        return f"{said}, all of it can be read."
    if mended == bad:
        return f"{said}; {bad} GiB could not be read, came from the others, and {'was' if bad == 1 else 'were'} written anew."
    return f"{said}; {bad} GiB could not be read{f', {mended} of them came from the others' if mended else ''}."


KIND = JobKind(
    "scan", "Surface scan", "Everything can be used; reading is slower until it ends.", step, _outcome, alone=step_alone,
    tries=trying.reads_drives, may_end=True,
)  # fmt: skip
