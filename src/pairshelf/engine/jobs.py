"""Jobs: making them, and pausing them."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass

from sqlalchemy import func
from sqlmodel import Session, col, select

from pairshelf.core.drives import Drive, Kind
from pairshelf.core.errors import NotPossible
from pairshelf.core.figures import durations
from pairshelf.core.figures.speed import sequential_read, sequential_write
from pairshelf.core.layouts.spread import SpreadLayout
from pairshelf.core.placement import stripe_count
from pairshelf.core.units import EXTENT
from pairshelf.engine import keys
from pairshelf.engine.files import files_of, overlapping
from pairshelf.engine.pools import OpenPool
from pairshelf.engine.queue import enqueue
from pairshelf.engine.volumes import file_room
from pairshelf.store.tables import (
    DriveRow,
    JobRow,
    JobState,
    KeepRule,
    MemberState,
    SampleFile,
    VolumeRow,
    now,
)

NAMES = {
    "first-sync": "First sync",
    "rebuild": "Rebuild",
    "self-repair": "Self-repair",
    "check": "Check",
    "fill": "Writing files",
    "read-files": "Reading files back",
    "check-files": "Check of the file system",
    "move-application": "Moving an application",
    "undo-move": "Bringing an application back",
}

#: Jobs that are the users' own work; the others take the drives' time from it.
USERS_WORK = ("fill", "read-files", "check-files", "move-application", "undo-move")


def paces_under_way(session: Session, pool_ids: Collection[int]) -> dict[int, str]:
    """For each of these pools with a job under way that is not its users' work: that job's pace."""
    query = select(JobRow.pool_id, JobRow.pace).where(
        col(JobRow.pool_id).in_(pool_ids),
        JobRow.state == JobState.RUNNING,
        col(JobRow.kind).not_in(USERS_WORK),
    )
    return dict(session.exec(query).all())


def slowing(job: JobRow, paces: Mapping[int, str]) -> float:
    """How many times longer than undisturbed a job takes: users and jobs share the drives' time."""
    if job.kind in USERS_WORK:
        pace = paces.get(job.pool_id)
        return 1.0 if pace is None else 1 / (durations.GENTLE if pace == "gentle" else durations.FAST)
    return 1 / (1 - (durations.GENTLE if job.pace == "gentle" else durations.FAST))


# -- making jobs -----------------------------------------------------------------------------------


def start(session: Session, job: JobRow) -> JobRow:
    """Record a job and hand it to the workers, in the caller's transaction."""
    session.add(job)
    session.flush()
    enqueue(session, job.id or 0)
    return job


def start_first_sync(session: Session, pool: OpenPool, who: str, sheet_id: int | None) -> JobRow | None:
    """Bring the redundancy of a new pool in step; nothing to do without redundancy."""
    takes = durations.first_sync(pool.layout)
    total = stripe_count(pool.layout)
    if takes is None or not total:
        pool.row.synced_to = total
        return None
    return start(session, JobRow(
        kind="first-sync", pool_id=pool.row.id, sheet_id=sheet_id, total=total, seconds=takes.idle, asked_by=who,
    ))  # fmt: skip


def start_volume_sync(
    session: Session, pool: OpenPool, volume: VolumeRow, who: str, sheet_id: int | None
) -> JobRow | None:
    """Bring the redundancy of a new volume of a spread pool in step; None where there is nothing to do."""
    layout = pool.layout
    own = [v for v in layout.volumes if v.volume == volume.id] if isinstance(layout, SpreadLayout) else []
    if not own or not len(own[0].spots):
        return None
    stripes, width = own[0].slots.shape
    seconds = stripes * width * EXTENT / sum(d.mean_rate for d in layout.members)
    return start(session, JobRow(
        kind="first-sync", pool_id=pool.row.id, volume_id=volume.id, sheet_id=sheet_id, total=stripes,
        seconds=seconds, asked_by=who,
    ))  # fmt: skip


