"""A drive, its kind, and the facts about it that the arithmetic needs."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import StrEnum

from pairshelf.core.domain.units import EXTENT, MIB, parse_size
from pairshelf.core.errors import BadInput

#: Held back on every member for the partition table and labels.
HELD_BACK = 256 * MIB
#: More drives than this in one question is taken for a slip of the finger.
MOST_DRIVES = 1000
#: A drive larger than this, in bytes, is taken for a wrong unit.
LARGEST = 10**15


class Kind(StrEnum):
    """What a drive stores on; the bus it is attached by is a fact apart."""

    #: Rotating disks.
    HDD = "hdd"
    #: Flash behind a disk interface.
    SSD = "ssd"
    #: Flash on PCIe.
    NVME = "nvme"


@dataclass(frozen=True, slots=True)
class KindDefaults:
    """What is assumed of a drive whose maker's figures are not known."""

    #: Mean sequential rate, bytes per second (rotating: about 3/4 of the outer tracks).
    rate: int
    #: Chance to fail within a year.
    afr: float
    #: Unrecoverable read errors per bit read (a maker's ceiling).
    uber: float
    #: Small random operations per second.
    ops: int
    #: Watts in use.
    watts: float


DEFAULTS: dict[Kind, KindDefaults] = {
    Kind.HDD: KindDefaults(rate=180_000_000, afr=0.015, uber=1e-15, ops=150, watts=7.0),
    Kind.SSD: KindDefaults(rate=450_000_000, afr=0.009, uber=1e-16, ops=40_000, watts=3.0),
    Kind.NVME: KindDefaults(rate=1_800_000_000, afr=0.009, uber=1e-17, ops=200_000, watts=8.0),
}


@dataclass(frozen=True, slots=True)
class Drive:
    """A drive as the layouts see it. ``size`` in bytes, ``rate`` and ``link`` in bytes per second.

    What is None is not known; the properties give the default of its kind instead.
    """

    id: str
    size: int
    kind: Kind = Kind.HDD
    rate: int | None = None
    shelf: str | None = None
    host: str | None = None
    site: str | None = None
    #: Chance to fail within a year.
    afr: float | None = None
    #: Unreadable sectors per bit read, at most.
    uber: float | None = None
    #: Small random operations per second.
    ops: int | None = None
    watts: float | None = None
    price: float | None = None
    currency: str | None = None
    model: str | None = None
    serial: str | None = None
    in_service: dt.date | None = None
    #: Seconds after which it gives up on a bad sector; None: no limit is known.
    error_recovery: float | None = None
    #: The link its shelf hangs on, bytes per second.
    link: int | None = None
    #: Whole extents a member of this size gives (0: too small to be one). Kept, as it is asked for often.
    extents: int = field(init=False, compare=False, repr=False)
    #: Its own mean sequential rate, or the default of its kind; and small operations a second likewise.
    mean_rate: int = field(init=False, compare=False, repr=False)
    operations: int = field(init=False, compare=False, repr=False)

    def __post_init__(self) -> None:
        usual = DEFAULTS[self.kind]
        object.__setattr__(self, "extents", extents_of(self.size))
        object.__setattr__(self, "mean_rate", self.rate or usual.rate)
        object.__setattr__(self, "operations", self.ops or usual.ops)

    @property
    def yearly_failure(self) -> float:
        """Its own annual failure rate, or the default of its kind."""
        return DEFAULTS[self.kind].afr if self.afr is None else self.afr

    @property
    def bit_errors(self) -> float:
        """Its own UBER, or the default of its kind."""
        return DEFAULTS[self.kind].uber if self.uber is None else self.uber

    @property
    def power(self) -> float:
        """Its own watts, or the default of its kind."""
        return DEFAULTS[self.kind].watts if self.watts is None else self.watts

    @property
    def rotates(self) -> bool:
        """Rotating, or flash."""
        return self.kind is Kind.HDD

    def place(self, domain: str) -> str:
        """What it stands in, of a kind of failure domain: itself, its shelf, host or site."""
        if domain == "drive":
            return self.id
        return getattr(self, domain) or f"{domain} of {self.id}"


#: What may fail as one, from small to large.
DOMAINS = ("drive", "shelf", "host", "site")


