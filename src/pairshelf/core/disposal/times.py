"""How long wiping takes, for one drive and for a lot that shares links (rules: wiping). Seconds, bytes per second."""

from __future__ import annotations

from collections.abc import Sequence

from pairshelf.core.disposal.facts import DriveFacts
from pairshelf.core.disposal.methods import Method
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.figures.durations import in_lanes


def wipe_seconds(facts: DriveFacts, method: Method) -> float:
    """Passes x size / mean rate; what the drive reports where it erases by itself."""
    if method.passes:
        return method.passes * facts.size / facts.rate
    if method.by_hand or method.command is None:
        return 0.0
    return facts.identity.erase_seconds if facts.identity else 0.0


def verify_seconds(facts: DriveFacts, extents: int) -> float:
    """So many extents read back."""
    return extents * EXTENT / facts.rate


def uses_the_link(method: Method) -> bool:
    """Whether what it writes comes over the shelf's link; a drive's own commands do not."""
    return method.command is None and method.passes > 0


def side_by_side(facts: Sequence[DriveFacts]) -> int:
    """How many of these drives of one shelf may be written to at once before its link is what they wait for."""
    link = next((f.link for f in facts if f.link), None)
    if link is None:
        return len(facts)
    fastest = max((f.rate for f in facts), default=1)
    return max(1, min(len(facts), link // fastest))


def lot_seconds(jobs: Sequence[tuple[DriveFacts, Method, float]]) -> float:
    """Until all are done: on each shelf as many side by side as its link bears, the longest first (each ``float`` is
    what one drive takes by itself); what drives do by themselves all goes at once."""
    longest = max((seconds for f, m, seconds in jobs if not uses_the_link(m)), default=0.0)
    for shelf in {f.shelf for f, m, _ in jobs if uses_the_link(m)}:
        own = [(f, s) for f, m, s in jobs if f.shelf == shelf and uses_the_link(m)]
        longest = max(longest, in_lanes([s for _, s in own], side_by_side([f for f, _ in own])))
    return longest