def open_job(session: Session, pool_id: int | None, kind: str, slot: int) -> JobRow | None:
    """The job of that kind for a place that has not ended, or None."""
    query = select(JobRow).where(
        JobRow.pool_id == pool_id, JobRow.kind == kind, JobRow.slot == slot,
        col(JobRow.state).not_in((JobState.DONE, JobState.FAILED)),
    )  # fmt: skip
    return session.exec(query).first()


def start_self_repair(session: Session, pool: OpenPool, slot: int, who: str) -> JobRow | None:
    """Put what stands on a failed member of a spread pool on free extents of others; None where nothing does."""
    held = pool.layout.used_extents[slot]
    if not held:
        pool.place(slot).state = MemberState.EMPTIED
        return None
    if under_way := open_job(session, pool.row.id, "self-repair", slot):
        return under_way
    takes = durations.rebuild(pool.layout, str(slot))
    return start(session, JobRow(
        kind="self-repair", pool_id=pool.row.id, slot=slot, total=held, seconds=takes.idle, asked_by=who,
    ))  # fmt: skip


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
        if superseded := open_job(session, pool.row.id, "self-repair", slot):
            superseded.state, superseded.finished_at = JobState.FAILED, now()
            superseded.error = "A drive has come to the place."
            session.flush()
    total = max(1, total)
    if open_one := open_job(session, pool.row.id, "rebuild", slot):
        open_one.cursor, open_one.spent, open_one.seconds, open_one.total = 0, 0.0, takes.idle, total
        open_one.report = {"serial": drive.serial}
        return open_one
    return start(session, JobRow(
        kind="rebuild", pool_id=pool.row.id, sheet_id=sheet_id, slot=slot, asked_by=who, total=total,
        seconds=takes.idle, report={"serial": drive.serial},
    ))  # fmt: skip


def start_check(session: Session, pool: OpenPool, who: str) -> JobRow:
    """Read everything, compare it, and read every sample file back."""
    if not pool.whole:
        raise NotPossible(
            "A check compares every drive with the others; replace what is missing first.", code="degraded"
        )
    syncing = select(JobRow.id).where(
        JobRow.pool_id == pool.row.id, col(JobRow.kind).in_(("first-sync", "self-repair")),
        col(JobRow.state).not_in((JobState.DONE, JobState.FAILED)),
    )  # fmt: skip
    total = stripe_count(pool.layout)
    spread = isinstance(pool.layout, SpreadLayout)
    if session.exec(syncing).first() is not None or (not spread and pool.row.synced_to < total):
        raise NotPossible("The first sync is still under way; check when it has finished.", code="not-synced")
    if not total:
        raise NotPossible("There is nothing to check yet: no volume has any extents.", code="nothing-there")
    _none_open(session, pool, "check", "A check of this pool is under way already.")
    files = files_of(session, pool.row.id or 0)
    extents = sum(f.extents for f in files)
    seconds = durations.check(pool.layout).idle + extents * EXTENT / sequential_read(pool.layout)
    return start(session, JobRow(
        kind="check", pool_id=pool.row.id, total=total + extents, seconds=seconds, asked_by=who,
        report={"stripes": total, "extents_compared": 0, "mismatches": 0, "places": [], "put_right": 0,
                "files_read": 0, "files_differing": []},
    ))  # fmt: skip


@dataclass(frozen=True, slots=True)
class Writer:
    """Who writes files, and how: to a mount, through a share, to a block target's disk."""

    via: str = "mount"
    name: str = "sample"
    #: The folder on the volume.
    folder: str = ""
    #: How a writing service lays its files into folders.
    scheme: str | None = None
    files_per_folder: int | None = None
    #: Extents to write; None: until the asked share of the volume is taken.
    extents: int | None = None
    #: Extents a quota still allows; None: no quota.
    most: int | None = None


def require_serving(pool: OpenPool) -> None:
    """NotPossible while nothing can be read or written."""
    if not pool.serves():
        raise NotPossible(
            f"Pool {pool.row.name} is {pool.row.state}; nothing can be written to it now.", code="not-serving"
        )
    if pool.row.key is not None and not keys.is_open(pool.row.id or 0):
        raise NotPossible(f"Pool {pool.row.name} is locked; an administrator unlocks it first.", code="locked")


