"""Reading and writing a pool's extents over its members: parity, reconstruction, sync, rebuild, check.

Works on *runs*: rows of one group that are contiguous on every member. Within a run, the rows at
which parity stands on the same members are handled together as one array operation.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from itertools import pairwise
from threading import Lock
from typing import Any

import numpy as np
import numpy.typing as npt

from pairshelf.core.domain.device import Device, Unreadable
from pairshelf.core.errors import NotPossible
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.erasure import (
    Block,
    changed_parity,
    columns_to_read,
    locate,
    parity,
    reconstruct,
)
from pairshelf.core.layouts.model import Code, Group
from pairshelf.core.layouts.placement import Placement, columns_of
from pairshelf.core.layouts.regions import REGION
from pairshelf.engine.io.side_by_side import Tally, each
from pairshelf.engine.io.stripe_journal import Intent, StripeJournal, Stripes

#: Rows read from one copy before it is the next one's turn.
_TURN = 16

#: Keeps for good which regions of which slots miss what is written now.
Miss = Callable[[Mapping[int, Sequence[int]]], None]


def nobody(_missed: Mapping[int, Sequence[int]]) -> None:
    return None


@dataclass(slots=True)
class Member:
    """A place in the pool as the I/O sees it."""

    #: None: its drive is away or gone.
    device: Device | None
    #: Stripes that stand on it already while it is being rebuilt; None: all.
    rebuilt_to: int | None = None
    #: A drive that is being made its copy: what is written to the one is written to the other.
    twin: Device | None = None


@dataclass(frozen=True, slots=True)
class Run:
    """Rows ``row`` to ``row + rows`` of a group of a band; ``number`` is its first stripe's."""

    band: int
    group: int
    row: int
    rows: int
    number: int


