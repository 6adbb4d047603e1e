"""The bytes of pools by themselves, without a database: stripes that lie all over, what each drive has to do, what a
drive that is away is marked to miss, the journal torn anywhere."""

from __future__ import annotations

import random
import threading
from collections.abc import Mapping, Sequence
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlmodel import select

from pairshelf.core.domain.units import EXTENT, GIB
from pairshelf.core.errors import NoRoom, NotPossible
from pairshelf.core.layouts.erasure import parity
from pairshelf.core.layouts.model import Code
from pairshelf.core.layouts.protections import parse_protection
from pairshelf.core.layouts.regions import REGION
from pairshelf.core.layouts.spread import StripedVolume, base_of
from pairshelf.engine.io.files import Keeper, agrees, checksum_of, content_of
from pairshelf.engine.io.pool_io import Member, Run, columns_from, disagreeing, missed_of, wrong_column
from pairshelf.engine.io.side_by_side import Tally, ahead, each, in_turn
from pairshelf.engine.io.spread_io import Stretch, code_of
from pairshelf.engine.io.stripe_journal import Intent, StripeJournal, Stripes
from pairshelf.engine.io.volume_io import CHANGED_TOGETHER as TOGETHER
from pairshelf.engine.io.volume_io import Room as VolumeRoom
from pairshelf.engine.io.volume_io import VolumeIO
from pairshelf.engine.pools import devices, open_pool
from pairshelf.store.database import transaction
from pairshelf.store.tables import ChangedRegion, KeepRule, SampleFile, VolumeRow
from tests.engine.helpers import build, do, shelf
from tests.engine.scattered import FIRST, OTHER, Scattered
from tests.engine.test_pool_io import LAYOUTS, Room

# -- stripes that lie all over ---------------------------------------------------------------------------------------


def test_whatever_is_written_is_read_and_in_step_with_drives_gone_and_back(spread: Scattered) -> None:
    for _ in range(6):
        spread.write_somewhere()
    assert spread.right() and spread.mismatches() == []
    gone = spread.dice.sample(range(len(spread.io.members)), spread.own.survives)
    for slot in gone:
        spread.io.members[slot].device = None
    assert spread.right()
    for _ in range(6):
        spread.write_somewhere()
    assert spread.right()
    # One more, and what stood on all of them cannot be computed.
    (other, *_) = (s for s in range(len(spread.io.members)) if s not in gone)
    more = {*gone, other}
    hit = [
        (v.volume, i) for v in spread.volumes for i, slots in enumerate(v.slots.tolist())
        if len(more.intersection(slots)) > spread.own.survives
    ]  # fmt: skip
    if hit:
        device, spread.io.members[other].device = spread.io.members[other].device, None
        with pytest.raises(NotPossible) as lost:
            spread.io.read(base_of(hit[0][0]) + hit[0][1] * spread.own.data, spread.own.data)
        assert lost.value.code == "data-lost"
        spread.io.members[other].device = device
    # Filled extent by extent, a few at a time; meanwhile something is written.
    total = sum(len(v.spots) for v in spread.volumes)
    for slot in gone:
        fresh = spread.world.open(f"new{slot}", 41 * GIB)
        spread.io.members[slot] = Member(fresh, 0)  # type: ignore[index]
        at, cursor, written, whole = [0, 0], 0, 0, False
        while not whole:
            filled = spread.io.refill(slot, cursor, at, 3, total)
            assert filled.extents <= 3 and filled.serves_to == 0
            assert filled.whole or cursor < filled.cursor < total or filled.cursor == total - 1
            at, cursor, written, whole = filled.at, filled.cursor, written + filled.extents, filled.whole
            if not whole and spread.dice.random() < 0.3:
                spread.write_somewhere()
        assert cursor == total and written == spread.layout.used_extents[slot]
        spread.io.members[slot] = Member(fresh)  # type: ignore[index]
    assert spread.mismatches() == [] and spread.right()


