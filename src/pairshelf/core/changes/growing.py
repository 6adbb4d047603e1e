"""How a pool grows, step by step (rules: changes). A gain that comes only after the second or the last step is said beforehand."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from pairshelf.core.domain.drives import Drive
from pairshelf.core.figures.speed import user_share
from pairshelf.core.layouts import Layout

if TYPE_CHECKING:
    from pairshelf.core.figures.assess import Assessment


@dataclass(frozen=True, slots=True)
class Step:
    """One act of growing, and what the pool gives once it is done."""

    act: str
    #: Usable bytes afterwards, and how many more that is than before this step.
    usable: int
    gain: int
    #: Hours it takes; 0 where the capacity is there at once.
    hours: float
    #: When the capacity arrives, in words.
    when: str
    #: Failures survived, whichever they are, afterwards.
    guaranteed: int


@dataclass(frozen=True, slots=True)
class Path:
    """One way to grow, step by step in its best order; ``closed`` says why there is none."""

    way: str
    name: str
    steps: tuple[Step, ...]
    said_before: str | None = None
    closed: str | None = None


@dataclass(frozen=True, slots=True)
class Growing:
    """What is asked of every way to grow."""

    found: Assessment
    #: A layout with all its figures, under the same assumptions.
    after: Callable[[Layout], Assessment]
    file_system: str
    #: Drives or sets that are added.
    steps: int
    #: Bytes of the larger drives that would come.
    size: int

    def hours(self, seconds: float) -> float:
        return seconds / (1 - user_share(self.found.layout, self.found.given)) / 3600


def alike(layout: Layout, number: int) -> Drive:
    """One more drive like the largest there is most of."""
    return replace(max(layout.members, key=lambda d: d.size), id=f"new-{number}", shelf=None, serial=None)


def step_of(act: str, before: Assessment, after: Assessment, hours: float, when: str) -> Step:
    gain = after.space.usable - before.space.usable
    return Step(act, after.space.usable, gain, hours, when, after.survives.guaranteed)
