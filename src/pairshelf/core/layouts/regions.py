"""The map of what a drive that is away has missed: its rows in regions, each marked when anything in it changes."""

from __future__ import annotations

from collections.abc import Collection

from pairshelf.core.layouts.model import Layout

#: Rows that are marked together: the grain of the map. A drive of 14 TB has about 800 of them.
REGION = 16

#: Stands for all of them, where it is not known which.
ANYWHERE = -1


def rows_missed(layout: Layout, slot: int, regions: Collection[int] | None) -> int:
    """How many of a member's rows on which something stands lie in these regions; all of them where none are named,
    or it may be anywhere."""
    if regions is None or ANYWHERE in regions:
        return layout.used_extents[slot]
    return sum(
        max(0, min(first + rows, (region + 1) * REGION) - max(first, region * REGION))
        for first, rows in layout.rows_of(slot) for region in regions
    )  # fmt: skip
