"""Dividing drives into sets so that a whole shelf or host may fail."""

from __future__ import annotations

from collections.abc import Sequence
from heapq import heapify, heappop, heappush

from pairshelf.core.domain.drives import Drive


def arrange(drives: Sequence[Drive], sets: int, tolerance: int, domain: str) -> tuple[Drive, ...] | None:
    """The drives in an order in which no set has more than ``tolerance`` of them in one domain, or None.

    Sets are filled one after the other with the smallest drives that leave the rest possible, so that
    as little as can be is lost to uneven sizes. Possible exactly when no domain holds more than
    sets x tolerance drives.
    """
    rows: dict[str, list[Drive]] = {}
    for drive in sorted(drives, key=lambda d: d.size, reverse=True):
        rows.setdefault(drive.place(domain), []).append(drive)
    left = list(rows.values())  # each with its smallest last
    width = len(drives) // sets
    if max(len(row) for row in left) > sets * tolerance:
        return None
    order: list[Drive] = []
    for remaining in range(sets, 0, -1):
        chosen: list[Drive] = []
        taken = []
        for row in left:
            # What the later sets cannot take of this domain must come into this one.
            must = max(0, len(row) - (remaining - 1) * tolerance)
            chosen += (row.pop() for _ in range(must))
            taken.append(must)
        if len(chosen) > width:
            return None
        heads = [(row[-1].size, i) for i, row in enumerate(left) if row and taken[i] < tolerance]
        heapify(heads)
        while len(chosen) < width:
            if not heads:
                return None
            _, i = heappop(heads)
            chosen.append(left[i].pop())
            taken[i] += 1
            if left[i] and taken[i] < tolerance:
                heappush(heads, (left[i][-1].size, i))
        order += sorted(chosen, key=lambda d: d.size)
    return tuple(order)
