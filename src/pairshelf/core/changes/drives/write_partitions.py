"""The partition table of a drive without a pool, written."""

from __future__ import annotations

from dataclasses import dataclass, replace

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import BeforeAfter, ChangeSheet, Erased, Figure, simple_sheet
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstateDrive
from pairshelf.core.domain.partitions import Table, lay_out
from pairshelf.core.errors import NotFound, NotPossible


@dataclass(frozen=True, slots=True)
class WritePartitions:
    """Write a drive's pending partitions onto it."""

    drive_id: int


@dataclass(frozen=True, slots=True)
class PartitionsPlan:
    """What is written."""

    sheet: ChangeSheet
    drive: EstateDrive
    table: Table


def plan(estate: Estate, request: WritePartitions) -> PartitionsPlan:
    """The sheet for writing the pending partitions."""
    drive = estate.drive(request.drive_id)
    if drive is None:
        raise NotFound("drive", field="drive_id")
    if reason := drive.why_not_offered():
        raise NotPossible(f"{drive.place} ({drive.serial}): {reason}", code="drive-not-free", field="drive_id")
    pending = dict(estate.pending_partitions).get(drive.id)
    if pending is None:
        raise NotPossible("Nothing is pending for this drive.", code="nothing-pending")
    scheme, sector, wanted = pending
    table = lay_out(drive.size, sector, scheme, wanted)
    sheet = simple_sheet(
        "write-partitions", f"Write {len(wanted)} partitions onto {drive.place}",
        f"{'GPT' if scheme == 'gpt' else 'The older table (MBR)'}, sectors of {sector} bytes.",
        figures=tuple(
            BeforeAfter(f"{p.number}{f' {p.label}' if p.label else ''} ({p.kind}, {p.type}), sectors {p.first} to {p.last}",
                        Figure(text="none"), Figure(bytes=p.sectors * sector))
            for p in table.parts
        ),
        findings=table.findings, confirm=drive.serial, role="operator",
        steps=("Write the table, and its copy at the end of the drive." if scheme == "gpt" else "Write the table.",),
        fixed=("The drive is used by its host; it is no longer offered without a warning.",),
    )  # fmt: skip
    erased = (Erased(drive.id, drive.place, drive.serial, drive.size, drive.holds),)
    return PartitionsPlan(replace(sheet, erases=erased), drive, table)


def context(request: WritePartitions) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(drives=(request.drive_id,), partitions=True)


KIND = ChangeKind("write-partitions", Act.MANAGE_DRIVES, WritePartitions, context, plan)
