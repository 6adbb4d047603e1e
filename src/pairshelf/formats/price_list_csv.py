"""Price lists as comma-separated values (RFC 4180): one drive model a row.

Read as kindly as inventories are: headings by meaning, a unit in a heading counts for its cells.
"""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.domain.inventory import RowError
from pairshelf.core.domain.price_list import MODEL_COLUMNS, Model
from pairshelf.core.errors import BadInput
from pairshelf.formats.inventory_csv import Understood, read_row, readers, understand
from pairshelf.formats.tables import read_table

MOST_MODELS = 500


@dataclass(frozen=True, slots=True)
class PriceList:
    """A list as it was understood; nothing of it counts while there are errors."""

    columns: tuple[Understood, ...]
    models: tuple[Model, ...]
    errors: tuple[RowError, ...]


def read_price_list(raw: bytes) -> PriceList:
    """Models of a file. Raises BadInput where it is no list at all; row errors are collected."""
    table = read_table(raw)
    try:
        _, headings = next(table)
    except StopIteration:
        raise BadInput("The price list is empty.", code="empty-file", field="prices") from None
    columns = understand(headings, MODEL_COLUMNS)
    named = {u.field for u in columns}
    missing = [c.heading for c in MODEL_COLUMNS if c.needed and c.field not in named]
    if missing:
        return PriceList(columns, (), tuple(RowError(1, f"There is no column for the {m}.", m) for m in missing))
    reading = readers(columns, MODEL_COLUMNS)
    models: list[Model] = []
    errors: list[RowError] = []
    seen: dict[str, int] = {}
    for number, cells in table:
        values, wrong = read_row(number, cells, columns, reading)
        errors += wrong
        if wrong:
            continue
        if len(models) >= MOST_MODELS:
            raise BadInput(f"More than {MOST_MODELS} models; leave out what you would not buy.", field="prices")
        if values.get("price") is not None:
            values["price"] = float(values["price"])
        model = Model(**values)
        if model.model.lower() in seen:
            errors.append(
                RowError(number, f"{model.model} stands already in row {seen[model.model.lower()]}.", "model")
            )
            continue
        seen[model.model.lower()] = number
        models.append(model)
    if not models and not errors:
        errors.append(RowError(2, "There are headings but no models."))
    return PriceList(columns, tuple(models), tuple(errors))
