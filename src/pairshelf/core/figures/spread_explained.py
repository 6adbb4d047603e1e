"""How the figures of a spread pool's volumes are computed: the formula, the numbers in it, and its source."""

from __future__ import annotations

from pairshelf.core.domain.units import EXTENT, format_duration, format_size
from pairshelf.core.figures.assess import mean_failure, worst_bit_errors
from pairshelf.core.figures.assumptions import Assumptions
from pairshelf.core.figures.figure import OWN, Explanation
from pairshelf.core.figures.odds import failure_rate
from pairshelf.core.figures.spread_pools import PlacedVolume, SpreadFigures
from pairshelf.core.figures.told.chances import once


def spread_explanations(found: SpreadFigures, given: Assumptions) -> tuple[tuple[Explanation, ...], ...]:
    """For each volume of a spread pool, its figures explained."""
    return tuple(_of_volume(v, found, given) for v in found.volumes)


def _of_volume(volume: PlacedVolume, found: SpreadFigures, given: Assumptions) -> tuple[Explanation, ...]:
    wanted, pool = volume.wanted, found.pool
    p = wanted.protection
    curve, units = volume.survives.curve, volume.survives.units
    sampled = (
        ""
        if volume.survives.curve_interval is None
        else " Beyond a million selections it is sampled, with its interval."
    )
    k = volume.survives.guaranteed + 1
    afr, uber = mean_failure(pool.drives), worst_bit_errors(pool.drives)
    waits = 0.0 if len(pool.domains) > p.width else given.replace_hours
    rates = (
        f"AFR {afr:.3%}: λ = {failure_rate(afr):.4g}/h; μ = 1 / ({found.rebuild_hours:.2f} h repair + {waits:g} h waiting); "
        f"N = {units}"
    )
    chain = (
        "One Markov chain over all drives; the failure k → k+1 is loss with probability 1 − S(k+1)/S(k) of the real "
        "placement. An approximation for spread pools."
    )
    traffic = "2 B" if p.copies else f"({p.data} + 1) B"
    return (
        Explanation("stripes", "Stripes", "⌈size / (k extents)⌉, k extents of data in a stripe",
                    f"⌈{wanted.size:,} / ({p.data} × {EXTENT:,})⌉ = {wanted.stripes:,}", OWN),
        Explanation("pool_use", "Pool use", "stripes × w extents",
                    f"{wanted.stripes:,} × {p.width} × 1 GiB = {format_size(wanted.pool_use)} ({wanted.pool_use:,} bytes)", OWN),
        Explanation("guaranteed", "Failed drives survived, whichever they are", "what a stripe can do without",
                    f"{p.name} does without {p.survives}; "
                    f"S({k}) = {curve[k] if k <= units else 0:.6g}", OWN),
        Explanation("best_case", "Failed drives survived at best", "the largest selection that leaves every stripe readable",
                    f"{volume.survives.best_case} of {units}"
                    + ("" if volume.survives.best_case_exact else ", the most that sampling found: a lower bound"),
                    "Counted over the stripes as they are placed." + sampled),
        Explanation("rebuild_hours", "Repair of one drive",
                    "traffic of the lost drive's B bytes over the other drives' rates, never less than B over the rates of "
                    "those that may take the new extents",
                    f"{traffic} for this volume, all volumes together: {format_duration(found.rebuild_hours * 3600)}",
                    "All drives help; the drive that is worst to lose counts."),
        Explanation("yearly_loss", "Chance of losing the volume within a year", "P(loss within 8766 h) of the chain",
                    f"{rates} = {volume.odds.yearly_loss:.4g}{once(volume.odds.yearly_loss)}", chain),
        Explanation("yearly_damage", "Chance of damage or loss within a year",
                    "the same chain, in which a repair with nothing to spare meets an unreadable sector",
                    f"UBER {uber:g} per bit; {rates} = {volume.odds.yearly_damage:.4g}{once(volume.odds.yearly_damage)}", chain),
    )  # fmt: skip
