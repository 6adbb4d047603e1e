"""Every figure of a layout, brought together in one place: what is shown anywhere comes from here."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from operator import attrgetter

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.file_systems import DEFAULT_FILE_SYSTEM
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.figures.assumptions import Assumptions
from pairshelf.core.figures.cautions import Caution, cautions
from pairshelf.core.figures.cost import Bill, Cost, bill, cost, restore_hours
from pairshelf.core.figures.durations import Duration, check, first_sync, with_users
from pairshelf.core.figures.odds import Alike, Chain, Odds, chain_of_curve, failure_rate, odds_of_all, unreadable
from pairshelf.core.figures.space import SpaceAccount, space_account
from pairshelf.core.figures.speed import Speed, mixed_writes, speed, user_share
from pairshelf.core.figures.survival import Survival, curve, survival
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.model import Family
from pairshelf.core.patience import still_wanted


@dataclass(frozen=True, slots=True)
class SetsAlike:
    """Sets of one pool that are alike in what their odds depend on."""

    #: How many, and drives in each.
    sets: int
    width: int
    #: Mean annual failure rate and worst UBER of a set's members.
    afr: float
    uber: float
    rebuild_hours: float | None
    repair_hours: float | None
    #: Bytes that a repair with nothing to spare reads, and the chance to meet an unreadable sector in them.
    reads: int
    q: float


@dataclass(frozen=True)
class Assessment:
    """A layout with all its figures. Hours include the users' share of the drives."""

    layout: Layout
    given: Assumptions
    space: SpaceAccount
    survives: Survival
    first_sync_hours: float | None
    check_hours: float
    #: Of the slowest set.
    rebuild_hours: float | None
    #: From a failure to redundancy restored: the rebuild, and without a spare the wait for a drive; the slowest set's.
    repair_hours: float | None
    #: Chance that a repair with no redundancy to spare meets an unreadable sector; of the set where it is highest.
    q: float
    #: Its sets, alike ones together.
    groups: tuple[SetsAlike, ...]
    odds: Odds
    speed: Speed
    cost: Cost
    restore_hours: float | None

    @cached_property
    def small_writes(self) -> float:
        """Small writes a second in the mix that is assumed or given."""
        return mixed_writes(self.layout, self.given.whole_stripes)

    @cached_property
    def user_share(self) -> float:
        """Share of every drive that users take meanwhile."""
        return user_share(self.layout, self.given)

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
    found = []
    for layout, time, chances in zip(layouts, times, odds_of_all([t.alike for t in times]), strict=True):
        space = space_account(layout, file_system=file_system, reserved_share=reserved_share)
        still_wanted()
        found.append(Assessment(
            layout, given, space, survival(layout), time.first_sync_hours, time.check_hours, time.rebuild_hours,
            time.repair_hours, max(g.q for g in time.groups), time.groups, chances, speed(layout, given.network),
            cost(_bill(layout), space.usable, given), restore_hours(space.usable, given),
        ))  # fmt: skip
    return found


def _bill(layout: Layout) -> Bill:
    found: Bill = layout.same("bill", lambda: bill((*layout.members, *layout.spares)))
    return found


@dataclass(frozen=True, slots=True)
class _Times:
    """What the odds need to know of a layout, and the hours beside."""

    first_sync_hours: float | None
    check_hours: float
    rebuild_hours: float | None
    repair_hours: float | None
    groups: tuple[SetsAlike, ...]
    alike: tuple[Alike, ...]

    @classmethod
    def of(cls, layout: Layout, given: Assumptions) -> _Times:
        share = user_share(layout, given)

        def hours(duration: Duration | None) -> float | None:
            seconds = with_users(duration, share)
            return None if seconds is None else seconds / 3600

        groups = sets_alike(layout, given, share)
        rebuilds = [g.rebuild_hours for g in groups if g.rebuild_hours is not None]
        repairs = [g.repair_hours for g in groups if g.repair_hours is not None]
        return cls(
            hours(first_sync(layout)), hours(check(layout)) or 0.0, max(rebuilds, default=None),
            max(repairs, default=None), groups, tuple(Alike(chain_of(layout, g), g.sets, g.q) for g in groups),
        )  # fmt: skip


def sets_alike(layout: Layout, given: Assumptions, share: float) -> tuple[SetsAlike, ...]:
    """A pool's sets, alike ones together, as ``share`` of every drive is taken by users. Each has its own rebuild
    time, mean AFR and worst UBER (rules: odds where sets differ). Without redundancy, and stepped, it is one."""
    if layout.scheme.survives == 0:
        members = layout.members
        one = SetsAlike(1, len(members), mean_failure(members), worst_bit_errors(members), None, None, 0, 0.0)
        return (one,)
    largest_spare = max((s.extents for s in layout.spares), default=0)
    if layout.scheme.family is Family.STEPPED:
        sets: Sequence[Sequence[Drive]] = [layout.members]
        seconds = [layout.slowest_rebuild_seconds(given.network)]
        read = [layout.data_extents * EXTENT]
    else:
        sets, seconds = layout.sets, layout.rebuild_seconds_by_set(given.network)
        # Of a set with its tolerance used up only n - p members are left, as many as carry its data.
        read = [min(map(_EXTENTS, one)) * layout.scheme.data_columns(len(one)) * EXTENT for one in sets]
    alike = layout.same("alike", lambda: _alike(layout.members))
    counted: Counter[tuple[int, float, float, float, bool, int]] = Counter()
    for own, idle, reads in zip(sets, seconds, read, strict=True):
        fits = largest_spare > 0 and largest_spare >= max(map(_EXTENTS, own))
        afr = mean_failure(own) if alike is None else alike[0]
        uber = worst_bit_errors(own) if alike is None else alike[1]
        counted[len(own), afr, uber, idle, fits, reads] += 1
    found = []
    for (width, afr, uber, idle, fits, reads), count in counted.items():
        rebuild = idle / (1 - share) / 3600
        repair = rebuild + (0.0 if fits else given.replace_hours)
        found.append(SetsAlike(count, width, afr, uber, rebuild, repair, reads, unreadable(uber, reads)))
    return tuple(found)


_EXTENTS = attrgetter("extents")


def _alike(drives: Sequence[Drive]) -> tuple[float, float] | None:
    """The failure rate and the UBER of drives that all have the same ones; None where they differ."""
    found = {(d.yearly_failure, d.bit_errors) for d in drives}
    return next(iter(found)) if len(found) == 1 else None


def mean_failure(drives: Sequence[Drive]) -> float:
    """Mean annual failure rate of the members; to the bit that of each, where all have the same."""
    first = drives[0].yearly_failure
    if all(d.yearly_failure == first for d in drives):
        return first
    return sum(d.yearly_failure for d in drives) / len(drives)


def worst_bit_errors(drives: Sequence[Drive]) -> float:
    """Worst UBER of the members."""
    return max(d.bit_errors for d in drives)


def chain_of(layout: Layout, one: SetsAlike) -> Chain:
    """The Markov chain of one set; a stepped pool is one chain over all members."""
    rate, tolerance = failure_rate(one.afr), layout.scheme.survives
    if layout.scheme.family is Family.STEPPED:
        return chain_of_curve(one.width, rate, one.repair_hours, curve(layout), tolerance)
    return Chain.of_set(one.width, tolerance, rate, one.repair_hours)
