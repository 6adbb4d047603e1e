"""Partitions of a drive without a pool: exact, aligned sectors, under GPT (UEFI 2.10, 5.3) or the older table.

The older table (MBR) has four primary entries, one of which may be extended and hold logical partitions,
and cannot address beyond 2^32 sectors (2 TiB of 512 bytes).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from pairshelf.core.changes.sheet import Finding
from pairshelf.core.domain.units import MIB, format_size, parse_size
from pairshelf.core.errors import BadInput

#: Every partition begins at a multiple of this.
ALIGNED = MIB


#: Entries of a GPT as it is usually made, bytes of one, and sectors of the table's 16 KiB.
GPT_ENTRIES, GPT_ENTRY = 128, 128


_MBR_SECTORS = 2**32 - 1


_SCHEMES = ("gpt", "mbr")


@dataclass(frozen=True, slots=True)
class PartitionType:
    """What a partition is for, as both tables say it."""

    id: str
    about: str
    #: UEFI and system makers' published type identifiers.
    guid: str
    mbr: int


TYPES: dict[str, PartitionType] = {
    t.id: t
    for t in (
        PartitionType("data", "Files, for hosts that mount in folders", "0FC63DAF-8483-4772-8E79-3D69D8477DE4", 0x83),
        PartitionType("lettered", "Files, for hosts with drive letters", "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7", 0x07),
        PartitionType("start", "What the firmware starts from (EFI system)", "C12A7328-F81F-11D2-BA4B-00A0C93EC93B", 0xEF),
        PartitionType("swap", "Memory written out", "0657FD6D-A4AB-43C4-84E5-0933C84B4F4F", 0x82),
    )
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Wanted:
    """A partition asked for."""

    #: Empty or "all": all that is left where it begins.
    size: str = ""
    type: str = "data"
    label: str = ""
    #: primary or logical; GPT knows only primary ones.
    kind: str = "primary"


@dataclass(frozen=True, slots=True)
class Part:
    """A partition with its exact sectors."""

    number: int
    kind: str
    first: int
    sectors: int
    type: str
    label: str

    @property
    def last(self) -> int:
        """Its last sector."""
        return self.first + self.sectors - 1


@dataclass(frozen=True, slots=True)
class Table:
    """A drive's partitions under one scheme, and what is left."""

    scheme: str
    sector: int
    #: Sectors of the whole drive.
    sectors: int
    parts: tuple[Part, ...]
    #: (first sector, sectors) that no partition has.
    unallocated: tuple[tuple[int, int], ...]
    findings: tuple[Finding, ...] = ()


def lay_out(size: int, sector: int, scheme: str, wanted: Sequence[Wanted]) -> Table:
    """Exact sectors for these partitions on a drive of ``size`` bytes; BadInput at the field of the one that
    does not fit. ``parts.2.size`` is the size of the third."""
    if scheme not in _SCHEMES:
        raise BadInput("Choose gpt or mbr.", field="scheme")
    if sector not in (512, 4096):
        raise BadInput("A sector has 512 or 4096 bytes.", field="sector")
    sectors = size // sector
    step = ALIGNED // sector
    first, end = step, _end(sectors, sector, scheme)
    findings = []
    if scheme == "mbr" and sectors > _MBR_SECTORS:
        findings.append(Finding(
            f"The older table cannot reach beyond {format_size(_MBR_SECTORS * sector)}; the rest of this drive "
            "stays unused. Take GPT."
        ))  # fmt: skip
    if scheme == "gpt" and len(wanted) > GPT_ENTRIES:
        raise BadInput(f"GPT has {GPT_ENTRIES} entries.", field=f"parts.{GPT_ENTRIES}.size")
    if scheme == "mbr":
        parts = _mbr(wanted, first, end, step, sector)
    else:
        parts = []
        for index, one in enumerate(wanted):
            if one.kind != "primary":
                raise BadInput("Only the older table has logical partitions.", field=f"parts.{index}.kind")
            part = _next(one, index, index + 1, "primary", first, end, step, sector)
            parts.append(part)
            first = _up(part.last + 1, step)
    return Table(scheme, sector, sectors, tuple(parts), tuple(_left(parts, step, end)), tuple(findings))


