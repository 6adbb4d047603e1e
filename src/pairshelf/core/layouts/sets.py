"""Set-built layouts: every set protects itself, data is striped over all sets (rules: layouts)."""

from __future__ import annotations

from collections.abc import Sequence

from pairshelf.core.drives import Drive
from pairshelf.core.layouts.model import Band, Code, Group, Scheme


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
