"""The bytes of pools where something ends: the last stripe, the last row of a region, as far as a drive has been
filled, and a drive that is away beside one that cannot be read."""

from __future__ import annotations

import random
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.units import EXTENT, GIB
from pairshelf.core.errors import NotPossible
from pairshelf.core.layouts import build_layout
from pairshelf.core.layouts.regions import REGION
from pairshelf.core.loads.mixes import Request
from pairshelf.engine.io.pool_io import Member, _asked
from pairshelf.engine.io.restripe_io import RestripeIO
from pairshelf.engine.io.trial import Noted, Trial, TriedDevice
from pairshelf.engine.io.volume_io import file_room
from pairshelf.standin.world import World
from pairshelf.store.tables import VolumeRow
from tests.engine.scattered import FIRST, OTHER, Scattered
from tests.engine.test_io_parts import moved
from tests.engine.test_pool_io import LAYOUTS, Room
from tests.engine.test_restripe_io import Room as Restriped


def twofold(tmp_path: Path) -> Scattered:
    """Whatever is away, one more may be."""
    return Scattered(tmp_path, "parity-2:5", 7)


# -- stripes that lie all over ---------------------------------------------------------------------------------------


def test_the_last_row_of_a_region_marks_no_other(tmp_path: Path) -> None:
    pool = Scattered(tmp_path, "parity-1:3", 5)
    last = [
        (stripe, int(slot), int(row))
        for stripe, spots in enumerate(pool.volumes[0].spots)
        for slot, row in spots
        if row % REGION == REGION - 1
    ]
    assert last
    for stripe, slot, row in last:
        device, pool.io.members[slot].device = pool.io.members[slot].device, None
        pool.io._marked.clear()
        before = len(pool.missed)
        pool.write(FIRST, stripe * 2, 2)
        assert pool.missed[before:] == [{slot: [row // REGION]}]
        pool.io._marked.clear()
        pool.io.put(slot, row, np.zeros(pool.block, np.uint8))
        assert pool.missed[before + 1 :] == [{slot: [row // REGION]}]
        pool.io.members[slot].device = device
        pool.io.put(slot, row, pool.io.column(pool.stripe(FIRST, stripe), slot))


def test_of_two_stripes_that_disagree_one_is_brought_in_step(spread: Scattered) -> None:
    placed = spread.volumes[1]
    for stripe in (2, 3, 4):
        slot, row = placed.spots[stripe, -1].tolist()
        spread.world.flip_bits(f"s{slot}", 41 * GIB, extents=[row], seed=stripe)
    moves = spread.moved(lambda: spread.io.bring_in_step((OTHER, 0, 3)))
    # Its data are read, or one copy of them; what is made of them is written.
    assert moves == {int(slot): 1 for slot, _ in placed.spots[3]}
    assert spread.mismatches() == [(OTHER, 0, 2), (OTHER, 0, 4)]
    assert spread.right()


def test_one_that_cannot_be_read_comes_from_those_that_are_there(tmp_path: Path) -> None:
    pool = twofold(tmp_path)
    placed = pool.volumes[0]
    for stripe, (away, bad) in enumerate(((0, 1), (1, 0), (4, 2), (2, 4), (3, 0), (0, 3))):
        (gone, _), (slot, row) = placed.spots[stripe, away].tolist(), placed.spots[stripe, bad].tolist()
        kept, pool.io.members[gone].device = pool.io.members[gone].device, None
        pool.world.lose_extents(f"s{slot}", [row])
        wanted = pool.io.column(pool.stripe(FIRST, stripe), slot)
        pool.world.lose_extents(f"s{slot}", [row])
        assert np.array_equal(pool.io.extent(FIRST, stripe, bad), wanted)
        # The same where one is there, and is being filled: nothing of it counts yet.
        pool.world.lose_extents(f"s{slot}", [row])
        pool.io.members[gone] = Member(pool.world.open(f"new{stripe}", 41 * GIB), 10**6)  # type: ignore[index]
        assert np.array_equal(pool.io.extent(FIRST, stripe, bad), wanted)
        pool.io.members[gone] = Member(kept)  # type: ignore[index]
        assert pool.world.lost_extents(f"s{slot}") == [] and pool.right()


@pytest.mark.parametrize("total", [1, 5, 10**6])
def test_a_drive_of_a_spread_pool_is_whole_when_nothing_is_ahead_and_not_before(total: int, tmp_path: Path) -> None:
    pool = twofold(tmp_path)
    pool.io.members[2] = Member(pool.world.open("new", 41 * GIB), 0)  # type: ignore[index]
    every = [(s.volume.volume, s.first) for s, _ in pool.io.next_on(2, (0, 0), 10**6)]
    cursor, at, seen = 0, [0, 0], list[tuple[int, int]]()
    for most in (1, 4, 2, 10**6):
        ahead = [(s.volume.volume, s.first) for s, _ in pool.io.next_on(2, at, most)]
        seen += ahead
        done = pool.io.refill(2, cursor, at, most, total)
        assert (done.extents, done.whole, done.serves_to) == (len(ahead), False, 0)
        assert done.cursor == min(total - 1, cursor + len(ahead)) and done.at == [ahead[-1][0], ahead[-1][1] + 1]
        cursor, at = done.cursor, done.at
    done = pool.io.refill(2, cursor, at, 5, total)
    assert (done.cursor, done.at, done.extents, done.whole) == (total, at, 0, True) and seen == every
    pool.io.members[2].rebuilt_to = None
    assert pool.mismatches() == [] and pool.right()


# -- sets and steps ---------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("scheme", "sizes", "sets"), [*LAYOUTS, ("span", [9, 7], 1), ("stripe", [9, 7, 8], 1)])
def test_a_check_counts_what_it_reads(scheme: str, sizes: list[int], sets: int, tmp_path: Path) -> None:
    room = Room(tmp_path, scheme, sizes, sets, 1)
    room.sync()
    for step in (7, 10**9):
        found = [c for first in range(0, room.layout.stripes, step) for _, c in room.io.compare(first, step)]
        assert sum(c.extents for c in found) == sum(room.layout.used_extents)
        assert not any(c.mismatches or c.put_right for c in found)
    assert moved(room, lambda: [room.io.check(run, put_right=True) for run in room.runs()]) == {
        slot: used for slot, used in enumerate(room.layout.used_extents) if used
    }


@pytest.mark.parametrize("scheme", ["copies-2", "parity-1", "stripe"])
def test_what_takes_all_members_says_that_one_is_away(scheme: str, tmp_path: Path) -> None:
    room = Room(tmp_path, scheme, [12] * 4, 1 if scheme != "copies-2" else 2, 1)
    room.sync()
    room.io.members[0].device = None  # type: ignore[index]
    run = room.runs()[0]
    for act in (
        lambda: room.io.check(run, put_right=True),
        lambda: room.io.read_data(0, np.empty((room.size, room.world.block), np.uint8)),
    ):
        with pytest.raises(NotPossible) as away:
            act()
        assert away.value.code == "unreachable"
    if scheme == "copies-2":
        room.io.sync(run)
        room.io.members[1].device = None  # type: ignore[index]
        with pytest.raises(NotPossible) as none:
            room.io.sync(run)
        assert none.value.code == "unreachable"
    elif scheme == "stripe":
        with pytest.raises(NotPossible) as lost:
            room.io.read(0, room.size)
        assert lost.value.code == "data-lost"


@pytest.mark.parametrize(("scheme", "sizes", "sets"), LAYOUTS)
def test_of_rows_that_disagree_one_is_brought_in_step(scheme: str, sizes: list[int], sets: int, tmp_path: Path) -> None:
    room = Room(tmp_path, scheme, sizes, sets, 5)
    room.sync()
    slot = room.layout.bands[0].groups[0].members[-1]
    room.world.flip_bits(f"s{slot}", sizes[slot] * GIB, extents=[4, 5, 6], seed=3)
    wrong = sorted(m for run in room.runs() for m in room.io.check(run, put_right=False).mismatches)
    assert [row for _, _, row in wrong] == [4, 5, 6]
    room.io.bring_in_step(wrong[1])
    assert sorted(m for run in room.runs() for m in room.io.check(run, put_right=False).mismatches) == [
        wrong[0],
        wrong[2],
    ]


@pytest.mark.parametrize(("scheme", "sizes", "sets"), LAYOUTS)
def test_what_is_written_whole_goes_to_each_drive_in_one_piece(
    scheme: str, sizes: list[int], sets: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    room = Room(tmp_path, scheme, sizes, sets, 5)
    room.sync()
    pieces: list[str] = []
    monkeypatch.setattr(room.io.journal, "record", lambda intents, named: pieces.extend(i.serial for i in intents))
    band = room.layout.bands[0]
    room.io.write(0, room.noise.bytes(band.capacity * room.world.block))
    assert sorted(pieces) == sorted(f"s{m}" for group in band.groups for m in group.members)


@pytest.mark.parametrize("only", [None, {0}, {0, 1}])
@pytest.mark.parametrize(("scheme", "sizes", "sets"), LAYOUTS)
def test_a_drive_is_whole_with_the_last_row_and_no_step_later(
    scheme: str, sizes: list[int], sets: int, only: set[int] | None, tmp_path: Path
) -> None:
    room = Room(tmp_path, scheme, sizes, sets, 5)
    room.sync()
    slot, total = room.layout.bands[0].groups[0].members[0], room.layout.stripes
    held = room.layout.used_extents[slot]
    wanted = held if only is None else min(held, len(only) * REGION)
    for most in (1, 5, 10**6):
        cursor, filled, whole = 0, 0, False
        while not whole:
            done = room.io.refill(slot, cursor, (0, 0), most, total, only)
            assert 0 < done.extents <= most and cursor < done.cursor <= total
            assert done.serves_to == done.cursor and done.whole == (done.cursor == total)
            cursor, filled, whole = done.cursor, filled + done.extents, done.whole
            assert whole == (filled == wanted)
        assert room.io.refill(slot, cursor, (0, 0), most, total, only).extents == 0


def test_who_is_not_asked_may_be_away(tmp_path: Path) -> None:
    room = Room(tmp_path, "parity-1", [40] * 4, 1, 4)
    room.write()
    room.sync()
    stood = {next(iter(moved(room, lambda a=a: room.io.read(a, 1)))): a for a in range(room.layout.bands[0].data)}  # type: ignore[misc]
    assert len(stood) == 3
    for away in stood:
        device, room.io.members[away].device = room.io.members[away].device, None  # type: ignore[index]
        for slot, address in stood.items():
            others = {m: 1 for m in range(4) if m != away}
            found = moved(room, lambda a=address: room.io.read(a, 1))  # type: ignore[misc]
            assert found == (others if slot == away else {slot: 1})
        room.io.members[away].device = device  # type: ignore[index]


def test_of_a_row_that_has_not_come_yet_nothing_is_computed(tmp_path: Path) -> None:
    room = Room(tmp_path, "parity-1", [40] * 5, 1, 4)
    room.write()
    room.sync()
    room.io.members[0] = Member(room.world.open("new", 40 * GIB), 0)  # type: ignore[index]
    tried = 0
    for to in range(1, 12):
        for run in room.io.runs(to - 1, 1):
            room.io.rebuild(run, 0)
        room.io.members[0].rebuilt_to = to
        # The last extent of the last row that has come, and the first of the next one: neither stands on the new drive.
        ((run, base),) = room.io._touched(4 * to - 1, 2)
        asked = _asked(room.io._wanted(run, base, 4 * to - 1, 2))
        (last,) = _asked(room.io._wanted(*next(room.io._touched(4 * to, 1)), 4 * to, 1))
        if 0 in asked or len(asked) == 1:
            continue
        room.world.lose_extents(f"s{last}", [to])
        with pytest.raises(NotPossible) as lost:
            room.io.read(4 * to - 1, 2)
        assert lost.value.code == "data-lost" and room.world.lost_extents(f"s{last}") == [to]
        room.world.lose_extents(f"s{last}", [])
        tried += 1
    assert tried


def test_one_row_that_cannot_be_read_takes_one_of_each_other(tmp_path: Path) -> None:
    room = Room(tmp_path, "parity-2", [40] * 5, 1, 4)
    room.sync()
    room.world.lose_extents("s1", [7])
    assert moved(room, lambda: room.io.mend(1, 5, 4)) == {1: 4, 0: 1, 2: 1, 3: 1, 4: 1}
    assert moved(room, lambda: room.io.mend(1, 5, 4)) == {1: 4}


@pytest.mark.parametrize("scheme", ["copies-2", "copies-3"])
def test_copies_that_are_not_alike_yet_read_as_they_will_when_they_are(scheme: str, tmp_path: Path) -> None:
    room = Room(tmp_path, scheme, [40] * int(scheme[-1]), 1, 4)
    room.write()
    for slot in range(len(room.io.members)):
        room.world.flip_bits(f"s{slot}", 40 * GIB, extents=range(39), seed=slot)
    assert room.mismatches() == 39
    before = room.io.read(0, room.size), [room.io.read(a, 1) for a in range(room.size)]
    room.sync()
    assert room.mismatches() == 0
    assert before == (room.io.read(0, room.size), [room.io.read(a, 1) for a in range(room.size)])


def test_copies_are_read_in_equal_turns(tmp_path: Path) -> None:
    room = Room(tmp_path, "copies-3", [97] * 3, 1, 4)
    room.sync()
    assert moved(room, lambda: room.io.read(0, 96)) == {0: 32, 1: 32, 2: 32}


@pytest.mark.parametrize("scheme", ["parity-1", "copies-2"])
@pytest.mark.parametrize("to", [1, 9, 30])
def test_a_drive_serves_to_the_last_row_that_it_has(scheme: str, to: int, tmp_path: Path) -> None:
    room = Room(tmp_path, scheme, [40] * (4 if scheme == "parity-1" else 2), 1, 4)
    room.write()
    room.sync()
    room.io.members[0] = Member(room.world.open("new", 40 * GIB), 0)  # type: ignore[index]
    for run in room.io.runs(0, to):
        room.io.rebuild(run, 0)
    room.io.members[0].rebuilt_to = to
    # The row before it has come: what another cannot read of that comes from it; of the next one it does not.
    room.world.lose_extents("s1", [to - 1, to])
    assert room.io.mend(1, to - 1, 1) == 1 and room.world.lost_extents("s1") == [to]
    with pytest.raises(NotPossible) as lost:
        room.io.mend(1, to, 1)
    assert lost.value.code == "data-lost" and room.world.lost_extents("s1") == [to]
    device = room.io.members[1].device
    assert device is not None
    device.write(to, bytes(room.world.block))
    assert room.io.mended == [(1, to - 1)]


# -- between two layouts ----------------------------------------------------------------------------------------------


@pytest.mark.parametrize("seed", range(6))
def test_two_drives_are_filled_in_turn_while_it_is_on_its_way(seed: int, tmp_path: Path) -> None:
    room = Restriped(tmp_path, "one for each of two sets", seed)
    for _ in range(room.dice.randint(0, 6)):
        room.move()
    room.lose(2)
    slots = sorted(room.gone)
    for slot in slots:
        room.serials[slot] += "'"
    room.gone.clear()
    room.io = room.opened()
    cursors, filled = dict.fromkeys(slots, 0), dict.fromkeys(slots, 0)
    for slot in slots:
        room.io.members[slot].rebuilt_to = 0
    while cursors:
        slot = room.dice.choice(sorted(cursors))
        most = room.dice.choice([1, 3, 9])
        done = room.io.refill(slot, cursors[slot], (0, 0), most, room.io.layout.stripes)
        assert done.cursor > cursors[slot] and 0 < done.extents <= most
        filled[slot] += done.extents
        cursors[slot] = room.io.members[slot].rebuilt_to = done.cursor
        if done.whole:
            del cursors[slot]
            room.io.members[slot].rebuilt_to = None
        if room.dice.random() < 0.3:
            room.write()
    # Each row of theirs in which something stands, of either layout, once.
    assert filled == {slot: sum(run.rows for _, run in room.io._standing(slot)) for slot in slots}
    assert room.reads_right()
    room.io = room.opened()
    moves = room.io.moves
    while room.move():
        moves += 1
        assert room.io.moves == moves
    assert room.in_step()


def test_a_copy_lies_on_one_more_than_may_fail_and_they_take_turns(tmp_path: Path) -> None:
    room = Restriped(tmp_path, "parity-1 to parity-2", 2)
    kept = dict.fromkeys(range(4), 0)
    for _ in range(6):
        window = room.io.walk.next(room.io.front, 3)
        assert window is not None and window.by_copy
        before = dict(room.io.moved)
        room.io._keep(window, room.io._gathered(window))
        took = {s: n - before.get(s, 0) for s, n in room.io.moved.items()}
        of_copies = [s for s, member in enumerate(room.io.members) if member.device and member.device.aside()]
        assert len(of_copies) == room.moving.copies == 2
        read = sum(took.values()) - 2 * (window.high - window.low)
        assert read == window.high - window.low, "each is read once, and kept on every one of them"
        for slot in of_copies:
            kept[slot] += 1
        room.io._put(window, room.io._gathered(window))
        for member in room.io.members:
            if member.device:
                member.device.keep_aside(b"")
    assert max(kept.values()) - min(kept.values()) <= 1 and room.reads_right()


def test_copies_are_made_up_to_their_number_before_a_move_is_done_once_more(tmp_path: Path) -> None:
    moved_by = []
    for lost in (False, True):
        room = Restriped(tmp_path / str(lost), "parity-1 to parity-2", 2)
        window = room.io.walk.next(room.io.front, 3)
        assert window is not None
        room.io._keep(window, room.io._gathered(window))
        have = [m.device for m in room.io.members if m.device and m.device.aside()]
        if lost:
            have[0].keep_aside(b"")
        io = RestripeIO(room.layout(), room.members(), room.world.block, room.journal(), names=(7,), moves=0)
        assert (io.recover(), io.moves, io.front) == (1, 1, window.high)
        moved_by.append(sum(io.moved.values()))
        again = RestripeIO(room.layout(), room.members(), room.world.block, room.journal(), names=(7,), moves=1)
        assert (again.recover(), again.moves) == (0, 1)
    assert moved_by[1] - moved_by[0] == 2 * (window.high - window.low)


def test_where_nothing_of_a_drive_is_used_nothing_is_filled(tmp_path: Path) -> None:
    room = Restriped(tmp_path, "a drive added", 1)
    done = room.io.refill(3, 0, (0, 0), 9, room.io.layout.stripes)
    assert (done.extents, done.whole, done.cursor, done.serves_to) == (0, True, *[room.io.layout.stripes] * 2)


# -- files ------------------------------------------------------------------------------------------------------------


@given(st.integers(1, 50), st.integers(0, EXTENT - 1), st.integers(0, 60 * EXTENT))
def test_files_have_the_whole_extents_that_the_file_system_leaves(extents: int, short: int, overhead: int) -> None:
    size = extents * EXTENT - short
    volume = VolumeRow(pool_id=1, name="v", size=size, extents=extents, overhead=overhead, uuid="")
    room = file_room(volume)
    assert 0 <= room <= extents
    # One more would not fit, and all of these do.
    assert room == 0 or room * EXTENT + overhead <= size
    assert (room + 1) * EXTENT + overhead > size


# -- on trial ---------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("on_top", [True, False])
def test_a_drive_on_trial_holds_what_is_written_and_the_one_below_stays(on_top: bool, tmp_path: Path) -> None:
    world, dice, noise = World(tmp_path), random.Random(3), np.random.default_rng(3)
    base = world.open("s", 24 * GIB) if on_top else None
    before = base.read(0, 23) if base is not None else bytes(23 * world.block)
    notes: list[Noted] = []
    tried, truth, told = TriedDevice(5, world.block, notes, base), bytearray(before), []
    for _ in range(60):
        start = dice.randrange(23)
        count = dice.randint(1, min(6, 23 - start))
        piece = slice(start * world.block, (start + count) * world.block)
        writes = dice.random() < 0.4
        if writes:
            truth[piece] = noise.bytes(count * world.block)
            tried.write(start, bytes(truth[piece]))
        else:
            assert tried.read(start, count) == truth[piece]
        told.append(Noted(5, start, count, writes))
    into = [(4, memoryview(bytearray(world.block))), (9, memoryview(bytearray(2 * world.block)))]
    tried.read_pieces(into)
    assert [bytes(view) for _, view in into] == [
        truth[4 * world.block : 5 * world.block],
        truth[9 * world.block : 11 * world.block],
    ]
    told += [Noted(5, 4, 1, False), Noted(5, 9, 2, False)]
    for size, extents in ((1, 1), (5 * world.block, 5)):
        tried.keep_aside(bytes(size))
        assert tried.aside() == bytes(size)
        told.append(Noted(5, 0, extents, True))
    assert notes == told and tried.serial == "trial 5"
    assert base is None or base.read(0, 23) == before
    with pytest.raises(NotImplementedError, match="flip of a drive on trial"):
        tried.flip  # noqa: B018


@pytest.mark.parametrize("scheme", ["stripe", "copies-2", "parity-1"])
def test_what_was_read_stays_what_it_was(tmp_path: Path, scheme: str) -> None:
    room = Room(tmp_path, scheme, [40] * 4, 1 if scheme != "copies-2" else 2, 4)
    room.write()
    room.sync()
    before = room.io.read(3, 9)
    kept = bytes(before)
    room.io.write(3, b"\7" * len(kept))
    # It is not copied before it is handed out.
    assert before == kept != room.io.read(3, 9) == b"\7" * len(kept)
    assert len(room.io.read(3, 0)) == 0


def test_what_a_trial_writes_has_to_come_back_the_first_times(monkeypatch: pytest.MonkeyPatch) -> None:
    trial = Trial.made_up(build_layout([Drive(str(i), 20 * GIB) for i in range(3)], "parity-1"))
    read = trial.io.read
    monkeypatch.setattr(trial.io, "read", lambda at, count: bytes(read(at, count)[:-1]) + b"?")
    with pytest.raises(NotPossible) as wrong:
        trial.carried_out(Request(True, 0, 2, 100))
    assert wrong.value.code == "not-read-back"
    monkeypatch.undo()
    for _ in range(32):
        trial.carried_out(Request(True, 0, 1, 100))
    before = sum(trial.io.moved.values())
    trial.carried_out(Request(True, 0, 2, 100))
    # A row that is written whole: nothing is read before, and nothing after any more.
    assert sum(trial.io.moved.values()) - before == 3


@pytest.mark.parametrize(("scheme", "sizes", "sets"), LAYOUTS)
def test_what_a_request_takes_is_what_its_drives_move(scheme: str, sizes: list[int], sets: int) -> None:
    layout = build_layout([Drive(str(i), s * GIB) for i, s in enumerate(sizes)], scheme, sets=sets)
    trial = Trial.made_up(layout)
    for writes, first, count in ((True, 0, layout.data_extents), (False, 1, 9), (True, 2, 1), (False, 3, 1)):
        before = dict(trial.io.moved)
        asked = trial.carried_out(Request(writes, first, count, 100))
        found = {s: n - before.get(s, 0) for s, n in trial.io.moved.items()}
        reads, written = asked.phases
        assert (asked.size, asked.writes) == (count * 100, writes)
        for phase, kind in ((reads, False), (written, True)):
            assert all(op.writes is kind and op.size == 100 * op.count for op in phase)
            assert [(op.drive, op.first) for op in phase] == sorted((op.drive, op.first or 0) for op in phase)
        assert bool(written) is writes and (reads or writes)
        # What lies between is read past, and counted where it is; of what is written all is read back besides.
        took = {d: sum(op.count for op in (*reads, *written) if op.drive == d) for d in range(len(sizes))}
        assert all(took[d] <= found.get(d, 0) for d in took) and sum(took.values()) >= count
    assert trial.noted(7)[0][0].size == 7 and trial.noted(7) == [[], []], "what was told is not told again"
