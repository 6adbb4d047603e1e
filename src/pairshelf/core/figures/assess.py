"""Every figure of a layout, brought together in one place: what is shown anywhere comes from here."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.file_systems import DEFAULT_FILE_SYSTEM
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.figures.assumptions import Assumptions
from pairshelf.core.figures.cautions import Caution, cautions
from pairshelf.core.figures.cost import Cost, cost, restore_hours
from pairshelf.core.figures.durations import Duration, check, first_sync, slowest_rebuild, with_users
from pairshelf.core.figures.odds import Asked, Chain, Odds, chain_of_curve, failure_rate, odds_of_all, unreadable
from pairshelf.core.figures.space import SpaceAccount, space_account
from pairshelf.core.figures.speed import Speed, speed, user_share
from pairshelf.core.figures.survival import Survival, curve, survival
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.model import Family
from pairshelf.core.patience import still_wanted


@dataclass(frozen=True)
class Assessment:
    """A layout with all its figures. Hours include the users' share of the drives."""

    layout: Layout
    given: Assumptions
    space: SpaceAccount
    survives: Survival
    first_sync_hours: float | None
    check_hours: float
    rebuild_hours: float | None
    #: From a failure to redundancy restored: the rebuild, and without a spare the wait for a drive.
    repair_hours: float | None
    #: Chance that a repair with no redundancy to spare meets an unreadable sector.
    q: float
    odds: Odds
    speed: Speed
    cost: Cost
    restore_hours: float | None

    @cached_property
    def curve(self) -> tuple[float, ...]:
        """The survival curve, k = 0..N members."""
        return curve(self.layout)

    @cached_property
    def cautions(self) -> tuple[Caution, ...]:
        """What to beware of."""
        return cautions(self.layout, self.space, self.q, self.given)


def assess(
    layout: Layout, given: Assumptions, *, file_system: str = DEFAULT_FILE_SYSTEM, reserved_share: float | None = None
) -> Assessment:
    """All figures of a layout whose drives already carry what is assumed of them (``assume``)."""
    return assess_all([layout], given, file_system=file_system, reserved_share=reserved_share)[0]


def assess_all(
    layouts: Sequence[Layout], given: Assumptions, *, file_system: str = DEFAULT_FILE_SYSTEM,
    reserved_share: float | None = None,
) -> list[Assessment]:  # fmt: skip
    """The same for many layouts, whose odds are worked out together."""
    times = [_Times.of(layout, given) for layout in layouts]
    asked = [Asked(chain_of(x, t.repair_hours), chains_of(x), t.q) for x, t in zip(layouts, times, strict=True)]
    found = []
    for layout, time, chances in zip(layouts, times, odds_of_all(asked), strict=True):
        space = space_account(layout, file_system=file_system, reserved_share=reserved_share)
        still_wanted()
        found.append(Assessment(
            layout, given, space, survival(layout), time.first_sync_hours, time.check_hours, time.rebuild_hours,
            time.repair_hours, time.q, chances, speed(layout, given.network),
            cost((*layout.members, *layout.spares), space.usable, given), restore_hours(space.usable, given),
        ))  # fmt: skip
    return found


@dataclass(frozen=True, slots=True)
class _Times:
    """What the odds need to know of a layout, and the hours beside."""

    first_sync_hours: float | None
    check_hours: float
    rebuild_hours: float | None
    repair_hours: float | None
    q: float

    @classmethod
    def of(cls, layout: Layout, given: Assumptions) -> _Times:
        share = user_share(layout, given)

        def hours(duration: Duration | None) -> float | None:
            seconds = with_users(duration, share)
            return None if seconds is None else seconds / 3600

        rebuild = hours(slowest_rebuild(layout, given.network))
        repair = None if rebuild is None else rebuild + (0.0 if has_fitting_spare(layout) else given.replace_hours)
        q = unreadable(worst_bit_errors(layout.members), repair_reads(layout)) if layout.scheme.survives else 0.0
        return cls(hours(first_sync(layout)), hours(check(layout)) or 0.0, rebuild, repair, q)


def mean_failure(drives: Sequence[Drive]) -> float:
    """Mean annual failure rate of the members."""
    return sum(d.yearly_failure for d in drives) / len(drives)


def worst_bit_errors(drives: Sequence[Drive]) -> float:
    """Worst UBER of the members."""
    return max(d.bit_errors for d in drives)


def repair_reads(layout: Layout) -> int:
    """Bytes that the repair of one member reads when nothing more may fail: all data of its set.

    Of a set with its tolerance used up only n - p members are left, as many as carry its data.
    """
    if layout.scheme.family is Family.STEPPED:
        return layout.data_extents * EXTENT
    return max(min(d.extents for d in one) for one in layout.sets) * layout.scheme.data_columns(layout.width) * EXTENT


def has_fitting_spare(layout: Layout) -> bool:
    """Whether a spare is there that can replace any member."""
    largest = max(d.extents for d in layout.members)
    return any(s.extents >= largest for s in layout.spares)


def chains_of(layout: Layout) -> int:
    """How many alike chains the pool is: its sets (drives without redundancy: one)."""
    return 1 if layout.scheme.family is Family.STEPPED or layout.scheme.survives == 0 else len(layout.sets)


def chain_of(layout: Layout, repair_hours: float | None) -> Chain:
    """The Markov chain of one set; a stepped pool is one chain over all members."""
    rate = failure_rate(mean_failure(layout.members))
    tolerance = layout.scheme.survives
    if layout.scheme.family is Family.STEPPED:
        return chain_of_curve(len(layout.members), rate, repair_hours, curve(layout), tolerance)
    return Chain.of_set(len(layout.members) if tolerance == 0 else layout.width, tolerance, rate, repair_hours)
