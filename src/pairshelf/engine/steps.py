"""What each kind of job does in one step, and what it found in the end."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import update
from sqlmodel import Session, col, select

from pairshelf.core.device import Devices
from pairshelf.core.errors import NotPossible
from pairshelf.core.figures import durations
from pairshelf.core.figures.speed import sequential_read
from pairshelf.core.folders import folder_for
from pairshelf.core.layouts.spread import SpreadLayout
from pairshelf.core.units import EXTENT
from pairshelf.engine import keys
from pairshelf.engine.files import FilePlace, FileWriter, agrees, checksum_of, content_of, keep, length_of
from pairshelf.engine.log import SYSTEM, log
from pairshelf.engine.pool_io import Compared, PoolIO, Run
from pairshelf.engine.pools import OpenPool, label_of, open_io, refresh_state
from pairshelf.engine.side_by_side import ahead
from pairshelf.engine.spread_io import SpreadIO, Stretch
from pairshelf.engine.volumes import VolumeIO
from pairshelf.store.estate import store_stripes
from pairshelf.store.tables import (
    DriveRow,
    JobRow,
    JobState,
    KeepRule,
    MemberState,
    PoolPlace,
    SampleFile,
    VolumeRow,
    now,
)

#: Rows of a set worked on at once: what they hold stays near the processor.
_ROWS = 256
#: Extents written or read in one go, about.
_PIECE = 8192
#: Mismatches listed one by one in a report; all are counted.
LISTED = 20


@dataclass(slots=True)
class Work:
    """What one step has at hand."""

    session: Session
    job: JobRow
    pool: OpenPool
    world: Devices
    #: Most stripes (or extents) to do in this step.
    most: int
    _io: PoolIO | SpreadIO | None = None
    _volumes: VolumeIO | None = None

    @property
    def any_io(self) -> PoolIO | SpreadIO:
        """The pool's bytes, of whatever layout."""
        if self._io is None:
            self._io = open_io(self.session, self.pool, self.world)
        return self._io

    @property
    def io(self) -> PoolIO:
        """The bytes of a set-built or stepped pool."""
        io = self.any_io
        assert isinstance(io, PoolIO)
        return io

    @property
    def spread_io(self) -> SpreadIO:
        """The bytes of a spread pool."""
        io = self.any_io
        assert isinstance(io, SpreadIO)
        return io

    @property
    def volumes(self) -> VolumeIO:
        """The bytes of the pool's volumes, as their users see them."""
        if self._volumes is None:
            if self.pool.row.key is not None and not keys.is_open(self.pool.row.id or 0):
                raise Held(f"pool {self.pool.row.name} is locked; it goes on when it is unlocked")
            self._volumes = VolumeIO(self.session, self.pool, self.world, self.any_io)
        return self._volumes

    def volume(self) -> VolumeRow:
        """The volume the job is about."""
        found = self.session.get(VolumeRow, self.job.volume_id)
        if found is None:
            raise NotPossible("The volume is not there any more.", code="volume-gone")
        return found

    def note_moved(self) -> None:
        """Keep with the job what its step made the drives do."""
        if self.job.kind == "check" and self.job.cursor > self.job.report["stripes"]:
            return  # The files are read besides; the promise is of the comparison.
        if self._io is not None and self._io.moved:
            total = Counter({int(k): v for k, v in self.job.report.get("moved", {}).items()}) + self._io.moved
            self.job.report = {**self.job.report, "moved": {str(k): v for k, v in sorted(total.items())}}


@dataclass(frozen=True, slots=True)
class Held(Exception):
    """The job cannot go on now; it waits."""

    why: str


def _step_first_sync(work: Work) -> float:
    job, pool = work.job, work.pool
    if not pool.whole:
        raise Held("waits until every place of the pool holds a drive with all its data")
    done = 0
    if job.volume_id is not None:
        placed = work.spread_io.volume(job.volume_id)
        done = min(work.most, max(0, len(placed.spots) - job.cursor))
        if done:
            work.spread_io.sync(Stretch(placed, job.cursor, done))
        job.cursor = job.cursor + done if done else job.total
    else:
        for run in work.io.runs(job.cursor, work.most, _ROWS):
            work.io.sync(run)
            done += run.rows
        job.cursor += done
        pool.row.synced_to = job.cursor
    work.any_io.flush()
    return done / job.total * job.seconds


