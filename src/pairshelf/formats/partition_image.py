"""A drive's partition table as bytes at true sector addresses: GPT (UEFI 2.10, 5.3) and MBR.

A whole image is as large as the drive and holds little else than holes, so it is written sparse, or
packed as a sparse member of a POSIX tar archive (pax, "GNU.sparse" 1.0), which tar unpacks sparse again.
"""

from __future__ import annotations

import io
import struct
import tarfile
import uuid
import zlib
from collections.abc import Callable, Sequence
from pathlib import Path

from pairshelf.core.domain.partitions import ALIGNED, GPT_ENTRIES, GPT_ENTRY, TYPES, Part, Table, table_of_parts

#: (byte offset, bytes); everything between is a hole.
Chunks = list[tuple[int, bytes]]
_BEYOND_CHS = b"\xfe\xff\xff"
_NAMES = uuid.UUID("5f4e6f0a-8f0c-5b9e-9c5b-6a3a5d0b7c11")


def image_chunks(table: Table, disk_id: str) -> Chunks:
    """What stands on the drive, and where."""
    return _gpt(table, uuid.UUID(disk_id)) if table.scheme == "gpt" else _mbr(table, uuid.UUID(disk_id))


def _entry(kind: int, first: int, sectors: int) -> bytes:
    return struct.pack("<B3sB3sII", 0, _BEYOND_CHS, kind, _BEYOND_CHS, first, min(sectors, 2**32 - 1))


def _sector_of_entries(entries: Sequence[bytes], sector: int, signature: bytes = b"\0\0\0\0") -> bytes:
    body = bytes(440) + signature + b"\0\0" + b"".join(entries).ljust(64, b"\0") + b"\x55\xaa"
    return body.ljust(sector, b"\0")


def _gpt_entry(part: Part, disk: uuid.UUID) -> bytes:
    return (
        uuid.UUID(TYPES[part.type].guid).bytes_le
        + uuid.uuid5(disk, f"partition {part.number}").bytes_le
        + struct.pack("<QQQ", part.first, part.last, 0)
        + part.label.encode("utf-16-le").ljust(72, b"\0")
    )


def _gpt(table: Table, disk: uuid.UUID) -> Chunks:
    sector, last = table.sector, table.sectors - 1
    rows = GPT_ENTRIES * GPT_ENTRY // sector
    by_number = {p.number: p for p in table.parts}
    entries = b"".join(
        _gpt_entry(by_number[n], disk) if n in by_number else bytes(GPT_ENTRY) for n in range(1, GPT_ENTRIES + 1)
    )

    def header(mine: int, other: int, at: int) -> bytes:
        def packed(checksum: int) -> bytes:
            return struct.pack(
                "<8sIIIIQQQQ16sQIII", b"EFI PART", 0x10000, 92, checksum, 0, mine, other, 2 + rows, last - rows - 1,
                disk.bytes_le, at, GPT_ENTRIES, GPT_ENTRY, zlib.crc32(entries),
            )  # fmt: skip

        return packed(zlib.crc32(packed(0))).ljust(sector, b"\0")

    protective = _sector_of_entries([_entry(0xEE, 1, last)], sector)
    return [
        (0, protective + header(1, last, 2) + entries),
        ((last - rows) * sector, entries + header(last, 1, last - rows)),
    ]


def _mbr(table: Table, disk: uuid.UUID) -> Chunks:
    sector = table.sector
    primaries = [p for p in table.parts if p.kind in ("primary", "extended")]
    by_number = {p.number: p for p in primaries}
    rows = [
        _entry(0x0F if p.kind == "extended" else TYPES[p.type].mbr, p.first, p.sectors)
        if (p := by_number.get(number))
        else bytes(16)
        for number in range(1, 5)
    ]
    chunks = [(0, _sector_of_entries(rows, sector, disk.bytes[:4]))]
    extended = next((p for p in table.parts if p.kind == "extended"), None)
    logicals = [p for p in table.parts if p.kind == "logical"]
    if extended is None:
        return chunks
    tables = [_before(logicals, i, extended, sector) for i in range(len(logicals))]
    for i, (part, at) in enumerate(zip(logicals, tables, strict=True)):
        own = [_entry(TYPES[part.type].mbr, part.first - at, part.sectors)]
        if i + 1 < len(logicals):
            following = logicals[i + 1]
            own.append(_entry(0x05, tables[i + 1] - extended.first, following.last + 1 - tables[i + 1]))
        chunks.append((at * sector, _sector_of_entries(own, sector)))
    return chunks


def _before(logicals: Sequence[Part], index: int, extended: Part, sector: int) -> int:
    """The sector of a logical partition's own table: the aligned stretch before it."""
    return extended.first if index == 0 else logicals[index].first - ALIGNED // sector


