"""What a drive reports of itself that matters for wiping it."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum

from pairshelf.core.domain.drives import Kind, extents_of


class Command(StrEnum):
    """Commands of the ATA, SCSI and NVMe command sets by which a drive wipes itself."""

    #: Overwrites everything it has, hidden areas too.
    SANITIZE_OVERWRITE = "sanitize-overwrite"
    #: Erases every block of flash, the spare area too.
    BLOCK_ERASE = "block-erase"
    #: Changes the key by which it encrypts everything.
    CRYPTO_ERASE = "crypto-erase"
    #: Formats its namespaces anew with user data erased.
    FORMAT = "format"
    #: Zeros the extents it shows.
    WRITE_ZEROES = "write-zeroes"


class Category(StrEnum):
    """How thoroughly (NIST SP 800-88)."""

    #: Against what can be read through the drive's own interface.
    CLEAR = "clear"
    #: Against a laboratory.
    PURGE = "purge"
    #: The medium itself is no more.
    DESTROY = "destroy"


@dataclass(frozen=True, slots=True)
class Identity:
    """What a drive says of itself when asked."""

    commands: frozenset[Command]
    #: Extents that are set aside at its end and not shown.
    protected: int = 0
    #: Extents that it has reassigned.
    reassigned: int = 0
    #: Whether it has a spare area that is not shown (flash).
    spare: bool = False
    #: Whether it encrypts everything by itself, from the first write on.
    encrypts: bool = False
    #: Bytes in a sector.
    sector: int = 512
    #: Seconds that block erase and cryptographic erase take.
    erase_seconds: float = 0.0


@dataclass(frozen=True, slots=True)
class DriveFacts:
    """A drive that may be wiped. ``size`` in bytes, ``rate`` in bytes per second."""

    kind: Kind
    size: int
    rate: int
    #: None: it does not answer.
    identity: Identity | None = None
    #: What all drives of its shelf share, bytes per second; None: no limit known.
    link: int | None = None
    shelf: str | None = None
    condition: str = "good"
    #: The encrypted pool whose ciphertext is all that was ever written to it since it was blank, and whose key is gone.
    sealed_by: str | None = None
    #: Known of data on it, in words.
    holds: str | None = field(default=None, compare=False)

    @property
    def shown(self) -> int:
        """Extents that it shows once protected capacity is opened, whatever share of it pools are offered: all are wiped
        and read back."""
        return extents_of(self.size) + (self.identity.protected if self.identity else 0)

    @property
    def flash(self) -> bool:
        """Whether it stores on flash."""
        return self.kind is not Kind.HDD
