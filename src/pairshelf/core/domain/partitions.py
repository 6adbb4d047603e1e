"""Partitions of a drive without a pool: exact, aligned sectors, under GPT (UEFI 2.10, 5.3) or the older table.

The older table (MBR) has four primary entries, one of which may be extended and hold logical partitions,
and cannot address beyond 2^32 sectors (2 TiB of 512 bytes).
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace

from pairshelf.core.changes.sheet import Finding
from pairshelf.core.domain.drives import HELD_BACK, extents_of
from pairshelf.core.domain.units import EXTENT, MIB, format_size, parse_size
from pairshelf.core.errors import BadInput, NotFound

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
    #: Those that we can make on it.
    file_systems: tuple[str, ...] = ()


TYPES: dict[str, PartitionType] = {
    t.id: t
    for t in (
        PartitionType("data", "Files, for hosts that mount in folders", "0FC63DAF-8483-4772-8E79-3D69D8477DE4", 0x83,
                      ("ext4", "xfs", "btrfs")),
        PartitionType("lettered", "Files, for hosts with drive letters", "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7", 0x07,
                      ("ntfs",)),
        PartitionType("start", "What the firmware starts from (EFI system)", "C12A7328-F81F-11D2-BA4B-00A0C93EC93B", 0xEF),
        PartitionType("swap", "Memory written out", "0657FD6D-A4AB-43C4-84E5-0933C84B4F4F", 0x82),
    )
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class WantedPartition:
    """A partition asked for."""

    #: Empty or "all": all that is left where it begins.
    size: str = ""
    type: str = "data"
    label: str = ""
    #: primary or logical; GPT knows only primary ones.
    kind: str = "primary"
    #: Made on it when it is written; empty: none.
    file_system: str = ""


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

    def extents(self, sector: int, size: int) -> tuple[int, int]:
        """(first, how many) of the whole extents of a drive of ``size`` bytes that lie inside it: what an agent that
        counts in extents can reach of it. None of a partition below 1 GiB, and the odd ends of others."""
        most = extents_of(size)
        first = min(max(0, -(-(self.first * sector - HELD_BACK) // EXTENT)), most)
        end = min(((self.last + 1) * sector - HELD_BACK) // EXTENT, most)
        return first, max(0, end - first)


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

    @property
    def bytes_in_all(self) -> int:
        """Bytes that partitions can have: what no table takes at either end."""
        return (_end(self.sectors, self.sector, self.scheme) - ALIGNED // self.sector) * self.sector

    @property
    def bytes_left(self) -> int:
        """Bytes that no partition has."""
        return sum(n for _, n in self.unallocated) * self.sector

    def part(self, number: int) -> Part:
        """The partition of that number; NotFound otherwise."""
        found = next((p for p in self.parts if p.number == number), None)
        if found is None:
            raise NotFound("partition", str(number))
        return found

    def most(self, number: int) -> int:
        """Bytes it could have where it begins: its own, and what is unallocated right behind it."""
        part = self.part(number)
        step = ALIGNED // self.sector
        if part.kind == "logical":
            around = next(p for p in self.parts if p.kind == "extended")
            end = around.last + 1 if self.is_last_logical(number) else part.last + 1
            return (end - part.first) // step * ALIGNED
        behind = next((n for first, n in self.unallocated if first == part.last + 1), 0)
        return max(part.sectors, (part.sectors + behind) // step * step) * self.sector

    def is_last_logical(self, number: int) -> bool:
        """Whether it ends the chain of logical partitions, whose numbers follow from the chain."""
        return number == max((p.number for p in self.parts if p.kind == "logical"), default=None)

    def resized(self, number: int, size: int) -> Table:
        """The same with one partition of ``size`` bytes, rounded up to whole MiB."""
        step = ALIGNED // self.sector
        sectors = min(_up(-(-size // self.sector), step), self.most(number) // self.sector)
        return self.of([replace(p, sectors=sectors) if p.number == number else p for p in self.parts])

    def without(self, number: int) -> Table:
        """The same without one partition; the last logical one takes the extended one with it."""
        left = [p for p in self.parts if p.number != number]
        if not any(p.kind == "logical" for p in left):
            left = [p for p in left if p.kind != "extended"]
        return self.of(left)

    def of(self, parts: Sequence[Part]) -> Table:
        """A table of these partitions on the same drive."""
        left = _left(parts, ALIGNED // self.sector, _end(self.sectors, self.sector, self.scheme))
        return replace(self, parts=tuple(sorted(parts, key=lambda p: p.number)), unallocated=tuple(left))


def table_of_parts(size: int, sector: int, scheme: str, parts: Sequence[Part]) -> Table:
    """The table of partitions that are there."""
    return Table(scheme, sector, size // sector, (), ()).of(parts)


def lay_out(
    size: int, sector: int, scheme: str, wanted: Sequence[WantedPartition], there: Sequence[Part] = ()
) -> Table:
    """Exact sectors for these partitions on a drive of ``size`` bytes, beside those that are ``there`` and do not
    move; BadInput at the field of the one that does not fit. ``parts.2.size`` is the size of the third."""
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
    if scheme == "gpt" and len(wanted) + len(there) > GPT_ENTRIES:
        raise BadInput(f"GPT has {GPT_ENTRIES} entries.", field=f"parts.{GPT_ENTRIES - len(there)}.size")
    for index, one in enumerate(wanted):
        _check_use(one, f"parts.{index}.")
    if there:
        parts = _beside(there, wanted, end, step, sector, scheme)
    elif scheme == "mbr":
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


def _next(
    one: WantedPartition, index: int, number: int, kind: str, first: int, end: int, step: int, sector: int
) -> Part:
    field = f"parts.{index}."
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


def _check_use(one: WantedPartition, field: str) -> None:
    """BadInput for a type that is none, or a file system that such a partition does not hold."""
    if one.type not in TYPES:
        raise BadInput(f"“{one.type}” is no type; choose {', '.join(TYPES)}.", field=field + "type")
    system = one.file_system.strip()
    fitting = TYPES[one.type].file_systems
    if system and system != "none" and system not in fitting:
        raise BadInput(
            f"Such a partition holds {' or '.join(fitting)}." if fitting
            else "What uses such a partition makes its own format; leave the file system out.",
            field=field + "file_system",
        )  # fmt: skip


def _beside(
    there: Sequence[Part], wanted: Sequence[WantedPartition], end: int, step: int, sector: int, scheme: str
) -> list[Part]:
    """More partitions in the room that is left: each in the first stretch that holds it, or all of the largest."""
    parts = list(there)
    for index, one in enumerate(wanted):
        field = f"parts.{index}."
        if one.kind != "primary":
            raise BadInput("Beside partitions that are in use only primary ones are added.", field=field + "kind")
        entries = {p.number for p in parts if p.kind != "logical"}
        most = GPT_ENTRIES if scheme == "gpt" else 4
        number = next((n for n in range(1, most + 1) if n not in entries), None)
        if number is None:
            raise BadInput(f"The table has {most} entries, and all are taken.", field=field + "size")
        stretches = _left(parts, step, end)
        if not stretches:
            raise BadInput("Nothing is left for this partition.", field=field + "size")
        largest = max(stretches, key=lambda s: s[1])
        if one.size.strip().lower() not in ("", "all"):
            sectors = _up(-(-parse_size(one.size, field=field + "size") // sector), step)
            largest = next((s for s in stretches if _whole(s, step) >= sectors), largest)
        first = _up(largest[0], step)
        parts.append(_next(one, index, number, "primary", first, largest[0] + largest[1], step, sector))
    return sorted(parts, key=lambda p: p.number)


def _whole(stretch: tuple[int, int], step: int) -> int:
    """Sectors of a stretch that an aligned partition can have."""
    return (stretch[0] + stretch[1] - _up(stretch[0], step)) // step * step


def _mbr(wanted: Sequence[WantedPartition], first: int, end: int, step: int, sector: int) -> list[Part]:
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


def names_of(table: Table, taken: Collection[str] = ()) -> dict[int, str]:
    """A name for each partition's volume: its label where that can be a name, otherwise by its number."""
    used, found = {t.lower() for t in taken}, {}
    for part in table.parts:
        plain = "".join(c if c.isalnum() or c in "._-" else "-" for c in part.label).strip("._-")[:50]
        name = plain if plain and plain.lower() not in used else f"part-{part.number}"
        used.add(name.lower())
        found[part.number] = name
    return found


def wanted_of(rows: Sequence[Mapping[str, str]]) -> tuple[WantedPartition, ...]:
    """Partitions from plain data."""
    return tuple(WantedPartition(**{k: str(v) for k, v in row.items()}) for row in rows)
