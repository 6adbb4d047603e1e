"""Drives on trial: what is read comes from where it stands, what is written stays in memory and is read again from there.

So the very code that reads and writes a pool can be watched at work, and not a byte of what is stored changes.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from pairshelf.core.domain.device import Device
from pairshelf.core.errors import NotPossible
from pairshelf.core.layouts import Layout
from pairshelf.core.loads.mixes import Request
from pairshelf.core.loads.queues import Asked, Operation, Phases
from pairshelf.engine.io.pool_io import Member, PoolIO
from pairshelf.engine.io.restripe_io import RestripeIO
from pairshelf.engine.io.side_by_side import in_turn
from pairshelf.engine.io.spread_io import SpreadIO
from pairshelf.engine.io.stripe_journal import Intent, Pending, StripeJournal, Stripes

#: Bytes that carry an extent of a drive that is made up for a trial.
MADE_UP_BLOCK = 64

#: Bytes of each operation of a job: it reads ahead.
PIECE = 4 * 2**20
#: Answers of each player that a measurement waits for.
ANSWERS = 240
#: So many writes of a trial are read back and compared.
_READ_BACK = 32

AnyIO = PoolIO | SpreadIO | RestripeIO


@dataclass(frozen=True, slots=True)
class Noted:
    """An operation that a drive was told to carry out, in extents."""

    drive: int
    start: int
    count: int
    writes: bool


class TriedDevice:
    """One drive on trial. ``number``: what it is noted by."""

    def __init__(self, number: int, block: int, notes: list[Noted], base: Device | None = None) -> None:
        self.number, self._block, self._notes, self._base = number, block, notes, base
        self._written: dict[int, bytes] = {}
        self._aside = b""

    @property
    def serial(self) -> str:
        """See Device."""
        return f"trial {self.number}"

    def read(self, start: int, count: int) -> bytes:
        """See Device."""
        data = bytearray(count * self._block)
        self.read_into(start, memoryview(data))
        return bytes(data)

    def read_into(self, start: int, into: memoryview) -> None:
        """See Device."""
        view = into.cast("B")
        count = len(view) // self._block
        self._notes.append(Noted(self.number, start, count, False))
        own = [i for i in range(count) if start + i in self._written]
        if self._base is not None and len(own) < count:
            self._base.read_into(start, view)
        elif self._base is None:
            view[:] = bytes(len(view))
        for i in own:
            view[i * self._block : (i + 1) * self._block] = self._written[start + i]

    def read_pieces(self, pieces: Sequence[tuple[int, memoryview]]) -> None:
        """See Device."""
        for start, into in pieces:
            self.read_into(start, into)

    def write(self, start: int, data: bytes | memoryview) -> None:
        """See Device."""
        view = memoryview(data).cast("B")
        count = len(view) // self._block
        self._notes.append(Noted(self.number, start, count, True))
        for i in range(count):
            self._written[start + i] = bytes(view[i * self._block : (i + 1) * self._block])

    def flush(self) -> None:
        """See Device."""

    def keep_aside(self, data: bytes) -> None:
        """See Device."""
        self._aside = data
        self._notes.append(Noted(self.number, 0, max(1, len(data) // self._block), True))

    def aside(self) -> bytes:
        """See Device."""
        return self._aside

    def __getattr__(self, name: str) -> Any:
        raise NotImplementedError(f"{name} of a drive on trial")


class NoJournal(StripeJournal):
    """There is nothing to find after a crash of what is only tried."""

    def __init__(self) -> None:
        self.path = Path()

    def record(self, intents: Sequence[Intent], named: Sequence[Stripes] = ()) -> None:
        """Nothing."""

    def clear(self) -> None:
        """Nothing."""

    def pending(self) -> Pending:
        """Nothing."""
        return Pending()


class Trial:
    """A pool on trial."""

    def __init__(self, io: AnyIO, notes: list[Noted]) -> None:
        self.io, self._notes = io, notes
        self._rng, self._to_read_back = np.random.default_rng(1), _READ_BACK

    @classmethod
    def of(
        cls,
        kind: type[PoolIO] | type[SpreadIO] | type[RestripeIO],
        layout: Layout,
        members: Sequence[Member],
        block: int,
    ) -> Trial:
        """A pool whose members are tried on top of what stands on them. A member's twin is noted by the number after
        all members."""
        notes: list[Noted] = []

        def tried(number: int, base: Device | None) -> Device | None:
            return TriedDevice(number, block, notes, base) if base is not None else None

        own = [Member(tried(i, m.device), m.rebuilt_to, tried(len(members) + i, m.twin)) for i, m in enumerate(members)]
        return cls(kind(layout, own, block, NoJournal()), notes)  # type: ignore[arg-type]

    @classmethod
    def made_up(cls, layout: Layout, away: Iterable[int] = (), filling: int | None = None) -> Trial:
        """A layout of sets, or a stepped one, on blank drives that hold what is written to them. ``away``: members that are not there;
        ``filling``: one that is new, and holds nothing yet."""
        notes: list[Noted] = []
        gone = set(away)
        members = [
            Member(None if i in gone else TriedDevice(i, MADE_UP_BLOCK, notes), 0 if i == filling else None)
            for i in range(len(layout.members))
        ]
        io = PoolIO(layout, members, MADE_UP_BLOCK, NoJournal())
        io.synced_to = 2**62
        return cls(io, notes)

    def carried_out(self, request: Request) -> Asked:
        """What drives had to do for a request. NotPossible where what comes back is not what was written."""
        with in_turn():
            return self._carried_out(request)

    def _carried_out(self, request: Request) -> Asked:
        self._notes.clear()
        if request.writes:
            data = self._rng.bytes(request.count * self.io.block)
            self.io.write(request.first, data)
            phases = self._phases(request.size, request.walk)
            if self._to_read_back and self.io.read(request.first, request.count) != data:
                raise NotPossible("What was written did not come back.", code="not-read-back", field=None)
            self._to_read_back = max(0, self._to_read_back - 1)
            self._notes.clear()
        else:
            self.io.read(request.first, request.count)
            phases = self._phases(request.size, request.walk)
        return Asked(phases, request.count * request.size, request.writes)

    def noted(self, size: int, walk: Any = "job") -> Phases:
        """What drives had to do since this was asked last."""
        phases = self._phases(size, walk)
        self._notes.clear()
        return phases

    def _phases(self, size: int, walk: Any) -> Phases:
        """What is read first, then what is written: each after all of that before it."""
        acts = [
            (
                note.writes,
                note.drive,
                note.start,
                Operation(note.drive, size * note.count, note.writes, walk, note.start, note.count),
            )
            for note in self._notes
        ]
        acts.sort(key=lambda a: a[:3])
        return [[a[3] for a in acts if not a[0]], [a[3] for a in acts if a[0]]]
