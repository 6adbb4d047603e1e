"""A pool's bytes against a plain array: whatever is written, lost, rebuilt or interrupted, they agree."""

from __future__ import annotations

import random
import threading
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from pairshelf.core.domain.device import Device
from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.units import GIB
from pairshelf.core.errors import NotPossible
from pairshelf.core.layouts import Layout, build_layout
from pairshelf.engine.io import pool_io
from pairshelf.engine.io.pool_io import Member, PoolIO, Run
from pairshelf.engine.io.side_by_side import each
from pairshelf.engine.io.stripe_journal import Intent, StripeJournal, Stripes
from pairshelf.standin.world import World

LAYOUTS = [
    ("parity-1", [40] * 5, 1),
    ("parity-2", [30, 40, 41, 50, 35, 35, 35, 35], 2),
    ("parity-3", [20] * 7, 1),
    ("copies-2", [20, 30, 25, 25], 2),
    ("copies-3", [20] * 6, 2),
    ("stepped-1", [10, 20, 30, 30], 1),
    ("stepped-2", [10, 20, 30, 30, 44], 1),
]


class Room:
    """A pool on simulated drives, with a plain copy of what it should hold."""

    def __init__(self, folder: Path, scheme: str, sizes: list[int], sets: int, seed: int) -> None:
        self.world = World(folder)
        self.sizes = sizes
        self.layout: Layout = build_layout([Drive(str(i), s * GIB) for i, s in enumerate(sizes)], scheme, sets=sets)
        members = [Member(self.world.open(f"s{i}", s * GIB)) for i, s in enumerate(sizes)]
        self.io = PoolIO(self.layout, members, self.world.block, StripeJournal(folder / "journal"))
        self.size = self.io.placement.capacity
        self.truth = np.frombuffer(self.io.read(0, self.size), np.uint8).reshape(self.size, -1).copy()
        self.dice = random.Random(seed)
        self.noise = np.random.default_rng(seed)

    def write(self) -> None:
        at = self.dice.randrange(self.size)
        count = self.dice.randint(1, min(37, self.size - at))
        data = self.noise.bytes(count * self.world.block)
        self.io.write(at, data)
        self.truth[at : at + count] = np.frombuffer(data, np.uint8).reshape(count, -1)

    def reads_right(self) -> bool:
        return self.io.read(0, self.size) == self.truth.tobytes()

    def runs(self) -> list[Run]:
        return self.io.runs(0, 10**9)

    def sync(self) -> None:
        for run in self.runs():
            self.io.sync(run)
        self.io.synced_to = 10**9

    def mismatches(self) -> int:
        return sum(len(self.io.check(run, put_right=False).mismatches) for run in self.runs())


@pytest.mark.parametrize("seed", [1, 2])
@pytest.mark.parametrize(("scheme", "sizes", "sets"), LAYOUTS)
def test_what_the_scheme_survives_is_survived(
    scheme: str, sizes: list[int], sets: int, seed: int, tmp_path: Path
) -> None:
    room = Room(tmp_path, scheme, sizes, sets, seed)
    room.write()
    room.sync()
    for _ in range(4):
        room.write()
    assert room.mismatches() == 0
    width, tolerance = room.layout.width, room.layout.scheme.survives
    gone = [s * width + m for s in range(sets) for m in room.dice.sample(range(width), tolerance)]
    for slot in gone:
        room.io.members[slot].device = None  # type: ignore[index]
    assert room.reads_right()
    for _ in range(4):
        room.write()
    assert room.reads_right()
    for slot in gone:
        member = Member(room.world.open(f"new{slot}", sizes[slot] * GIB), 0)
        room.io.members[slot] = member  # type: ignore[index]
        for run in room.runs():
            room.io.rebuild(run, slot)
            member.rebuilt_to = run.number + run.rows
            if room.dice.random() < 0.3:
                room.write()
        member.rebuilt_to = None
    assert room.mismatches() == 0
    assert room.reads_right()


