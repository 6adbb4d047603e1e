"""What of a simulated drive ordinary reads and writes do not reach, and what it reports of itself.

Every drive has, beside the extents it shows: host-protected capacity at its end, if somebody set some aside; extents
that it reassigned, each with the bytes it last had; and, of flash, a spare area in which older copies of what was
overwritten stay. They lie in one file beside the media, one after the other in this order: so all that a drive holds
is a row of *cells*, first those it shows. What it reports is drawn from its serial, and can be told.
"""

from __future__ import annotations

import hashlib
import json
import os
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from pairshelf.core.disposal.facts import Command, Identity
from pairshelf.core.domain.drives import Kind

#: Most cells for reassigned extents, and for the spare area of flash.
MOST_REASSIGNED, SPARE = 64, 32


@dataclass(slots=True)
class Nature:
    """What a simulated drive is, beyond what it shows."""

    commands: list[str]
    protected: int = 0
    reassigned: list[int] = field(default_factory=list)
    spare: int = 0
    encrypts: bool = False
    sector: int = 512
    #: Seconds that block erase and cryptographic erase take, as the drive reports.
    erase_seconds: float = 0.0
    #: Everything takes so many times longer.
    slowness: float = 1.0
    #: Writes until it dies; None: it does not.
    dies_after: int | None = None
    #: It answers nothing for now.
    stalls: bool = False
    #: Seconds after which it gives up on a bad sector; None: it tries as long as it takes. -1: nobody has said yet.
    recovery: float | None = -1.0
    #: Whether that can be set.
    recovery_settable: bool = True

    def identity(self) -> Identity:
        """As the drive reports it."""
        return Identity(
            frozenset(Command(c) for c in self.commands), self.protected, len(self.reassigned), self.spare > 0,
            self.encrypts, self.sector, self.erase_seconds,
        )  # fmt: skip


def nature_kept(path: Path) -> Nature:
    """What a file says that a drive is."""
    try:
        return Nature(**json.loads(path.read_bytes()))
    except (FileNotFoundError, ValueError, TypeError):
        return Nature([])


def drawn(serial: str, kind: Kind, extents: int) -> Nature:
    """What a drive of that serial is, if nobody said otherwise: the same every time."""
    dice = hashlib.sha256(b"nature " + serial.encode("utf-8", "surrogatepass")).digest()
    if kind is Kind.HDD:
        known = [Command.SANITIZE_OVERWRITE] if dice[0] % 3 else []
        encrypts = dice[1] % 4 == 0
        if encrypts:
            known.append(Command.CRYPTO_ERASE)
        protected = min(8, extents // 4) if dice[2] % 5 == 0 else 0
        # A third has reassigned a few extents in its life.
        reassigned = sorted({dice[4 + i] % max(1, extents) for i in range(3)}) if dice[3] % 3 == 0 else []
        return Nature(
            [c.value for c in known], protected, reassigned, 0, encrypts, 4096 if dice[7] % 2 else 512, 2.0,
            recovery_settable=dice[8] % 4 > 0,
        )  # fmt: skip
    encrypts = kind is Kind.NVME or dice[1] % 2 == 0
    known = [Command.WRITE_ZEROES]
    if kind is Kind.NVME:
        known.append(Command.FORMAT)
    if dice[0] % 5:
        known.append(Command.BLOCK_ERASE)
    if encrypts:
        known.append(Command.CRYPTO_ERASE)
    return Nature([c.value for c in known], 0, [], SPARE, encrypts, 512, 30.0 + dice[7] % 90)


class Hidden:
    """The cells beyond those that a drive shows, and what it reports; kept in files beside its media."""

    def __init__(self, media: Path, serial: str, extents: int, block: int) -> None:
        self._cells, self._told = media.with_suffix(".hidden"), media.with_suffix(".nature")
        self._serial, self.extents, self._block = serial, extents, block

    def nature(self) -> Nature:
        """What the drive is."""
        return nature_kept(self._told)

    def settle(self, kind: Kind) -> Nature:
        """Decide what the drive is, unless that has been; with somebody's old data in its hidden cells."""
        if not self._told.exists():
            nature = drawn(self._serial, kind, self.extents)
            count = self.count(nature)
            noise = hashlib.shake_256(b"hidden " + self._serial.encode("utf-8", "surrogatepass"))
            self._cells.write_bytes(noise.digest(count * self._block))
            self.tell(nature)
        return self.nature()

    def tell(self, nature: Nature) -> None:
        """Keep what the drive is."""
        draft = self._told.with_suffix(".nature-draft")
        draft.write_text(json.dumps(asdict(nature)))
        draft.replace(self._told)

    def change(self, **facts: Any) -> None:
        """Say otherwise of some of what it is."""
        nature = self.nature()
        for name, value in facts.items():
            setattr(nature, name, value)
        self.tell(nature)

    @staticmethod
    def count(nature: Nature) -> int:
        """Hidden cells of a drive."""
        return nature.protected + (MOST_REASSIGNED if nature.reassigned else 0) + nature.spare

    def areas(self, nature: Nature) -> list[tuple[str, int, int]]:
        """(name, first cell, cells) of each hidden area, from the end of those that are shown on."""
        at, found = 0, []
        rows = (("protected", nature.protected), ("reassigned", MOST_REASSIGNED if nature.reassigned else 0),
                ("spare", nature.spare))  # fmt: skip
        for name, count in rows:
            if count:
                found.append((name, at, len(nature.reassigned) if name == "reassigned" else count))
            at += count
        return found

    def read(self, first: int, count: int) -> bytes:
        """Hidden cells; what was never written reads as zeros."""
        try:
            with open(self._cells, "rb") as file:
                file.seek(first * self._block)
                return file.read(count * self._block).ljust(count * self._block, b"\0")
        except FileNotFoundError:
            return bytes(count * self._block)

    def write(self, first: int, data: bytes | memoryview) -> None:
        """Whole hidden cells."""
        descriptor = os.open(self._cells, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        try:
            os.pwrite(descriptor, data, first * self._block)
        finally:
            os.close(descriptor)

    def flush(self) -> None:
        """To stable storage."""
        if self._cells.exists():
            with open(self._cells, "rb") as file:
                os.fdatasync(file.fileno())

    def reassign(self, extent: int, old: bytes) -> None:
        """An extent could not be read and another stands in for it from now on; its bytes stay where nobody reads."""
        nature = self.nature()
        if extent in nature.reassigned or len(nature.reassigned) >= MOST_REASSIGNED:
            return
        if not nature.reassigned and nature.spare:
            # Room for them comes before the spare area.
            kept = self.read(nature.protected, nature.spare)
            self.write(nature.protected + MOST_REASSIGNED, kept)
        self.write(nature.protected + len(nature.reassigned), old)
        nature.reassigned.append(extent)
        self.tell(nature)

    def keep_an_old_copy(self, nature: Nature, extent: int, old: bytes) -> None:
        """Flash writes elsewhere; what stood there before stays in the spare area for a while."""
        at = nature.protected + (MOST_REASSIGNED if nature.reassigned else 0)
        self.write(at + extent % nature.spare, old)
