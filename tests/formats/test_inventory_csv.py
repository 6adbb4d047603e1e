"""Inventories: read kindly, refused by row, written so that nothing is lost and nothing is a formula."""

from __future__ import annotations

import csv
import datetime as dt
import io
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.inventory import DriveRecord, Kept, Taken, against_each_other, differences
from pairshelf.core.domain.units import GIB, TB
from pairshelf.core.errors import BadInput
from pairshelf.formats.inventory_csv import _unguard, guard, read_drives, read_inventory, write_inventory

words = st.text(
    st.characters(min_codepoint=32, max_codepoint=0x2FF, exclude_categories=["C", "Zs"]), min_size=1, max_size=20
)
cells = st.one_of(
    words, words.map(lambda w: "=" + w), words.map(lambda w: "'-" + w), st.sampled_from(["+1", "@x", "a,b", 'a"b'])
)
records = st.builds(
    DriveRecord,
    shelf=cells, bay=st.integers(0, 1000), serial=cells, size=st.integers(2 * GIB, 10**14), kind=st.sampled_from(Kind),
    site=cells, link=st.none() | st.integers(1, 10**11), host=st.none() | cells, bays=st.none() | st.integers(1, 1000), maker=st.none() | cells,
    model=st.none() | cells, bus=st.none() | cells, sector_size=st.none() | st.sampled_from([512, 4096]),
    rated_writes=st.none() | st.integers(1, 10**18), max_temperature=st.none() | st.integers(0, 1500).map(lambda i: i / 10),
    rpm=st.none() | st.integers(0, 15000), error_recovery=st.none() | st.integers(0, 100000).map(lambda i: i / 1000),
    afr=st.none() | st.floats(0, 0.99, allow_subnormal=False), uber=st.none() | st.floats(1e-20, 1e-6),
    rate=st.none() | st.integers(1, 10**11), use=st.none() | cells,
    in_service=st.none() | st.dates(dt.date(1990, 1, 1), dt.date(2100, 1, 1)),
    price=st.none() | st.decimals(0, 10**6, places=2), currency=st.none(), holds=st.none() | cells,
    starts_host=st.booleans(),
)  # fmt: skip


@given(st.lists(records, min_size=1, max_size=5))
def test_round_trip_without_loss(drives: list[DriveRecord]) -> None:
    reading = read_inventory(write_inventory(drives))
    assert not reading.errors
    assert [r for _, r in reading.rows] == drives


@given(st.lists(records, min_size=1, max_size=3))
def test_no_cell_can_become_a_formula(drives: list[DriveRecord]) -> None:
    for row in csv.reader(io.StringIO(write_inventory(drives).decode(), newline="")):
        assert not any(cell.startswith(("=", "+", "-", "@", "\t", "\r")) for cell in row)


def test_price_with_currency_comes_back() -> None:
    drive = DriveRecord("A", 1, "S", 4 * 10**12, Kind.HDD, price=Decimal("189.00"), currency="EUR")
    assert read_inventory(write_inventory([drive])).rows[0][1] == drive


@pytest.mark.parametrize(
    "raw",
    [
        "Shelf;Bay No.;Serial Number;Capacity (TB);Media Type\nA;1;S1;4;HDD\n".encode("utf-8-sig"),
        "SHELF\tslot\tS/N\tsize_bytes\ttype\nA\t1\tS1\t4000000000000\trotating\n".encode("utf-16"),
        b"kind,size,serial,bay,shelf,colour\nSATA HDD,4 TB,S1,1,A,red\n",
    ],
)
def test_headings_are_matched_kindly(raw: bytes) -> None:
    reading = read_inventory(raw)
    assert not reading.errors
    assert reading.rows[0][1] == DriveRecord("A", 1, "S1", 4 * 10**12, Kind.HDD)


HEAD = "shelf,bay,serial,size,kind\n"


@pytest.mark.parametrize(
    ("body", "row", "column"),
    [
        ("A,1,S1,0 TB,hdd", 2, "size"),
        ("A,1,S1,4T,hdd", 2, "size"),
        ("A,1,S1,999999 PB,hdd", 2, "size"),
        ("A,1,S1,4 TB,tape", 2, "kind"),
        ("A,one,S1,4 TB,hdd", 2, "bay"),
        ("A,1,S1,4 TB,hdd\nA,2,,4 TB,hdd", 3, "serial"),
        ("A,1,S1,4 TB,hdd,extra", 2, None),
    ],
)
def test_bad_rows_are_named_with_their_reason(body: str, row: int, column: str | None) -> None:
    (error,) = read_inventory((HEAD + body).encode()).errors
    assert (error.row, error.column) == (row, column)
    assert error.reason