def test_of_drives_that_are_all_there_no_more_is_read_than_what_is_asked_for(spread: Scattered) -> None:
    k = spread.own.data
    for at, count in ((0, 1), (1, 1), (k, 1), (0, 5), (k + 1, 2 * k)):
        moved = spread.moved(lambda at=at, count=count: spread.io.read(base_of(FIRST) + at, count))  # type: ignore[misc]
        expected = Tally()
        for data in range(at, at + count):
            expected[int(spread.volumes[0].spots[data // k, data % k, 0])] += 1
        assert moved == expected


def test_a_write_moves_what_changes_and_what_its_parity_is_made_of(spread: Scattered) -> None:
    k, width = spread.own.data, spread.own.width
    spots = spread.volumes[0].spots[2]
    one = spread.moved(lambda: spread.write(FIRST, 2 * k, 1))
    assert one == {int(s): 1 for s, _ in spots}, (
        "each once: the rest of the data is read, what changes and parity written"
    )
    whole = spread.moved(lambda: spread.write(FIRST, 2 * k, k))
    assert whole == {int(s): 1 for s, _ in spots}
    assert spread.right() and spread.mismatches() == []
    # Two whole stripes and a bit on both sides.
    across = spread.moved(lambda: spread.write(FIRST, 3 * k - 1, 2 * k + 2) if k > 1 else spread.write(FIRST, 2, 4))
    assert sum(across.values()) >= 4 * width - 2 * k
    assert spread.right() and spread.mismatches() == []


def test_what_is_beyond_its_stripes_has_no_place(spread: Scattered) -> None:
    end = len(spread.truth[FIRST])
    assert len(spread.io.read(base_of(FIRST) + end - 1, 1)) == spread.block
    for at, count in ((end, 1), (end - 1, 2)):
        with pytest.raises(NotPossible) as refused:
            spread.io.read(base_of(FIRST) + at, count)
        assert refused.value.code == "not-placed"
    with pytest.raises(NotPossible) as refused:
        spread.io.volume(9)
    assert refused.value.code == "not-placed" and spread.io.volume(OTHER) is spread.layout.volumes[1]


def test_only_who_misses_an_extent_is_marked_and_once_for_each_region(spread: Scattered) -> None:
    away = int(spread.volumes[0].spots[0, 0, 0])
    spread.io.members[away].device = None
    k = spread.own.data
    expected = set()
    for stripe in range(len(spread.volumes[0].spots)):
        before = len(spread.missed)
        spread.write(FIRST, stripe * k, k)
        own = {(int(s), int(row) // REGION) for s, row in spread.volumes[0].spots[stripe] if s == away}
        told = {(slot, r) for one in spread.missed[before:] for slot, regions in one.items() for r in regions}
        assert told == own - expected, "what was marked already is not told again"
        expected |= own
    assert expected and spread.right()
    # What has come back is filled in these regions alone.
    wanted = spread.io.next_on(away, (0, 0), 10**6, sorted({r for _, r in expected}))
    every = spread.io.next_on(away, (0, 0), 10**6)
    inside = {r for _, r in expected}
    assert [(s.volume.volume, s.first, c) for s, c in wanted] == [
        (s.volume.volume, s.first, c) for s, c in every if int(s.spots[0, c, 1]) // REGION in inside
    ]
    assert len(every) == spread.layout.used_extents[away]
    assert [s.volume.volume for s, _ in every] == sorted(s.volume.volume for s, _ in every)
    half = every[len(every) // 2][0]
    rest = spread.io.next_on(away, (half.volume.volume, half.first), 10**6)
    assert [(s.volume.volume, s.first) for s, _ in rest] == [
        (s.volume.volume, s.first) for s, _ in every[len(every) // 2 :]
    ]
    assert len(spread.io.next_on(away, (0, 0), 2)) == 2


def test_what_cannot_be_read_is_computed_written_anew_and_told(spread: Scattered) -> None:
    spots = spread.volumes[0].spots
    bad = sorted({(int(s), int(row)) for s, row in spots[:4, 0]})
    for slot, row in bad:
        spread.world.lose_extents(f"s{slot}", [*spread.world.lost_extents(f"s{slot}"), row])
    assert spread.right()
    assert sorted(spread.io.mended) == bad and all(spread.world.lost_extents(f"s{s}") == [] for s, _ in bad)
    assert spread.right() and len(spread.io.mended) == len(bad)
    # By its rows too, and only those between.
    slot, row = bad[0]
    spread.world.lose_extents(f"s{slot}", [row])
    rows = [int(r) for v in spread.volumes for s, r in v.spots.reshape(-1, 2) if s == slot]
    assert spread.io.mend(slot, row + 1, 40) == 0 and spread.world.lost_extents(f"s{slot}") == [row]
    moved = spread.moved(lambda: spread.io.mend(slot, 0, row))
    assert moved.get(slot, 0) == 2 * sum(r < row for r in rows)
    # The one in vain, and each of the others once, of copies as well; then it is written, and written as all that is mended.
    stripe = next(s for v in spread.volumes for s in v.spots.tolist() if [slot, row] in s)
    moves = spread.moved(lambda: spread.io.mend(slot, row, 1))
    assert moves == {other: 3 if other == slot else 1 for other, _ in stripe}
    assert spread.world.lost_extents(f"s{slot}") == []


def test_one_wrong_extent_is_told_and_put_right_where_it_can_be(spread: Scattered) -> None:
    placed = spread.volumes[1]
    slot, row = placed.spots[3, spread.own.width - 1].tolist()
    spread.world.flip_bits(f"s{slot}", 41 * GIB, extents=[row], seed=4)
    assert spread.mismatches() == [(OTHER, 0, 3)]
    can = spread.own.survives > 1
    total = sum(len(v.spots) for v in spread.volumes)
    found = list(spread.io.compare(0, total))
    assert [count for count, _ in found] == [len(v.spots) for v in spread.volumes]
    assert [c.extents for _, c in found] == [len(v.spots) * spread.own.width for v in spread.volumes]
    assert [(c.mismatches, c.put_right) for _, c in found] == [([], []), ([(OTHER, 0, 3)], [(slot, 3)] if can else [])]
    if not can:
        spread.io.bring_in_step((OTHER, 0, 3))
    assert spread.mismatches() == [] and spread.right()
    assert spread.io.set_of((OTHER, 0, 3)) == 0


def test_stripes_are_numbered_through_all_volumes(spread: Scattered) -> None:
    first = len(spread.volumes[0].spots)
    for start, most in ((0, 3), (first - 1, 3), (first, 2), (first + 2, 100), (10**6, 5)):
        seen = [c.extents // spread.own.width for _, c in spread.io.compare(start, most)]
        total = sum(len(v.spots) for v in spread.volumes)
        assert sum(seen) == max(0, min(most, total - start))
        assert all(seen)


def test_extents_of_a_drive_are_read_in_one_go_or_computed(spread: Scattered) -> None:
    wanted = [(v.volume, i, c) for v in spread.volumes for i in range(4) for c in range(spread.own.width)]
    whole = spread.io.extents(wanted)
    assert [whole[i].tobytes() for i in range(len(wanted))] == [spread.io.extent(*w).tobytes() for w in wanted]
    device, spread.io.members[0].device = spread.io.members[0].device, None
    assert np.array_equal(spread.io.extents(wanted), whole)
    # One that is being filled does not serve yet, whatever stands on it.
    spread.io.members[0] = Member(spread.world.open("empty", 41 * GIB), 10**6)  # type: ignore[index]
    assert np.array_equal(spread.io.extents(wanted), whole)
    spread.io.members[0] = Member(device)  # type: ignore[index]
    # And put somewhere: what lies side by side goes in one piece, wherever it was asked for.
    spots = [(1, 38), (0, 38), (1, 37), (1, 39), (2, 38)]
    blocks = np.frombuffer(spread.noise.bytes(5 * spread.block), np.uint8).reshape(5, -1)
    assert spread.moved(lambda: spread.io.put_all(spots, blocks)) == {0: 1, 1: 3, 2: 1}
    for (slot, row), block in zip(spots, blocks, strict=True):
        held = spread.io.members[slot].device
        assert held is not None and held.read(row, 1) == block.tobytes()


def test_new_stripes_are_in_step_before_anything_is_written(spread: Scattered) -> None:
    placed = spread.volumes[1]
    spots = np.array([[[s, 38 + r % 2] for s in range(spread.own.width)] for r in range(2)], np.int32)
    more = StripedVolume(OTHER, placed.protection, np.concatenate([placed.spots, spots]))
    layout = spread.layout.with_volume(more)
    spread.io.take_up(layout, [Stretch(more, len(placed.spots), 2)])
    assert spread.io.layout.striped(OTHER) is not None
    assert spread.io.check(Stretch(more, 0, len(more.spots)), put_right=False).mismatches == []
    spread.io.members[0].device = None
    with pytest.raises(NotPossible) as away:
        spread.io.sync(Stretch(more, len(placed.spots), 2))
    assert away.value.code == "unreachable"


def test_codes_of_protections() -> None:
    assert (
        code_of(parse_protection("copies-3")) is Code.COPIES and code_of(parse_protection("parity-1:4")) is Code.PARITY
    )


# -- what each drive has to do ----------------------------------------------------------------------------------------


def moved(room: Room, act: Any) -> dict[int, int]:
    before = dict(room.io.moved)
    act()
    return {s: n for s, own in sorted(room.io.moved.items()) if (n := own - before.get(s, 0))}


def test_a_small_write_reads_and_writes_no_more_than_it_takes(tmp_path: Path) -> None:
    room = Room(tmp_path, "parity-2", [30] * 8, 1, 1)
    columns = room.io.placement.spot(0).stripe.columns
    one = bytes(room.world.block)
    # Nobody knows yet whether it is in step: the row is made anew, and all of it is read and written.
    assert moved(room, lambda: room.io.write(0, one)) == dict.fromkeys(range(8), 2)
    room.sync()
    # What changes and the parity: read, and written.
    assert moved(room, lambda: room.io.write(0, one)) == dict.fromkeys(sorted((columns[0], *columns[6:])), 2)
    # Five of six: the one that is left is less, so that is read.
    assert moved(room, lambda: room.io.write(0, one * 5)) == dict.fromkeys(range(8), 1)
    # All six: nothing is read.
    assert moved(room, lambda: room.io.write(0, one * 6)) == dict.fromkeys(range(8), 1)
    # Where the one to be read is away, it is done with those that change.
    room.io.members[columns[5]].device = None
    assert moved(room, lambda: room.io.write(0, one * 5)) == {m: 2 for m in range(8) if m != columns[5]}
    # Where one that changes is away, the whole row is made anew.
    room.io.members[columns[5]].device = room.world.open(f"s{columns[5]}", 30 * GIB)
    room.io.members[columns[0]].device = None
    assert moved(room, lambda: room.io.write(0, one)) == {m: 2 for m in range(8) if m != columns[0]}
    room.truth[:6] = 0
    assert room.reads_right()


def test_copies_take_turns_once_they_are_in_step(tmp_path: Path) -> None:
    room = Room(tmp_path, "copies-2", [41, 41], 1, 1)
    assert moved(room, lambda: room.io.read(0, 40)) == {0: 40}
    room.sync()
    assert moved(room, lambda: room.io.read(0, 40)) == {0: 24, 1: 16}
    assert moved(room, lambda: room.io.read(15, 2)) == {0: 1, 1: 1}
    assert moved(room, lambda: room.io.read(16, 16)) == {1: 16}
    room.io.members[0].device = None
    assert moved(room, lambda: room.io.read(0, 40)) == {1: 40} and room.reads_right()


def test_of_a_healthy_pool_what_lies_between_counts_as_passed_over(tmp_path: Path) -> None:
    room = Room(tmp_path, "parity-1", [40] * 4, 1, 1)
    room.sync()
    for at, count in ((0, 1), (0, 3), (4, 9), (7, 60)):
        rows: dict[int, list[int]] = {}
        for address in range(at, at + count):
            spot = room.io.placement.spot(address)
            rows.setdefault(spot.stripe.columns[spot.column], []).append(spot.stripe.row)
        assert moved(room, lambda at=at, count=count: room.io.read(at, count)) == {  # type: ignore[misc]
            m: max(own) - min(own) + 1 for m, own in sorted(rows.items())
        }
        # Without it, as a stream of several reads on, only what is asked for.
        out = np.empty((count, room.world.block), np.uint8)
        assert moved(room, lambda at=at, out=out: room.io.read_data(at, out)) == {  # type: ignore[misc]
            m: len(own) for m, own in sorted(rows.items())
        }
        assert out.tobytes() == room.truth[at : at + count].tobytes()


def test_a_rebuild_reads_each_of_the_others_once_and_writes_once(tmp_path: Path) -> None:
    room = Room(tmp_path, "parity-1", [21] * 4, 1, 1)
    room.sync()
    room.io.members[2] = Member(room.world.open("new", 21 * GIB), 0)  # type: ignore[index]
    (run,) = room.runs()
    assert moved(room, lambda: room.io.rebuild(run, 2)) == dict.fromkeys(range(4), 20)
    assert not room.io.rebuild(Run(0, 0, 0, 1, 0), 7), "it is in no set of this run"
    assert room.io.set_of((0, 0, 3)) == 0


def test_where_another_cannot_be_read_a_rebuild_says_which_rows_are_damaged(tmp_path: Path) -> None:
    room = Room(tmp_path, "parity-1", [21] * 4, 1, 1)
    room.write()
    room.sync()
    room.io.members[2] = Member(room.world.open("new", 21 * GIB), 0)  # type: ignore[index]
    room.world.lose_extents("s0", [4, 9])
    for run in room.runs():
        assert room.io.rebuild(run, 2)
    assert sorted(room.io.damaged) == [(2, 4), (2, 9)]
    held = room.io.members[2].device
    assert held is not None and held.read(4, 1) == bytes(room.world.block)
    room.io.members[2] = Member(held)  # type: ignore[index]
    rest = [r for r in range(20) if r not in (4, 9)]
    for row in rest:
        assert room.io.check(Run(0, 0, row, 1, row), put_right=False).mismatches == []
    # A few rows anew, the last of which cannot be computed: it alone is damaged, whatever stands behind it.
    for few in (1, 2, 3):
        room.io.damaged.clear()
        room.io.members[2] = Member(held, 0)  # type: ignore[index]
        before = held.read(10, 5)
        assert room.io.rebuild(Run(0, 0, 10 - few, few, 10 - few), 2)
        assert (room.io.damaged, held.read(10, 5)) == ([(2, 9)], before)


@pytest.mark.parametrize(("scheme", "sizes", "sets"), LAYOUTS)
def test_rows_of_a_member_are_mended_and_only_those(scheme: str, sizes: list[int], sets: int, tmp_path: Path) -> None:
    room = Room(tmp_path, scheme, sizes, sets, 3)
    room.write()
    room.sync()
    used = [row for first, rows in room.layout.rows_of(1) for row in range(first, first + rows)]
    room.world.lose_extents("s1", used[:6])
    assert room.io.mend(1, used[6], 100) == 0
    assert room.world.lost_extents("s1") == used[:6]
    assert room.io.mend(1, used[2], 2) == 2
    assert sorted(room.io.mended) == [(1, used[2]), (1, used[3])]
    assert room.io.mend(1, 0, 10**6) == 4 and room.world.lost_extents("s1") == []
    assert room.mismatches() == 0 and room.reads_right()


# -- who misses what ---------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("scheme", "sizes", "sets"), LAYOUTS)
def test_who_is_away_is_marked_before_the_first_byte_and_never_twice(
    scheme: str, sizes: list[int], sets: int, tmp_path: Path
) -> None:
    room = Room(tmp_path, scheme, sizes, sets, 3)
    room.sync()
    told: list[dict[int, list[int]]] = []
    io = type(room.io)(
        room.layout, [Member(None), *room.io.members[1:]], room.world.block, room.io.journal,
        lambda missed: told.append({s: list(r) for s, r in missed.items()}),
    )  # fmt: skip
    io.synced_to = 10**9
    marked: set[tuple[int, int]] = set()
    for _ in range(8):
        at = room.dice.randrange(room.size)
        count = room.dice.randint(1, min(30, room.size - at))
        before = len(told)
        io.write(at, bytes(count * room.world.block))
        rows = {io.placement.spot(a).stripe.row for a in range(at, at + count)}
        own = {(0, row // REGION) for row in rows}
        new = {(s, r) for one in told[before:] for s, regions in one.items() for r in regions}
        assert own - marked <= new and not new & marked
        # Regions between the rows that were written are all that may come besides.
        assert all(min(rows) // REGION <= r <= max(rows) // REGION for _, r in new)
        marked |= new


def test_nothing_is_written_when_it_cannot_be_marked(tmp_path: Path) -> None:
    room = Room(tmp_path, "parity-1", [20] * 4, 1, 1)
    room.sync()

    def full(_missed: Mapping[int, Sequence[int]]) -> None:
        raise OSError("no room")

    members = [Member(None), *room.io.members[1:]]
    io = type(room.io)(room.layout, members, room.world.block, room.io.journal, full)
    with pytest.raises(OSError, match="no room"):
        io.write(0, room.noise.bytes(3 * room.world.block))
    assert not room.io.journal.pending(), "not even the journal has it"
    assert room.reads_right()


RUNS = st.lists(st.tuples(st.integers(0, 5), st.integers(1, 60)), min_size=1, max_size=4)


@given(RUNS, st.none() | st.sets(st.integers(0, 12), max_size=6))
def test_rows_in_some_regions_are_those_rows(shapes: list[tuple[int, int]], only: set[int] | None) -> None:
    runs, row, number = [], 0, 0
    for gap, rows in shapes:
        runs.append(Run(0, len(runs) % 2, row + gap, rows, number))
        row, number = row + gap + rows, number + rows
    found = missed_of(runs, only)
    rows_of = [(r.group, r.row + i, r.number + i) for r in found for i in range(r.rows)]
    assert rows_of == [
        (r.group, r.row + i, r.number + i) for r in runs for i in range(r.rows)
        if only is None or (r.row + i) // REGION in only
    ]  # fmt: skip
    # As few runs as that can be.
    ends = [(a.group, a.row + a.rows) == (b.group, b.row) for a, b in pairwise(found)]
    assert only is None or not any(ends)


# -- what can be told of a stripe ------------------------------------------------------------------------------------


def test_columns_from_what_is_there() -> None:
    blocks = [np.full((1, 8), i, np.uint8) for i in range(3)]
    checks = parity(blocks, 2)
    there = dict(enumerate([*blocks, *checks]))
    assert columns_from(Code.PARITY, 3, 2, there, [1])[1] is blocks[1]
    assert columns_from(Code.NONE, 3, 0, {0: blocks[0]}, [0])[0] is blocks[0]
    without = {c: b for c, b in there.items() if c not in (0, 3)}
    assert columns_from(Code.PARITY, 3, 2, without, [0])[0].tobytes() == blocks[0].tobytes()
    assert columns_from(Code.COPIES, 1, 1, {1: blocks[2]}, [0])[0] is blocks[2]
    for code in (Code.NONE, Code.COPIES):
        with pytest.raises(NotPossible) as lost:
            columns_from(code, 1, 0, {}, [0])
        assert lost.value.code == "data-lost"


def test_rows_that_disagree_and_the_one_that_is_odd() -> None:
    rows = np.random.default_rng(2).integers(0, 256, (5, 16), np.uint8)
    copies = [rows.copy() for _ in range(3)]
    assert not disagreeing(Code.COPIES, 1, 2, copies).any()
    copies[2][3, 5] ^= 1
    copies[0][1, 0] ^= 1
    assert disagreeing(Code.COPIES, 1, 2, copies).tolist() == [False, True, False, True, False]
    assert wrong_column(Code.COPIES, 1, [c[3] for c in copies]) == 2
    assert wrong_column(Code.COPIES, 1, [c[1] for c in copies]) == 0
    assert wrong_column(Code.COPIES, 1, [c[0] for c in copies]) is None
    assert wrong_column(Code.COPIES, 1, [copies[0][1], copies[1][1]]) is None, "of two nobody knows"
    other = [rows[0], rows[1], rows[2]]
    assert wrong_column(Code.COPIES, 1, other) is None, "all differ"
    data = [rows, rows ^ 7]
    whole = [*data, *parity(data, 1)]
    assert not disagreeing(Code.PARITY, 2, 1, whole).any()
    whole[2][4, 15] ^= 128
    assert disagreeing(Code.PARITY, 2, 1, whole).tolist() == [False] * 4 + [True]


# -- the journal, and threads -----------------------------------------------------------------------------------------


def test_a_journal_torn_anywhere_has_nothing_and_a_shorter_entry_hides_a_longer_one(tmp_path: Path) -> None:
    journal = StripeJournal(tmp_path / "deep" / "j")
    assert not journal.pending(), "there is none yet"
    long = [Intent("s1", 3, b"x" * 300), Intent("s2", 5, b"y" * 200)]
    journal.record(long, [Stripes(1, 0, 2, 9)])
    size = journal.path.stat().st_size
    short = [Intent("s9", 1, b"z" * 10)]
    journal.record(short)
    pending = journal.pending()
    assert [(i.serial, i.start, bytes(i.data)) for i in pending.intents] == [
        ("s9", 1, b"z" * 10)
    ] and pending.named == []
    assert journal.path.stat().st_size == size, "the file keeps its length"
    journal.clear()
    assert not journal.pending() and journal.path.stat().st_size == size
    journal.record([], [Stripes(0, 0, 0, 1)])
    assert journal.pending() and journal.pending().intents == []
    # From an empty file, each byte of it wrong, or it cut anywhere: nothing, or all.
    journal.path.unlink()
    journal.record(short, [Stripes(1, 2, 3, 4)])
    whole = journal.path.read_bytes()
    for at in range(len(whole)):
        journal.path.write_bytes(whole[:at] + bytes([whole[at] ^ 1]) + whole[at + 1 :])
        assert not journal.pending(), f"byte {at}"
        journal.path.write_bytes(whole[:at])
        assert not journal.pending(), f"cut at {at}"
    journal.path.write_bytes(whole + b"left from before")
    assert len(journal.pending().intents) == 1


def test_what_was_recorded_of_a_drive_that_has_gone_is_marked_on_all_that_are_away(tmp_path: Path) -> None:
    room = Room(tmp_path, "parity-2", [40] * 5, 1, 1)
    room.sync()
    told: list[dict[int, list[int]]] = []
    data = room.noise.bytes(3 * room.world.block)
    room.io.journal.record([Intent("s1", 15, data), Intent("s2", 15, data)])
    members = [Member(None), Member(None), *room.io.members[2:]]
    io = type(room.io)(
        room.layout,
        members,
        room.world.block,
        room.io.journal,
        lambda m: told.append({s: list(r) for s, r in m.items()}),
    )
    assert io.recover() == 2
    # Rows 15 to 17 stand in two regions; nobody knows which of the two it was.
    assert {(s, r) for one in told for s, regions in one.items() for r in regions} == {
        (s, r) for s in (0, 1) for r in (0, 1)
    }
    held = io.members[2].device
    assert held is not None and held.read(15, 3) == data
    assert io.recover() == 0


def test_side_by_side_keeps_the_order_and_says_what_failed() -> None:
    assert each(lambda n: n * n, range(50)) == [n * n for n in range(50)] and each(str, []) == []
    with pytest.raises(ZeroDivisionError):
        each(lambda n: 1 // n, [2, 1, 0])
    here = threading.current_thread()
    with in_turn():
        assert set(each(lambda _: threading.current_thread(), range(4))) == {here}
        with pytest.raises(ZeroDivisionError):
            each(lambda n: 1 // n, [0])
    assert here not in each(lambda _: threading.current_thread(), range(4)), "and afterwards side by side again"


@pytest.mark.parametrize("most", [1, 2, 4])
def test_no_more_is_made_ahead_than_was_said(most: int) -> None:
    begun: list[int] = []
    guard = threading.Lock()

    def act(number: int) -> int:
        with guard:
            begun.append(number)
        return number * 10

    taken = 0
    for got in ahead(act, range(20), most):
        assert got == taken * 10
        taken += 1
        assert len(begun) <= taken - 1 + most
    assert taken == 20 and sorted(begun) == list(range(20))


def test_counts_of_several_threads_are_all_there() -> None:
    tally = Tally()

    def count(number: int) -> None:
        for _ in range(200):
            tally.add(number % 3, 2)

    each(count, range(12))
    assert tally == {0: 1600, 1: 1600, 2: 1600}


def test_of_copies_that_are_being_filled_only_what_is_there_already_mends_another(tmp_path: Path) -> None:
    room = Room(tmp_path, "copies-3", [41, 41, 41], 1, 1)
    room.write()
    room.sync()
    room.io.members[0] = Member(room.world.open("new", 41 * GIB), 0)  # type: ignore[index]
    for run in room.io.runs(0, 24):
        room.io.rebuild(run, 0)
    room.io.members[0].rebuilt_to = 24
    # The second half of what is read comes from this one; the new drive has nothing there yet.
    room.world.lose_extents("s1", [33])
    assert room.io.read(20, 20) == room.truth[20:40].tobytes()
    assert room.io.mended == [(1, 33)]


# -- files on a volume ------------------------------------------------------------------------------------------------


CONTENT = {
    (1, 0, 100): "blake2b:7ef09dc246f23410d7f3dbf9822d99437d90b838e0c1284cf91a5d95b2ccb37e",
    (1, 1, 100): "blake2b:cad87651bfc22ba727e7dc1deba97c8bb78f5b1f82b29f350f5692d2ca721465",
    (2, 0, 9437189): "blake2b:fc50b9e55560f7edd16edc1569db45f778cd25f6139fef68c8c1142d6575fcf5",
}


def test_a_file_has_the_same_bytes_whoever_makes_it_and_its_checksum_is_the_standard_s() -> None:
    # RFC 7693 counts the digest's length in: 32 bytes.
    abc = "blake2b:bddd813c634239723171ef3fee98579b94964e3bb1cb3e427262c8c068d52319"
    assert checksum_of(b"abc") == abc and agrees(b"abc", abc) and not agrees(b"abd", abc)
    older = "sha256:ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"
    assert agrees(b"abc", older) and not agrees(b"abd", older)
    # A job that was begun by an older worker goes on with the same content.
    for (volume, index, size), wanted in CONTENT.items():
        content = content_of(volume, index, size)
        assert len(content) == size and checksum_of(content) == wanted, (volume, index)


@given(st.lists(st.tuples(st.integers(0, 5), st.integers(1, 6)), max_size=5), st.integers(0, 3), st.integers(0, 2**32))
@settings(max_examples=30, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_files_go_where_there_is_room_and_nowhere_else(
    db: str, lying: list[tuple[int, int]], held: int, seed: int
) -> None:
    dice = random.Random(seed)
    with transaction() as session:
        session.connection().exec_driver_sql("delete from sample_file")
        volume = session.exec(select(VolumeRow)).first()
    if volume is None:
        build(shelf(3, size=61 * GIB), "parity-1")
        with transaction() as session:
            volume = session.exec(select(VolumeRow)).one()
    extents = 40
    shape = volume.model_copy(update={"extents": extents, "size": extents * EXTENT, "overhead": held * EXTENT})
    taken, at = [n < held for n in range(extents)], held
    with transaction() as session:
        for gap, size in lying:
            at += gap
            if at + size > extents:
                break
            session.add(SampleFile(volume_id=volume.number, name=str(at), first=at, extents=size, checksum=""))
            taken[at : at + size] = [True] * size
            at += size
    with transaction() as session:
        volume_room = VolumeRoom(session, shape)
    while True:
        wanted, whole = dice.randint(1, 8), dice.random() < 0.5
        stretches = [len(run) for run in "".join("x" if t else " " for t in taken).split("x") if run]
        if max(stretches, default=0) < (wanted if whole else 1):
            with pytest.raises(NoRoom, match="is full") as refused:
                volume_room.take(wanted, whole=whole)
            assert (refused.value.code, refused.value.left) == ("volume-full", 0)
            if not stretches:
                break
            continue
        first, count = volume_room.take(wanted, whole=whole)
        assert not any(taken[first : first + count]) and count == min(wanted, max(stretches))
        if count == wanted:
            gaps = [n for n in range(extents - wanted + 1) if not any(taken[n : n + wanted])]
            assert first == gaps[0], "the first that holds it"
        taken[first : first + count] = [True] * count
    assert all(taken)


def test_what_lies_side_by_side_on_a_drive_is_written_in_one_go(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    pool = Scattered(tmp_path, "copies-2", 3)
    gone: list[tuple[int, int, int]] = []
    monkeypatch.setattr(
        pool.io, "write_member", lambda slot, row, data: gone.append((slot, row, data.nbytes // pool.block))
    )
    spots = [(1, 5), (0, 7), (1, 4), (1, 6), (0, 0), (1, 9), (2, 0)]
    blocks = np.zeros((len(spots), pool.block), np.uint8)
    assert pool.moved(lambda: pool.io.put_all(spots, blocks)) == {0: 2, 1: 4, 2: 1}
    assert gone == [(0, 0, 1), (0, 7, 1), (1, 4, 3), (1, 9, 1), (2, 0, 1)]


@pytest.mark.parametrize(("first", "count"), [(0, 31), (0, 30), (1, 30), (2, 31), (1, 2), (2, 1)])
def test_only_the_ends_of_a_long_write_are_read(first: int, count: int, tmp_path: Path) -> None:
    room = Room(tmp_path, "parity-1", [40] * 4, 1, 1)
    room.sync()
    parts = [max(0, min(first + count, (r + 1) * 3) - max(first, r * 3)) for r in range(12)]
    whole = sum(p == 3 for p in parts)
    # One of three is read and written with its parity; of two the third is read, and they are written with the parity.
    ends = sum({1: 4, 2: 4}.get(p, 0) for p in parts)
    found = moved(room, lambda: room.io.write(first, bytes(count * room.world.block)))
    assert sum(found.values()) == whole * 4 + ends
    room.truth[first : first + count] = 0
    assert room.reads_right() and room.mismatches() == 0


def test_of_a_volume_that_is_moved_those_regions_are_copied_again_that_were_written(db: str) -> None:
    build(shelf(3, size=200 * GIB), "parity-1")
    for at, count, regions in (
        (0, 1, [0]), (0, TOGETHER, [0]), (TOGETHER - 1, 1, [0]), (TOGETHER - 1, 2, [0, 1]), (TOGETHER, 1, [1]),
        (1, 2 * TOGETHER, [0, 1, 2]),
    ):  # fmt: skip
        with transaction() as session:
            session.connection().exec_driver_sql("delete from changed_region")
            volume = session.exec(select(VolumeRow)).one()
            VolumeIO(session, open_pool(session, volume.pool_id), devices())._note_changed(volume, at, count)
            found = session.exec(select(ChangedRegion.region).where(ChangedRegion.volume_id == volume.number)).all()
        assert sorted(found) == regions
    # Where there are no files yet, a keep rule has nothing to count.
    with transaction() as session:
        volume = session.exec(select(VolumeRow)).one()
        rule = KeepRule(volume_id=volume.number, above=0.5)
        assert Keeper(session, open_pool(session, volume.pool_id), volume, rule).used == 0


def test_every_stripe_is_compared_once_wherever_it_is_gone_on(
    spread: Scattered, monkeypatch: pytest.MonkeyPatch
) -> None:
    compared: list[tuple[int, int]] = []

    def check(stretch: Stretch, *, put_right: bool) -> None:
        assert put_right
        compared.extend((stretch.volume.volume, stretch.first + i) for i in range(stretch.count))

    monkeypatch.setattr(spread.io, "check", check)
    everything = [(v.volume, stripe) for v in spread.volumes for stripe in range(len(v.spots))]
    for step in (1, 4, 13, len(everything)):
        compared.clear()
        for first in range(0, len(everything), step):
            before = len(compared)
            told = sum(count for count, _ in spread.io.compare(first, step))
            assert told == len(compared) - before == min(step, len(everything) - first)
        assert compared == everything


def test_the_first_extent_of_a_thin_volume_gets_a_stripe_of_its_own(db: str) -> None:
    do("build-pool", name="s", scheme="spread", drives=tuple(shelf(5)), volume="v", volume_size="40 GiB",
       protection="parity-1:3", file_system="none", thin=True)  # fmt: skip
    for at, wanted in ((0, 1), (1, 1), (2, 1), (7, 2)):
        with transaction() as session:
            volume = session.exec(select(VolumeRow)).one()
            io = VolumeIO(session, open_pool(session, volume.pool_id), devices())
            data = bytes([at + 1]) * (wanted * devices().block)
            io.write(volume, at, data)
            assert io.read(volume, at, wanted) == data
            # A volume that was made here is encrypted by its own addresses, as it always was.
            assert io._sealed_at(base_of(volume.number) + at) == base_of(volume.number) + at
            stripes = len(io.io.layout.volumes[0].spots)  # type: ignore[union-attr]
        # Two extents of data a stripe, taken as they are needed.
        assert stripes == {0: 1, 1: 1, 2: 2, 7: 3}[at]
