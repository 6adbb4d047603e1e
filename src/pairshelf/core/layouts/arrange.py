"""Dividing drives into sets so that a whole shelf or host may fail."""

from __future__ import annotations

from collections.abc import Sequence
from heapq import heapify, heappop, heappush

from pairshelf.core.domain.drives import Drive


def stand_in(drives: Sequence[Drive], domain: str) -> list[list[Drive]]:
    """The drives by the domain they stand in, each with its smallest last."""
    rows: dict[str, list[Drive]] = {}
    for drive in sorted(drives, key=lambda d: d.size, reverse=True):
        rows.setdefault(drive.place(domain), []).append(drive)
    return list(rows.values())


def arrange(
    drives: Sequence[Drive],
    sets: int,
    tolerance: int,
    domain: str,
    *,
    standing: Sequence[Sequence[Drive]] | None = None,
) -> tuple[Drive, ...] | None:
    """The drives in an order in which no set has more than ``tolerance`` of them in one domain, or None. ``standing``
    is what ``stand_in`` gives, where that is known already.

    Sets are filled one after the other with the smallest drives that leave the rest possible, so that
    as little as can be is lost to uneven sizes. Possible exactly when no domain holds more than
    sets x tolerance drives.
    """
    rows = stand_in(drives, domain) if standing is None else standing
    width = len(drives) // sets
    if max(len(row) for row in rows) > sets * tolerance or width > sum(min(tolerance, len(row)) for row in rows):
        return None
    left = [list(row) for row in rows]
    order: list[Drive] = []
    for remaining in range(sets, 0, -1):
        chosen: list[Drive] = []
        taken = [0] * len(left)
        later = (remaining - 1) * tolerance
        if max(map(len, left)) > later:
            for i, row in enumerate(left):
                # What the later sets cannot take of this domain must come into this one.
                taken[i] = max(0, len(row) - later)
                chosen += (row.pop() for _ in range(taken[i]))
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
