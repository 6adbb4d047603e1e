"""How much of each member volumes take: from the addresses they have to rows of members, redundancy included."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from pairshelf.core.layouts.model import Layout
from pairshelf.core.layouts.restriping import Restriping


def used_on_members(layout: Layout, taken: Sequence[tuple[int, int]]) -> list[int]:
    """Extents of each member on which volumes' data or redundancy stand; ``taken`` are addresses (first, count).

    A stripe is in use as a whole as soon as a volume has one extent of it. While a pool is restriped, what its front
    has passed counts as the new layout lays it, the rest as the old one does.
    """
    if layout.own_protection:
        return list(layout.used_extents)
    if isinstance(layout, Restriping):
        below = [(first, min(count, layout.front - first)) for first, count in taken if first < layout.front]
        beyond = [(max(first, layout.front), min(count, first + count - layout.front)) for first, count in taken
                  if first + count > layout.front]  # fmt: skip
        new, old = (below, beyond) if layout.upwards else (beyond, below)
        parts = used_on_members(layout.new_view, new), used_on_members(layout.old_view, old)
        return [sum(both) for both in zip(*parts, strict=True)]
    used = [0] * len(layout.members)
    behind = 0
    for band in layout.bands:
        stripes = np.zeros((band.rows, len(band.groups)), bool)
        ends = np.cumsum([group.data for group in band.groups])
        for first, count in taken:
            low, high = max(0, first - behind), min(band.capacity, first + count - behind)
            if low >= high:
                continue
            (row, at), (last, end) = divmod(low, band.data), divmod(high - 1, band.data)
            begins, stops = (int(np.searchsorted(ends, column, side="right")) for column in (at, end))
            if row == last:
                stripes[row, begins : stops + 1] = True
                continue
            stripes[row, begins:] = True
            stripes[row + 1 : last] = True
            stripes[last, : stops + 1] = True
        for group, rows in zip(band.groups, stripes.sum(axis=0), strict=True):
            for member in group.members:
                used[member] += int(rows)
        behind += band.capacity
    return used
