"""Partition tables that the system's own tools read, at true sector addresses, and the rules of both tables."""

from __future__ import annotations

import io
import itertools
import subprocess
import tarfile
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pairshelf.core.domain.drives import HELD_BACK
from pairshelf.core.domain.partitions import ALIGNED, WantedPartition, lay_out
from pairshelf.core.domain.units import EXTENT, MIB
from pairshelf.core.errors import BadInput
from pairshelf.formats.partition_image import disk_id_of, image_chunks, read_table, tar_of, write_sparse

SIZE = 3 * 10**12
GPT = [
    WantedPartition("512 MiB", "start", "EFI"),
    WantedPartition("20 GB", "data", "root"),
    WantedPartition("", "lettered", "the rest"),
]
MBR = [WantedPartition("1 GiB"), WantedPartition("2 GB", "lettered"), WantedPartition("10 GiB", kind="logical"), WantedPartition("5 GiB", kind="logical"),
       WantedPartition(kind="logical")]  # fmt: skip


@given(st.integers(64 * MIB, 9 * 10**12), st.sampled_from([512, 4096]), st.sampled_from(["gpt", "mbr"]))
def test_one_partition_can_have_all_that_a_drive_gives_but_for_less_than_a_mib(
    size: int, sector: int, scheme: str
) -> None:
    table = lay_out(size, sector, scheme, [WantedPartition()])
    (part,) = table.parts
    assert 0 <= table.bytes_in_all - part.sectors * sector < ALIGNED
    assert table.bytes_in_all == table.without(1).bytes_left <= size