_TYPE_OF_GUID = {t.guid: t.id for t in TYPES.values()}
_TYPE_OF_BYTE = {t.mbr: t.id for t in TYPES.values()}
#: A type of partition that we do not make.
OTHER = "other"

Reader = Callable[[int, int], bytes]


def read_table(read: Reader, size: int, sector: int) -> Table | None:
    """The table that stands on a drive, from bytes at true addresses; None where there is none that is whole.

    Of a GPT the copy at the end counts when the first is damaged: each has its own checksums.
    """
    first = read(0, sector)
    if first[510:512] != b"\x55\xaa":
        return None
    rows = [first[446 + 16 * i : 462 + 16 * i] for i in range(4)]
    if any(r[4] == 0xEE for r in rows):
        parts = _read_gpt(read, sector, 1, size) or _read_gpt(read, sector, size // sector - 1, size)
        return None if parts is None else table_of_parts(size, sector, "gpt", parts)
    found = []
    for number, row in enumerate(rows, 1):
        kind, start, sectors = row[4], *struct.unpack_from("<II", row, 8)
        if not kind or not sectors:
            continue
        if kind in (0x05, 0x0F):
            found.append(Part(number, "extended", start, sectors, "data", ""))
            found += _read_logicals(read, sector, start)
        else:
            found.append(Part(number, "primary", start, sectors, _TYPE_OF_BYTE.get(kind, OTHER), ""))
    return table_of_parts(size, sector, "mbr", sorted(found, key=lambda p: p.number))


def _read_gpt(read: Reader, sector: int, at: int, size: int) -> list[Part] | None:
    header = read(at * sector, 92)
    if header[:8] != b"EFI PART":
        return None
    checksum = struct.unpack_from("<I", header, 16)[0]
    if zlib.crc32(header[:16] + bytes(4) + header[20:]) != checksum:
        return None
    entries_at, count, width, entries_sum = struct.unpack_from("<QIII", header, 72)
    if width != GPT_ENTRY or count > 1024 or entries_at * sector + count * width > size:
        return None
    entries = read(entries_at * sector, count * width)
    if zlib.crc32(entries) != entries_sum:
        return None
    parts = []
    for number in range(1, count + 1):
        entry = entries[(number - 1) * width : number * width]
        if not any(entry[:16]):
            continue
        guid = str(uuid.UUID(bytes_le=entry[:16])).upper()
        first, last = struct.unpack_from("<QQ", entry, 32)
        label = entry[56:128].decode("utf-16-le", "replace").split("\0")[0]
        parts.append(Part(number, "primary", first, last - first + 1, _TYPE_OF_GUID.get(guid, OTHER), label))
    return parts


def _read_logicals(read: Reader, sector: int, extended: int) -> list[Part]:
    """The chain of tables inside the extended partition; a chain that leads backwards ends there."""
    parts: list[Part] = []
    at = extended
    while len(parts) < GPT_ENTRIES:
        raw = read(at * sector, sector)
        if raw[510:512] != b"\x55\xaa":
            break
        kind, start, sectors = raw[450], *struct.unpack_from("<II", raw, 454)
        parts.append(Part(5 + len(parts), "logical", at + start, sectors, _TYPE_OF_BYTE.get(kind, OTHER), ""))
        offset = struct.unpack_from("<I", raw, 470)[0]
        if not offset or extended + offset <= at:
            break
        at = extended + offset
    return parts


def write_sparse(path: Path, size: int, chunks: Chunks) -> None:
    """A sparse file as large as the drive."""
    with open(path, "wb") as file:
        for offset, content in chunks:
            file.seek(offset)
            file.write(content)
        file.truncate(size)


def tar_of(name: str, size: int, chunks: Chunks) -> bytes:
    """The image as a sparse member of a tar archive."""
    whole = [(o, c.ljust(-(-len(c) // 512) * 512, b"\0")) for o, c in chunks if c]
    listed = [str(len(whole) + 1)]
    for offset, content in whole:
        listed += [str(offset), str(min(len(content), size - offset))]
    listed += [str(size), "0"]
    map_text = ("\n".join(listed) + "\n").encode()
    body = map_text.ljust(-(-len(map_text) // 512) * 512, b"\0") + b"".join(c for _, c in whole)
    member = tarfile.TarInfo(f"GNUSparseFile.0/{name}")
    member.size = len(body)
    member.pax_headers = {
        "GNU.sparse.major": "1", "GNU.sparse.minor": "0", "GNU.sparse.name": name, "GNU.sparse.realsize": str(size),
    }  # fmt: skip
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.PAX_FORMAT) as archive:
        archive.addfile(member, io.BytesIO(body))
    return out.getvalue()


def disk_id_of(serial: str) -> str:
    """A drive's own identifier for its table."""
    return str(uuid.uuid5(_NAMES, serial))
