"""Dividing drives into sets so that a whole shelf or host may fail."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from pairshelf.core.drives import Drive


def arrange(drives: Sequence[Drive], sets: int, tolerance: int, domain: str) -> tuple[Drive, ...] | None:
    """The drives in an order in which no set has more than ``tolerance`` of them in one domain, or None.

    Sets are filled one after the other with the smallest drives that leave the rest possible, so that
    as little as can be is lost to uneven sizes. Possible exactly when no domain holds more than
    sets x tolerance drives.
    """
    left = sorted(drives, key=lambda d: d.extents)
    counts = Counter(d.place(domain) for d in left)
    width = len(left) // sets
    if max(counts.values()) > sets * tolerance:
        return None
    order: list[Drive] = []
    for remaining in range(sets, 0, -1):
        # A domain with more than the later sets can take must give some to this one.
        must = {place: count - (remaining - 1) * tolerance for place, count in counts.items()}
        chosen: list[Drive] = []
        used: Counter[str] = Counter()
        owed = sum(max(0, m) for m in must.values())
        rest = []
        for drive in left:
            place = drive.place(domain)
            due = must[place] > used[place]
            free = width - len(chosen) > owed
            if len(chosen) < width and used[place] < tolerance and (due or free):
                chosen.append(drive)
                used[place] += 1
                owed -= due
            else:
                rest.append(drive)
        if len(chosen) < width:
            return None
        order += chosen
        left = rest
        counts -= used
        for place in used:
            counts.setdefault(place, 0)
    return tuple(order)
