"""Repair of one drive of a spread pool: what the others share (rules: rebuild time)."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.layouts.links import link_share
from pairshelf.core.layouts.placing import SpreadPool
from pairshelf.core.layouts.protections import Protection

Held = Sequence[tuple[Protection, npt.NDArray[np.int64]]]


def repair_seconds(
    pool: SpreadPool, held: Held, lost: int, network: int | None, *, onto: Drive | None = None,
    readers: Sequence[Drive] | None = None,
) -> float:  # fmt: skip
    """Repair of one drive of a spread pool. ``held`` has, volume by volume, the extents on each drive.

    The others share the traffic (2B for copies, (k+1)B for parity), but never less than B over the rates
    of those that take the new extents, nor than the links allow. Without a domain to spare, only the
    drives left in that domain take any; ``onto`` is one new drive that takes it all.
    """
    units = len(pool.drives)
    rates = np.array([d.mean_rate for d in pool.drives], float)
    domain_of = np.array(pool.domain_of)
    amount = sum(float(e[lost]) for _, e in held) * EXTENT
    if not amount:
        return 0.0
    traffic = sum(float(e[lost]) * (2 if p.copies else p.data + 1) for p, e in held) * EXTENT
    others = np.arange(units) != lost
    spare_domain = all(len(pool.domains) > p.width for p, _ in held)
    takers = others if spare_domain else others & (domain_of == domain_of[lost])
    # Where nothing may take it, it waits for a new drive, and that one takes it all.
    taking = float(onto.mean_rate if onto else rates[takers].sum() if takers.any() else rates[lost])
    reads = rates[others].sum() if readers is None else float(sum(d.mean_rate for d in readers))
    reading = traffic / reads if reads else 0.0
    links = link_share(pool.drives, network) * units
    return float(max(reading, amount / taking, traffic / links))
