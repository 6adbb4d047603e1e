"""How fast a layout reads and writes (rules: speed): bytes per second, and small operations per second.

N members, d data drives (copies-c: N/c; parity: N - m x p; stepped: N - p; otherwise N), one drive's rate r and operations o;
where members differ, the slowest counts. A stream of a spread pool lasts as long as its busiest drive is at work.
"""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.figures.assumptions import Assumptions
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.model import Code


@dataclass(frozen=True, slots=True)
class Speed:
    """Small operations per second, sequential bytes per second."""

    random_read: float
    #: Small writes where a stripe is read, changed and written back: 2(p+1) operations each.
    random_write_rmw: float
    #: Small writes where every write touches a whole stripe: a set behaves like one drive.
    random_write_whole_stripe: float
    sequential_read: float
    sequential_write: float

    def as_dict(self) -> dict[str, float]:
        """Figure by figure."""
        return {name: getattr(self, name) for name in self.__slots__}


def sequential_write(layout: Layout) -> float:
    """Bytes a second of one long write."""
    return layout.stream_write()


def sequential_read(layout: Layout) -> float:
    """Bytes a second of one long read."""
    return layout.stream_read()


def small_reads(layout: Layout) -> float:
    """Small reads a second: each is served by one drive; of drives that follow one another, as with writes, by the one on
    which all that is asked for together lies."""
    one = float(layout.operations)
    return one if layout.scheme.one_after_another else len(layout.members) * one


def small_writes(layout: Layout) -> tuple[float, float]:
    """Small writes a second: read, changed and written back; and where each moves a whole stripe."""
    members, scheme, one = len(layout.members), layout.scheme, layout.operations
    if scheme.code is Code.COPIES:
        both = members * one / layout.width
        return both, both
    if scheme.survives == 0:
        both = float(one if scheme.one_after_another else members * one)
        return both, both
    return members * one / (2 * (scheme.survives + 1)), float(one if scheme.one_set else len(layout.sets) * one)


def speed(layout: Layout, network: int | None = None) -> Speed:
    """All speeds; sequential ones never more than the links carry."""
    rmw, whole = small_writes(layout)
    most = _links(layout, network)
    return Speed(
        small_reads(layout),
        rmw,
        whole,
        min(sequential_read(layout), most),
        min(sequential_write(layout), most),
    )


def _links(layout: Layout, network: int | None) -> float:
    """What the shelves' links carry together, where each of them is known; and the network's."""
    most: float = layout.same("links", lambda: _shelves(layout))
    return min(most, network) if network else most


def _shelves(layout: Layout) -> float:
    """What the shelves' links carry together; without end where one is not known."""
    links = {(d.site, d.shelf): d.link for d in layout.members}
    known = [link for link in links.values() if link]
    return float(sum(known)) if len(known) == len(links) else float("inf")


#: However many writes users ask for, a rebuild gets this share of the drives at least.
LEFT_FOR_REBUILD = 0.05


def mixed_writes(layout: Layout, share: float) -> float:
    """Small writes a second where this share of them moves whole stripes: 1 / (w / whole + (1 - w) / rmw)."""
    rmw, whole = small_writes(layout)
    return rmw if share == 0 else 1 / (share / whole + (1 - share) / rmw)


def asked_share(layout: Layout, given: Assumptions) -> float:
    """Share of the drives' operations that users ask for; above 1 is more than the drives bear.

    From writes a second: a write read, changed and written back costs 2 (p+1) operations on any of N drives,
    one of whole stripes costs one on every drive of its set, so that wide sets have more to bear; copies
    cost c, without redundancy it is one.
    """
    if given.user_writes is None:
        return given.user_share or 0.0
    return given.user_writes / mixed_writes(layout, given.whole_stripes)


def user_share(layout: Layout, given: Assumptions) -> float:
    """The share u that users take of every drive while a job runs."""
    asked = asked_share(layout, given)
    return asked if given.user_writes is None else min(asked, 1 - LEFT_FOR_REBUILD)
