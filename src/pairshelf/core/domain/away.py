"""What is away, called by what it is: a host or a shelf that went as one, or drives."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from pairshelf.core.domain.words import listed


@dataclass(frozen=True, slots=True)
class Stood:
    """A member: the host and the shelf its drive stood on, and whether it is away."""

    host: str | None
    shelf: str | None
    away: bool


def away_named(members: Sequence[Stood]) -> str:
    """In words what is away: ``host elm with 4 drives``. A host or a shelf is named when it had two members or more
    and all of them are away; of one that is a host's only shelf the host is named."""
    left = [m for m in members if m.away]
    found: list[str] = []
    for kind in ("host", "shelf"):
        for name in dict.fromkeys(getattr(m, kind) for m in left if getattr(m, kind)):
            own = [m for m in members if getattr(m, kind) == name]
            if len(own) > 1 and all(m.away for m in own) and any(m in left for m in own):
                found.append(f"{kind} {name} with {len(own)} drives")
                left = [m for m in left if getattr(m, kind) != name]
    if left:
        found.append("one drive" if len(left) == 1 else f"{len(left)} drives")
    return listed(found)
