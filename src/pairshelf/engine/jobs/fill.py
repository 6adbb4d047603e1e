"""Files written to a volume."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import func
from sqlmodel import Session, select

from pairshelf.core.domain.folders import folder_for
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.errors import NoRoom, NotPossible
from pairshelf.core.figures.speed import sequential_write
from pairshelf.engine.io.files import FilePlace, FileWriter, checksum_of, content_of, keeper_of, length_of
from pairshelf.engine.io.side_by_side import ahead
from pairshelf.engine.io.volume_io import file_room
from pairshelf.engine.jobs.kind import JobKind, Proof
from pairshelf.engine.jobs.pieces import MADE_AHEAD, PIECE
from pairshelf.engine.jobs.starting import meet, require_serving, start
from pairshelf.engine.jobs.work import Held, Work
from pairshelf.engine.pools import OpenPool
from pairshelf.store.tables import JobRow, KeepRule, SampleFile, VolumeRow, now

#: Who asks for what hosts write by themselves while days pass; the logbook does not tell of each time.
HOSTS = "hosts"


def step(work: Work) -> float:
    job, pool = work.job, work.pool
    if not pool.serves():
        raise Held(f"pool {pool.row.name} is {pool.row.state}; the host waits to write")
    volume = work.volume()
    report = dict(job.report)
    writer = FileWriter(work.session, work.volumes, volume)
    keeper = keeper_of(work.session, pool, volume)
    done, goal, today = 0, min(work.most, job.total - job.cursor), now().date()
    deleted = 0
    while done < goal and not deleted:
        most = 2 if keeper else MADE_AHEAD
        for index, content, checksum in ahead(_made, _ahead_of(work, volume, report, goal - done), most):
            if keeper and keeper.over(len(content) // work.world.block):
                writer.flush()
                # Nothing is written in the place of what was deleted before that is out of the books for good:
                # the step ends here, and the next one writes.
                if deleted := keeper.make_room(len(content) // work.world.block):
                    report["deleted"] += deleted
                    break
            written = writer.write(_place_of(report, index, today), content, checksum)
            done += written
            if keeper:
                keeper.used += written
            report["files"] += 1
            if writer.waiting >= PIECE:
                writer.flush()  # Meanwhile the next ones are made.
    writer.flush()
    job.cursor += done
    job.report = report
    return done / job.total * job.seconds


def _ahead_of(work: Work, volume: VolumeRow, report: Mapping[str, Any], left: int) -> list[tuple[int, int, int]]:
    """The next files: volume, number, bytes."""
    found = []
    index = report["index"] + report["files"] + 1
    while left > 0:
        extents = min(length_of(volume.number, index), left)
        found.append((volume.number, index, extents * work.world.block))
        left -= extents
        index += 1
    return found


def _made(file: tuple[int, int, int]) -> tuple[int, bytes, str]:
    """A file's number, bytes and checksum."""
    content = content_of(*file)
    return file[1], content, checksum_of(content)


def _place_of(report: Mapping[str, Any], index: int, today: dt.date) -> FilePlace:
    number = index - report["index"] - 1
    parts = (report["folder"], folder_for(report["scheme"], number, report["files_per_folder"], today))
    folder = "/".join(p for p in parts if p)
    return FilePlace(folder, f"{report['writer']}-{index:05d}.dat", report["via"], report["writer"])


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


def start_fill(
    session: Session, pool: OpenPool, volume: VolumeRow, share: float, who: str, writer: Writer | None = None
) -> JobRow:
    """Files are written to a volume until so much of its room is taken, or as much as the writer wants."""
    writer = writer or Writer()
    require_serving(pool)
    meet(session, pool.row.id, "fill", volume_id=volume.id)
    room = file_room(volume)
    used = int(session.exec(
        select(func.coalesce(func.sum(SampleFile.extents), 0)).where(SampleFile.volume_id == volume.id)
    ).one())  # fmt: skip
    wanted = writer.extents if writer.extents is not None else min(room, int(room * share)) - used
    if writer.extents is not None and wanted > room - used and session.get(KeepRule, volume.id) is None:
        raise NoRoom(
            f"{volume.name} has {room - used} GiB left; {wanted} GiB do not fit. Nothing was written.",
            code="volume-full", needed=wanted, left=room - used,
        )  # fmt: skip
    if wanted <= 0:
        raise NotPossible(
            "The volume already holds that much; choose a larger share.", code="already-filled", field="share"
        )
    if writer.most is not None and wanted > writer.most:
        raise NoRoom(
            f"The quota leaves {max(0, writer.most)} GiB; {wanted} GiB do not fit. Nothing was written.",
            code="quota", needed=wanted, left=max(0, writer.most),
        )  # fmt: skip
    last = session.exec(select(func.coalesce(func.max(SampleFile.id), 0))).one()
    seconds = wanted * EXTENT / sequential_write(pool.layout)
    return start(session, JobRow(
        kind="fill", pool_id=pool.row.number, volume_id=volume.id, total=wanted, seconds=seconds, asked_by=who,
        report={"files": 0, "index": int(last or 0), "via": writer.via, "writer": writer.name, "folder": writer.folder,
                "scheme": writer.scheme, "files_per_folder": writer.files_per_folder, "deleted": 0},
    ))  # fmt: skip


def _outcome(report: Mapping[str, Any], pool: str) -> str:
    gone = f" {report['deleted']} of the oldest were deleted by the keep rule." if report.get("deleted") else ""
    return f"{report['files']} files written to {pool}, their checksums kept.{gone}"


KIND = JobKind(
    "fill", "Writing files", "It is users' own work.", step, _outcome, users_work=True,
    proves=Proof("sequential_write"), may_end=True,
)  # fmt: skip