def start_fill(
    session: Session, pool: OpenPool, volume: VolumeRow, share: float, who: str, writer: Writer | None = None
) -> JobRow:
    """Files are written to a volume until so much of its room is taken, or as much as the writer wants."""
    writer = writer or Writer()
    require_serving(pool)
    _none_open(session, pool, "fill", "Files are being written to this volume already.", volume.id)
    room = file_room(volume)
    used = int(session.exec(
        select(func.coalesce(func.sum(SampleFile.extents), 0)).where(SampleFile.volume_id == volume.id)
    ).one())  # fmt: skip
    wanted = writer.extents if writer.extents is not None else min(room, int(room * share)) - used
    if writer.extents is not None and wanted > room - used and session.get(KeepRule, volume.id) is None:
        raise NotPossible(
            f"{volume.name} has {room - used} GiB left; {wanted} GiB do not fit. Nothing was written.",
            code="volume-full", field="size",
        )  # fmt: skip
    if wanted <= 0:
        raise NotPossible(
            "The volume already holds that much; choose a larger share.", code="already-filled", field="share"
        )
    if writer.most is not None and wanted > writer.most:
        raise NotPossible(
            f"The quota leaves {max(0, writer.most)} GiB; {wanted} GiB do not fit. Nothing was written.",
            code="quota", field="size",
        )  # fmt: skip
    last = session.exec(select(func.coalesce(func.max(SampleFile.id), 0))).one()
    seconds = wanted * EXTENT / sequential_write(pool.layout)
    return start(session, JobRow(
        kind="fill", pool_id=pool.row.id, volume_id=volume.id, total=wanted, seconds=seconds, asked_by=who,
        report={"files": 0, "index": int(last), "via": writer.via, "writer": writer.name, "folder": writer.folder,
                "scheme": writer.scheme, "files_per_folder": writer.files_per_folder, "deleted": 0},
    ))  # fmt: skip


def start_reading(
    session: Session, pool: OpenPool, volume: VolumeRow, who: str, *, kind: str = "read-files",
    sheet_id: int | None = None,
) -> JobRow:  # fmt: skip
    """All files of a volume are read back and their checksums compared."""
    require_serving(pool)
    _none_open(session, pool, kind, "The files of this volume are being read already.", volume.id)
    files = session.exec(select(SampleFile).where(SampleFile.volume_id == volume.id)).all()
    if not files and kind == "read-files":
        raise NotPossible("There are no files on this volume yet.", code="no-files")
    total = sum(f.extents for f in files)
    return start(session, JobRow(
        kind=kind, pool_id=pool.row.id, volume_id=volume.id, total=total, asked_by=who, sheet_id=sheet_id,
        seconds=total * EXTENT / sequential_read(pool.layout),
        report={"files_read": 0, "files_differing": [], "overlapping": overlapping(files)},
    ))  # fmt: skip


def _none_open(session: Session, pool: OpenPool, kind: str, sentence: str, volume_id: int | None = None) -> None:
    query = select(JobRow.id).where(
        JobRow.pool_id == pool.row.id, JobRow.kind == kind, JobRow.volume_id == volume_id,
        col(JobRow.state).not_in((JobState.DONE, JobState.FAILED)),
    )  # fmt: skip
    if session.exec(query).first() is not None:
        raise NotPossible(sentence, code="already-running")


def pause(session: Session, job: JobRow) -> None:
    """Stop after the step under way; everything done so far stays done."""
    if job.state not in (JobState.WAITING, JobState.RUNNING, JobState.HELD):
        raise NotPossible("Only a job that waits or runs can be paused.", code="not-running")
    job.state, job.why_held = JobState.PAUSED, None


def resume(session: Session, job: JobRow) -> None:
    """Go on where it stopped."""
    if job.state != JobState.PAUSED:
        raise NotPossible("Only a paused job can be resumed.", code="not-paused")
    job.state = JobState.WAITING
    enqueue(session, job.id or 0)