@pytest.mark.parametrize("sector", [512, 4096])
@pytest.mark.parametrize(("scheme", "wanted"), [("gpt", GPT), ("mbr", MBR)])
def test_system_tools_read_the_table(sector: int, scheme: str, wanted: list[WantedPartition], tmp_path: Path) -> None:
    # The tool reckons the older table in 32 bits of 512 bytes, whatever the sector.
    size = (SIZE if scheme == "gpt" else SIZE // 2) // sector * sector
    table = lay_out(size, sector, scheme, wanted)
    chunks = image_chunks(table, disk_id_of("S1"))
    image = tmp_path / "drive.img"
    write_sparse(image, size, chunks)
    assert image.stat().st_size == size and image.stat().st_blocks * 512 < 2 * MIB
    columns = ["--noheadings", "--output", "NR,START,SECTORS", "--sector-size", str(sector)]
    command = ["partx", "--show", *columns, str(image)]
    read = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    found = [tuple(int(x) for x in line.split()) for line in read.splitlines()]
    scale = sector // 512
    assert found == [(p.number, p.first * scale, p.sectors * scale) for p in table.parts]
    if sector == 512:
        probe = ["/sbin/blkid", "-p", "-o", "value", "-s", "PTTYPE", str(image)]
        probed = subprocess.run(probe, capture_output=True, text=True, check=True).stdout
        assert probed.strip() == {"gpt": "gpt", "mbr": "dos"}[scheme]
    with tarfile.open(fileobj=io.BytesIO(tar_of("drive.img", size, chunks))) as archive:
        (member,) = archive.getmembers()
        assert (member.name, member.size) == ("drive.img", size)
        inside = archive.extractfile(member)
        assert inside is not None
        for offset, content in chunks:
            inside.seek(offset)
            assert inside.read(len(content)) == content


@given(
    sizes=st.lists(st.integers(1, 400 * 10**9), min_size=1, max_size=8), scheme=st.sampled_from(["gpt", "mbr"]),
    disk=st.integers(10**9, 4 * 10**12), sector=st.sampled_from([512, 4096]),
)  # fmt: skip
def test_partitions_are_aligned_apart_and_inside(sizes: list[int], scheme: str, disk: int, sector: int) -> None:
    kinds = ["primary"] * 3 + ["logical"] * 5 if scheme == "mbr" else ["primary"] * 8
    wanted = [WantedPartition(f"{s} B", kind=k) for s, k in zip(sizes, kinds, strict=False)]
    try:
        table = lay_out(disk, sector, scheme, wanted)
    except BadInput:
        return
    data = [p for p in table.parts if p.kind != "extended"]
    assert all(p.first * sector % ALIGNED == 0 and p.sectors * sector >= s for p, s in zip(data, sizes, strict=True))
    ends = [p.last for p in data]
    assert all(p.first > e for p, e in zip(data[1:], ends, strict=False))
    assert ends[-1] < table.sectors - (0 if scheme == "mbr" else 16384 // sector)
    covered = sum(p.sectors for p in table.parts if p.kind != "logical") + sum(n for _, n in table.unallocated)
    assert covered <= table.sectors


@given(data=st.data(), scheme=st.sampled_from(["gpt", "mbr"]), sector=st.sampled_from([512, 4096]))
def test_a_table_that_is_changed_moves_nothing_else_and_reads_back(
    data: st.DataObject, scheme: str, sector: int
) -> None:
    """Added to, extended, shrunk, deleted from, in any order: entries stay apart, aligned and inside, no other one
    moves by a sector, whole extents are of one entry only, and the bytes read back are the table."""
    size = data.draw(st.integers(20, 400)) * 10**9
    first = [WantedPartition(f"{data.draw(st.integers(1, 4000))} MiB") for _ in range(data.draw(st.integers(1, 3)))]
    if scheme == "mbr":
        first += [WantedPartition("700 MiB", kind="logical") for _ in range(data.draw(st.integers(0, 3)))]
    table = lay_out(size, sector, scheme, first)
    for _ in range(data.draw(st.integers(1, 5))):
        before = {p.number: p for p in table.parts}
        what = data.draw(st.sampled_from(["add", "resize", "delete"]))
        numbers = [p.number for p in table.parts if p.kind == "primary" or table.is_last_logical(p.number)]
        touched: int | None = None
        if what == "add":
            one = WantedPartition(
                data.draw(st.sampled_from(["all", "1 GiB", "3 GB", "5000 MiB"])), "lettered", "x" * (scheme == "gpt")
            )
            try:
                table = lay_out(size, sector, scheme, [one], table.parts)
            except BadInput:
                continue
            touched = next(p.number for p in table.parts if p.number not in before)
        elif numbers:
            touched = data.draw(st.sampled_from(numbers))
            if what == "resize":
                most = table.most(touched)
                wanted = data.draw(st.integers(MIB, most))
                table = table.resized(touched, wanted)
                assert wanted <= table.part(touched).sectors * sector <= most
            else:
                table = table.without(touched)
        same = {n: p for n, p in before.items() if n != touched and p.kind != "extended"}
        assert {p.number: p for p in table.parts if p.number in same} == same
        outer = sorted((p for p in table.parts if p.kind != "logical"), key=lambda p: p.first)
        ends = [p.last for p in outer]
        assert all(p.first > e for p, e in zip(outer[1:], ends, strict=False))
        assert all(p.first * sector % ALIGNED == 0 and p.last < table.sectors - (scheme == "gpt") for p in table.parts)
        for p in table.parts:
            at, count = p.extents(sector, size)
            begins, ends = HELD_BACK + at * EXTENT, HELD_BACK + (at + count) * EXTENT
            assert not count or (p.first * sector <= begins and ends <= (p.last + 1) * sector)
        spans = sorted(p.extents(sector, size) for p in table.parts if p.kind != "extended")
        assert all(a + n <= b for (a, n), (b, _) in itertools.pairwise(spans) if n)
        bytes_of = dict(image_chunks(table, disk_id_of("S1")))
        assert read_table(lambda at, n, c=bytes_of: _read(c, at, n), size, sector) == table  # type: ignore[misc]


def _read(chunks: dict[int, bytes], at: int, count: int) -> bytes:
    out = bytearray(count)
    for start, content in chunks.items():
        for i in range(max(at, start), min(at + count, start + len(content))):
            out[i - at] = content[i - start]
    return bytes(out)


def test_a_damaged_table_is_read_from_its_copy_or_not_at_all() -> None:
    table = lay_out(SIZE, 512, "gpt", GPT)
    chunks = image_chunks(table, disk_id_of("S1"))
    front = bytearray(chunks[0][1])
    front[1024 + 40] ^= 1  # a sector number in the first entry
    damaged = {0: bytes(front), chunks[1][0]: chunks[1][1]}
    assert read_table(lambda at, n: _read(damaged, at, n), SIZE, 512) == table
    assert read_table(lambda at, n: _read({0: bytes(front)}, at, n), SIZE, 512) is None
    assert read_table(lambda _at, n: bytes(n), SIZE, 512) is None


@pytest.mark.parametrize(
    ("scheme", "wanted", "field"),
    [
        ("gpt", [WantedPartition("1 GiB", "swap", file_system="ext4")], "parts.0.file_system"),
        (
            "gpt",
            [WantedPartition("1 GiB"), WantedPartition("1 GiB", "lettered", file_system="xfs")],
            "parts.1.file_system",
        ),
        ("mbr", [WantedPartition("1 GiB")] * 5, "parts.4.kind"),
        ("mbr", [*[WantedPartition("1 GiB")] * 4, WantedPartition("1 GiB", kind="logical")], "parts.3.kind"),
        ("mbr", [WantedPartition("3 TB")], "parts.0.size"),
        ("gpt", [WantedPartition("1 GiB", kind="logical")], "parts.0.kind"),
        ("gpt", [WantedPartition("4 TB")], "parts.0.size"),
        ("gpt", [WantedPartition(""), WantedPartition("1 GiB")], "parts.1.size"),
        ("gpt", [WantedPartition("0")], "parts.0.size"),
        ("gpt", [WantedPartition("1 GiB", label="x" * 37)], "parts.0.label"),
        ("gpt", [WantedPartition("1 GiB", type="odd")], "parts.0.type"),
        ("odd", [], "scheme"),
    ],
)
def test_limits_of_both_tables(scheme: str, wanted: list[WantedPartition], field: str) -> None:
    with pytest.raises(BadInput) as caught:
        lay_out(SIZE, 512, scheme, wanted)
    assert caught.value.field == field