@pytest.mark.parametrize(
    ("scheme", "sizes", "sets"), [x for x in LAYOUTS if x[0] in ("parity-2", "parity-3", "copies-3", "stepped-2")]
)
def test_flipped_bits_are_found_and_put_right(scheme: str, sizes: list[int], sets: int, tmp_path: Path) -> None:
    room = Room(tmp_path, scheme, sizes, sets, 5)
    room.sync()
    room.world.flip_bits("s1", sizes[1] * GIB, extents=[2, 7], seed=3)
    found = [room.io.check(run, put_right=True) for run in room.runs()]
    assert sum(len(f.mismatches) for f in found) == 2
    assert {p for f in found for p in f.put_right} == {(1, 2), (1, 7)}
    assert room.mismatches() == 0
    assert room.reads_right()


def test_single_parity_finds_damage_and_leaves_it(tmp_path: Path) -> None:
    room = Room(tmp_path, "parity-1", [20] * 4, 1, 5)
    room.sync()
    room.world.flip_bits("s0", 20 * GIB, extents=[4], seed=1)
    found = [room.io.check(run, put_right=True) for run in room.runs()]
    assert [f.mismatches for f in found] == [[(0, 0, 4)]]
    assert [f.put_right for f in found] == [[]]


def test_a_write_cut_short_is_finished_or_never_was(tmp_path: Path) -> None:
    """Power goes after any number of the pieces of a write, a drive is gone as well: old or new, never a mix."""
    room = Room(tmp_path, "parity-2", [20] * 6, 1, 9)
    room.sync()
    intents: list[Intent] = []
    record = room.io.journal.record
    room.io.journal.record = lambda all_of_it, named: (intents.extend(all_of_it), record(all_of_it))[1]  # type: ignore[method-assign]
    before = room.truth.copy()
    room.write()
    room.io.journal.record = record  # type: ignore[method-assign]
    pieces = {i.serial: room.world.open(i.serial, 20 * GIB) for i in intents}
    for done in range(len(intents) + 1):
        io = room.io
        # Back to what stood before the write.
        io.write(0, before.tobytes())
        io.journal.record(intents)
        for intent in intents[:done]:
            pieces[intent.serial].write(intent.start, intent.data)
        lost = done % 6
        device, io.members[lost].device = io.members[lost].device, None
        assert io.recover() == len(intents)
        assert io.read(0, room.size) == room.truth.tobytes()
        io.members[lost].device = device
        assert io.recover() == 0