def extents_of(size: int) -> int:
    """Extents of a drive of ``size`` bytes: floor((size - 256 MiB) / 1 GiB), never negative."""
    return max(0, (size - HELD_BACK) // EXTENT)


def size_of(extents: int) -> int:
    """Bytes of the smallest drive with so many extents."""
    return extents * EXTENT + HELD_BACK


def offered(size: int, held_share: float) -> int:
    """Bytes that a drive gives to a pool while a share of it is held back for its endurance: whole extents less."""
    return size - int(extents_of(size) * held_share) * EXTENT


def parse_kind(text: str, *, field: str | None = None) -> Kind:
    """A drive's kind from the words inventories use for it."""
    word = re.sub(r"[^a-z]", "", text.lower())
    if word in {"hdd", "rotating", "disk", "disc", "harddisk", "harddrive", "sashdd", "satahdd", "spinning"}:
        return Kind.HDD
    if word in {"ssd", "flash", "solidstate", "satassd", "sasssd", "solidstatedrive"}:
        return Kind.SSD
    if word in {"nvme", "pcie", "nvmessd", "pcieflash", "flashpcie", "pciessd"}:
        return Kind.NVME
    raise BadInput(f"“{text}” is not a known kind of drive; use hdd, ssd or nvme.", field=field)


_TERM = re.compile(r"^\s*(?:(\d+)\s*[x×*]\s*)?(.+?)\s*$", re.IGNORECASE)


def parse_shorthand(text: str, *, kind: Kind = Kind.HDD) -> tuple[Drive, ...]:
    """Drives d1, d2, ... of a shorthand such as ``8x4TB,2x8TB``.

    Each term may end in a kind, and after that in ``@box`` for the shelf (and host) they stand in, or
    ``@host/shelf``: ``4x8TB hdd@oak,4x8TB@elm``.
    """
    drives: list[Drive] = []
    terms = [t for t in re.split(r"[,;+]", text) if t.strip()]
    if not terms:
        raise BadInput("No drives given; write for example 8x4TB,2x8TB.", field="drives")
    for term in terms:
        bare, at, place = term.partition("@")
        if at and not place.strip():
            raise BadInput(f"“{term.strip()}” names no shelf after the @.", field="drives")
        host, slash, shelf = (p.strip() or None for p in place.partition("/"))
        match = _TERM.match(bare)
        if not match:
            raise BadInput(f"“{term.strip()}” is not a group of drives.", field="drives")
        count = int(match[1]) if match[1] else 1
        size_text, own = match[2], kind
        worded = re.match(r"^(.*\S)\s+([A-Za-z]+)$", size_text)
        if worded and worded[2].lower() in {k.value for k in Kind}:
            size_text, own = worded[1], Kind(worded[2].lower())
        if count == 0:
            raise BadInput(f"“{term.strip()}” asks for zero drives.", field="drives")
        if len(drives) + count > MOST_DRIVES:
            raise BadInput(f"More than {MOST_DRIVES} drives; compare them in smaller groups.", field="drives")
        size = parse_size(size_text, field="drives")
        if size == 0:
            raise BadInput(f"“{term.strip()}” has drives of size zero.", field="drives")
        if size > LARGEST:
            raise BadInput(
                f"“{term.strip()}”: more than 1 PB in one drive; check the number and its unit.", field="drives"
            )
        shelf = shelf if slash else host
        drives += [Drive(f"d{len(drives) + i + 1}", size, own, None, shelf, host) for i in range(count)]
    return tuple(drives)


def require_usable(drives: Sequence[Drive]) -> None:
    """Raise BadInput unless there is at least one drive, none twice, and each gives an extent."""
    if not drives:
        raise BadInput("No drives given.", field="drives")
    if len(drives) > MOST_DRIVES:
        raise BadInput(f"More than {MOST_DRIVES} drives; compare them in smaller groups.", field="drives")
    seen: set[str] = set()
    for drive in drives:
        if drive.id in seen:
            raise BadInput(f"Drive {drive.id} is named twice.", field="drives")
        seen.add(drive.id)
        if drive.extents < 1:
            raise BadInput(
                f"Drive {drive.id} ({drive.size} bytes) is too small: a member needs at least 1.25 GiB.",
                field="drives",
            )
