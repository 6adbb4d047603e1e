"""What the steps of jobs make drives do, tried on drives on which nothing is changed (``engine.io.trial``)."""

from __future__ import annotations

from pairshelf.engine.io.pool_io import PoolIO
from pairshelf.engine.io.restripe_io import RestripeIO
from pairshelf.engine.io.spread_io import SpreadIO, Stretch
from pairshelf.store.tables import JobRow

AnyIO = PoolIO | SpreadIO | RestripeIO


def compares(io: AnyIO, job: JobRow | None, at: int) -> None:
    """A stripe is read whole."""
    del job
    if not isinstance(io, RestripeIO):
        list(io.compare(at, 1))


def reads_drives(io: AnyIO, job: JobRow | None, at: int) -> None:
    """The same place of every drive is read."""
    del job
    rows = max(1, min(m.extents for m in io.layout.members))
    for member in io.members:
        if member.device is not None:
            member.device.read(at % rows, 1)


def brings_in_step(io: AnyIO, job: JobRow | None, at: int) -> None:
    """A stripe is read, and its redundancy written."""
    del job
    if isinstance(io, PoolIO):
        for run in io.runs(at, 1):
            io.sync(run)
    elif isinstance(io, SpreadIO):
        for placed in io.layout.volumes:
            if at < len(placed.spots):
                io.sync(Stretch(placed, at, 1))
                return
            at -= len(placed.spots)


def fills(io: AnyIO, job: JobRow | None, at: int) -> None:
    """The next stripe of a drive that has come to a place is computed from the others."""
    slot = job.member if job is not None else 0
    placed = io.layout.volumes[0].volume if isinstance(io, SpreadIO) and io.layout.volumes else 0
    io.refill(slot, at, [placed, at], 1, max(at + 1, io.layout.stripes))


def copies(io: AnyIO, job: JobRow | None, at: int) -> None:
    """A drive is read, and what was read is written to another."""
    member = io.members[job.member if job is not None else 0]
    if member.device is not None and member.twin is not None:
        member.twin.write(at % io.layout.members[0].extents, member.device.read(at % io.layout.members[0].extents, 1))


def walks(io: AnyIO, job: JobRow | None, at: int) -> None:
    """The front goes a row on."""
    del job, at
    if isinstance(io, RestripeIO):
        io.move(1)


def moves_about(io: AnyIO, job: JobRow | None, at: int) -> None:
    """An extent is read from one drive and written to the next one."""
    del job
    there = [m for m in io.members if m.device is not None and m.rebuilt_to is None]
    if len(there) > 1:
        source, target = there[at % len(there)].device, there[(at + 1) % len(there)].device
        assert source is not None and target is not None
        row = at % min(m.extents for m in io.layout.members)
        target.write(row, source.read(row, 1))


#: What can be tried on any pool; the others need what a job of theirs has begun.
ANY_TIME = (compares, reads_drives, brings_in_step, fills)
