"""The bytes of a pool that is being restriped: what the front has passed by the new layout, the rest by the old one.

A window that may not be written over what still stands goes by way of a copy on as many drives as failures are
survived, and one more. Who opens the pool after a crash finds the copy of the move that the books do not know of
yet, writes it once more, and takes the front there: so a move is done whole or not at all, whatever fails with it.
"""

from __future__ import annotations

import json
import sys
import zlib
from collections.abc import Collection, Iterator, Sequence
from itertools import pairwise

import numpy as np

from pairshelf.core.domain.device import DeviceError
from pairshelf.core.errors import NotPossible
from pairshelf.core.layouts.restripe import Window
from pairshelf.core.layouts.restriping import Restriping
from pairshelf.engine.io.pool_io import (
    ROWS,
    Compared,
    Member,
    MembersIO,
    Miss,
    PoolIO,
    Refilled,
    Run,
    missed_of,
    nobody,
)
from pairshelf.engine.io.side_by_side import ahead, each
from pairshelf.engine.io.stripe_journal import StripeJournal

#: All redundancy is in step, or the restripe is not begun.
_ALL = sys.maxsize


class RestripeIO(MembersIO):
    """One pool's bytes, while it goes from one layout to another."""

    def __init__(
        self,
        layout: Restriping,
        members: Sequence[Member],
        block: int,
        journal: StripeJournal,
        miss: Miss = nobody,
        *,
        names: Sequence[str | int] = (0,),
        moves: int = 0,
    ) -> None:
        """``names``: what copies of this pool say they are of, the first of them from now on. ``moves``: how many windows have ever been moved in this pool; a copy says which one it is of."""
        super().__init__(members, block, journal, miss)
        self.layout, self.names, self.moves = layout, tuple(names), moves
        self.front = layout.front
        self.walk = layout.walk
        self.old = PoolIO(layout.old_view, members, block, journal, miss)
        self.new = PoolIO(layout.new_view, members, block, journal, miss)
        self.new.first_stripe = layout.both.old.stripes
        self.old.moved = self.new.moved = self.moved
        self.old.damaged = self.new.damaged = self.damaged
        self.old.synced_to = self.new.synced_to = _ALL

    # -- what users of the pool do -------------------------------------------------------------

    def _sides(self, address: int, count: int) -> Iterator[tuple[PoolIO, int, int]]:
        """Who has these addresses: (its bytes, first address, how many)."""
        below, above = (self.new, self.old) if self.layout.upwards else (self.old, self.new)
        cut = min(max(self.front, address), address + count)
        if address < cut:
            yield below, address, cut - address
        if cut < address + count:
            yield above, cut, address + count - cut

    def read(self, address: int, count: int) -> memoryview:
        """``count`` data extents from a pool address, reconstructed where members are away."""
        return memoryview(b"".join(io.read(first, n) for io, first, n in self._sides(address, count)))

    def write(self, address: int, data: bytes | memoryview, *, fresh: bool = False) -> None:
        """Write data extents from a pool address; whole stripes change, or none."""
        del fresh  # Which layout a stripe is of would have to be kept with its name.
        view = memoryview(data)
        for io, first, n in self._sides(address, len(data) // self.block):
            start = (first - address) * self.block
            io.write(first, bytes(view[start : start + n * self.block]))

    # -- the front -----------------------------------------------------------------------------

    def move(self, most: int) -> Window | None:
        """Move the next window, of at most so many rows; None when the front has arrived. Flushed when it returns."""
        window = self.walk.next(self.front, most)
        if window is None:
            return None
        if window.by_copy:
            blocks = self._gathered(window)
            self._keep(window, blocks)
            self._put(window, blocks)
        else:
            # Nothing that the window's rows are read from is written over by any of them: a piece after the other.
            pieces = list(self._pieces(window))
            for piece, blocks in zip(pieces, ahead(self._gathered, pieces, most=2), strict=True):
                self._target.put_rows(piece.low, blocks)
            self._arrived(window)
        return window

    def _pieces(self, window: Window) -> Iterator[Window]:
        """The window, cut at rows of the layout that is written, into what stays near the processor."""
        starts = self.walk.starts
        first, last = (int(np.searchsorted(starts, at)) for at in (window.low, window.high))
        cuts = [*range(first, last, ROWS), last]
        for low, high in pairwise(cuts):
            end = window.high if high == last else int(starts[high])
            yield Window(int(starts[low]), end, window.by_copy)

    def _gathered(self, window: Window) -> np.ndarray:
        """The data of a window as they stand now; zeros where nothing can be stored yet."""
        blocks, stored = np.empty((window.high - window.low, self.block), np.uint8), self._stored(window)
        blocks[stored:] = 0
        for io, first, n in self._sides(window.low, stored):
            at = first - window.low
            io.read_data(first, blocks[at : at + n])
        return blocks

    def _stored(self, window: Window) -> int:
        """Of how many extents of a window, from its first on, something can be stored by now."""
        return max(0, min(window.high, self.walk.stored) - window.low)

    def _keep(self, window: Window, blocks: np.ndarray) -> None:
        """The copy, on one drive more than failures are survived, in turn."""
        stored = blocks[: self._stored(window)].tobytes()
        head = {"pool": self.names[0], "move": self.moves + 1, "low": window.low, "high": window.high}
        content = json.dumps(head).encode() + b"\n" + zlib.crc32(stored).to_bytes(4, "big") + stored
        there = [slot for slot, m in enumerate(self.members) if m.device]
        copies = min(self.layout.both.copies, len(there))
        chosen = [there[(self.moves * copies + i) % len(there)] for i in range(copies)]

        def keep(slot: int) -> None:
            device = self.members[slot].device
            assert device is not None
            device.keep_aside(content)
            self.moved.add(slot, len(stored) // self.block)

        each(keep, chosen)

    def _put(self, window: Window, blocks: np.ndarray) -> None:
        self._target.put_rows(window.low, blocks)
        self._arrived(window)

    @property
    def _target(self) -> PoolIO:
        """What is written: the bytes of the layout that the front leads to."""
        return self.old if self.layout.turned else self.new

    def _arrived(self, window: Window) -> None:
        self.flush()
        self.front = window.high if self.walk.upwards else window.low
        self.moves += 1

    def recover(self) -> int:
        """Finish the write, and the move, that a crash interrupted."""
        done = self.old.recover()
        copies = [found for member in self.members if (found := self._kept_on(member)) is not None]
        if not copies:
            return done
        window, blocks = copies[0]
        if len(copies) < self.layout.both.copies:
            # The crash came before all copies were kept, or drives went with it: as many again first.
            self._keep(window, blocks)
        self._put(window, blocks)
        return done + 1

    def _kept_on(self, member: Member) -> tuple[Window, np.ndarray] | None:
        """The copy of the move that has not been noted, if this drive has it."""
        try:
            content = member.device.aside() if member.device else b""
        except DeviceError:
            return None
        line, _, rest = content.partition(b"\n")
        try:
            head = json.loads(line) if line else {}
        except ValueError:
            return None
        if head.get("pool") not in self.names or head.get("move") != self.moves + 1:
            return None
        stored = rest[4:]
        if zlib.crc32(stored).to_bytes(4, "big") != rest[:4]:
            return None
        blocks = np.zeros((head["high"] - head["low"], self.block), np.uint8)
        have = np.frombuffer(stored, np.uint8).reshape(len(stored) // self.block, self.block)
        blocks[: len(have)] = have
        return Window(head["low"], head["high"], True), blocks

    def bring_in_step(self, mismatch: tuple[int, int, int]) -> None:
        """Nothing: what the front has passed was written whole, and the rest will be."""

    # -- jobs ----------------------------------------------------------------------------------

    def refill(
        self, slot: int, cursor: int, at: Sequence[int], most: int, total: int, only: Collection[int] | None = None
    ) -> Refilled:
        """The next stripes of the drive that has come to a slot: of the old layout first, then of the new one. The
        front stands still meanwhile."""
        standing = [(io, part) for io, run in self._standing(slot) for part in missed_of([run], only)]
        for io, run in standing:
            number = io.first_stripe + run.number
            if number + run.rows <= cursor:
                continue
            skip = max(0, cursor - number)
            part = Run(run.band, run.group, run.row + skip, min(run.rows - skip, most), run.number + skip)
            io.rebuild(part, slot)
            self.flush()
            done = number + skip + part.rows
            last = not any(i.first_stripe + r.number + r.rows > done for i, r in standing)
            return Refilled(total if last else done, list(at), part.rows, total if last else done, last)
        return Refilled(total, list(at), 0, total, whole=True)

    def _standing(self, slot: int) -> list[tuple[PoolIO, Run]]:
        """The runs that stand on a slot, of either layout, by number."""
        below, above = (self.new, self.old) if self.layout.upwards else (self.old, self.new)
        runs = [(below, run) for run in below.runs_at(0, self.front)]
        runs += [(above, run) for run in above.runs_at(self.front, above.placement.capacity)]
        mine = [(io, r) for io, r in runs if slot in io.placement.bands[r.band].groups[r.group].members]
        return sorted(mine, key=lambda one: one[0].first_stripe + one[1].number)

    def compare(self, first: int, most: int) -> Iterator[tuple[int, Compared]]:
        """No check goes beside a restripe."""
        raise NotPossible("It is being restriped; check it when that has ended.", code="restriping")

    def set_of(self, mismatch: tuple[int, int, int]) -> int:
        """See compare."""
        raise NotImplementedError

    def take_up(self, layout: object, fresh: Sequence[object]) -> None:
        """Its volumes have been given more room; it lies in stripes that are there already."""
        del layout, fresh
