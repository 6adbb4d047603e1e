"""The journal of stripes being written: a stripe is written whole, or found and put right.

Everything a write is about to put on the members goes to the journal first and to stable storage;
then to the members; then the journal is emptied. Whoever opens the pool next after a crash writes a
whole entry once more (which changes nothing if it was done) and drops a torn one (of which nothing
had reached the members). So a failed drive plus a power cut loses nothing.
"""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

_MAGIC = b"PSJOURN1"


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
        """Keep what is about to be written; returns once it would outlive a power cut."""
        head = json.dumps([[i.serial, i.start, len(i.data)] for i in intents]).encode()
        digest = hashlib.sha256(head)
        with open(self.path, "wb") as file:
            file.write(_MAGIC + len(head).to_bytes(8, "big") + head)
            for intent in intents:
                file.write(intent.data)
                digest.update(intent.data)
            file.write(digest.digest())
            file.flush()
            os.fdatasync(file.fileno())

    def clear(self) -> None:
        """What was recorded stands on the members."""
        with open(self.path, "wb"):
            pass

    def pending(self) -> list[Intent]:
        """What was recorded and perhaps not finished; empty for a torn entry."""
        try:
            raw = self.path.read_bytes()
        except FileNotFoundError:
            return []
        if not raw.startswith(_MAGIC) or len(raw) < 16:
            return []
        body = 16 + int.from_bytes(raw[8:16], "big")
        if len(raw) < body + 32 or hashlib.sha256(raw[16:-32]).digest() != raw[-32:]:
            return []
        intents = []
        for serial, start, size in json.loads(raw[16:body]):
            intents.append(Intent(serial, start, raw[body : body + size]))
            body += size
        return intents
