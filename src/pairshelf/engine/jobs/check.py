"""Everything of a pool compared, and every file read back."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from sqlmodel import Session, select

from pairshelf.core.errors import NotPossible
from pairshelf.core.figures import durations
from pairshelf.core.figures.speed import sequential_read
from pairshelf.core.layouts.spread import SpreadLayout
from pairshelf.core.placement import stripe_count
from pairshelf.core.units import EXTENT
from pairshelf.engine.files import files_of
from pairshelf.engine.jobs.kind import JobKind, Proof
from pairshelf.engine.jobs.pieces import ROWS
from pairshelf.engine.jobs.read_files import read_files_of
from pairshelf.engine.jobs.starting import meet, start
from pairshelf.engine.jobs.work import Held, Work
from pairshelf.engine.pool_io import Compared
from pairshelf.engine.pools import OpenPool
from pairshelf.engine.spread_io import Stretch
from pairshelf.store.tables import JobRow, VolumeRow

#: Mismatches listed one by one in a report; all are counted.
LISTED = 20


def step(work: Work) -> float:
    job, pool = work.job, work.pool
    report = dict(job.report)
    stripes = int(report["stripes"])
    if job.cursor >= stripes:
        volumes = work.session.exec(select(VolumeRow).where(VolumeRow.pool_id == pool.row.id)).all()
        return read_files_of(work, volumes, report)
    if not pool.whole:
        raise Held("a check compares every drive with the others; it goes on when none is missing")
    done = 0
    for rows, found in _checked(work, stripes):
        done += rows
        report["extents_compared"] += found.extents
        report["mismatches"] += len(found.mismatches)
        report["put_right"] += len(found.put_right)
        right = {row: slot for slot, row in found.put_right}
        room = LISTED - len(report["places"])
        report["places"] = report["places"] + [
            _mismatch(pool, band, group, row, right.get(row)) for band, group, row in found.mismatches[:room]
        ]
    work.any_io.flush()
    job.cursor = job.cursor + done if done else stripes
    job.report = report
    return done / stripes * durations.check(pool.layout).idle


def _checked(work: Work, stripes: int) -> Iterator[tuple[int, Compared]]:
    """The next stripes compared, piece by piece."""
    most = min(work.most, stripes - work.job.cursor)
    if not isinstance(work.pool.layout, SpreadLayout):
        for run in work.io.runs(work.job.cursor, most, ROWS):
            yield run.rows, work.io.check(run, put_right=True)
        return
    before = 0
    for placed in work.pool.layout.volumes:
        first = max(0, work.job.cursor - before)
        count = min(len(placed.spots) - first, most)
        before += len(placed.spots)
        if count > 0:
            most -= count
            yield count, work.spread_io.check(Stretch(placed, first, count), put_right=True)


def _mismatch(pool: OpenPool, band: int, group: int, row: int, slot: int | None) -> dict[str, Any]:
    if isinstance(pool.layout, SpreadLayout):
        return {"set": 0, "row": row, "put_right_slot": slot}
    members = pool.layout.bands[band].groups[group].members
    return {"set": pool.layout.set_of(members[0]), "row": row, "put_right_slot": slot}


def start_check(session: Session, pool: OpenPool, who: str) -> JobRow:
    """Read everything, compare it, and read every sample file back."""
    if not pool.whole:
        raise NotPossible(
            "A check compares every drive with the others; replace what is missing first.", code="degraded"
        )
    meet(session, pool.row.id, "check")
    total = stripe_count(pool.layout)
    if not isinstance(pool.layout, SpreadLayout) and pool.row.synced_to < total:
        raise NotPossible("The first sync is still under way; check when it has finished.", code="not-synced")
    if not total:
        raise NotPossible("There is nothing to check yet: no volume has any extents.", code="nothing-there")
    files = files_of(session, pool.row.id or 0)
    extents = sum(f.extents for f in files)
    seconds = durations.check(pool.layout).idle + extents * EXTENT / sequential_read(pool.layout)
    return start(session, JobRow(
        kind="check", pool_id=pool.row.id, total=total + extents, seconds=seconds, asked_by=who,
        report={"stripes": total, "extents_compared": 0, "mismatches": 0, "places": [], "put_right": 0,
                "files_read": 0, "files_differing": []},
    ))  # fmt: skip


def _outcome(report: Mapping[str, Any], pool: str) -> str:
    files = f"{report['files_read']} files read back, {len(report['files_differing'])} differing"
    right = f", {report['put_right']} put right" if report["mismatches"] else ""
    return f"Check of {pool}: {report['extents_compared']} GiB compared, {report['mismatches']} mismatches{right}; {files}."


def _comparing(job: JobRow) -> bool:
    # The files are read besides; the promise is of the comparison.
    return bool(job.cursor <= job.report["stripes"])


def _compared(job: JobRow) -> Mapping[str, float]:
    return {"compared": job.report["extents_compared"] * EXTENT}


KIND = JobKind(
    "check", "Check", "Everything can be used; reading is slower until it ends.", step, _outcome,
    proves=Proof("check_hours", _comparing, _compared),
)  # fmt: skip
