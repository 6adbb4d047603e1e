"""Every figure of a layout, brought together in one place: what is shown anywhere comes from here."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

from pairshelf.core.assumptions import Assumptions
from pairshelf.core.cautions import Caution, cautions
from pairshelf.core.drives import Drive
from pairshelf.core.figures.cost import Cost, cost, restore_hours
from pairshelf.core.figures.durations import check, first_sync, slowest_rebuild, with_users
from pairshelf.core.figures.odds import Chain, Odds, chain_of_curve, failure_rate, odds, unreadable
from pairshelf.core.figures.space import SpaceAccount, space_account
from pairshelf.core.figures.speed import Speed, speed
from pairshelf.core.figures.survival import Survival, curve, survival
from pairshelf.core.file_systems import DEFAULT_FILE_SYSTEM
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.model import Family
from pairshelf.core.units import EXTENT


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
    space = space_account(layout, file_system=file_system, reserved_share=reserved_share)
    rebuild = slowest_rebuild(layout, given.network)
    hours = None if rebuild is None else (with_users(rebuild, given.user_share) or 0.0) / 3600
    repair = None if hours is None else hours + (0.0 if has_fitting_spare(layout) else given.replace_hours)
    q = unreadable(worst_bit_errors(layout.members), repair_reads(layout)) if layout.scheme.survives else 0.0
    sync = first_sync(layout)
    return Assessment(
        layout, given, space, survival(layout),
        None if sync is None else (with_users(sync, given.user_share) or 0.0) / 3600,
        (with_users(check(layout), given.user_share) or 0.0) / 3600, hours, repair, q,
        odds(chain_of(layout, repair), chains_of(layout), q), speed(layout, given.network),
        cost((*layout.members, *layout.spares), space.usable, given), restore_hours(space.usable, given),
    )  # fmt: skip


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
