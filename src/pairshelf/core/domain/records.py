"""What a pool's drives say of it themselves: which pool, which members, how recent."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True, slots=True)
class RecordedMember:
    """A drive that belongs to a pool, as the pool's record names it."""

    serial: str
    #: Its slot; None for a spare.
    slot: int | None
    size: int
    kind: str
    #: The generation of the newest record that was meant for it: this one, where it was there.
    generation: int
    #: The generation that certainly stood on it before this one was written; 0 for none.
    before: int


@dataclass(frozen=True, slots=True)
class Head:
    """The head of a pool's record as one drive has it."""

    #: The pool, wherever it is: 32 hexadecimal digits.
    pool: str
    name: str
    #: Of two records of a pool the one with the larger number is newer: never written twice with different content.
    generation: int
    written_at: dt.datetime
    #: The installation that wrote it.
    house: str
    #: The drive that it was written on.
    serial: str
    members: tuple[RecordedMember, ...]

    def member(self, serial: str) -> RecordedMember | None:
        """What it says of a drive."""
        return next((m for m in self.members if m.serial == serial), None)


@dataclass(frozen=True, slots=True)
class Record:
    """A pool's record: its head, and everything the pool is by sections (docs/formats/pool-record.md)."""

    head: Head
    body: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class ReadDrive:
    """What was read on one drive."""

    serial: str
    #: Its number in the books; 0 where it is not in them.
    id: int
    #: Where it is, in words.
    place: str
    #: The head of its newest whole record.
    head: Head | None
    #: The generation of which it is marked that every drive that was there has it; 0 for none.
    marked: int = 0
