"""The partition table of a drive without a pool, written."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, replace

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import (
    BeforeAfter,
    ChangeSheet,
    Effect,
    Erased,
    Figure,
    drives_come,
    drives_leave,
    simple_sheet,
    together,
)
from pairshelf.core.changes.volumes.volume_plan import serving
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstateDrive, EstatePool
from pairshelf.core.domain.names import file_name
from pairshelf.core.domain.partitions import Part, Table, WantedPartition, lay_out, names_of
from pairshelf.core.domain.volume_spec import Spec, plan_volume
from pairshelf.core.domain.words import counted
from pairshelf.core.errors import BadInput, NotFound, NotPossible


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
    #: The volumes that new partitions become, by number.
    volumes: tuple[tuple[int, Spec], ...] = ()
    #: The pool that the drive is by itself; None: it becomes one.
    pool: EstatePool | None = None
    #: What that pool is called.
    name: str = ""


def plan(estate: Estate, request: WritePartitions) -> PartitionsPlan:
    """The sheet for writing the pending partitions."""
    drive = estate.drive(request.drive_id)
    if drive is None:
        raise NotFound("drive", field="drive_id")
    pool = next((p for p in estate.pools if p.table is not None and p.name == drive.pool), None)
    pending = dict(estate.pending_partitions).get(drive.id)
    if pool is not None and pool.table is not None and not pool.table.parts and not (pending and pending[2]):
        return _emptied(drive, pool, pool.table)
    if pool is not None:
        serving(pool)
    elif reason := drive.why_not_offered():
        raise NotPossible(f"{drive.named}: {reason}", code="drive-not-free", field="drive_id")
    if pending is None:
        raise NotPossible("Nothing is pending for this drive.", code="nothing-pending")
    scheme, sector, wanted = pending
    there = pool.table.parts if pool and pool.table else ()
    if not wanted:
        raise NotPossible("No partition is wanted; add one, keep it as pending, and write it.", code="nothing-pending")
    table = lay_out(drive.size, sector, scheme, wanted, there)
    name = pool.name if pool else _name_of(drive, estate)
    volumes = tuple(_volumes(drive, table, there, wanted, estate, name))
    numbers = {p.number for p in there}
    sheet = simple_sheet(
        "write-partitions",
        f"Write {counted(len(wanted), 'more partition' if there else 'partition')} onto "
        f"{drive.place}",
        f"{'GPT' if scheme == 'gpt' else 'The older table (MBR)'}, sectors of {sector} bytes.",
        figures=tuple(
            BeforeAfter(f"{p.number}{f' {p.label}' if p.label else ''} ({_kind(p, scheme)}), sectors {p.first} to {p.last}",
                        Figure(bytes=p.sectors * sector) if p.number in numbers else Figure(text="none"),
                        Figure(bytes=p.sectors * sector))
            for p in table.parts
        ),
        findings=table.findings, confirm=drive.serial, role="operator",
        meanwhile=("The partitions that are there stay in use, and keep every sector they have.",) if there else (),
        steps=(
            "Write the table, and its copy at the end of the drive." if scheme == "gpt" else "Write the table.",
            *(f"Make the file system {s.file_system} on partition {n}, with a UUID of its own."
              for n, s in volumes if s.file_system != "none"),
        ),
        fixed=() if there else (
            "The drive is in use by its partitions, and is offered for no pool; nothing on it is protected against "
            "its failure.",
        ),
    )  # fmt: skip
    erased = () if pool else (Erased(drive.id, drive.place, drive.serial, drive.size, drive.holds),)
    before = sum(p.sectors for p in there) * sector
    effect = Effect(given=sum(p.sectors * sector for p in table.parts if p.kind != "extended") - before)
    if pool is None:
        effect = together(effect, Effect(capacity=table.bytes_in_all), drives_come([drive]))
    return PartitionsPlan(replace(sheet, erases=erased, effect=effect), drive, table, volumes, pool, name)


def _kind(part: Part, scheme: str) -> str:
    """What it is for; in the older table what kind of entry it has."""
    if part.kind == "extended":
        return part.kind
    return part.type if scheme == "gpt" else f"{part.kind}, {part.type}"


def _emptied(drive: EstateDrive, pool: EstatePool, table: Table) -> PartitionsPlan:
    """No partition is left: the drive is free again."""
    sheet = simple_sheet(
        "write-partitions", f"Write the empty table onto {drive.place}",
        "No partition is left on it. The drive is free again; what was on it stays readable until it is written over.",
        figures=(BeforeAfter("Drive", Figure(text="in use by its partitions"), Figure(text="free, old data readable")),),
        confirm=drive.serial, role="operator", steps=("Write the table without entries.", "Give the drive back."),
        effect=together(Effect(capacity=-pool.holds), drives_leave([drive])),
    )  # fmt: skip
    return PartitionsPlan(sheet, drive, table, (), pool, pool.name)


def _name_of(drive: EstateDrive, estate: Estate) -> str:
    return name_of_divided(drive.serial, drive.id, estate.pool_names)


def name_of_divided(serial: str, drive_id: int, taken: Collection[str]) -> str:
    """What a divided drive is called where its partitions are named: by its serial. ``taken``: names in lower case."""
    plain = file_name(serial).strip("._-")[:50] or "drive"
    return plain if plain.lower() not in taken else f"{plain}-{drive_id}"


def _volumes(
    drive: EstateDrive,
    table: Table,
    there: Sequence[Part],
    wanted: Sequence[WantedPartition],
    estate: Estate,
    pool: str,
) -> Iterator[tuple[int, Spec]]:
    """The volumes that the new partitions become; BadInput for a file system that does not fit its partition."""
    old = {p.number for p in there}
    taken = [v.name for v in estate.volumes if v.pool == pool]
    new = [p for p in table.parts if p.number not in old and p.kind != "extended"]
    names = names_of(replace(table, parts=tuple(new)), taken)
    # Numbers are given in the order in which partitions were asked for.
    for index, (part, one) in enumerate(zip(sorted(new, key=lambda p: p.number), wanted, strict=True)):
        size, system = part.sectors * table.sector, one.file_system.strip() or "none"
        spec = Spec(names[part.number], size, False, "none", None, 0)
        if system != "none":
            try:
                spec = plan_volume(spec.name, size, system, None)
            except BadInput as error:
                raise BadInput(error.message, field=f"parts.{index}.{error.field}") from error
        yield part.number, replace(spec, inside=part.extents(table.sector, drive.size)[1])


def context(request: WritePartitions) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(drives=(request.drive_id,), partitions=True)


KIND = ChangeKind("write-partitions", Act.MANAGE_DRIVES, WritePartitions, context, plan)
