"""Reading and writing the volumes of a spread pool: stripes that lie on drives of their own each.

A volume's addresses begin at ``base_of(volume)``; data extent ``a`` of it stands in stripe ``a // k``,
column ``a % k``.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from pairshelf.core.domain.device import Unreadable
from pairshelf.core.errors import NotPossible
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.erasure import Block, changed_parity, parity
from pairshelf.core.layouts.model import Code
from pairshelf.core.layouts.protections import Protection
from pairshelf.core.layouts.regions import REGION
from pairshelf.core.layouts.spread import StripedVolume, base_of, spread_of, volume_at
from pairshelf.engine.io.pool_io import (
    Compared,
    Member,
    MembersIO,
    Miss,
    Refilled,
    columns_from,
    disagreeing,
    nobody,
    wrong_column,
)
from pairshelf.engine.io.stripe_journal import Intent, StripeJournal


def code_of(protection: Protection) -> Code:
    """How its redundancy is computed."""
    return Code.COPIES if protection.copies else Code.PARITY


@dataclass(frozen=True, slots=True)
class Stretch:
    """Stripes ``first`` to ``first + count`` of a volume."""

    volume: StripedVolume
    first: int
    count: int

    @property
    def spots(self) -> npt.NDArray[np.int32]:
        """Slot and row of each extent."""
        return self.volume.spots[self.first : self.first + self.count]


def one_of(volume: StripedVolume, stripe: int) -> Stretch:
    """That stripe alone."""
    return Stretch(volume, stripe, 1)


class SpreadIO(MembersIO):
    """One spread pool's bytes."""

    def __init__(
        self,
        layout: Layout,
        members: Sequence[Member],
        block: int,
        journal: StripeJournal,
        miss: Miss = nobody,
    ) -> None:
        super().__init__(members, block, journal, miss)
        self.layout = spread_of(layout)

    def take_up(self, layout: Layout, fresh: Sequence[Stretch]) -> None:
        """Its volumes have been given new stripes, which are brought in step before anything is written to them."""
        self.layout = spread_of(layout)
        for stretch in fresh:
            self.sync(stretch)
        self.flush()

    def compare(self, first: int, most: int) -> Iterator[tuple[int, Compared]]:
        """Stripes from a number on, volume after volume, read and compared, put right where that can be told."""
        before = 0
        for placed in self.layout.volumes:
            start = max(0, first - before)
            count = min(len(placed.spots) - start, most)
            before += len(placed.spots)
            if count > 0:
                most -= count
                yield count, self.check(Stretch(placed, start, count), put_right=True)

    def set_of(self, mismatch: tuple[int, int, int]) -> int:
        """All its drives are one set."""
        del mismatch
        return 0

    def _missing(self, slot: int) -> Sequence[int]:
        """Its stripes have rows of their own on each drive: a change of one is missed by nobody else."""
        return [slot] if self.members[slot].device is None else []

    def _mark_missed(self, intents: Sequence[Intent], loose: Sequence[Intent]) -> None:
        """Whoever writes stripes marks those that are away: see ``_intents``."""

    def next_on(
        self, slot: int, after: Sequence[int], most: int, only: Collection[int] | None = None
    ) -> list[tuple[Stretch, int]]:
        """Stripes with an extent on a slot, from (volume, stripe) on: each as a stretch of one, with its column. Only
        those in some regions of the slot, where they are named."""
        found: list[tuple[Stretch, int]] = []
        for placed in sorted(self.layout.volumes, key=lambda v: v.volume):
            first = after[1] if placed.volume == after[0] else 0
            if placed.volume < after[0]:
                continue
            standing = placed.slots[first:] == slot
            if only is not None:
                standing &= np.isin(placed.spots[first:, :, 1] // REGION, list(only))
            rows, columns = np.nonzero(standing)
            for row, column in zip((rows + first).tolist(), columns.tolist(), strict=True):
                found.append((one_of(placed, row), column))
                if len(found) == most:
                    return found
        return found

    def refill(
        self, slot: int, cursor: int, at: Sequence[int], most: int, total: int, only: Collection[int] | None = None
    ) -> Refilled:
        """The next extents of the drive that has come to a slot, from stripe ``at`` on; it serves when all are there."""
        ahead = self.next_on(slot, at, most, only)
        for stretch, column in ahead:
            block = self.column(stretch, slot)
            self.put(slot, int(stretch.spots[0, column, 1]), block)
        self.flush()
        if not ahead:
            return Refilled(total, list(at), 0, whole=True)
        last = ahead[-1][0]
        return Refilled(min(total - 1, cursor + len(ahead)), [last.volume.volume, last.first + 1], len(ahead))

    def volume(self, volume: int) -> StripedVolume:
        """A volume's stripes."""
        found = next((v for v in self.layout.volumes if v.volume == volume), None)
        if found is None:
            raise NotPossible("This volume has no stripes yet.", code="not-placed")
        return found

    def read(self, address: int, count: int) -> memoryview:
        """``count`` data extents from an address, reconstructed where members are away; where they are all there, no more
        is read than what was asked for."""
        stretch, start = self._touched(address, count)
        protection = stretch.volume.protection
        k = protection.data
        flat = np.empty((stretch.count * k, self.block), np.uint8)
        inside = np.zeros(stretch.count * k, bool)
        inside[start : start + count] = True
        asked = inside.reshape(stretch.count, k)
        there = self._serving()[stretch.spots[:, :, 0]]
        lacking = (asked & ~there[:, :k]).any(axis=1)
        for column in range(k):
            rows = np.flatnonzero(asked[:, column] & ~lacking)
            flat[rows * k + column] = self._read(stretch, rows, column)
        for row in np.flatnonzero(lacking).tolist():
            one = one_of(stretch.volume, stretch.first + row)
            if protection.copies and there[row].any():
                flat[row] = self._read_one(one, int(np.argmax(there[row])))[0]
                continue
            for _, present in self._loaded(one):
                for column, block in self._columns(one, present, list(range(k))).items():
                    flat[row * k + column] = block[0]
        return flat[start : start + count].reshape(-1).data

    def write(self, address: int, data: bytes | memoryview, *, fresh: bool = False) -> None:
        """Write data extents from an address; whole stripes change, or none, ``fresh`` or not."""
        del fresh  # Its stripes lie apart; there is little to save.
        blocks = np.frombuffer(data, np.uint8).reshape(-1, self.block)
        stretch, start = self._touched(address, len(blocks))
        k, end = stretch.volume.protection.data, start + len(blocks)
        # The ends, which may be written in part, and what is written whole between them.
        edges = sorted({0, 1, stretch.count - 1, stretch.count})
        intents: list[Intent] = []
        for low, high in pairwise(edges):
            part = Stretch(stretch.volume, stretch.first + low, high - low)
            first, last = max(start, low * k), min(end, high * k)
            own, at = blocks[first - start : last - start], first - low * k
            small = self._small_write(part, at, own)
            intents += self._intents(part, self._filled_up(part, at, own)) if small is None else small
        self.carry_out(intents)

    def _filled_up(self, stretch: Stretch, at: int, blocks: Block) -> Block:
        """The data of stripes as they will be: what is written, and around it what stands there."""
        k = stretch.volume.protection.data
        if len(blocks) == stretch.count * k:
            return blocks
        flat = np.empty((k, self.block), np.uint8)
        for _, present in self._loaded(stretch):
            for column, block in self._columns(stretch, present, list(range(k))).items():
                flat[column] = block[0]
        flat[at : at + len(blocks)] = blocks
        return flat

    def _small_write(self, one: Stretch, at: int, blocks: Block) -> list[Intent] | None:
        """A stripe that is written in part: what is written and its parity are written, and the parity is made anew from
        the rest of the data, as nobody knows here whether what stands is in step yet. None where somebody of them is
        away."""
        protection = one.volume.protection
        k, p = protection.data, protection.survives
        if protection.copies or len(blocks) == one.count * k:
            return None
        there = self._serving()[one.spots[0, :, 0]]
        changed = {at + i: blocks[i : i + 1] for i in range(len(blocks))}
        written = [*changed, *range(k, k + p)]
        rest = [c for c in range(k) if c not in changed]
        if not there[[*written, *rest]].all():
            return None
        stands = {c: self._read_one(one, c) for c in rest}
        fresh = changed_parity(k, p, changed, stands)
        new = {**changed, **{k + i: block for i, block in enumerate(fresh)}}
        intents = []
        for column in written:
            slot, where = one.spots[0, column].tolist()
            device = self.members[slot].device
            assert device is not None
            self.moved.add(slot, 1)
            intents.append(Intent(device.serial, where, new[column].tobytes()))
        return intents

    def _intents(self, stretch: Stretch, flat: Block) -> list[Intent]:
        intents = []
        columns = self._whole(stretch, flat)
        for row, spots in enumerate(stretch.spots):
            for column, (slot, where) in enumerate(spots.tolist()):
                if (device := self.members[slot].device) is None:
                    self._mark([slot], where, 1)
                else:
                    self.moved.add(slot, 1)
                    intents.append(Intent(device.serial, where, columns[column][row].tobytes()))
        return intents

    def _whole(self, stretch: Stretch, flat: Block) -> list[Block]:
        """All columns of stripes, from their data."""
        protection = stretch.volume.protection
        k = protection.data
        data = [np.ascontiguousarray(flat[c::k]) for c in range(k)]
        if protection.copies:
            return data * protection.width
        return data + parity(data, protection.survives)

    # -- jobs ----------------------------------------------------------------------------------

    def sync(self, stretch: Stretch) -> None:
        """Bring the redundancy of stripes in step with their data, whatever they held before."""
        protection = stretch.volume.protection
        k = protection.data
        flat = np.empty((stretch.count * k, self.block), np.uint8)
        for rows, present in self._loaded(stretch, may_lack=False, columns=k):
            for column in range(k):
                flat[rows * k + column] = present[column]
        for row, spots in enumerate(stretch.spots):
            columns = self._whole(one_of(stretch.volume, stretch.first + row), flat[row * k : row * k + k])
            for column, (slot, where) in enumerate(spots.tolist()):
                if column and (protection.copies or column >= k):
                    self._put(slot, where, columns[column][0])

    def column(self, one: Stretch, slot: int) -> Block:
        """What a member holds of one stripe, computed from the rest."""
        wanted = int(np.flatnonzero(one.spots[0, :, 0] == slot)[0])
        ((_, present),) = self._loaded(one, leaving_out=slot)
        block: Block = self._columns(one, present, [wanted])[wanted][0]
        return block

    def extents(self, wanted: Sequence[tuple[int, int, int]]) -> Block:
        """Extents of stripes, each by volume, stripe and column: what a drive holds of them is read in one go."""
        blocks = np.empty((len(wanted), self.block), np.uint8)
        on: dict[int, list[tuple[int, int]]] = {}
        for i, (volume, stripe, column) in enumerate(wanted):
            slot, row = self.volume(volume).spots[stripe, column].tolist()
            on.setdefault(slot, []).append((row, i))
        for slot, own in on.items():
            member = self.members[slot]
            try:
                if member.device is None or member.rebuilt_to is not None:
                    raise Unreadable("")
                member.device.read_pieces([(row, blocks[i].data) for row, i in sorted(own)])
                self.moved.add(slot, len(own))
            except Unreadable:
                for _, i in own:
                    blocks[i] = self.extent(*wanted[i])
        return blocks

    def put_all(self, spots: Sequence[tuple[int, int]], blocks: Block) -> None:
        """Write extents to their (slot, row); those that lie side by side in one piece."""
        order = sorted(range(len(spots)), key=lambda i: spots[i])
        runs: list[list[int]] = []
        for i in order:
            slot, row = spots[i]
            if runs and (slot, row - 1) == spots[runs[-1][-1]]:
                runs[-1].append(i)
            else:
                runs.append([i])
        for run in runs:
            slot, row = spots[run[0]]
            self.moved.add(slot, len(run))
            self.write_member(slot, row, blocks[run].data)

    def extent(self, volume: int, stripe: int, column: int) -> Block:
        """One extent of a stripe: read where it stands, or computed from the others where that cannot be read."""
        one = one_of(self.volume(volume), stripe)
        member = self.members[int(one.spots[0, column, 0])]
        if member.device is not None and member.rebuilt_to is None:
            block: Block = self._read_one(one, column)[0]
            return block
        return self.column(one, int(one.spots[0, column, 0]))

    def put(self, slot: int, row: int, block: Block) -> None:
        """Write one extent of a member."""
        self._put(slot, row, block)

    def check(self, stretch: Stretch, *, put_right: bool) -> Compared:
        """Read every extent of stripes and compare; where one wrong extent can be told, put it right."""
        protection = stretch.volume.protection
        found = Compared(extents=stretch.count * protection.width)
        code, k = code_of(protection), protection.data
        for rows, present in self._loaded(stretch, may_lack=False):
            blocks = [present[c] for c in range(protection.width)]
            for index in np.flatnonzero(disagreeing(code, k, protection.survives, blocks)):
                stripe = stretch.first + int(rows[index])
                found.mismatches.append((stretch.volume.volume, 0, stripe))
                own = [b[index] for b in blocks]
                column = wrong_column(code, k, own)
                if put_right and column is not None:
                    rest = {c: b[np.newaxis] for c, b in enumerate(own) if c != column}
                    right = columns_from(code, k, protection.survives, rest, [column])[column]
                    slot, where = stretch.volume.spots[stripe, column].tolist()
                    self._put(slot, where, right[0])
                    found.put_right.append((slot, stripe))
        return found

    def bring_in_step(self, mismatch: tuple[int, int, int]) -> None:
        """Redundancy of one stripe that a check found, anew from its data."""
        volume, _, stripe = mismatch
        self.sync(one_of(self.volume(volume), stripe))

    # -- the workings --------------------------------------------------------------------------

    def _touched(self, address: int, count: int) -> tuple[Stretch, int]:
        """The stripes that hold the addresses, and the first one's place in them."""
        volume = self.volume(volume_at(address))
        local = address - base_of(volume.volume)
        k = volume.protection.data
        first, last = local // k, (local + count - 1) // k
        if last >= len(volume.spots):
            raise NotPossible("This part of the volume has no place yet.", code="not-placed")
        return Stretch(volume, first, last - first + 1), local - first * k

    def _serving(self) -> npt.NDArray[np.bool_]:
        """Of each slot, whether what stands there can be read."""
        return np.array([m.device is not None and m.rebuilt_to is None for m in self.members])

    def _loaded(
        self,
        stretch: Stretch,
        *,
        leaving_out: int | None = None,
        may_lack: bool = True,
        columns: int | None = None,
    ) -> list[tuple[npt.NDArray[np.int64], dict[int, Block]]]:
        """Stripes with the same columns there, together: their rows, and the columns."""
        serves = self._serving()
        if leaving_out is not None:
            serves[leaving_out] = False
        there = serves[stretch.spots[:, :, 0]]
        if not may_lack and not there.all():
            raise NotPossible("A member is away.", code="unreachable")
        found = []
        patterns, which = np.unique(there, axis=0, return_inverse=True)
        for number, pattern in enumerate(patterns):
            rows = np.flatnonzero(which.reshape(-1) == number)
            wanted = np.flatnonzero(pattern[:columns])
            present = {int(c): self._read(stretch, rows, int(c)) for c in wanted}
            found.append((rows, present))
        return found

    def _read_one(self, one: Stretch, column: int) -> Block:
        """The extent of one stripe in a column."""
        return self._read(one, np.arange(one.count), column)

    def _read(self, stretch: Stretch, rows: npt.NDArray[np.int64], column: int) -> Block:
        blocks = np.empty((len(rows), self.block), np.uint8)
        for i, (slot, row) in enumerate(stretch.spots[rows, column].tolist()):
            device = self.members[slot].device
            assert device is not None
            self.moved.add(slot, 1)
            try:
                blocks[i] = np.frombuffer(device.read(row, 1), np.uint8)
            except Unreadable:
                blocks[i] = self._mended(one_of(stretch.volume, stretch.first + int(rows[i])), column)
                self._put(slot, row, blocks[i])
                self.mended.append((slot, row))
        return blocks

    def _mended(self, one: Stretch, column: int) -> Block:
        """One column of a stripe, from the others as far as they can be read: one that cannot is not computed from the
        one that is being computed."""
        present: dict[int, Block] = {}
        for other, (slot, row) in enumerate(one.spots[0].tolist()):
            member = self.members[slot]
            if other != column and member.device is not None and member.rebuilt_to is None:
                with suppress(Unreadable):
                    present[other] = np.frombuffer(member.device.read(row, 1), np.uint8)[np.newaxis]
                    self.moved.add(slot, 1)
        block: Block = self._columns(one, present, [column])[column][0]
        return block

    def mend(self, slot: int, first: int, count: int) -> int:
        """See MembersIO."""
        before = len(self.mended)
        for placed in self.layout.volumes:
            stripes, columns = np.nonzero(
                (placed.slots == slot) & (placed.spots[:, :, 1] >= first) & (placed.spots[:, :, 1] < first + count)
            )
            for stripe, column in zip(stripes.tolist(), columns.tolist(), strict=True):
                block = self._read_one(one_of(placed, stripe), column)
                self._put(slot, int(placed.spots[stripe, column, 1]), block)
        return len(self.mended) - before

    def _put(self, slot: int, row: int, block: Block) -> None:
        if self.members[slot].device:
            self.moved.add(slot, 1)
        self.write_member(slot, row, np.ascontiguousarray(block).data)

    def _columns(self, stretch: Stretch, present: dict[int, Block], wanted: Sequence[int]) -> dict[int, Block]:
        protection = stretch.volume.protection
        return columns_from(code_of(protection), protection.data, protection.survives, present, wanted)