@dataclass(frozen=True, slots=True)
class Phase:
    """The rows of a run whose columns stand on the same members: from ``first`` on, ``apart`` from one another."""

    first: int
    apart: int
    #: The member of each column, parity last.
    columns: tuple[int, ...]

    @property
    def rows(self) -> slice:
        """As an index into a member's rows of the run."""
        return slice(self.first, None, self.apart)

    def count(self, run: Run) -> int:
        """How many rows these are."""
        return -(-(run.rows - self.first) // self.apart)


#: A phase, and of each of its columns on which something stands that is asked for: its rows in the phase, and where
#: their extents are among those asked for.
Wanted = tuple[Phase, dict[int, tuple[slice, slice]]]


def _asked(wanted: Sequence[Wanted]) -> set[int]:
    """The members on which something stands that is asked for."""
    return {phase.columns[column] for phase, columns in wanted for column in columns}


@dataclass(slots=True)
class Compared:
    """What a check of some stripes found."""

    extents: int = 0
    #: (band, group, row) of stripes whose redundancy does not agree.
    mismatches: list[tuple[int, int, int]] = field(default_factory=list)
    #: Of these, put right because the wrong extent could be told: (slot, row).
    put_right: list[tuple[int, int]] = field(default_factory=list)


class MembersIO:
    """The members of a pool and the journal before them. Not safe for two users at once: the caller
    holds the pool's lock."""

    def __init__(
        self,
        members: Sequence[Member],
        block: int,
        journal: StripeJournal,
        miss: Miss = nobody,
    ) -> None:
        """``miss``: keeps for good which regions of which slots miss what is written now; called before the first byte
        of any member is changed there, whoever changes it."""
        self.members, self.block, self.journal = members, block, journal
        self._away = [slot for slot, m in enumerate(members) if m.device is None]
        self._miss, self._guard = miss, Lock()
        self._marked: set[tuple[int, int]] = set()
        #: Extents read from or written to each member, by slot: what the drives really had to do.
        self.moved = Tally()
        #: (slot, row) of what nothing could be computed from any more: zeros stand there.
        self.damaged: list[tuple[int, int]] = []
        #: (slot, row) of what could not be read, was computed from the others, and written anew.
        self.mended: list[tuple[int, int]] = []
        #: Stripes whose redundancy is in step; of later ones all copies need not be alike yet.
        self.synced_to = 0

    def recover(self) -> int:
        """Finish the write that a crash interrupted; returns how many pieces were put right."""
        pending = self.journal.pending()
        slots = self._by_serial()
        for intent in pending.intents:
            if (slot := slots.get(intent.serial)) is not None:
                self.write_member(slot, intent.start, intent.data)
            else:  # Its drive went since; which one of those that are away it was is not known any more.
                self._mark(self._away, intent.start, len(intent.data) // self.block)
        if pending.intents:
            self.flush()
        if pending.named:
            self.settle(pending.named)
            self.flush()
        if pending:
            self.journal.clear()
        return len(pending.intents) + len(pending.named)

    def _by_serial(self) -> dict[str, int]:
        """The slots of the drives that are there."""
        return {m.device.serial: slot for slot, m in enumerate(self.members) if m.device}

    def write_member(self, slot: int, start: int, data: bytes | memoryview) -> None:
        """Change a member's bytes. The one way there is: members that are away are marked first."""
        self._mark(self._missing(slot), start, memoryview(data).nbytes // self.block)
        member = self.members[slot]
        for device in (member.device, member.twin):
            if device is not None:
                device.write(start, data)

    def _missing(self, slot: int) -> Sequence[int]:
        """Slots that are away and miss a change of rows of this one: their own rows of that number stand in the same
        stripes."""
        del slot
        return self._away

    def _mark(self, slots: Sequence[int], first: int, count: int) -> None:
        if not slots:
            return
        regions = range(first // REGION, (first + count - 1) // REGION + 1)
        with self._guard:
            missed = {s: [r for r in regions if (s, r) not in self._marked] for s in slots}
            missed = {s: found for s, found in missed.items() if found}
            if missed:
                self._miss(missed)
                self._marked.update((s, r) for s, found in missed.items() for r in found)

    def mend(self, slot: int, first: int, count: int) -> int:
        """Read rows of a member, computing what cannot be read from the others, and write them to it and to its twin;
        how many had to be computed."""
        raise NotImplementedError

    def settle(self, named: Sequence[Stripes]) -> None:
        """Bring the redundancy of stripes in step with what stands in them, whatever that is."""
        raise NotImplementedError

    def flush(self) -> None:
        """Everything written so far to stable storage."""
        each(lambda device: device.flush(), [d for m in self.members for d in (m.device, m.twin) if d is not None])

    def carry_out(self, intents: Sequence[Intent], loose: Sequence[Intent] = (), named: Sequence[Stripes] = ()) -> None:
        """Write all of ``intents``, or none that a later reader would see. ``loose`` ones are of the stripes
        ``named``, in which there is nothing to keep."""
        # Even before it is recorded: whoever recovers writes only to those that are in the journal.
        self._mark_missed(intents, loose)
        self.journal.record(intents, named)
        slots = self._by_serial()
        of_each: dict[int, list[Intent]] = {}
        for intent in (*intents, *loose):
            of_each.setdefault(slots[intent.serial], []).append(intent)

        def write(slot: int) -> None:
            for intent in of_each[slot]:
                self.write_member(slot, intent.start, intent.data)
            for device in (self.members[slot].device, self.members[slot].twin):
                if device is not None:
                    device.flush()

        each(write, of_each)
        self.journal.clear()

    def _mark_missed(self, intents: Sequence[Intent], loose: Sequence[Intent]) -> None:
        """Mark what those that are away miss of a write."""
        if self._away:
            for intent in (*intents, *loose):
                self._mark(self._away, intent.start, len(intent.data) // self.block)


@dataclass(frozen=True, slots=True)
class Refilled:
    """How far the filling of a member has come."""

    #: Steps done of all, and where to go on (spread pools).
    cursor: int
    at: list[int]
    #: Extents written now.
    extents: int
    #: Stripes that the member serves already, while the rest is being filled.
    serves_to: int = 0
    whole: bool = False


#: Rows of a set worked on at once: what they hold stays near the processor.
ROWS = 256


class PoolIO(MembersIO):
    """One pool's bytes, of a set-built or stepped layout."""

    #: Where the numbers of its stripes begin, where they are counted on from another layout's.
    first_stripe = 0

    def __init__(
        self,
        layout: Layout,
        members: Sequence[Member],
        block: int,
        journal: StripeJournal,
        miss: Miss = nobody,
    ) -> None:
        super().__init__(members, block, journal, miss)
        self.layout = layout
        self.placement = Placement(layout.bands)

    # -- what users of the pool do -------------------------------------------------------------

    def read(self, address: int, count: int) -> memoryview:
        """``count`` data extents from a pool address, reconstructed where members are away. Where they are all there, no
        more is read of them than what was asked for."""
        out = np.empty((count, self.block), np.uint8)
        for run, base in self._touched(address, count):
            group = self._group(run)
            wanted = self._wanted(run, base, address, count)
            if group.code is not Code.COPIES and all(self._stands_on(m, run) for m in _asked(wanted)):
                self._read_run(run, wanted, out, passing_over=True)
                continue
            loaded = self._load_a_copy(run) if group.code is Code.COPIES else self._load(run)

            def put_down(part: Wanted, group: Group = group, loaded: dict[int, Block] = loaded) -> None:
                phase, columns = part
                present = {c: loaded[m][phase.rows] for c, m in enumerate(phase.columns) if m in loaded}
                found = self._columns(group, present, list(columns))
                for column, (here, there) in columns.items():
                    out[there] = found[column][here]

            each(put_down, wanted)
        # As it is: to make bytes of it is to copy all that is read once more.
        return out.reshape(-1).data

    def _wanted(self, run: Run, base: int, address: int, count: int) -> list[Wanted]:
        """Of each phase of a run, the columns on which something of these addresses stands, and where."""
        group = self._group(run)
        found: list[Wanted] = []
        for phase in self._phases(group, run):
            parts = {c: self._part(run, phase, base + c, address, count) for c in range(group.data)}
            found.append((phase, {c: part for c, part in parts.items() if part[0].start < part[0].stop}))
        return found

    def write(self, address: int, data: bytes | memoryview, *, fresh: bool = False) -> None:
        """Write data extents from a pool address; whole stripes change, or none.

        ``fresh``: nothing refers to these addresses before the write is over. Then stripes that hold nothing else
        may be found half written after a crash, but with their redundancy in step.
        """
        blocks = np.frombuffer(data, np.uint8).reshape(-1, self.block)
        intents: list[Intent] = []
        loose: list[Intent] = []
        named: list[Stripes] = []
        for run, base in self._touched(address, len(blocks)):
            for part, first, whole in self._by_coverage(run, base, address, len(blocks)):
                small = None if whole else self._small_write(part, first, address, blocks)
                found = self._intents(part, first, address, blocks, whole=whole) if small is None else small
                if fresh and whole:
                    loose += found
                    named.append(Stripes(part.band, part.group, part.row, part.rows))
                else:
                    intents += found
        self.carry_out(intents, loose, named)

    def read_data(self, address: int, out: Block) -> None:
        """The same, into extents that are there already, of a pool whose members are all there: of each drive no more
        is read than the data asked for."""
        for run, base in self._touched(address, len(out)):
            self._read_run(run, self._wanted(run, base, address, len(out)), out)

    def _read_run(self, run: Run, wanted: Sequence[Wanted], out: Block, *, passing_over: bool = False) -> None:
        """``passing_over``: what lies between counts as moved, as a drive that reads on comes past it."""
        rows_of = {m: np.zeros(run.rows, bool) for m in _asked(wanted)}
        for phase, columns in wanted:
            for column, (here, _) in columns.items():
                rows_of[phase.columns[column]][phase.rows][here] = True
        asked = [m for m in self._group(run).members if m in rows_of]
        loaded = dict(zip(asked, each(lambda m: self._load_some(m, run, rows_of[m]), asked), strict=True))
        for member in asked if passing_over else ():
            rows = np.flatnonzero(rows_of[member])
            self.moved.add(member, int(rows[-1] - rows[0]) + 1 - len(rows))
        for phase, columns in wanted:
            for column, (here, there) in columns.items():
                out[there] = loaded[phase.columns[column]][phase.rows][here]

    def _load_some(self, member: int, run: Run, wanted: npt.NDArray[np.bool_]) -> Block:
        """Those rows of a run that are wanted, from one member; what stands in the others is not known."""
        device = self.members[member].device
        if device is None:
            raise NotPossible("A member is away.", code="unreachable")
        rows = np.empty((run.rows, self.block), np.uint8)
        edges = np.flatnonzero(np.diff(np.concatenate([[False], wanted, [False]])))
        stretches = list(zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True))
        try:
            device.read_pieces([(run.row + low, rows[low:high].data) for low, high in stretches])
            self.moved.add(member, int(wanted.sum()))
        except Unreadable:
            for low, high in stretches:
                self._load_member(
                    member, replace(run, row=run.row + low, rows=high - low, number=run.number + low), rows[low:high]
                )
        return rows

    def put_rows(self, address: int, blocks: Block) -> None:
        """Write whole rows of the layout, redundancy and all, straight to their places: nothing may stand there that
        is needed. They are not flushed."""
        slots = self._by_serial()
        for run, base in self._touched(address, len(blocks)):
            for skip in range(0, run.rows, ROWS):
                part = Run(run.band, run.group, run.row + skip, min(ROWS, run.rows - skip), run.number + skip)
                begins = base + skip * self.placement.steps[run.band]
                intents = self._intents(part, begins, address, blocks, whole=True)
                each(lambda i: self.write_member(slots[i.serial], i.start, i.data), intents)

    def runs_at(self, address: int, count: int) -> list[Run]:
        """The runs in which these addresses stand."""
        return [run for run, _ in self._touched(address, count)]

    def settle(self, named: Sequence[Stripes]) -> None:
        """See MembersIO. What members that are away held of these stripes, nothing refers to."""
        for s in named:
            self.sync(Run(s.band, s.group, s.row, s.rows, self.placement.stripe_number(s.band, s.group, s.row)))

    def _by_coverage(self, run: Run, base: int, address: int, count: int) -> Iterator[tuple[Run, int, bool]]:
        """The run cut into its first row, the middle and its last row, where the ends are written in part; with the
        first address of each part, and whether it is written whole: then it need not be read before."""
        step = self.placement.steps[run.band]
        begins = base >= address
        ends = base + (run.rows - 1) * step + self._group(run).data <= address + count
        edges = sorted({0, run.rows, 0 if begins else 1, run.rows if ends else run.rows - 1})
        for low, high in pairwise(edges):
            part = Run(run.band, run.group, run.row + low, high - low, run.number + low)
            yield part, base + low * step, (low > 0 or begins) and (high < run.rows or ends)

    def _intents(self, run: Run, base: int, address: int, blocks: Block, *, whole: bool) -> list[Intent]:
        group = self._group(run)
        loaded = {} if whole else self._load(run)
        fresh = {m: np.empty((run.rows, self.block), np.uint8) for m in group.members}

        def put_down(phase: Phase) -> None:
            present = {c: loaded[m][phase.rows] for c, m in enumerate(phase.columns) if m in loaded}
            self._rewrite([fresh[m][phase.rows] for m in phase.columns], run, phase, present, base, address, blocks)

        each(put_down, self._phases(group, run))
        intents = []
        for member in group.members:
            if device := self.members[member].device:
                self.moved.add(member, run.rows)
                intents.append(Intent(device.serial, run.row, fresh[member].data.cast("B")))
        return intents

    def _small_write(self, run: Run, base: int, address: int, blocks: Block) -> list[Intent] | None:
        """A row that is written in part, with no more read and written than it takes: what is changed and its parity,
        or the rest of the data where that is less. None: its redundancy is not known to be in step, or somebody who
        would be written to is away; then the whole row is made anew."""
        group = self._group(run)
        if group.code is Code.PARITY and run.number >= self.synced_to:
            return None
        (phase,) = self._phases(group, run)
        parts = [self._part(run, phase, base + c, address, len(blocks)) for c in range(group.data)]
        changed = {c: blocks[there] for c, (here, there) in enumerate(parts) if here.start < here.stop}
        written = [*changed, *range(group.data, group.data + group.parity)]
        member = phase.columns
        if not all(self._stands_on(member[c], run) for c in written):
            return None
        read = columns_to_read(group.data, group.parity, changed) if group.parity else []
        if not all(self._stands_on(member[c], run) for c in read):
            read = written
        stands = dict(zip(read, each(lambda c: self._load_member(member[c], run), read), strict=True))
        fresh = changed_parity(group.data, group.parity, changed, stands) if group.parity else []
        new = {**changed, **{group.data + i: block for i, block in enumerate(fresh)}}
        intents = []
        for column in written:
            device = self.members[member[column]].device
            assert device is not None
            self.moved.add(member[column], 1)
            intents.append(Intent(device.serial, run.row, np.ascontiguousarray(new[column]).data.cast("B")))
        return intents

    def _rewrite(
        self,
        fresh: list[Block],
        run: Run,
        phase: Phase,
        present: dict[int, Block],
        base: int,
        start: int,
        blocks: Block,
    ) -> None:
        """Fill all columns of a phase's rows: the new data, and around them what stood there."""
        group = self._group(run)
        parts = [self._part(run, phase, base + c, start, len(blocks)) for c in range(group.data)]
        count = phase.count(run)
        kept = [c for c, (here, _) in enumerate(parts) if here.stop - here.start < count]
        for column, block in self._columns(group, present, kept).items():
            fresh[column][:] = block
        for column, (here, there) in enumerate(parts):
            fresh[column][here] = blocks[there]
        if group.code is Code.COPIES:
            for copy in fresh[1:]:
                copy[:] = fresh[0]
        else:
            parity(fresh[: group.data], group.parity, fresh[group.data :])

    # -- jobs ----------------------------------------------------------------------------------

    def take_up(self, layout: Layout, fresh: Sequence[Any]) -> None:
        """Its volumes have been given more room; it lies in stripes that are there already."""
        del layout, fresh

    def compare(self, first: int, most: int) -> Iterator[tuple[int, Compared]]:
        """Stripes from a number on, read and compared piece by piece, put right where that can be told."""
        for run in self.runs(first, most, ROWS):
            yield run.rows, self.check(run, put_right=True)

    def set_of(self, mismatch: tuple[int, int, int]) -> int:
        """The set that a mismatch is in."""
        band, group, _ = mismatch
        return self.layout.set_of(self.layout.bands[band].groups[group].members[0])

    def refill(
        self, slot: int, cursor: int, at: Sequence[int], most: int, total: int, only: Collection[int] | None = None
    ) -> Refilled:
        """The next stripes of the drive that has come to a slot, from stripe number ``cursor`` of ``total`` on; of one
        that was away, those in its regions that missed something."""
        ahead = missed_of([r for r in self.runs(cursor, total) if slot in self._group(r).members], only)
        if not ahead:
            return Refilled(total, list(at), 0, total, whole=True)
        first = ahead[0]
        run = Run(first.band, first.group, first.row, min(first.rows, most), first.number)
        self.rebuild(run, slot)
        self.flush()
        cursor = run.number + run.rows if run.rows < sum(r.rows for r in ahead) else total
        return Refilled(cursor, list(at), run.rows, cursor, cursor >= total)

    def runs(self, start: int, most: int, longest: int = sys.maxsize) -> list[Run]:
        """The runs that hold stripes ``start`` to ``start + most``, none of more than ``longest`` rows."""
        return [
            Run(b, g, row + skip, min(longest, rows - skip), self.placement.stripe_number(b, g, row + skip))
            for b, g, row, rows in self.placement.runs(start, most)
            for skip in range(0, rows, longest)
        ]

    def sync(self, run: Run) -> None:
        """Bring the redundancy of a run in step with its data, whatever it held before.

        Members that are away count as zeros; one that is being filled, and does not have all of the run, gets them.
        """
        group = self._group(run)
        loaded = self._load(run)
        # Each extent is either read or written; that both are done here saves many small writes.
        if group.code is Code.COPIES:
            source = next((loaded[m] for m in group.members if m in loaded), None)
            if source is None:
                raise NotPossible("No member of a set answers.", code="unreachable")
            for member in group.members:
                self._put(member, run.row, source)
            return
        for member in group.members:
            if member not in loaded:
                loaded[member] = np.zeros((run.rows, self.block), np.uint8)

        def bring_in_step(phase: Phase) -> None:
            columns = [loaded[m][phase.rows] for m in phase.columns]
            parity(columns[: group.data], group.parity, columns[group.data :])

        each(bring_in_step, self._phases(group, run))
        each(lambda member: self._put(member, run.row, loaded[member]), group.members)

    def rebuild(self, run: Run, slot: int) -> bool:
        """Compute a member's rows from the rest of its set and write them; False if it has none here."""
        group = self._group(run)
        if slot not in group.members:
            return False
        try:
            loaded = self._load(run, leaving_out=slot)
        except NotPossible:
            # Somewhere in it another member cannot be read either: row by row, and what cannot be computed is known.
            if run.rows > 1:
                for index in range(run.rows):
                    self.rebuild(replace(run, row=run.row + index, rows=1, number=run.number + index), slot)
                return True
            self._put(slot, run.row, np.zeros((1, self.block), np.uint8))
            self.damaged.append((slot, run.row))
            return True
        self.moved.add(slot, run.rows)
        fresh = np.empty((run.rows, self.block), np.uint8)
        for phase in self._phases(group, run):
            present = {c: loaded[m][phase.rows] for c, m in enumerate(phase.columns) if m in loaded}
            wanted = phase.columns.index(slot)
            fresh[phase.rows] = self._columns(group, present, [wanted])[wanted]
        self._put(slot, run.row, fresh)
        return True

    def check(self, run: Run, *, put_right: bool) -> Compared:
        """Read every member's rows and compare; where one wrong extent can be told, put it right."""
        group = self._group(run)
        found = Compared()
        if group.code is Code.NONE:
            for member in group.members:
                self._load_member(member, run)
                found.extents += run.rows
            return found
        loaded = dict(zip(group.members, each(lambda m: self._load_member(m, run), group.members), strict=True))
        found.extents = run.rows * len(group.members)
        phases = list(self._phases(group, run))

        def compare(phase: Phase) -> npt.NDArray[np.bool_]:
            return disagreeing(group.code, group.data, group.parity, [loaded[m][phase.rows] for m in phase.columns])

        for phase, wrong in zip(phases, each(compare, phases), strict=True):
            blocks = [loaded[m][phase.rows] for m in phase.columns] if wrong.any() else []
            for index in np.nonzero(wrong)[0]:
                row = run.row + phase.first + int(index) * phase.apart
                found.mismatches.append((run.band, run.group, row))
                stripe = [b[index] for b in blocks]
                if put_right and (slot := self._mend(group, phase.columns, stripe, row)) is not None:
                    found.put_right.append((slot, row))
        return found

    def bring_in_step(self, mismatch: tuple[int, int, int]) -> None:
        """Redundancy of one stripe that a check found, anew from its data."""
        band, group, row = mismatch
        self.sync(Run(band, group, row, 1, self.placement.stripe_number(band, group, row)))

    def _mend(self, group: Group, columns: Sequence[int], stripe: list[Block], row: int) -> int | None:
        """Put the one wrong extent of a stripe right, if it can be told which it is; its slot."""
        column = wrong_column(group.code, group.data, stripe)
        if column is None:
            return None
        rest = {c: b for c, b in enumerate(stripe) if c != column}
        right = self._columns(group, rest, [column])[column]
        slot = columns[column]
        self._put(slot, row, right[np.newaxis])
        return slot

    # -- the workings --------------------------------------------------------------------------

    def _group(self, run: Run) -> Group:
        return self.placement.bands[run.band].groups[run.group]

    def _touched(self, address: int, count: int) -> Iterator[tuple[Run, int]]:
        """Runs that hold the addresses, with the pool address of each run's first data extent. No stripe is among
        them in which none of the addresses stands: of a pool that is being restriped it may be gone."""
        end, first = address + count, 0
        for b, band in enumerate(self.placement.bands):
            at = first
            for g, group in enumerate(band.groups):
                top = max(0, -((at + group.data - 1 - address) // band.data))
                bottom = min(band.rows, -((at - end) // band.data))
                if top < bottom:
                    row = band.start + top
                    number = self.placement.stripe_number(b, g, row)
                    yield Run(b, g, row, bottom - top, number), at + top * band.data
                at += group.data
            first += band.capacity

    def _phases(self, group: Group, run: Run) -> Iterator[Phase]:
        if group.code is not Code.PARITY:
            yield Phase(0, 1, group.members)
            return
        n = len(group.members)
        for first in range(min(n, run.rows)):
            yield Phase(first, n, columns_of(group, run.row + first))

    def _part(self, run: Run, phase: Phase, column_base: int, start: int, count: int) -> tuple[slice, slice]:
        """Of a column in a phase, the rows whose addresses lie from ``start`` on, ``count`` at most; and where these
        addresses are, counted from ``start``. ``column_base`` is the column's address in the run's first row."""
        step = self.placement.steps[run.band]
        first, stride = column_base + phase.first * step, phase.apart * step
        low = max(0, -((first - start) // stride))
        high = max(low, min(phase.count(run), -((first - start - count) // stride)))
        at = first + low * stride - start
        return slice(low, high), slice(at, at + (high - low) * stride, stride)

    def _load(self, run: Run, *, leaving_out: int | None = None) -> dict[int, Block]:
        """The run's rows of every member that has them."""
        members = [m for m in self._group(run).members if m != leaving_out and self._stands_on(m, run)]
        return dict(zip(members, each(lambda m: self._load_member(m, run), members), strict=True))

    def _load_a_copy(self, run: Run) -> dict[int, Block]:
        """The run's rows under any one member: the copies take turns, so that all drives are read from."""
        members = [m for m in self._group(run).members if self._stands_on(m, run)]
        if not members:
            return {}
        if run.number + run.rows > self.synced_to:
            return {members[0]: self._load_member(members[0], run)}
        found = np.empty((run.rows, self.block), np.uint8)
        edges = [0, *(r for r in range(1, run.rows) if (run.row + r) % _TURN == 0), run.rows]
        for low, high in pairwise(edges):
            member = members[(run.row + low) // _TURN % len(members)]
            self._load_member(
                member, Run(run.band, run.group, run.row + low, high - low, run.number + low), found[low:high]
            )
        return {members[0]: found}

    def _stands_on(self, member: int, run: Run) -> bool:
        place = self.members[member]
        if place.device is None:
            return False
        return place.rebuilt_to is None or self.first_stripe + run.number + run.rows <= place.rebuilt_to

    def _load_member(self, member: int, run: Run, into: Block | None = None) -> Block:
        device = self.members[member].device
        if device is None:
            raise NotPossible("A member is away.", code="unreachable")
        self.moved.add(member, run.rows)
        rows = np.empty((run.rows, self.block), np.uint8) if into is None else into
        try:
            device.read_into(run.row, rows.data)
        except Unreadable:
            for index in range(run.rows):
                rows[index] = self._read_or_mend(
                    member, replace(run, row=run.row + index, rows=1, number=run.number + index)
                )
        return rows

    def _read_or_mend(self, member: int, run: Run) -> npt.NDArray[np.uint8]:
        """One row of a member; computed from the others, and written anew, where it cannot be read."""
        row = np.empty((1, self.block), np.uint8)
        device = self.members[member].device
        assert device is not None
        try:
            device.read_into(run.row, row.data)
        except Unreadable:
            group = self._group(run)
            phase = next(self._phases(group, run))
            loaded = self._readable(run, leaving_out=member)
            present = {c: loaded[m][phase.rows] for c, m in enumerate(phase.columns) if m in loaded}
            wanted = phase.columns.index(member)
            row[:] = self._columns(group, present, [wanted])[wanted]
            self._put(member, run.row, row)
            self.mended.append((member, run.row))
        mended: Block = row[0]
        return mended

    def _readable(self, run: Run, *, leaving_out: int) -> dict[int, Block]:
        """One row of the other members, as far as it can be read there: one that cannot is not computed from the one
        that is being computed."""
        found = {}
        for member in self._group(run).members:
            device = self.members[member].device
            if member != leaving_out and device is not None and self._stands_on(member, run):
                row = np.empty((1, self.block), np.uint8)
                with suppress(Unreadable):
                    device.read_into(run.row, row.data)
                    self.moved.add(member, 1)
                    found[member] = row
        return found

    def mend(self, slot: int, first: int, count: int) -> int:
        """See MembersIO."""
        before = len(self.mended)
        for b, band in enumerate(self.placement.bands):
            low, high = max(first, band.start), min(first + count, band.start + band.rows)
            for g, group in enumerate(band.groups):
                if low < high and slot in group.members:
                    number = self.placement.stripe_number(b, g, low)
                    self._put(slot, low, self._load_member(slot, Run(b, g, low, high - low, number)))
        return len(self.mended) - before

    def _put(self, member: int, row: int, rows: Block) -> None:
        self.write_member(member, row, np.ascontiguousarray(rows).data)

    def _columns(self, group: Group, present: dict[int, Block], wanted: Sequence[int]) -> dict[int, Block]:
        return columns_from(group.code, group.data, group.parity, present, wanted)


def missed_of(runs: Sequence[Run], only: Collection[int] | None) -> list[Run]:
    """Of runs those rows that lie in some regions; all of them where none are named."""
    if only is None:
        return list(runs)
    found: list[Run] = []
    for run in runs:
        row, end = run.row, run.row + run.rows
        while row < end:
            upto = min(end, (row // REGION + 1) * REGION)
            if row // REGION in only:
                last = found[-1] if found else None
                if last is not None and (last.band, last.group, last.row + last.rows) == (run.band, run.group, row):
                    found[-1] = replace(last, rows=upto - last.row)
                else:
                    found.append(Run(run.band, run.group, row, upto - row, run.number + row - run.row))
            row = upto
    return found


def columns_from(
    code: Code, data: int, parities: int, present: dict[int, Block], wanted: Sequence[int]
) -> dict[int, Block]:
    """The wanted columns of stripes, computed where they are not there."""
    if all(c in present for c in wanted):
        return {c: present[c] for c in wanted}
    if code is Code.COPIES and present:
        any_copy = next(iter(present.values()))
        return dict.fromkeys(wanted, any_copy)
    if code is Code.PARITY:
        return reconstruct(data, parities, present, wanted)
    raise NotPossible("The only copy of this data is on a drive that is gone.", code="data-lost")


def disagreeing(code: Code, data: int, parities: int, blocks: list[Block]) -> npt.NDArray[np.bool_]:
    """For each row, whether its redundancy disagrees with its data."""
    if code is Code.COPIES:
        pairs = [(blocks[0], other) for other in blocks[1:]]
    else:
        pairs = list(zip(parity(blocks[:data], parities), blocks[data:], strict=True))
    wrong = np.zeros(len(blocks[0]), bool)
    for a, b in pairs:
        if not np.array_equal(a, b):
            wrong |= (a != b).any(axis=1)
    return wrong


def wrong_column(code: Code, data: int, stripe: list[Block]) -> int | None:
    """The one column of a stripe that is wrong, if it can be told."""
    return _odd_one(stripe) if code is Code.COPIES else locate(data, stripe)


def _odd_one(copies: list[Block]) -> int | None:
    """Of three or more copies, the one that differs from all others."""
    if len(copies) < 3:
        return None
    odd = [i for i, c in enumerate(copies) if not any(np.array_equal(c, o) for j, o in enumerate(copies) if j != i)]
    return odd[0] if len(odd) == 1 else None
