"""What volumes have of a pool, moved together at its beginning while they are used."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlmodel import Session, select

from pairshelf.core.changes.pools.move_together import moving_seconds
from pairshelf.core.layouts.allocation import beyond, next_move
from pairshelf.engine.io.volume_io import move_stretch
from pairshelf.engine.jobs.kind import JobKind
from pairshelf.engine.jobs.starting import meet, require_serving, start
from pairshelf.engine.jobs.work import Held, Work
from pairshelf.engine.pools import OpenPool
from pairshelf.store.tables import JobRow, VolumePiece, VolumeRow

#: Most extents moved at once: what they hold has to fit into memory.
_MOST = 4096


def step(work: Work) -> float:
    job, pool, session = work.job, work.pool, work.session
    if not pool.serves():
        raise Held(f"pool {pool.row.name} is {pool.row.state}; it goes on when it can be read")
    owners = _owners(session, pool)
    taken = [(first, count) for first, count, _ in owners]
    move = next_move(taken)
    if move is None:
        job.cursor = job.total
        return 0.0
    source, to, count = move[0], move[1], min(move[2], work.most, _MOST)
    volume = session.get_one(VolumeRow, next(v for first, n, v in owners if first <= source < first + n))
    move_stretch(session, work.volumes, pool, volume, source, to, count)
    # Volumes may have got or given back extents meanwhile: what is left is counted anew.
    left = beyond([(first, count) for first, count, _ in _owners(session, pool)])
    job.total = max(job.total, job.cursor + 1)
    job.cursor = max(job.cursor, job.total - left) if left else job.total
    job.report = {**job.report, "extents": job.report["extents"] + count}
    return moving_seconds(pool.layout, count)


def _owners(session: Session, pool: OpenPool) -> list[tuple[int, int, int]]:
    query = select(VolumePiece.first, VolumePiece.count, VolumePiece.volume_id)
    return list(session.exec(query.where(VolumePiece.pool_id == pool.row.id)).all())


def start_moving(session: Session, pool: OpenPool, extents: int, who: str, sheet_id: int | None = None) -> JobRow:
    """Move so many extents into the gaps before them."""
    require_serving(pool)
    meet(session, pool.row.id, "move-together")
    return start(session, JobRow(
        kind="move-together", pool_id=pool.row.number, sheet_id=sheet_id, asked_by=who, total=max(1, extents),
        seconds=moving_seconds(pool.layout, extents), report={"extents": 0},
    ))  # fmt: skip


def _outcome(report: Mapping[str, Any], pool: str) -> str:
    return f"What is in {pool} stands together: {report['extents']} GiB were moved."


KIND = JobKind(
    "move-together", "Moving together", "Everything can be used; reading and writing are slower until it ends.", step,
    _outcome,
)  # fmt: skip
