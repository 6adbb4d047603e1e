"""How likely it is that something is lost."""

from __future__ import annotations

from pairshelf.core.domain.units import format_chance, format_size
from pairshelf.core.figures.assess import Assessment, SetsAlike, chain_of, mean_failure
from pairshelf.core.figures.figure import LayoutFigure, Worked
from pairshelf.core.figures.odds import failure_rate

CHAIN = (
    "Continuous-time Markov chain over the number of failed drives, one repair at a time (after Patterson, Gibson "
    "and Katz, 1988). Real repairs of fixed length live longer: the figure is on the safe side."
)


def once(chance: float) -> str:
    """A small chance in words as well."""
    return f", {format_chance(chance)}" if 0 < chance < 0.5 else ""


def _hours(hours: float | None) -> str:
    if hours is None:
        return "never"
    years = hours / 8766
    return f"{hours:,.0f} h ({years:,.0f} years)" if years >= 2 else f"{hours:,.0f} h"


def _unprotected(a: Assessment) -> Worked | None:
    """Of a layout that survives no failure: the same for loss and damage."""
    if a.layout.scheme.survives:
        return None
    afr, n = mean_failure(a.layout.members), len(a.layout.members)
    return Worked("1 − (1 − AFR)^N: any failed drive loses all",
                  f"AFR {afr:.3%}, {n} drives: 1 − (1 − {afr:g})^{n} = {a.odds.yearly_loss:.4g}", CHAIN)  # fmt: skip


def _of(group: SetsAlike, tolerance: int) -> str:
    """λ, μ and size of sets that are alike."""
    wait = (group.repair_hours or 0) - (group.rebuild_hours or 0)
    return (
        f"λ = −ln(1 − {group.afr:g}) / 8766 h = {failure_rate(group.afr):.4g}/h; "
        f"μ = 1 / ({group.rebuild_hours or 0:.2f} h rebuild + {wait:g} h until a drive is in); "
        f"n = {group.width}, t = {tolerance}"
    )


def _sets(group: SetsAlike) -> str:
    return f"{group.sets} set{'s' if group.sets > 1 else ''}"


def _each(a: Assessment) -> tuple[int, str]:
    """How many sets, and what is worked out with them: alike ones together, at most three kinds."""
    groups = sorted(a.groups, key=lambda g: -g.sets)
    if len(groups) == 1:
        m = groups[0].sets
        return m, _of(groups[0], a.layout.scheme.survives) + (f", {m} sets: 1 − (1 − P)^{m}" if m > 1 else "")
    shown = "; ".join(f"{_sets(g)}: {_of(g, a.layout.scheme.survives)}" for g in groups[:3])
    more = f"; and {len(groups) - 3} kinds more" if len(groups) > 3 else ""
    return sum(g.sets for g in groups), f"each set by itself: {shown}{more}; 1 − product of (1 − P)"


def _loss(a: Assessment, _file_system: str) -> Worked:
    if plain := _unprotected(a):
        return plain
    loss = a.odds.yearly_loss
    return Worked(
        "P(more than t of a set failed within 8766 h): i → i+1 at (n − i) λ, i → i−1 at μ",
        f"{_each(a)[1]} = {loss:.4g}{once(loss)}", CHAIN,
    )  # fmt: skip


def _damage(a: Assessment, _file_system: str) -> Worked:
    if plain := _unprotected(a):
        return plain
    damage, worst = a.odds.yearly_damage, max(a.groups, key=lambda g: g.q)
    where = f" (where it is highest: {_sets(worst)})" if len(a.groups) > 1 else ""
    return Worked(
        "the same chain, in which a repair with nothing to spare meets an unreadable sector with "
        "q = 1 − (1 − UBER)^(8 × bytes read)",
        f"UBER {worst.uber:g} per bit, {format_size(worst.reads)} read: q = {worst.q:.4g}{where}; "
        f"damage or loss = {damage:.4g}{once(damage)}",
        "UBER is the maker's ceiling, real drives are mostly better: an upper bound. A damaged sector is one file, not the pool.",
    )  # fmt: skip


def _mttdl(a: Assessment, _file_system: str) -> Worked:
    if not a.layout.scheme.survives:
        rate = failure_rate(mean_failure(a.layout.members))
        return Worked("1 / (N λ)", f"λ = {rate:.4g}/h: {_hours(a.odds.mttdl_hours)}", CHAIN)
    fastest = max(chain_of(a.layout, g).fail[0] for g in a.groups)
    first = f"h₀ = 1/(n λ) = {1 / fastest:,.0f} h" if fastest else "nothing ever fails"
    if len(a.groups) > 1 and fastest:
        first += " for the set that fails soonest"
    return Worked(
        "Σ h_i with h₀ = 1/(n λ), h_i = (1 + μ h_(i−1)) / ((n − i) λ)"
        + ("; for several sets the integral of the product of their survival functions" if _each(a)[0] > 1 else ""),
        f"{first}; in all {_hours(a.odds.mttdl_hours)}", CHAIN,
    )  # fmt: skip


LOSS = LayoutFigure(
    "yearly_loss", "Chance of losing data within a year", "Loss of data within a year", "loss a year",
    "The chance that the pool's data are lost within a year, for independent failures, with one repair at a time.",
    "chance", False, lambda a: a.odds.yearly_loss, _loss, weighed=True, listed=True,
)  # fmt: skip
DAMAGE = LayoutFigure(
    "yearly_damage", "Chance of damage or loss within a year", "Damage or loss within a year", "damage a year",
    "The chance that within a year a rebuild meets an unreadable sector with no redundancy left to mend it, or that all is "
    "lost. Mostly one file, not the pool. UBER is the maker's ceiling.",
    "chance", False, lambda a: a.odds.yearly_damage, _damage, weighed=True, listed=True,
)  # fmt: skip
MEAN_TIME = LayoutFigure(
    "mttdl_hours", "Mean time to data loss", "Mean time to data loss", "mean time",
    "Mean time until data are lost. It compares layouts; it predicts no single pool.",
    "hours", True, lambda a: a.odds.mttdl_hours, _mttdl,
)  # fmt: skip