def _next_on(layout: SpreadLayout, slot: int, after: tuple[int, int], most: int) -> list[tuple[Stretch, int]]:
    """Stripes with an extent on a slot, from (volume, stripe) on: each as a stretch of one, with its column."""
    found: list[tuple[Stretch, int]] = []
    for placed in sorted(layout.volumes, key=lambda v: v.volume):
        first = after[1] if placed.volume == after[0] else 0
        if placed.volume < after[0]:
            continue
        rows, columns = np.nonzero(placed.slots[first:] == slot)
        for row, column in zip((rows + first).tolist(), columns.tolist(), strict=True):
            found.append((Stretch(placed, row, 1), column))
            if len(found) == most:
                return found
    return found


def _step_self_repair(work: Work) -> float:
    """Stripe by stripe: what the failed member held is computed and put on a free extent of another."""
    job, pool = work.job, work.pool
    slot = job.slot or 0
    if not pool.serves():
        raise Held(f"pool {pool.row.name} is {pool.row.state}")
    layout = pool.layout
    assert isinstance(layout, SpreadLayout)
    changed: set[int] = set()
    done = 0
    for stretch, column in _next_on(layout, slot, (0, 0), min(work.most, 64)):
        volume = stretch.volume.volume
        spot = layout.another_spot(volume, stretch.first, column, pool.closed())
        if spot is None:
            if not done:
                raise Held("no drive has room to take what the failed one held; put a drive in its place")
            break
        ((_, block),) = work.spread_io.column(stretch, slot)
        work.spread_io.put(spot[0], spot[1], block)
        layout = layout.with_spot(volume, stretch.first, column, spot)
        changed.add(volume)
        done += 1
    work.any_io.flush()
    for volume in changed:
        store_stripes(work.session, pool.row.id or 0, layout.volume(volume))
    pool.layout = layout
    job.cursor = min(job.total, job.cursor + done)
    if not layout.used_extents[slot]:
        job.cursor = job.total
        pool.place(slot).state = MemberState.EMPTIED
        refresh_state(work.session, pool)
    return done / job.total * job.seconds


def _refill(work: Work, place: PoolPlace) -> float:
    """A member of a spread pool is filled where it stands; it serves when all of it is there."""
    job, pool = work.job, work.pool
    layout, slot = pool.layout, place.slot or 0
    assert isinstance(layout, SpreadLayout)
    volume, stripe = job.report.get("at", (0, 0))
    ahead = _next_on(layout, slot, (volume, stripe), work.most)
    for stretch, column in ahead:
        ((_, block),) = work.spread_io.column(stretch, slot)
        work.spread_io.put(slot, int(stretch.spots[0, column, 1]), block)
    work.any_io.flush()
    if ahead:
        last = ahead[-1][0]
        job.report = {**job.report, "at": [last.volume.volume, last.first + 1]}
        job.cursor = min(job.total - 1, job.cursor + len(ahead))
        return len(ahead) / job.total * job.seconds
    job.cursor = job.total
    place.state, place.rebuilt_to = MemberState.ACTIVE, 0
    refresh_state(work.session, pool)
    return 0.0


