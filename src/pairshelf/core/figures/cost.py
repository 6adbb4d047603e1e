"""What a layout costs: its drives, their power, and how long a restore takes (rules: cost, backup)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.units import TB
from pairshelf.core.figures.assumptions import YEAR, Assumptions


@dataclass(frozen=True, slots=True)
class Cost:
    """Of all drives, spares included. None where a price is not known or the currencies differ."""

    total: float | None
    per_usable_tb: float | None
    currency: str | None
    watts: float
    #: Power for a year at the given tariff.
    yearly_power: float | None
    #: Drives without a price.
    unpriced: int

    def as_dict(self) -> dict[str, object]:
        """Figure by figure."""
        return {name: getattr(self, name) for name in self.__slots__}


@dataclass(frozen=True, slots=True)
class Bill:
    """What drives cost and draw, however they are laid out."""

    total: float | None
    currencies: frozenset[str]
    unpriced: int
    watts: float


def bill(drives: Sequence[Drive]) -> Bill:
    """Prices and watts together."""
    unpriced = sum(d.price is None for d in drives)
    currencies = frozenset(d.currency for d in drives if d.price is not None and d.currency)
    total = round(sum(d.price or 0.0 for d in drives), 2) if not unpriced and len(currencies) <= 1 else None
    return Bill(total, currencies, unpriced, round(sum(d.power for d in drives), 3))


def cost(of: Bill, usable: int, given: Assumptions) -> Cost:
    """Total and per usable TB (10^12 bytes); watts; kWh of a year times the tariff."""
    total, watts = of.total, of.watts
    return Cost(
        total=total,
        per_usable_tb=total / (usable / TB) if total is not None and usable > 0 else None,
        currency=next(iter(of.currencies)) if len(of.currencies) == 1 else None,
        watts=watts,
        yearly_power=None if given.tariff is None else watts * YEAR / 1000 * given.tariff,
        unpriced=of.unpriced,
    )


def restore_hours(amount: int, given: Assumptions) -> float | None:
    """Hours to bring ``amount`` bytes back over the backup's link; None without a backup."""
    return None if given.backup is None else amount / given.backup.link / 3600
