"""What drives report of themselves, by the open standards: ATA attributes, and the health log of NVMe."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from pairshelf.core.domain.drives import Kind
from pairshelf.core.watching.series import BY_ID as SERIES_BY_ID
from pairshelf.core.watching.series import Series

ALL = frozenset(Kind)
_ATA = frozenset({Kind.HDD, Kind.SSD})
FLASH = frozenset({Kind.SSD, Kind.NVME})
_NVME = frozenset({Kind.NVME})

#: What one drive reports at a moment, by the ids of readings. What is not in it was not told.
Told = Mapping[str, int]


@dataclass(frozen=True, slots=True)
class Reading:
    """A figure that a drive keeps of itself."""

    id: str
    label: str
    #: count, °C, hours, %, bytes; empty: yes or no.
    unit: str
    #: What a whole number of it is worth, in the unit.
    worth: int
    kinds: frozenset[Kind]
    #: Where it stands by the standards.
    ata: str
    nvme: str
    means: str

    @property
    def series(self) -> Series | None:
        """What its history is kept as; None: it is not."""
        return SERIES_BY_ID.get(f"drive-{self.id}")

    def standard(self, kind: Kind) -> str:
        """Where a drive of a kind has it."""
        return self.nvme if kind is Kind.NVME else self.ata


READINGS = (
    Reading("verdict", "its own verdict", "", 1, ALL, "ATA: overall health self-assessment", "NVMe: critical warning",
            "Whether the drive itself says that it is about to fail. Many that fail never said so."),
    Reading("reassigned", "reassigned sectors", "count", 1, _ATA, "ATA attribute 5", "",
            "Places that went bad and for which spare ones stand in. A few are ordinary; many, or more every week, are a drive "
            "whose surface goes."),
    Reading("pending", "pending sectors", "count", 1, _ATA, "ATA attribute 197", "",
            "Places that it could not read and has not given up. Written anew they are good again or reassigned: a surface "
            "scan of a pool's drive does that."),
    Reading("uncorrectable", "uncorrectable sectors", "count", 1, _ATA, "ATA attribute 198", "",
            "Places that were asked for and could not be read. In a pool that bears it, what stood there comes from the others."),
    Reading("link-errors", "interface errors", "count", 1, _ATA, "ATA attribute 199", "",
            "Transfers that arrived spoilt and were repeated. They tell of the cable or the bay, hardly ever of the drive."),
    Reading("media-errors", "media errors", "count", 1, _NVME, "", "NVMe: media and data integrity errors",
            "Data that its cells could not give back. What stood there comes from the others, where the pool bears that."),
    Reading("temperature", "temperature", "°C", 1, ALL, "ATA attribute 194", "NVMe: composite temperature",
            "By its own sensor. Heat shortens its life; above its maker's limit it may slow down or stop."),
    Reading("hours", "power-on hours", "hours", 1, ALL, "ATA attribute 9", "NVMe: power on hours",
            "How long it has been running. A year has 8,766."),
    Reading("wear", "wear", "%", 1, FLASH, "ATA: percentage used endurance indicator", "NVMe: percentage used",
            "Of the writing that its maker rates it for, what has been used. It may go on beyond 100 %, on its owner's risk."),
    Reading("spare", "spare left", "%", 1, FLASH, "ATA attribute 232", "NVMe: available spare",
            "Of the cells that stand in for worn ones, what is left."),
    Reading("spare-threshold", "least spare", "%", 1, FLASH, "ATA attribute 232, its threshold", "NVMe: available spare threshold",
            "The share of spare cells below which its maker calls it unreliable."),
    Reading("written", "written to it", "bytes", 2**30, ALL, "ATA attribute 241", "NVMe: data units written",
            "All that was ever written to it, what wiping and rebuilding wrote among it."),
)  # fmt: skip

READING = {reading.id: reading for reading in READINGS}


def readings_of(kind: Kind) -> list[Reading]:
    """What a drive of a kind reports."""
    return [r for r in READINGS if kind in r.kinds]