def test_doubles_are_found_among_the_rows_and_against_what_is_there() -> None:
    reading = read_inventory((HEAD + "A,1,S1,4 TB,hdd\nA,1,S2,4 TB,hdd\nA,2,S1,4 TB,hdd\nB,9,S9,4 TB,hdd\n").encode())
    there = {
        "S2": Kept(DriveRecord("A", 3, "S2", 6 * TB, Kind.HDD), pool="cold"),
        "S3": Kept(DriveRecord("A", 2, "S3", 4 * TB, Kind.HDD)),
        "S9": Kept(DriveRecord("A", 7, "S9", 4 * TB, Kind.HDD), in_bay=False, retired_to="sold"),
    }
    taken = Taken(there, shelf_sizes={("Main site", "B"): 8})
    found = [(e.row, e.column) for e in against_each_other(reading.rows, taken)]
    assert found == [(3, "size"), (3, "bay"), (4, "serial"), (4, "bay"), (5, "serial"), (5, "bay")]


def test_a_list_over_what_is_there_says_what_is_new_changed_the_same_and_gone() -> None:
    head = "shelf,bay,serial,size,kind,maker,use\n"
    body = "A,1,S1,4 TB,hdd,Osmund,\nA,3,S2,4 TB,hdd,,archive\nA,4,S4,4 TB,hdd,,\nA,5,S5,4 TB,hdd,,\n"
    rows = read_inventory((head + body).encode()).rows
    there = {
        "S1": Kept(DriveRecord("A", 1, "S1", 4 * TB, Kind.HDD, maker="Osmund", use="scans")),
        "S2": Kept(DriveRecord("A", 2, "S2", 4 * TB, Kind.HDD, maker="Osmund")),
        "S3": Kept(DriveRecord("A", 6, "S3", 4 * TB, Kind.HDD)),
        "S5": Kept(DriveRecord("A", 5, "S5", 4 * TB, Kind.HDD), in_bay=False),
        "S6": Kept(DriveRecord("B", 1, "S6", 4 * TB, Kind.HDD)),
    }
    found = differences(rows, Taken(there))
    assert ([r.serial for r in found.new], found.same, found.gone) == (["S4"], 1, ("S3",))
    # A cell left empty takes nothing away; one that is back in its bay is a change.
    assert [(c.row, c.serial, c.facts) for c in found.changed] == [
        (3, "S2", (("bay", "2", "3"), ("use", "none", "archive"))), (5, "S5", (("bay", "none", "5"),)),
    ]  # fmt: skip
    assert against_each_other(rows, Taken(there)) == []


@pytest.mark.parametrize(
    ("raw", "code"),
    [
        (b"", "empty-file"),
        (b"\x89PNG\r\n\x1a\n\x00\x00", "binary-file"),
        (HEAD.encode() + b"A,1,S\xe9,4 TB,hdd\n", "wrong-encoding"),
        (HEAD.encode() + b"A,1,S,4 TB,hdd\n" * 50_000, "too-many-rows"),
        (b"x" * (17 * 2**20), "too-large"),
    ],
)
def test_files_that_are_no_list_are_refused(raw: bytes, code: str) -> None:
    with pytest.raises(BadInput) as caught:
        read_inventory(raw)
    assert caught.value.code == code


def test_a_missing_needed_column_is_said() -> None:
    reading = read_inventory(b"shelf,bay,size,kind\nA,1,4 TB,hdd\n")
    assert [e.column for e in reading.errors] == ["serial"]


def test_a_plain_file_of_drives() -> None:
    drives = read_drives(b"id,size_bytes,kind,shelf,host\nx,4000000000000,hdd,A,h1\ny,2000000000000,nvme,,\n")
    assert [(d.id, d.size, d.kind, d.shelf, d.host) for d in drives] == [
        ("x", 4 * 10**12, Kind.HDD, "A", "h1"), ("y", 2 * 10**12, Kind.NVME, None, None),
    ]  # fmt: skip
    for wrong in (b"id,kind\nx,hdd\n", b"id,size_bytes,kind\nx,0,hdd\n", b"id,size_bytes,kind\nx,4T,hdd\n", b"\x00"):
        with pytest.raises(BadInput):
            read_drives(wrong)


#: Ends of cells, beginnings of formulas, and what may stand around them.
_parts = st.lists(st.sampled_from([*",;|\t\r\n=+-@'\" x1", "=1+1", "\uff1d", "\u00a0"]), max_size=12).map("".join)


@given(_parts)
def test_no_part_of_a_cell_is_a_formula_whatever_ends_a_cell(cell: str) -> None:
    guarded = guard(cell)
    assert _unguard(guarded) == cell, "nothing is lost"
    for separator in ",;|\t\r\n":
        for part in guarded.split(separator):
            bare = part.lstrip(" \u00a0").lstrip('"').lstrip(" \u00a0")
            assert not bare.startswith(("=", "+", "-", "@", "\uff1d", "\uff0b", "\uff0d", "\uff20")), (cell, guarded)


def test_the_cell_that_was_left_as_it_was() -> None:
    assert guard("x;=1+1;") == "x;'=1+1;"
    assert guard("plain, and; simple") == "plain, and; simple"
