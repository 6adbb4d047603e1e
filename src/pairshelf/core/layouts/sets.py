"""Set-built layouts: every set protects itself, data is striped over all sets (rules: layouts)."""

from __future__ import annotations

from collections.abc import Sequence

from pairshelf.core.domain.drives import Drive
from pairshelf.core.layouts.model import Band, Code, Division, Family, Group, Layout, Scheme


def cut(scheme: Scheme, sets: Sequence[Sequence[Drive]]) -> tuple[Band, ...]:
    """Bands of sets whose smallest members differ: a new band starts where the smallest set ends."""
    groups: list[tuple[int, Group]] = []
    first = 0
    for one in sets:
        members = tuple(range(first, first + len(one)))
        first += len(one)
        groups.append((min(d.extents for d in one), Group(members, scheme.code, scheme.survives)))
    return _bands_by_height(groups)


def cut_span(scheme: Scheme, sets: Sequence[Sequence[Drive]]) -> tuple[Band, ...]:
    """Concatenation: every drive is a band of its own, one after the other."""
    drives = [drive for one in sets for drive in one]
    return tuple(Band(0, drive.extents, (Group((index,), Code.NONE, 0),)) for index, drive in enumerate(drives))


def _bands_by_height(groups: list[tuple[int, Group]]) -> tuple[Band, ...]:
    bands: list[Band] = []
    start = 0
    for height in sorted({h for h, _ in groups}):
        reaching = tuple(group for h, group in groups if h >= height)
        bands.append(Band(start, height - start, reaching))
        start = height
    return tuple(bands)


def divide(drives: Sequence[Drive], division: Division) -> tuple[tuple[Drive, ...], ...]:
    """The drives but the spares, as many to each set, in their listed order."""
    assert division.sets, "how many is said before anything is laid"
    width = (len(drives) - division.spares) // division.sets
    return tuple(tuple(drives[i * width : (i + 1) * width]) for i in range(division.sets))


def lay(scheme: Scheme, drives: Sequence[Drive], division: Division) -> Layout:
    """Sets that protect themselves."""
    divided = divide(drives, division)
    return Layout(scheme, divided, tuple(drives[len(drives) - division.spares :]), cut(scheme, divided))


def lay_span(scheme: Scheme, drives: Sequence[Drive], division: Division) -> Layout:
    """Drives one after the other."""
    divided = divide(drives, division)
    return Layout(scheme, divided, tuple(drives[len(drives) - division.spares :]), cut_span(scheme, divided))


SCHEMES = (
    Scheme("single", "one drive", Family.SETS, Code.NONE, 0, 1, 1,
           "One drive by itself. When it fails, the data are gone.", lay, becomes=("copies-2",), one_after_another=True),
    Scheme("span", "JBOD, concatenation", Family.SETS, Code.NONE, 0, 2, None,
           "Drives one after the other as one capacity. Any failure loses the pool.", lay_span, one_after_another=True),
    Scheme("stripe", "RAID 0", Family.SETS, Code.NONE, 0, 2, None,
           "Data spread over all drives for speed. Any failure loses the pool.", lay),
    Scheme("copies-2", "RAID 1", Family.SETS, Code.COPIES, 1, 2, 2,
           "Every byte on two drives; survives the failure of either.", lay, "RAID 10", ("single", "copies-3", "parity-1", "parity-2")),
    Scheme("copies-3", "RAID 1, three copies", Family.SETS, Code.COPIES, 2, 3, 3,
           "Every byte on three drives; survives any two failures.", lay, becomes=("copies-2",)),
    Scheme("parity-1", "RAID 5", Family.SETS, Code.PARITY, 1, 3, None,
           "One drive's worth of parity in each set; survives any one drive failure in each.", lay, "RAID 50",
           ("copies-2", "parity-2", "parity-3")),
    Scheme("parity-2", "RAID 6", Family.SETS, Code.PARITY, 2, 4, None,
           "Two drives' worth of parity in each set; survives any two drive failures in each.", lay, "RAID 60",
           ("copies-2", "parity-1", "parity-3")),
    Scheme("parity-3", "triple parity", Family.SETS, Code.PARITY, 3, 5, None,
           "Three drives' worth of parity in each set; survives any three drive failures in each.", lay,
           becomes=("parity-2", "parity-1")),
)  # fmt: skip