@pytest.mark.parametrize(("scheme", "sizes", "sets"), [x for x in LAYOUTS if x[0] != "copies-2"])
def test_a_write_into_free_room_cut_short_hurts_nothing_else(
    scheme: str, sizes: list[int], sets: int, tmp_path: Path
) -> None:
    """Its whole stripes are not kept in the journal; what stands around them is, and all of it ends in step."""
    room = Room(tmp_path, scheme, sizes, sets, 4)
    room.sync()
    devices = {m.device.serial: m.device for m in room.io.members if m.device}
    for cut in range(6):
        room.write()
        at = room.dice.randrange(room.size // 2)
        count = room.size // 3
        room.truth[at : at + count] = 0
        room.io.write(at, bytes(count * room.world.block))
        left = cut
        lost = cut % len(sizes)

        class Torn(Exception):
            pass

        def write(serial: str, start: int, data: bytes | memoryview) -> None:
            nonlocal left
            left -= 1
            if left < 0:
                raise Torn
            devices[serial].write(start, data)

        for slot, member in enumerate(room.io.members):
            member.device = _Guarded(devices[f"s{slot}"], write)
        with pytest.raises(Torn):
            room.io.write(at, room.noise.bytes(count * room.world.block), fresh=True)
        for slot, member in enumerate(room.io.members):
            member.device = None if slot == lost else devices[f"s{slot}"]
        assert room.io.recover() > 0
        assert not room.io.journal.pending()
        now = np.frombuffer(room.io.read(0, room.size), np.uint8).reshape(room.size, -1)
        for part in (slice(0, at), slice(at + count, room.size)):
            assert np.array_equal(now[part], room.truth[part])
        room.truth = now.copy()
        room.io.members[lost] = Member(devices[f"s{lost}"], 0)  # type: ignore[index]
        for run in room.runs():
            room.io.rebuild(run, lost)
        room.io.members[lost].rebuilt_to = None
        assert room.mismatches() == 0
        assert room.reads_right()


@pytest.mark.parametrize("scheme", ["parity-2", "copies-3"])
def test_a_write_cut_short_where_a_rebuild_has_come_to_ends_in_step(scheme: str, tmp_path: Path) -> None:
    """Of the stripes named in the journal, some stand on the member that is being filled already, some do not."""
    room = Room(tmp_path, scheme, [40] * 6, 2 if scheme == "copies-3" else 1, 2)
    room.sync()
    room.write()
    filled = Member(room.world.open("new", 40 * GIB), 0)
    room.io.members[1] = filled  # type: ignore[index]
    (first, *_) = room.runs()
    half = Run(first.band, first.group, first.row, first.rows // 2, first.number)
    room.io.rebuild(half, 1)
    filled.rebuilt_to = half.rows
    # All of it is on the drives but the last member's part.
    data = room.noise.bytes(room.size * room.world.block)
    devices = [m.device for m in room.io.members]
    room.io.members[-1].device = None
    clear = room.io.journal.clear
    room.io.journal.clear = lambda: None  # type: ignore[method-assign]
    room.io.write(0, data, fresh=True)
    room.io.journal.clear = clear  # type: ignore[method-assign]
    room.io.members[-1].device = devices[-1]
    assert room.io.recover() > 0
    for run in room.runs():
        if run.number + run.rows > half.rows:
            skip = max(0, half.rows - run.number)
            room.io.rebuild(Run(run.band, run.group, run.row + skip, run.rows - skip, run.number + skip), 1)
    filled.rebuilt_to = None
    assert room.mismatches() == 0


class _Guarded:
    """A device whose writes go through somebody else's hands."""

    def __init__(self, device: Device, write: Callable[[str, int, bytes | memoryview], None]) -> None:
        self._device, self._write = device, write

    def __getattr__(self, name: str) -> Any:
        return getattr(self._device, name)

    def write(self, start: int, data: bytes | memoryview) -> None:
        self._write(self._device.serial, start, data)


def test_a_torn_journal_is_dropped(tmp_path: Path) -> None:
    journal = StripeJournal(tmp_path / "j")
    journal.record([Intent("s1", 3, b"x" * 4096), Intent("s2", 3, b"y" * 4096)], [Stripes(0, 1, 2, 9)])
    whole = journal.path.read_bytes()
    assert [i.start for i in journal.pending().intents] == [3, 3]
    assert list(journal.pending().named) == [Stripes(0, 1, 2, 9)]
    for length in (0, 5, 17, 40, len(whole) // 2, len(whole) - 1):
        journal.path.write_bytes(whole[:length])
        assert not journal.pending()
    journal.path.write_bytes(whole[:-40] + b"z" * 8 + whole[-32:])
    assert not journal.pending()


@pytest.mark.parametrize(("scheme", "sizes", "sets"), LAYOUTS)
def test_runs_are_every_stripe_once_however_they_are_cut(
    scheme: str, sizes: list[int], sets: int, tmp_path: Path
) -> None:
    room = Room(tmp_path, scheme, sizes, sets, 1)
    whole = [(r.band, r.group, r.row + i) for r in room.runs() for i in range(r.rows)]
    assert len(set(whole)) == len(whole) == room.layout.stripes
    for longest in (1, 3, 7):
        cut = room.io.runs(0, 10**9, longest)
        assert all(1 <= r.rows <= longest for r in cut)
        assert [(r.band, r.group, r.row + i) for r in cut for i in range(r.rows)] == whole
        assert [r.number for r in cut] == [room.io.placement.stripe_number(r.band, r.group, r.row) for r in cut]
        # The first stripe of each run is where all before it end.
        assert [r.number for r in cut] == [sum(o.rows for o in cut[:i]) for i in range(len(cut))]


@pytest.mark.parametrize(("scheme", "sizes", "sets"), LAYOUTS)
def test_a_drive_is_filled_step_by_step_and_says_where_it_goes_on(
    scheme: str, sizes: list[int], sets: int, tmp_path: Path
) -> None:
    """As a rebuild does: however few rows a step takes, in the end every byte is there, and nothing is done twice."""
    room = Room(tmp_path, scheme, sizes, sets, 2)
    room.write()
    room.sync()
    slot = 1
    fresh = room.world.open("fresh", sizes[slot] * GIB)
    room.io.members[slot] = Member(fresh, 0)
    total = room.layout.stripes
    cursor, done, written = 0, False, 0
    while not done:
        filled = room.io.refill(slot, cursor, (), 3, total)
        assert cursor < filled.cursor <= total and filled.extents <= 3
        cursor, done, written = filled.cursor, filled.whole, written + filled.extents
        room.io.members[slot] = Member(fresh, cursor)
    assert written == room.layout.used_extents[slot]
    room.io.members[slot] = Member(fresh)
    assert room.mismatches() == 0 and room.reads_right()


@pytest.mark.parametrize(
    ("scheme", "sizes", "sets"), [x for x in LAYOUTS if x[0] in ("parity-2", "parity-3", "copies-3", "stepped-2")]
)
def test_two_that_cannot_read_the_same_rows_are_both_put_right(
    scheme: str, sizes: list[int], sets: int, tmp_path: Path
) -> None:
    room = Room(tmp_path, scheme, sizes, sets, 8)
    room.write()
    room.sync()
    for serial in ("s0", "s1"):
        room.world.lose_extents(serial, list(range(min(sizes) - 2)))
    assert room.reads_right()
    assert room.mismatches() == 0
    assert room.world.lost_extents("s0") == room.world.lost_extents("s1") == []


def test_more_that_cannot_be_read_than_are_survived_are_said_to_be_lost(tmp_path: Path) -> None:
    room = Room(tmp_path, "parity-1", [20] * 4, 1, 8)
    room.sync()
    for serial in ("s0", "s1"):
        room.world.lose_extents(serial, [3])
    with pytest.raises(NotPossible) as lost:
        room.mismatches()
    assert lost.value.code == "data-lost"


def test_side_by_side_within_side_by_side_waits_for_nobody() -> None:
    """Two drives that cannot read some of what is asked, at once: each has the others read by as many threads again."""

    def both(number: int) -> list[int]:
        return each(lambda n: n * 10 + number, range(20))

    done: list[list[list[int]]] = []
    asking = threading.Thread(target=lambda: done.append(each(both, range(20))), daemon=True)
    asking.start()
    asking.join(timeout=60)
    assert done == [[[n * 10 + number for n in range(20)] for number in range(20)]]


@pytest.mark.parametrize("at_once", [1, 3, 256])
@pytest.mark.parametrize(("scheme", "sizes", "sets"), LAYOUTS)
def test_whole_rows_are_put_in_their_places_however_many_at_once(
    scheme: str, sizes: list[int], sets: int, at_once: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(pool_io, "ROWS", at_once)
    room = Room(tmp_path, scheme, sizes, sets, 3)
    room.sync()
    # From row to row of the bands: what is put begins and ends with a row.
    starts, address = [], 0
    for band in room.io.placement.bands:
        starts += range(address, address + band.capacity, band.data)
        address += band.capacity
    for low, high in pairwise(sorted(room.dice.sample([*starts, address], 6))):
        room.truth[low:high] = room.noise.integers(0, 256, (high - low, room.world.block), np.uint8)
        room.io.put_rows(low, room.truth[low:high])
    assert room.reads_right()
    assert room.mismatches() == 0
