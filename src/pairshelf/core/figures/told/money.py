"""What it costs."""

from __future__ import annotations

from pairshelf.core.figures.assess import Assessment
from pairshelf.core.figures.figure import LayoutFigure, Worked


def _per_tb(a: Assessment, _file_system: str) -> Worked | None:
    c = a.cost
    if c.total is None or c.per_usable_tb is None:
        return None
    count = len(a.layout.members) + len(a.layout.spares)
    return Worked(
        "price of all drives, spares included / usable TB",
        f"{count} drives, {c.total:,.2f} {c.currency or ''} / {a.space.usable / 1e12:.2f} TB = {c.per_usable_tb:,.2f}",
        "Prices as given for each drive.",
    )


PER_TB = LayoutFigure(
    "cost_per_usable_tb", "Cost per usable TB", "Cost per usable TB", "per TB",
    "The price of all drives, spares included, for each usable terabyte (10¹² bytes).",
    "money", False, lambda a: a.cost.per_usable_tb, _per_tb, weighed=True, listed=True,
)  # fmt: skip
PRICE = LayoutFigure(
    "cost", "Cost of the drives", "Cost of the drives", "price", "The price of all drives, spares included.",
    "money", False, lambda a: a.cost.total,
)  # fmt: skip
POWER = LayoutFigure(
    "watts", "Power", "Power", "power", "What all drives draw together while they work.",
    "watts", False, lambda a: a.cost.watts,
)  # fmt: skip
