"""The journal of stripes being written: a stripe is written whole, or found and put right.

Everything a write is about to put on the members goes to the journal first and to stable storage;
then to the members; then the journal is emptied. Whoever opens the pool next after a crash writes a
whole entry once more (which changes nothing if it was done) and drops a torn one (of which nothing
had reached the members). So a failed drive plus a power cut loses nothing.

Stripes written whole into room that nothing refers to yet are only named: there is nothing in them
to keep, and after a crash it is enough to bring their redundancy in step with whatever stands there.
"""

from __future__ import annotations

import json
import os
import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

_MAGIC = b"PSJOURN2"


@dataclass(frozen=True, slots=True)
class Intent:
    """Bytes that are to stand on a drive from an extent on."""

    serial: str
    start: int
    data: bytes | memoryview


@dataclass(frozen=True, slots=True)
class Stripes:
    """Rows of a group of a band that are being written with nothing in them to keep."""

    band: int
    group: int
    row: int
    rows: int


@dataclass(frozen=True, slots=True)
class Pending:
    """What was recorded and perhaps not finished."""

    intents: Sequence[Intent] = ()
    named: Sequence[Stripes] = ()

    def __bool__(self) -> bool:
        return bool(self.intents or self.named)


class StripeJournal:
    """The journal of one pool, a file."""

    def __init__(self, path: Path) -> None:
        self.path = path
        path.parent.mkdir(parents=True, exist_ok=True)

    def record(self, intents: Sequence[Intent], named: Sequence[Stripes] = ()) -> None:
        """Keep what is about to be written; returns once it would outlive a power cut.

        The file keeps its length from one entry to the next: giving the room back and taking it again would
        cost more than the writing.
        """
        listed = [
            *([i.serial, i.start, len(i.data)] for i in intents),
            *([None, [s.band, s.group, s.row, s.rows], 0] for s in named),
        ]
        head = json.dumps(listed).encode()
        checksum = zlib.crc32(head)
        with open(self.path, "r+b" if self.path.exists() else "w+b") as file:
            file.write(_MAGIC + len(head).to_bytes(8, "big") + head)
            for intent in intents:
                file.write(intent.data)
                checksum = zlib.crc32(intent.data, checksum)
            file.write(checksum.to_bytes(4, "big"))
            file.flush()
            os.fdatasync(file.fileno())

    def clear(self) -> None:
        """What was recorded stands on the members."""
        with open(self.path, "r+b" if self.path.exists() else "w+b") as file:
            file.write(bytes(len(_MAGIC)))

    def pending(self) -> Pending:
        """What was recorded and perhaps not finished; nothing for a torn entry."""
        try:
            with open(self.path, "rb") as file:
                if file.read(len(_MAGIC)) != _MAGIC:
                    return Pending()
                file.seek(0)
                raw = file.read()
        except FileNotFoundError:
            return Pending()
        body = 16 + int.from_bytes(raw[8:16], "big")
        try:
            listed = json.loads(raw[16:body])
            end = body + sum(size for _, _, size in listed)
        except ValueError:
            return Pending()
        if len(raw) < end + 4 or zlib.crc32(memoryview(raw)[16:end]) != int.from_bytes(raw[end : end + 4], "big"):
            return Pending()
        intents, named = [], []
        for serial, start, size in listed:
            if serial is None:
                named.append(Stripes(*start))
            else:
                intents.append(Intent(serial, start, raw[body : body + size]))
            body += size
        return Pending(intents, named)
