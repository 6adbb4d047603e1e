"""What is recorded, of what, and for how long: a figure is a line here and a way to read it in ``engine.history``."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from enum import StrEnum

from pairshelf.core.errors import BadInput


class Subject(StrEnum):
    """What something is recorded of."""

    POOL = "pool"
    VOLUME = "volume"
    DRIVE = "drive"
    HOST = "host"
    #: What a shelf's drives hang on.
    LINK = "link"


@dataclass(frozen=True, slots=True)
class Series:
    """A figure that is recorded over time, as whole numbers."""

    #: What it is kept by; never given to another figure.
    number: int
    id: str
    subject: Subject
    label: str
    #: bytes, count, °C, hours, %, a second, bytes a second, µs
    unit: str
    #: What one whole number is worth, in the unit.
    worth: int
    about: str
    #: Seconds between two times that it is recorded: what changes slowly is not recorded in every round.
    every: int = 10
    #: Of no more than so many at a time, where that is certain: only what is played on volumes is recorded.
    most: int | None = None


#: Volumes on which loads are played at once at most, and what of their pools is recorded with them.
MOST_PLAYED, _DRIVES_OF_PLAYED = 8, 512

MINUTE, HOUR = 60, 3600

SERIES = (
    Series(1, "pool-capacity", Subject.POOL, "capacity", "bytes", 2**30,
           "What the pool holds; of a spread pool, what its drives do."),
    Series(2, "pool-given", Subject.POOL, "allocated to volumes", "bytes", 2**30,
           "What volumes have been given for good, or have written; of a spread pool with its redundancy."),
    Series(3, "pool-files", Subject.POOL, "taken by files", "bytes", 2**30, "What files on its volumes take of its capacity, those in bins too; in a spread pool with their redundancy."),
    Series(4, "volume-files", Subject.VOLUME, "taken by files", "bytes", 2**30, "What its files take, those in bins too."),
    Series(5, "volume-given", Subject.VOLUME, "given by the pool", "bytes", 2**30,
           "What the pool has given it: all of a thick volume, of a thin one what was written."),
    Series(6, "drive-used", Subject.DRIVE, "used on it", "bytes", 2**30, "Extents on which data or redundancy of volumes stand."),
    # What drives report of themselves: what each means is in ``readings``.
    Series(7, "drive-reassigned", Subject.DRIVE, "reassigned sectors", "count", 1, "Sectors in whose place others stand.", MINUTE),
    Series(8, "drive-pending", Subject.DRIVE, "pending sectors", "count", 1, "Sectors that it could not read, and has not given up.", MINUTE),
    Series(9, "drive-uncorrectable", Subject.DRIVE, "uncorrectable sectors", "count", 1, "Sectors that were asked for and could not be read.", MINUTE),
    Series(10, "drive-link-errors", Subject.DRIVE, "interface errors", "count", 1, "Transfers over its link that had to be repeated.", MINUTE),
    Series(11, "drive-media-errors", Subject.DRIVE, "media errors", "count", 1, "Data that its cells could not give back.", MINUTE),
    Series(12, "drive-temperature", Subject.DRIVE, "temperature", "°C", 1, "By its own sensor.", MINUTE),
    Series(13, "drive-hours", Subject.DRIVE, "power-on hours", "hours", 1, "Hours that it has been running.", HOUR),
    Series(14, "drive-wear", Subject.DRIVE, "wear", "%", 1, "Of the writing that its maker rates it for, what has been used.", HOUR),
    Series(15, "drive-spare", Subject.DRIVE, "spare left", "%", 1, "Of the cells that stand in for worn ones, what is left.", HOUR),
    Series(16, "drive-written", Subject.DRIVE, "written to it", "bytes", 2**30, "All that was ever written to it.", HOUR),
    # What stands behind a host and a link, and, while loads are played, what they make of it.
    Series(17, "host-drives", Subject.HOST, "drives that answer", "count", 1, "Of those in its shelves, how many can be read."),
    Series(18, "link-drives", Subject.LINK, "drives that answer", "count", 1, "Of those on the shelf, how many can be read."),
    Series(19, "volume-operations", Subject.VOLUME, "requests", "a second", 1, "Requests that were answered.", most=MOST_PLAYED),
    Series(20, "volume-throughput", Subject.VOLUME, "moved", "bytes a second", 2**10, "What its users read and wrote.", most=MOST_PLAYED),
    Series(21, "volume-response", Subject.VOLUME, "response time", "µs", 1, "Half of its requests were answered sooner.", most=MOST_PLAYED),
    Series(22, "pool-operations", Subject.POOL, "requests", "a second", 1, "Requests to all its volumes that were answered.", most=MOST_PLAYED),
    Series(23, "pool-throughput", Subject.POOL, "moved", "bytes a second", 2**10, "What users of all its volumes read and wrote.", most=MOST_PLAYED),
    Series(24, "pool-response", Subject.POOL, "response time", "µs", 1, "Half of all requests were answered sooner.", most=MOST_PLAYED),
    Series(25, "drive-operations", Subject.DRIVE, "operations", "a second", 1, "What it had to do for users and jobs.", most=_DRIVES_OF_PLAYED),
    Series(26, "drive-busy", Subject.DRIVE, "busy", "%", 1, "Of its time, how much it was at work.", most=_DRIVES_OF_PLAYED),
    Series(27, "link-throughput", Subject.LINK, "moved over it", "bytes a second", 2**10, "What drives on it read and wrote.", most=_DRIVES_OF_PLAYED),
    Series(28, "host-throughput", Subject.HOST, "moved", "bytes a second", 2**10, "What drives in its shelves read and wrote.", most=_DRIVES_OF_PLAYED),
)  # fmt: skip

BY_ID = {series.id: series for series in SERIES}


def series_named(name: str) -> Series:
    """The series of that id; BadInput where there is none."""
    if name not in BY_ID:
        raise BadInput(f"“{name}” is nothing that is recorded; there are {', '.join(BY_ID)}.", field="series")
    return BY_ID[name]


def start_of(at: dt.datetime, seconds: int) -> dt.datetime:
    """When the stretch of so many seconds that holds a moment began (UTC)."""
    second = int(at.timestamp())
    return dt.datetime.fromtimestamp(second - second % seconds, dt.UTC)


@dataclass(frozen=True, slots=True)
class Grain:
    """How finely time is divided, and how long that is kept."""

    id: str
    seconds: int
    kept: dt.timedelta
    #: Days of a part of the table, which is dropped as one.
    part: int

    def start(self, at: dt.datetime) -> dt.datetime:
        """When the stretch of time that holds a moment began (UTC)."""
        return start_of(at, self.seconds)

    def end(self, at: dt.datetime) -> dt.datetime:
        """When the stretch of time that holds a moment ends."""
        return self.start(at) + dt.timedelta(seconds=self.seconds)


#: A round every ten seconds; then by the minute, the hour and the day, each condensed from the one before.
GRAINS = (
    Grain("round", 10, dt.timedelta(days=1), 1),
    Grain("minute", 60, dt.timedelta(days=3), 1),
    Grain("hour", 3600, dt.timedelta(days=400), 50),
    Grain("day", 86400, dt.timedelta(days=3660), 1000),
)
ROUND = GRAINS[0]

#: Subjects whose values stand side by side in one row.
TOGETHER = 256


def coarser(grain: Grain) -> Grain | None:
    """What this one is condensed to; None: nothing."""
    index = GRAINS.index(grain) + 1
    return GRAINS[index] if index < len(GRAINS) else None


def finer(grain: Grain) -> Grain:
    """What this one is condensed from."""
    return GRAINS[GRAINS.index(grain) - 1]


def grain_for(span: dt.timedelta, ago: dt.timedelta = dt.timedelta(), most: int = 1500) -> Grain:
    """The finest that shows a span of time, ended so long ago, with no more than so many points and is still kept."""
    for grain in GRAINS:
        if span + ago <= grain.kept and span.total_seconds() / grain.seconds <= most:
            return grain
    return GRAINS[-1]


#: Bytes of a value where it is kept: of a round one number and a mark that it is there; else low, high, total and count,
#: 28 bytes, of which the database leaves no more than half when it makes them smaller (measured with numbers at random).
_OF_ROUND, _OF_OTHERS = 8.2, 14.1
#: Bytes of a row besides.
_ROW = 150


def kept_bytes(subjects: dict[Subject, int], days: float = 3660) -> float:
    """Bytes on disk of the history of so many subjects after so many days."""
    total = 0.0
    for grain in GRAINS:
        rounds = min(days, grain.kept.total_seconds() / 86400 + grain.part) * 86400 / grain.seconds
        value = _OF_ROUND if grain is ROUND else _OF_OTHERS
        for series in SERIES:
            count = subjects.get(series.subject, 0)
            count = count if series.most is None else min(count, series.most)
            times = rounds * min(1.0, grain.seconds / series.every)
            total += times * (count * value + -(-count // TOGETHER) * _ROW)
    return total
