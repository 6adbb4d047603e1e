"""The files of a volume read back, and their checksums compared."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from sqlalchemy import update
from sqlmodel import Session, col, select

from pairshelf.core.domain.units import EXTENT
from pairshelf.core.errors import NotPossible
from pairshelf.core.figures.speed import sequential_read
from pairshelf.engine.io.files import agrees, overlapping
from pairshelf.engine.io.side_by_side import ahead
from pairshelf.engine.jobs.kind import JobKind, Proof
from pairshelf.engine.jobs.pieces import MADE_AHEAD, PIECE
from pairshelf.engine.jobs.starting import meet, require_serving, start
from pairshelf.engine.jobs.work import Held, Work
from pairshelf.engine.pools import OpenPool
from pairshelf.store.database import in_these, pick, these
from pairshelf.store.tables import JobRow, SampleFile, VolumeRow, now


def step(work: Work) -> float:
    return read_files_of(work, [work.volume()], dict(work.job.report))


#: Files looked at in one step, at most.
_FILES_A_STEP = 1000


def read_files_of(work: Work, volumes: Sequence[VolumeRow], report: dict[str, Any]) -> float:
    """Read the next files back, from the last one looked at, and compare their checksums."""
    job, pool = work.job, work.pool
    if not pool.serves():
        raise Held(f"pool {pool.row.name} is {pool.row.state}; the host waits to read")
    by_id = {v.id: v for v in volumes}
    query = pick(
        SampleFile.id, SampleFile.volume_id, SampleFile.first, SampleFile.extents, SampleFile.checksum, SampleFile.name
    ).where(col(SampleFile.volume_id).in_(by_id), col(SampleFile.id) > report.get("last", 0))
    files: list[Any] = []
    done = 0
    for file in work.session.exec(query.order_by(col(SampleFile.id)).limit(_FILES_A_STEP)):
        if done >= work.most:
            break
        files.append(file)
        done += file.extents
    # Read on while the checksums of what was read are worked out.
    read = (c for piece in _side_by_side(files) for c in _contents(work, by_id[piece[0].volume_id], piece))
    pairs = zip(read, (f.checksum for f in files), strict=True)
    found = ahead(lambda pair: agrees(*pair), pairs, 2 * MADE_AHEAD)
    differing = [f for f, same in zip(files, found, strict=True) if not same]
    if files:
        _note_read(work, [f.id for f in files], [f.id for f in differing])
        report["last"] = files[-1].id
        report["files_read"] += len(files)
        report["files_differing"] = [*report["files_differing"], *(f.name for f in differing)]
    job.cursor = min(job.total - 1, job.cursor + done) if done else job.total
    job.report = report
    return done * EXTENT / sequential_read(pool.layout)


def _note_read(work: Work, read: list[int], differing: list[int]) -> None:
    """Keep with each file when it was read, and whether it was as written."""
    told = update(SampleFile).where(in_these(SampleFile.id)).values(read_at=now(), intact=True)
    work.session.connection().execute(told, these(read))
    if differing:
        wrong = update(SampleFile).where(col(SampleFile.id).in_(differing)).values(intact=False)
        work.session.connection().execute(wrong)


def _side_by_side(files: Sequence[Any]) -> Iterator[list[Any]]:
    """Files in their order, those that lie one after the other together."""
    piece: list[Any] = []
    for file in files:
        last = piece[-1] if piece else None
        if last and (
            file.volume_id != last.volume_id
            or file.first != last.first + last.extents
            or last.first + last.extents - piece[0].first >= PIECE
        ):
            yield piece
            piece = []
        piece.append(file)
    if piece:
        yield piece


def _contents(work: Work, volume: VolumeRow, piece: Sequence[Any]) -> Iterator[memoryview]:
    """The bytes of files that lie side by side, read in one go."""
    whole = work.volumes.read(volume, piece[0].first, sum(f.extents for f in piece))
    for file in piece:
        start = (file.first - piece[0].first) * work.world.block
        yield whole[start : start + file.extents * work.world.block]


def start_reading(
    session: Session, pool: OpenPool, volume: VolumeRow, who: str, *, kind: str = "read-files",
    sheet_id: int | None = None,
) -> JobRow:  # fmt: skip
    """All files of a volume are read back and their checksums compared."""
    require_serving(pool)
    meet(session, pool.row.id, kind, volume_id=volume.id)
    files = session.exec(select(SampleFile).where(SampleFile.volume_id == volume.id)).all()
    if not files and kind == "read-files":
        raise NotPossible("There are no files on this volume yet.", code="no-files")
    total = sum(f.extents for f in files)
    return start(session, JobRow(
        kind=kind, pool_id=pool.row.number, volume_id=volume.id, total=total, asked_by=who, sheet_id=sheet_id,
        seconds=total * EXTENT / sequential_read(pool.layout),
        report={"files_read": 0, "files_differing": [], "overlapping": overlapping(files)},
    ))  # fmt: skip


def _outcome(report: Mapping[str, Any], pool: str) -> str:
    return f"Files of {pool} read back: {report['files_read']} read, {len(report['files_differing'])} differing."


KIND = JobKind(
    "read-files", "Reading files back", "It is users' own work.", step, _outcome, users_work=True,
    proves=Proof("sequential_read"), may_end=True,
)  # fmt: skip