def _step_rebuild(work: Work) -> float:
    job, pool = work.job, work.pool
    slot = job.slot or 0
    place = pool.place(slot)
    if place.state == MemberState.MISSING:
        raise Held("the drive being filled is away; the rebuild begins again when it is back")
    if place.state != MemberState.REBUILDING:
        raise NotPossible("The drive being filled failed, or its place was given to another.", code="superseded")
    if not pool.serves():
        raise Held(f"pool {pool.row.name} is {pool.row.state}")
    if job.cursor == 0:
        _label(work, place)
    if isinstance(pool.layout, SpreadLayout):
        return _refill(work, place)
    ahead = [r for r in work.io.runs(job.cursor, job.total) if slot in _members(pool, r)]
    rows = sum(r.rows for r in ahead)
    if not ahead:
        job.cursor = job.total
    else:
        first = ahead[0]
        run = Run(first.band, first.group, first.row, min(first.rows, work.most), first.number)
        work.io.rebuild(run, slot)
        work.io.flush()
        job.cursor = run.number + run.rows if run.rows < rows else job.total
        rows_done = run.rows
    place.rebuilt_to = job.cursor
    if job.cursor >= job.total:
        place.state, place.rebuilt_to = MemberState.ACTIVE, 0
        refresh_state(work.session, pool)
    used = max(1, pool.layout.used_extents[slot])
    return (rows_done / used * job.seconds) if ahead else 0.0


def _label(work: Work, place: PoolPlace) -> None:
    drive = work.session.get(DriveRow, place.drive_id)
    assert drive is not None
    work.world.open(drive.serial, drive.size).write_label(label_of(work.pool.row, place.slot))


def _members(pool: OpenPool, run: Run) -> tuple[int, ...]:
    return pool.layout.bands[run.band].groups[run.group].members


def _step_check(work: Work) -> float:
    job, pool = work.job, work.pool
    report = dict(job.report)
    stripes = int(report["stripes"])
    if job.cursor >= stripes:
        volumes = work.session.exec(select(VolumeRow).where(VolumeRow.pool_id == pool.row.id)).all()
        return _read_files(work, volumes, report)
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
        for run in work.io.runs(work.job.cursor, most, _ROWS):
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


#: Files made while those before them are written.
_MADE_AHEAD = 256


