"""Everything of a pool compared, and every file read back."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlmodel import Session, select

from pairshelf.core.domain.units import EXTENT
from pairshelf.core.errors import NotPossible
from pairshelf.core.figures import durations
from pairshelf.core.figures.speed import sequential_read
from pairshelf.core.policies.checking import why_no_check
from pairshelf.engine.io.files import files_of
from pairshelf.engine.jobs import trying
from pairshelf.engine.jobs.kind import JobKind, Proof
from pairshelf.engine.jobs.read_files import read_files_of
from pairshelf.engine.jobs.starting import meet, start
from pairshelf.engine.jobs.work import Held, Work
from pairshelf.engine.pools import OpenPool
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
    for rows, found in work.any_io.compare(job.cursor, min(work.most, stripes - job.cursor)):
        done += rows
        report["extents_compared"] += found.extents
        report["mismatches"] += len(found.mismatches)
        report["put_right"] += len(found.put_right)
        right = {row: slot for slot, row in found.put_right}
        if "settled" in report:
            untold = [m for m in found.mismatches if m[2] not in right]
            for mismatch in untold:
                work.any_io.bring_in_step(mismatch)
            report["settled"] += len(untold)
        room = LISTED - len(report["places"])
        report["places"] = report["places"] + [
            {"set": work.any_io.set_of(m), "row": m[2], "put_right_slot": right.get(m[2])}
            for m in found.mismatches[:room]
        ]
    work.any_io.flush()
    job.cursor = job.cursor + done if done else stripes
    job.report = report
    return done / stripes * durations.check(pool.layout).idle


def start_check(session: Session, pool: OpenPool, who: str, *, cut_off: bool = False) -> JobRow:
    """Read everything, compare it, and read every sample file back. ``cut_off``: a write may have been cut off that
    nobody knows of any more; where it cannot be told which extent is wrong, redundancy is brought in step with the
    data, old or new."""
    total = pool.layout.stripes
    why = why_no_check([p.state for p in pool.members], synced=pool.synced, stripes=total)
    # What is wrong with the pool is said before what else is going on in it, and that before what is not there yet.
    if why is None or why[0] != "degraded":
        meet(session, pool.row.id, "check")
    if why is not None:
        raise NotPossible(why[1], code=why[0])
    files = files_of(session, pool.row.number)
    extents = sum(f.extents for f in files)
    seconds = durations.check(pool.layout).idle + extents * EXTENT / sequential_read(pool.layout)
    return start(session, JobRow(
        kind="check", pool_id=pool.row.number, total=total + extents, seconds=seconds, asked_by=who,
        report={"stripes": total, "extents_compared": 0, "mismatches": 0, "places": [], "put_right": 0,
                "files_read": 0, "files_differing": [], **({"settled": 0} if cut_off else {})},
    ))  # fmt: skip


def _outcome(report: Mapping[str, Any], pool: str) -> str:
    files = f"{report['files_read']} files read back, {len(report['files_differing'])} differing"
    right = f", {report['put_right']} put right" if report["mismatches"] else ""
    if report.get("settled"):
        right += f", {report['settled']} of writes that were cut off brought in step"
    return f"Check of {pool}: {report['extents_compared']} GiB compared, {report['mismatches']} mismatches{right}; {files}."


def _comparing(job: JobRow) -> bool:
    # The files are read besides; the promise is of the comparison.
    return bool(job.cursor <= job.report["stripes"])


def _compared(job: JobRow) -> Mapping[str, float]:
    return {"compared": job.report["extents_compared"] * EXTENT}


KIND = JobKind(
    "check", "Check", "Everything can be used; reading is slower until it ends.", step, _outcome,
    proves=Proof("check_hours", _comparing, _compared), tries=trying.compares,
    may_end=True,
)  # fmt: skip