def _end(sectors: int, sector: int, scheme: str) -> int:
    """The first sector that no partition may have."""
    if scheme == "mbr":
        return min(sectors, _MBR_SECTORS)
    # The backup of the entries and of the header stand at the end.
    return sectors - GPT_ENTRIES * GPT_ENTRY // sector - 1


def _up(sector: int, step: int) -> int:
    return -(-sector // step) * step


def _next(one: Wanted, index: int, number: int, kind: str, first: int, end: int, step: int, sector: int) -> Part:
    field = f"parts.{index}."
    if one.type not in TYPES:
        raise BadInput(f"“{one.type}” is no type; choose {', '.join(TYPES)}.", field=field + "type")
    label = one.label.strip()
    if len(label.encode("utf-16-le")) > 72 or not label.isprintable():
        raise BadInput("A label has at most 36 printable characters.", field=field + "label")
    room = (end - first) // step * step
    if room <= 0:
        raise BadInput("Nothing is left for this partition.", field=field + "size")
    if one.size.strip().lower() in ("", "all"):
        return Part(number, kind, first, room, one.type, label)
    size = parse_size(one.size, field=field + "size")
    wanted = _up(-(-size // sector), step)
    if size == 0:
        raise BadInput("A partition of size zero holds nothing.", field=field + "size")
    if wanted > room:
        raise BadInput(
            f"{format_size(room * sector)} ({room * sector} bytes) are left; this is "
            f"{format_size((wanted - room) * sector)} too large.",
            field=field + "size",
        )
    return Part(number, kind, first, wanted, one.type, label)


def _mbr(wanted: Sequence[Wanted], first: int, end: int, step: int, sector: int) -> list[Part]:
    primaries = [i for i, w in enumerate(wanted) if w.kind == "primary"]
    logicals = [i for i, w in enumerate(wanted) if w.kind == "logical"]
    if other := [i for i, w in enumerate(wanted) if w.kind not in ("primary", "logical")]:
        raise BadInput("A partition is primary or logical.", field=f"parts.{other[0]}.kind")
    most = 3 if logicals else 4
    if len(primaries) > most:
        why = (
            "one of the four entries is the extended one that holds the logical partitions"
            if logicals
            else "the table has four entries"
        )
        raise BadInput(f"At most {most} primary partitions: {why}.", field=f"parts.{primaries[most]}.kind")
    if logicals and primaries and max(primaries) > min(logicals):
        raise BadInput("List the primary partitions before the logical ones.", field=f"parts.{max(primaries)}.kind")
    parts = []
    for number, index in enumerate(primaries, 1):
        part = _next(wanted[index], index, number, "primary", first, end, step, sector)
        parts.append(part)
        first = _up(part.last + 1, step)
    if not logicals:
        return parts
    start = first
    inside = []
    for number, index in enumerate(logicals, 5):
        # Each logical partition has a table of its own in the aligned stretch before it.
        part = _next(wanted[index], index, number, "logical", first + step, end, step, sector)
        inside.append(part)
        first = _up(part.last + 1, step)
    extended = Part(len(primaries) + 1, "extended", start, first - start, "data", "")
    return [*parts, extended, *inside]


def _left(parts: Sequence[Part], step: int, end: int) -> list[tuple[int, int]]:
    found = []
    at = step
    for part in sorted((p for p in parts if p.kind != "logical"), key=lambda p: p.first):
        if part.first > at:
            found.append((at, part.first - at))
        at = part.last + 1
    start = _up(at, step)
    if end - start >= step:
        found.append((start, end - start))
    return found


def wanted_of(rows: Sequence[Mapping[str, str]]) -> tuple[Wanted, ...]:
    """Partitions from plain data."""
    return tuple(Wanted(**{k: str(v) for k, v in row.items()}) for row in rows)