def _step_fill(work: Work) -> float:
    job, pool = work.job, work.pool
    if not pool.serves():
        raise Held(f"pool {pool.row.name} is {pool.row.state}; the host waits to write")
    volume = work.volume()
    report = dict(job.report)
    writer = FileWriter(work.session, work.volumes, volume)
    ruled = work.session.get(KeepRule, volume.id) is not None
    done, goal = 0, min(work.most, job.total - job.cursor)
    deleted = 0
    while done < goal and not deleted:
        most = 2 if ruled else _MADE_AHEAD
        for index, content, checksum in ahead(_made, _ahead_of(work, volume, report, goal - done), most):
            if ruled:
                writer.flush()
                # Nothing is written in the place of what was deleted before that is out of the books for good:
                # the step ends here, and the next one writes.
                if deleted := keep(work.session, pool, volume, len(content) // work.world.block):
                    report["deleted"] += deleted
                    break
            done += writer.write(_place_of(report, index), content, checksum)
            report["files"] += 1
            if writer.waiting >= _PIECE:
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
        extents = min(length_of(volume.id or 0, index), left)
        found.append((volume.id or 0, index, extents * work.world.block))
        left -= extents
        index += 1
    return found


def _made(file: tuple[int, int, int]) -> tuple[int, bytes, str]:
    """A file's number, bytes and checksum."""
    content = content_of(*file)
    return file[1], content, checksum_of(content)


def _place_of(report: Mapping[str, Any], index: int) -> FilePlace:
    number = index - report["index"] - 1
    parts = (report["folder"], folder_for(report["scheme"], number, report["files_per_folder"], now().date()))
    folder = "/".join(p for p in parts if p)
    return FilePlace(folder, f"{report['writer']}-{index:05d}.dat", report["via"], report["writer"])


def _step_read_files(work: Work) -> float:
    return _read_files(work, [work.volume()], dict(work.job.report))


#: Files looked at in one step, at most.
_FILES_A_STEP = 1000


def _read_files(work: Work, volumes: Sequence[VolumeRow], report: dict[str, Any]) -> float:
    """Read the next files back, from the last one looked at, and compare their checksums."""
    job, pool = work.job, work.pool
    if not pool.serves():
        raise Held(f"pool {pool.row.name} is {pool.row.state}; the host waits to read")
    by_id = {v.id: v for v in volumes}
    query = select(
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
    found = ahead(lambda pair: agrees(*pair), pairs, 2 * _MADE_AHEAD)
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
    told = update(SampleFile).where(col(SampleFile.id).in_(read)).values(read_at=now(), intact=True)
    work.session.connection().execute(told)
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
            or last.first + last.extents - piece[0].first >= _PIECE
        ):
            yield piece
            piece = []
        piece.append(file)
    if piece:
        yield piece


def _contents(work: Work, volume: VolumeRow, piece: Sequence[Any]) -> Iterator[memoryview]:
    """The bytes of files that lie side by side, read in one go."""
    whole = memoryview(work.volumes.read(volume, piece[0].first, sum(f.extents for f in piece)))
    for file in piece:
        start = (file.first - piece[0].first) * work.world.block
        yield whole[start : start + file.extents * work.world.block]


STEPS: dict[str, Callable[[Work], float]] = {
    "first-sync": _step_first_sync,
    "rebuild": _step_rebuild,
    "self-repair": _step_self_repair,
    "check": _step_check,
    "fill": _step_fill,
    "read-files": _step_read_files,
    "check-files": _step_read_files,
}


def finish(work: Work) -> None:
    """The job is done: say so in the logbook."""
    job = work.job
    job.state, job.finished_at, job.why_held = JobState.DONE, now(), None
    job.spent = job.seconds
    _measure(work)
    facts = {k: v for k, v in job.report.items() if k != "moved"}
    log(work.session, SYSTEM, f"{job.kind}-finished", work.pool.row.name, outcome(job, work.pool.row.name), **facts)


#: The figure of the promise that a finished job proves.
_PROVES = {
    "first-sync": "first_sync_hours", "check": "check_hours", "rebuild": "rebuild_hours",
    "self-repair": "rebuild_hours", "fill": "sequential_write",
    "read-files": "sequential_read",
}  # fmt: skip


#: Extents of a stream long enough to say something of the speed.
_LONG_STREAM = 256


def _measure(work: Work) -> None:
    """Keep, beside the promise, what the drives really had to do: the busiest one's extents over its rate."""
    job, row = work.job, work.pool.row
    figure = _PROVES.get(job.kind)
    moved = {int(k): v for k, v in job.report.get("moved", {}).items()}
    if figure is None or not moved or (job.kind == "first-sync" and job.volume_id is not None):
        return
    if not figure.endswith("hours") and job.total < _LONG_STREAM:
        return
    members = work.pool.layout.members
    seconds = max(extents * EXTENT / members[slot].mean_rate for slot, extents in moved.items())
    value = seconds / 3600 if figure.endswith("hours") else job.total * EXTENT / seconds
    row.measured = {**row.measured, figure: value}
    if job.kind == "check":
        row.measured = {**row.measured, "compared": job.report["extents_compared"] * EXTENT}


def outcome(job: JobRow, pool: str) -> str:
    """What a finished job found, in a sentence."""
    report = job.report
    if job.kind == "check":
        files = f"{report['files_read']} files read back, {len(report['files_differing'])} differing"
        right = f", {report['put_right']} put right" if report["mismatches"] else ""
        return (f"Check of {pool}: {report['extents_compared']} GiB compared, "
                f"{report['mismatches']} mismatches{right}; {files}.")  # fmt: skip
    if job.kind == "check-files":
        twice = f", {len(report['overlapping'])} claim a place twice" if report["overlapping"] else ""
        differing = len(report["files_differing"])
        return f"Check of the file system: {report['files_read']} files read, {differing} differing{twice}."
    if job.kind == "read-files":
        return f"Files of {pool} read back: {report['files_read']} read, {len(report['files_differing'])} differing."
    if job.kind == "fill":
        gone = f" {report['deleted']} of the oldest were deleted by the keep rule." if report.get("deleted") else ""
        return f"{report['files']} files written to {pool}, their checksums kept.{gone}"
    if job.kind == "rebuild":
        return f"Rebuild in {pool} finished: drive {report.get('serial')} holds all its data."
    if job.kind == "self-repair":
        return f"Self-repair of {pool} finished: all stripes are whole again."
    return str(report.get("said") or f"First sync of {pool} finished: all redundancy is in step.")
