"""A pool on its way from one layout to another: torn at any byte, with as many drives gone as it survives."""

from __future__ import annotations

import contextlib
import random
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from pairshelf.core.changes.pools.change_scheme import drives_a_set, targets
from pairshelf.core.domain.device import Device
from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.units import GIB
from pairshelf.core.errors import PairShelfError
from pairshelf.core.layouts import Layout, build_layout
from pairshelf.core.layouts.grown import converted, with_drives, with_members
from pairshelf.core.layouts.restripe import Moving
from pairshelf.core.layouts.restriping import Restriping, restriping
from pairshelf.engine.io.pool_io import Member, PoolIO
from pairshelf.engine.io.restripe_io import RestripeIO
from pairshelf.engine.io.stripe_journal import StripeJournal
from pairshelf.standin.world import World


def laid(scheme: str, sizes: tuple[int, ...], sets: int = 1, names: str = "abcdefgh") -> Layout:
    have = [Drive(n, s * GIB + GIB // 2) for n, s in zip(names, sizes, strict=False)]
    return build_layout(have, scheme, sets=sets)


CHANGES = {
    "a drive added": (laid("parity-1", (24,) * 3), laid("parity-1", (24,) * 4)),
    "one for each of two sets": (
        laid("parity-2", (20, 20, 20, 20, 14, 14, 14, 14), 2),
        laid("parity-2", (20, 20, 20, 20, 22, 14, 14, 14, 14, 15), 2, "abcdxefghy"),
    ),
    "parity-1 to parity-2": (laid("parity-1", (20,) * 3), laid("parity-2", (20,) * 4)),
    "parity-2 to parity-1": (laid("parity-2", (20,) * 5), laid("parity-1", (20,) * 4)),
    "copies-2 to parity-1": (laid("copies-2", (20,) * 2), laid("parity-1", (20,) * 3)),
    "stepped-1 to stepped-2": (laid("stepped-1", (8, 12, 20, 20)), laid("stepped-2", (8, 12, 20, 20))),
    "stepped, one added": (laid("stepped-1", (8, 12, 20, 20)), laid("stepped-1", (8, 12, 20, 20, 16))),
}


SCHEMES = ("parity-1", "parity-2", "parity-3", "copies-2", "copies-3", "stepped-1", "stepped-2")


def drawn(dice: random.Random) -> tuple[Layout, Layout]:
    """Any way from one layout to another on which something is moved."""
    numbers = iter(range(100))

    def drives(count: int, least: int = 4) -> list[Drive]:
        return [Drive(f"d{next(numbers)}", dice.randint(least, 14) * GIB + GIB // 2) for _ in range(count)]

    while True:
        scheme, sets = dice.choice(SCHEMES), dice.choice((1, 1, 2))
        with contextlib.suppress(PairShelfError):
            old = build_layout(drives(dice.randint(2, 6 // sets) * sets), scheme, sets=sets)
            if scheme.startswith("stepped") and dice.random() < 0.3:
                slots = dice.sample(range(len(old.members)), dice.randint(1, 2))
                # Larger by so much: one goes with the data it has.
                grown = {s: replace(old.members[s], size=old.members[s].size + dice.randint(1, 9) * GIB) for s in slots}
                new = with_members(old, grown)
            elif dice.random() < 0.4:
                into = dice.randrange(sets) if sets > 1 and dice.random() < 0.5 else None
                new = with_drives(old, drives(dice.randint(1, 2) * sets, 10), into)
            else:
                to = dice.choice(targets(old))
                least, most = drives_a_set(old, to)
                count = dice.randint(least, min(most, least + 2))
                width = old.width
                freed = [one * width + s for one in range(sets) for s in dice.sample(range(width), max(0, -count))]
                new = converted(old, to, drives(max(0, count) * sets, 10), freed)
            moving = Moving(old, new)
            if not moving.at_once and not moving.only_copies and moving.walk().stored > 0:
                return old, new


class Torn(Exception):
    """The power goes."""


class Leaky:
    """A device behind a count of what may still be written."""

    def __init__(self, room: Room, device: Device) -> None:
        self._room, self._device = room, device

    def __getattr__(self, name: str) -> Any:
        return getattr(self._device, name)

    def _pass(self, cut: Callable[[], None] = lambda: None) -> None:
        self._room.left -= 1
        if self._room.left == -1:
            cut()
        if self._room.left < 0:
            raise Torn

    def write(self, start: int, data: bytes | memoryview) -> None:
        view = memoryview(data).cast("B")
        # Of the write in which the power goes, whole sectors of a part may stand on the drive.
        self._pass(lambda: self._device.write(start, view[: len(view) // 4096 // 2 * 4096]))
        self._device.write(start, data)

    def keep_aside(self, data: bytes) -> None:
        self._pass()
        self._device.keep_aside(data)


class Room:
    """A pool that is being restriped, its books (front and moves), and a plain copy of what it should hold."""

    def __init__(self, folder: Path, change: str | tuple[Layout, Layout], seed: int) -> None:
        self.dice, self.noise = random.Random(seed), np.random.default_rng(seed)
        self.world, self.folder = World(folder), folder
        self.moving = Moving(*(CHANGES[change] if isinstance(change, str) else change))
        walk = self.moving.walk()
        self.upwards, self.turned, self.front, self.moves, self.left = walk.upwards, False, walk.begins, 0, 10**9
        self.serials = [d.id for d in self.moving.drives]
        new = {n: d.size for n, d in zip(self.moving.numbers, self.moving.new.members, strict=True)}
        self.sizes = [max(d.size, new.get(n, 0)) for n, d in enumerate(self.moving.drives)]
        self.gone: set[int] = set()
        self.stored = walk.stored
        first = PoolIO(
            self.moving.old, self.members()[: len(self.moving.old.members)], self.world.block, self.journal()
        )
        for run in first.runs(0, 10**9):
            first.sync(run)
        self.truth = np.frombuffer(first.read(0, self.stored), np.uint8).reshape(self.stored, -1).copy()
        self.io = self.opened()

    def journal(self) -> StripeJournal:
        return StripeJournal(self.folder / "journal")

    def members(self) -> list[Member]:
        return [
            Member(None if slot in self.gone else Leaky(self, self.world.open(serial, size)))  # type: ignore[arg-type]
            for slot, (serial, size) in enumerate(zip(self.serials, self.sizes, strict=True))
        ]

    def layout(self) -> Restriping:
        return restriping(self.moving, self.front, upwards=self.upwards, turned=self.turned)

    def opened(self) -> RestripeIO:
        io = RestripeIO(self.layout(), self.members(), self.world.block, self.journal(), names=(7,), moves=self.moves)
        io.recover()
        self.front, self.moves = io.front, io.moves
        return io

    def write(self) -> None:
        at = self.dice.randrange(self.stored)
        count = self.dice.randint(1, min(19, self.stored - at))
        data = self.noise.bytes(count * self.world.block)
        self.io.write(at, data)
        self.truth[at : at + count] = np.frombuffer(data, np.uint8).reshape(count, -1)

    def move(self) -> bool:
        if self.io.move(self.dice.choice([1, 2, 7])) is None:
            return False
        self.front, self.moves = self.io.front, self.io.moves
        return True

    def torn(self) -> None:
        """The power goes somewhere in the next move; afterwards all is as the books say."""
        self.left = self.dice.randrange(30)
        with contextlib.suppress(Torn):
            self.move()
        self.left = 10**9

    def reads_right(self) -> bool:
        return self.io.read(0, self.stored) == self.truth.tobytes()

    def lose(self, most: int) -> None:
        self.gone = set(self.dice.sample(range(len(self.serials)), most))

    def fill(self) -> None:
        """New drives come to the places of those that are gone, and are filled from the rest."""
        for slot in sorted(self.gone):
            self.serials[slot] += "'"
            self.gone.discard(slot)
            self.io = self.opened()
            member = self.io.members[slot]
            cursor, member.rebuilt_to = 0, 0
            while True:
                done = self.io.refill(slot, cursor, (0, 0), self.dice.choice([1, 5, 100]), self.io.layout.stripes)
                cursor, member.rebuilt_to = done.cursor, done.serves_to
                if done.whole:
                    break
                if self.dice.random() < 0.3:
                    self.write()
                assert self.reads_right()
        self.io = self.opened()

    def in_step(self) -> bool:
        """Every stripe of the layout that it has arrived at."""
        layout = self.moving.old if self.turned else self.moving.new
        numbers = range(len(layout.members)) if self.turned else self.moving.numbers
        everyone = self.members()
        io = PoolIO(layout, [everyone[n] for n in numbers], self.world.block, self.journal())
        wrong = sum(len(io.check(run, put_right=False).mismatches) for run in io.runs(0, 10**9))
        return wrong == 0 and io.read(0, self.stored) == self.truth.tobytes()

    def survives(self) -> int:
        return min(self.moving.old.scheme.survives, self.moving.new.scheme.survives)


@pytest.mark.parametrize("change", CHANGES)
def test_it_arrives_with_every_byte(change: str, tmp_path: Path) -> None:
    room = Room(tmp_path, change, 1)
    while room.move():
        room.write()
        assert room.reads_right()
    assert room.in_step()


@pytest.mark.parametrize("seed", range(4))
@pytest.mark.parametrize("change", CHANGES)
def test_torn_at_any_byte_with_drives_gone(change: str, seed: int, tmp_path: Path) -> None:
    """Power cuts in the middle of moves; drives lost with them, read without, replaced and filled on both sides of the
    front; turned round and back. At the end every byte is as written and all redundancy in step."""
    history(Room(tmp_path, change, seed))


@pytest.mark.parametrize("first", range(0, 140, 10))
def test_drawn_histories_lose_nothing(first: int, tmp_path: Path) -> None:
    """The same on any way from any layout to any other, drawn from a seed."""
    for seed in range(first, first + 10):
        change = drawn(random.Random(seed))
        try:
            history(Room(tmp_path / str(seed), change, seed))
        except BaseException as error:
            error.add_note(f"seed {seed}: {' -> '.join(f'{x.scheme.id} {x.describe()}' for x in change)}")
            raise


def history(room: Room) -> None:
    for _ in range(room.dice.randrange(10)):
        room.move()
    for _ in range(14):
        act = room.dice.choice(["tear", "tear", "tear and lose", "lose", "turn", "write", "move"])
        if act == "write":
            room.write()
        elif act == "move":
            room.move()
        elif act == "turn":
            turned = room.layout().turned_round()
            room.turned, room.front = turned.turned, turned.front
            room.io = room.opened()
        elif act == "tear":
            room.torn()
            room.io = room.opened()
        else:
            if act == "tear and lose":
                room.torn()
            room.lose(room.dice.randint(1, room.survives()))
            room.io = room.opened()
            assert room.reads_right()
            room.write()
            assert room.reads_right()
            room.fill()
        assert room.reads_right()
    while room.move():
        pass
    assert room.in_step()


def test_a_copy_of_another_move_or_pool_or_a_torn_one_is_left_alone(tmp_path: Path) -> None:
    room = Room(tmp_path, "parity-1 to parity-2", 3)
    room.move()
    before = room.front
    window = room.io.walk.next(room.front, 5)
    assert window is not None and window.by_copy
    spoilt = np.full((window.high - window.low, room.world.block), 7, np.uint8)
    room.io.names = (8,)
    room.io._keep(window, spoilt)
    room.io = room.opened()
    assert room.front == before and room.reads_right()
    room.io.moves += 1
    room.io._keep(window, spoilt)
    room.io = room.opened()
    assert room.front == before and room.reads_right()
    room.io._keep(window, spoilt)
    for serial, size in zip(room.serials, room.sizes, strict=True):
        device = room.world.open(serial, size)
        if kept := device.aside():
            device.keep_aside(kept[:-1] + b"\x01")
    room.io = room.opened()
    assert room.front == before and room.reads_right()
    room.io._keep(window, room.io._gathered(window))
    room.io = room.opened()
    assert room.front == window.high and room.reads_right()


@pytest.mark.parametrize("change", ["parity-1 to parity-2", "stepped-1 to stepped-2", "parity-2 to parity-1"])
def test_whichever_drives_go_with_the_power_the_copy_is_there(change: str, tmp_path: Path) -> None:
    """Cut after every single write of one move, with each drive lost in its turn: none of them had the only copy."""
    for cut in range(1, 60):
        whole = False
        for lost in range(len(Moving(*CHANGES[change]).drives)):
            room = Room(tmp_path / f"{cut}-{lost}", change, 5)
            room.move()
            room.left = cut
            try:
                assert room.io.move(3) is not None
                whole, room.front, room.moves = True, room.io.front, room.io.moves
            except Torn:
                pass
            room.left = 10**9
            room.gone = {lost}
            room.io = room.opened()
            assert room.reads_right()
            room.fill()
        if whole:
            return
    raise AssertionError("the move was never whole")


@pytest.mark.parametrize(
    "change", [name for name, (old, new) in CHANGES.items() if new.data_extents > old.data_extents]
)
def test_where_nothing_could_be_stored_before_there_are_zeros_when_it_has_been_moved(
    change: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    room = Room(tmp_path, change, 3)
    for _ in range(4):
        room.write()
    # What is not written to is what stood in memory before: anybody's.
    monkeypatch.setattr(np, "empty", lambda shape, dtype=float: np.full(shape, 0xAB, dtype))
    while room.move():
        pass
    assert room.reads_right()
    end = room.moving.new.data_extents
    assert room.stored < end
    assert not any(room.io.read(room.stored, end - room.stored))
