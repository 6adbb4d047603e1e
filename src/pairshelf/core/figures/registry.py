"""All figures of a layout, in the order in which they are shown. A new one is a module and a line here."""

from __future__ import annotations

from pairshelf.core.domain.units import UnitSystem, format_chance, format_duration, format_size
from pairshelf.core.figures.assess import Assessment
from pairshelf.core.figures.figure import Explanation, LayoutFigure
from pairshelf.core.figures.told import capacity, chances, failures, money, speeds, times

FIGURES: dict[str, LayoutFigure] = {
    one.id: one
    for one in (
        capacity.USABLE,
        capacity.EFFICIENCY,
        capacity.REDUNDANCY,
        capacity.UNEVEN,
        failures.GUARANTEED,
        failures.BEST_CASE,
        times.REBUILD,
        times.FIRST_SYNC,
        times.CHECK,
        chances.LOSS,
        chances.DAMAGE,
        chances.MEAN_TIME,
        speeds.SMALL_READS,
        speeds.MIXED_WRITES,
        speeds.SMALL_WRITES,
        speeds.WHOLE_STRIPES,
        speeds.READING,
        speeds.WRITING,
        money.PER_TB,
        money.PRICE,
        money.POWER,
        times.RESTORE,
    )
}


def figures_of(found: Assessment) -> dict[str, float | None]:
    """Every figure of a layout by its id; sizes in bytes, times in hours, rates a second."""
    return {one.id: one.value(found) for one in FIGURES.values()}


def explanations(found: Assessment, file_system: str) -> tuple[Explanation, ...]:
    """Every figure of a layout explained, and its survival curve."""
    told = [one.explained(found, file_system) for one in FIGURES.values()]
    return (*(t for t in told if t), failures.curve_explained(found))


def format_figure(figure: LayoutFigure, value: float | None, system: UnitSystem, currency: str | None = None) -> str:
    """A figure's value for people."""
    if value is None:
        return "–"
    match figure.unit:
        case "bytes":
            return format_size(round(value), system)
        case "bytes a second":
            return f"{format_size(round(value), system)}/s"
        case "operations a second":
            return f"{value:,.0f}/s"
        case "drives":
            return f"{value:g}"
        case "hours":
            return format_duration(value * 3600)
        case "chance":
            return format_chance(value)
        case "share":
            return f"{value:.1%}"
        case "money":
            return f"{value:,.2f} {currency or ''}".strip()
        case "watts":
            return f"{value:.0f} W"
