"""The journal of stripes being written: a stripe is written whole, or found and put right.

Everything a write is about to put on the members goes to the journal first and to stable storage;
then to the members; then the journal is emptied. Whoever opens the pool next after a crash writes a
whole entry once more (which changes nothing if it was done) and drops a torn one (of which nothing
had reached the members). So a failed drive plus a power cut loses nothing.
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


class StripeJournal:
    """The journal of one pool, a file."""

    def __init__(self, path: Path) -> None:
        self.path = path
        path.parent.mkdir(parents=True, exist_ok=True)

    def record(self, intents: Sequence[Intent]) -> None:
        """Keep what is about to be written; returns once it would outlive a power cut.

        The file keeps its length from one entry to the next: giving the room back and taking it again would
        cost more than the writing.
        """
        head = json.dumps([[i.serial, i.start, len(i.data)] for i in intents]).encode()
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

    def pending(self) -> list[Intent]:
        """What was recorded and perhaps not finished; empty for a torn entry."""
        try:
            with open(self.path, "rb") as file:
                if file.read(len(_MAGIC)) != _MAGIC:
                    return []
                file.seek(0)
                raw = file.read()
        except FileNotFoundError:
            return []
        body = 16 + int.from_bytes(raw[8:16], "big")
        try:
            listed = json.loads(raw[16:body])
            end = body + sum(size for _, _, size in listed)
        except ValueError:
            return []
        if len(raw) < end + 4 or zlib.crc32(memoryview(raw)[16:end]) != int.from_bytes(raw[end : end + 4], "big"):
            return []
        intents = []
        for serial, start, size in listed:
            intents.append(Intent(serial, start, raw[body : body + size]))
            body += size
        return intents
