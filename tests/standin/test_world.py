"""The simulated room: bytes stay where they are, whatever happens to the drives around them."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
from decimal import Decimal
from pathlib import Path

import pytest

from pairshelf.core.domain.device import RECORD_MOST, DeviceError, Presence
from pairshelf.core.domain.drives import Kind, extents_of
from pairshelf.core.domain.inventory import DriveRecord
from pairshelf.core.domain.units import GIB
from pairshelf.standin.media import BLOCK, LABEL_BYTES, SCALE
from pairshelf.standin.world import World

SIZE = 4 * 10**12


def test_the_scale_is_what_it_says(tmp_path: Path) -> None:
    world = World(tmp_path)
    world.open("A", SIZE)
    (media,) = (tmp_path / "media").iterdir()
    assert media.stat().st_size == SIZE // SCALE == 15_258_789
    assert SCALE == 262_144
    assert LABEL_BYTES + extents_of(SIZE) * BLOCK <= media.stat().st_size
    assert media.stat().st_blocks * 512 < 1_000_000, "sparse until written"


def test_a_drive_keeps_its_bytes_when_pulled_and_put_back(tmp_path: Path) -> None:
    world = World(tmp_path)
    drive = world.open("S/../1", SIZE)
    drive.write(7, b"x" * BLOCK * 2)
    drive.write_label({"pool": "cold", "slot": 3})
    world.pull("S/../1")
    assert world.troubled() == {"S/../1": Presence.ABSENT}
    for act in (lambda: drive.read(7, 1), lambda: drive.write(7, b"y" * BLOCK), drive.flush, drive.read_label):
        with pytest.raises(DeviceError):
            act()
    world.put_back("S/../1")
    assert World(tmp_path).open("S/../1", SIZE).read(7, 2) == b"x" * BLOCK * 2
    assert drive.read_label() == {"pool": "cold", "slot": 3}
    assert not list(tmp_path.glob("media/../*1*")), "a serial is never a path"


def test_a_failed_drive_stays_failed_and_a_warning_one_works(tmp_path: Path) -> None:
    world = World(tmp_path)
    drive = world.open("A", SIZE)
    world.warn("A")
    assert drive.read(0, 1)
    assert world.troubled() == {"A": Presence.WARNS}
    world.fail("A")
    world.put_back("A")
    assert world.troubled() == {"A": Presence.FAILED}, "only what was pulled is put back"
    world.pull("A")
    world.pull("A")
    assert world.troubled() == {"A": Presence.ABSENT}
    world.put_in(DriveRecord("Loft", 3, "A", SIZE, Kind.HDD))
    assert world.troubled() == {"A": Presence.FAILED}, "in another bay it has failed still"
    world.warn("B")
    world.pull("B")
    world.put_back("B")
    assert world.troubled()["B"] is Presence.WARNS


def test_flipped_bits_change_one_bit_an_extent_and_nothing_else(tmp_path: Path) -> None:
    world = World(tmp_path)
    drive = world.open("A", 60 * GIB)
    before = drive.read(0, 59)
    world.flip_bits("A", 60 * GIB, extents=[3, 58], seed=1)
    after = drive.read(0, 59)
    changed = [(i // BLOCK, (a ^ b).bit_count()) for i, (a, b) in enumerate(zip(before, after, strict=True)) if a != b]
    assert changed == [(3, 1), (58, 1)]


def test_nothing_is_read_or_written_beyond_the_end(tmp_path: Path) -> None:
    drive = World(tmp_path).open("A", 3 * GIB)
    for act in (lambda: drive.read(2, 1), lambda: drive.read(-1, 1), lambda: drive.write(1, b"x" * BLOCK * 2)):
        with pytest.raises(ValueError, match="outside"):
            act()


def test_a_label_can_be_read_until_both_its_copies_are_damaged(tmp_path: Path) -> None:
    drive = World(tmp_path).open("A", SIZE)
    assert drive.read_label() is None
    drive.write_label({"pool": "pörse"})
    (media,) = (tmp_path / "media").iterdir()
    for copies, at in ((1, 12), (0, LABEL_BYTES // 2 + 12)):
        with open(media, "r+b") as file:
            file.seek(at)
            file.write(b"\xff")
        assert drive.read_label() == ({"pool": "pörse"} if copies else None)
    with pytest.raises(ValueError, match="longer"):
        drive.write_label({"pool": "p" * 2000})


def test_a_label_of_before_in_one_copy_is_read(tmp_path: Path) -> None:
    drive = World(tmp_path).open("A", SIZE)
    drive.flush()
    body = json.dumps({"pool": "p", "slot": 3}).encode()
    (media,) = (tmp_path / "media").iterdir()
    with open(media, "r+b") as file:
        file.write(b"PSHELF1 " + body + b"\n" + hashlib.sha256(body).hexdigest().encode())
    assert drive.read_label() == {"pool": "p", "slot": 3}


def test_records_stand_beside_one_another_and_go_with_what_is_held_back(tmp_path: Path) -> None:
    drive = World(tmp_path).open("A", SIZE)
    assert [drive.record(n) for n in (0, 1)] == [b"", b""]
    drive.keep_record(0, b"older" * 100)
    drive.keep_record(1, b"newer")
    drive.keep_record(0, b"new")
    assert [drive.record(n) for n in (0, 1)] == [b"new", b"newer"]
    (held_back,) = (a for a in World(tmp_path).laboratory("A", SIZE) if a.name == "held back")
    assert b"newer" in held_back.read(0, 1), "a laboratory finds it"
    for copy, data in ((3, b""), (-1, b""), (0, bytes(RECORD_MOST + 1))):
        with pytest.raises(ValueError, match="does not fit"):
            drive.keep_record(copy, data)
    drive.clear_held_back()
    assert [drive.record(n) for n in (0, 1)] == [b"", b""]


def test_an_arrival_says_all_of_a_drive_until_acknowledged(tmp_path: Path) -> None:
    world = World(tmp_path)
    record = DriveRecord(
        "Loft", 3, "N1", SIZE, Kind.SSD, site="Here", price=Decimal("9.50"), currency="EUR",
        in_service=dt.date(2026, 1, 2), error_recovery=7.0, holds="something",
    )  # fmt: skip
    world.put_in(record)
    (arrival,) = World(tmp_path).arrivals()
    assert arrival.record == record
    world.acknowledge(arrival)
    assert world.arrivals() == []
