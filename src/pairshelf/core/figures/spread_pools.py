"""Figures of a spread pool: the account of a named protection, and what each volume bears."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.file_systems import overhead
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.figures.assumptions import Assumptions
from pairshelf.core.figures.odds import Odds, chain_of_curve, failure_rate, odds, unreadable
from pairshelf.core.figures.selections import Survey, rows_of, survey
from pairshelf.core.figures.space import SpaceAccount
from pairshelf.core.layouts.placing import Placed, Progress, SpreadPool, WantedVolume, place
from pairshelf.core.layouts.protections import Protection
from pairshelf.core.layouts.repairs import repair_seconds


def spread_account(
    pool: SpreadPool, protection: Protection, spares: Sequence[Drive] = (), *, repair: bool = True,
    file_system: str = "ext4", reserved_share: float | None = None,
) -> SpaceAccount:  # fmt: skip
    """The space account if all of the pool were protected like this; with ``repair`` the reserve that
    self-repair needs is set aside: (T without the test - T with it) x w extents."""
    most = pool.stripes_max(protection)
    kept = pool.stripes_with_repair(protection) if repair else most
    total = sum(pool.capacities)
    data = kept * protection.data * EXTENT
    held = overhead(file_system, data, reserved_share)
    return SpaceAccount(
        raw=sum(d.size for d in (*pool.drives, *spares)),
        spares=sum(d.size for d in spares),
        labels=sum(d.size - d.extents * EXTENT for d in pool.drives),
        uneven=(total - most * protection.width) * EXTENT,
        redundancy=kept * (protection.width - protection.data) * EXTENT,
        repair=(most - kept) * protection.width * EXTENT,
        reserve=0,
        file_system=held,
        usable=data - held,
    )


@dataclass(frozen=True, slots=True)
class PlacedVolume:
    """A volume where it lies, with what it bears. Hours include the users' share."""

    wanted: WantedVolume
    #: Of drives failing; ``by_domain`` of whole domains.
    survives: Survey
    by_domain: Survey
    odds: Odds


@dataclass(frozen=True, slots=True)
class SpreadFigures:
    """A spread pool with its volumes."""

    pool: SpreadPool
    volumes: tuple[PlacedVolume, ...]
    #: The whole pool: losing any volume.
    survives: Survey
    #: Repair of the drive that is worst to lose, with all volumes' extents on it.
    rebuild_hours: float
    stripes_max: dict[str, int]
    used: int
    free: int
    #: Domains whose loss could not be repaired; none: self-repair holds.
    repair_fails_without: tuple[str, ...]
    #: For each pair of drives, in how many stripes they stand together.
    partners: tuple[tuple[int, ...], ...]


def spread_figures(
    pool: SpreadPool, volumes: Sequence[WantedVolume], given: Assumptions, *, progress: Progress | None = None
) -> SpreadFigures:
    """Place the volumes, and say what each bears and how long its rebuild takes."""
    placed = place(pool, volumes, progress=progress)
    units = len(pool.drives)
    domain_of = np.array(pool.domain_of)
    hours = _rebuild_seconds(pool, volumes, placed, given.network) / (1 - (given.user_share or 0.0)) / 3600
    found = []
    for wanted, stripes in zip(volumes, placed, strict=True):
        tolerance = wanted.protection.survives
        drives = survey(rows_of(np.unique(stripes, axis=0).tolist(), units), tolerance)
        domains = (
            drives
            if pool.domain == "drive"
            else survey(rows_of(np.unique(domain_of[stripes], axis=0).tolist(), len(pool.domains)), tolerance)
        )
        found.append(PlacedVolume(wanted, drives, domains, _odds(pool, wanted, stripes, drives, hours, given)))
    used = sum(v.stripes * v.protection.width for v in volumes)
    return SpreadFigures(
        pool, tuple(found), found[0].survives if len(found) == 1 else _pool_survey(volumes, placed, units),
        hours,
        {v.protection.name: pool.stripes_max(v.protection) for v in volumes},
        used * EXTENT, (sum(pool.capacities) - used) * EXTENT, pool.self_repair_fails_without(volumes),
        _partners(placed, units),
    )  # fmt: skip


def _pool_survey(volumes: Sequence[WantedVolume], placed: Sequence[Placed], units: int) -> Survey:
    """All volumes together. Where some bear one failure and some two, a unit of the first weighs two:
    then one failed is within the common tolerance of 2, and two are not."""
    worst = max(v.protection.survives for v in volumes)
    rows = [
        rows_of(np.unique(stripes, axis=0).tolist(), units) * (worst // volume.protection.survives)
        for volume, stripes in zip(volumes, placed, strict=True)
    ]
    return survey(np.concatenate(rows), worst)


def _rebuild_seconds(
    pool: SpreadPool, volumes: Sequence[WantedVolume], placed: Sequence[Placed], network: int | None
) -> float:
    """Repair of the drive that is worst to lose."""
    units = len(pool.drives)
    held = [
        (v.protection, np.bincount(stripes.ravel(), minlength=units))
        for v, stripes in zip(volumes, placed, strict=True)
    ]
    return max(repair_seconds(pool, held, lost, network) for lost in range(units))


def _odds(
    pool: SpreadPool, wanted: WantedVolume, stripes: Placed, survives: Survey, hours: float, given: Assumptions
) -> Odds:
    """One chain over all drives, with the loss of each further failure from the curve."""
    rate = failure_rate(sum(d.yearly_failure for d in pool.drives) / len(pool.drives))
    held = int(np.bincount(stripes.ravel()).max())
    read = held * (1 if wanted.protection.copies else wanted.protection.data) * EXTENT
    q = unreadable(max(d.bit_errors for d in pool.drives), read)
    # It repairs itself into free extents; without a domain to spare it waits for a new drive.
    waits = 0.0 if len(pool.domains) > wanted.protection.width else given.replace_hours
    return odds(chain_of_curve(len(pool.drives), rate, hours + waits, survives.curve, survives.guaranteed), 1, q)


def _partners(placed: Sequence[Placed], units: int) -> tuple[tuple[int, ...], ...]:
    together = np.zeros((units, units), np.int64)
    for stripes in placed:
        rows, counts = np.unique(stripes, axis=0, return_counts=True)
        for row, count in zip(rows, counts, strict=True):
            together[np.ix_(row, row)] += count
    np.fill_diagonal(together, 0)
    return tuple(tuple(int(v) for v in row) for row in together)
