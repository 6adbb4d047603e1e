"""Inventories as comma-separated values (RFC 4180).

Read kindly: UTF-8 with or without a byte-order mark, or UTF-16 with one; comma, semicolon or tab;
headings matched by meaning; a unit in a heading counts for its cells. Written strictly: UTF-8,
commas, CRLF, and no cell any part of which a spreadsheet could take for a formula.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from difflib import get_close_matches
from typing import Any

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.inventory import COLUMNS, Column, DriveRecord, RowError
from pairshelf.core.errors import BadInput
from pairshelf.formats.tables import read_table

MOST_ROWS = 20_000
#: Errors listed one by one; the rest are counted.
MOST_ERRORS = 200

# A spreadsheet may take any of these for the end of a cell, whatever the file was written with; so what stands
# after one may become a cell of its own, and a formula.
_BEGINS = r"(^|[,;|\t\r\n])([ \"\u00a0]*)"
_SIGN = r"(?=[=+\-@\t\r\uff1d\uff0b\uff0d\uff20])"
_FORMULA = re.compile(_BEGINS + r"('*)" + _SIGN)
_GUARDED = re.compile(_BEGINS + r"'('*)" + _SIGN)


@dataclass(frozen=True, slots=True)
class Understood:
    """How one heading was understood; ``field`` None: the column is left aside."""

    heading: str
    field: str | None
    as_heading: str | None
    unit: str | None = None


@dataclass(frozen=True, slots=True)
class UnderstoodFile:
    """A file as it was understood, before anything is stored."""

    columns: tuple[Understood, ...]
    rows: tuple[tuple[int, DriveRecord], ...]
    errors: tuple[RowError, ...]
    more_errors: int
    total_rows: int


def read_inventory(raw: bytes) -> UnderstoodFile:
    """Understand a file. Raises BadInput where it is no list at all; row errors are collected."""
    table = read_table(raw)
    try:
        heading = next(table)
    except StopIteration:
        raise BadInput("The file is empty.", code="empty-file") from None
    columns = understand(heading[1])
    named = {u.field for u in columns}
    errors = [
        RowError(1, f"There is no column for the {c.heading}.", c.heading)
        for c in COLUMNS
        if c.needed and c.field not in named
    ]
    reading = readers(columns)
    rows: list[tuple[int, DriveRecord]] = []
    total = surplus = 0
    for number, cells in table:
        total += 1
        if total > MOST_ROWS:
            raise BadInput(
                f"More than {MOST_ROWS:,} rows; bring the drives in with several smaller files.",
                code="too-many-rows",
            )
        if errors and errors[0].row == 1:
            continue
        values, wrong = read_row(number, cells, columns, reading)
        if not wrong:
            rows.append((number, DriveRecord(**values)))
        surplus += max(0, len(errors) + len(wrong) - MOST_ERRORS)
        errors.extend(wrong[: max(0, MOST_ERRORS - len(errors))])
    if total == 0 and not errors:
        errors.append(RowError(2, "There are headings but no drives."))
    return UnderstoodFile(columns, tuple(rows), tuple(errors), surplus, total)


def _plain(heading: str) -> str:
    return re.sub(r"[^a-z]", "", heading.lower())


def understand(headings: Sequence[str], known: Sequence[Column] = COLUMNS) -> tuple[Understood, ...]:
    """Which of the known columns each heading means, and the unit it gives its cells."""
    by_name = {name: c for c in known for name in (_plain(c.heading), _plain(c.field), *c.also)}
    understood: list[Understood] = []
    used: set[str] = set()
    for heading in headings:
        bare, unit = heading, None
        if match := re.search(r"[\[(]\s*([A-Za-z%/]+)\s*[\])]\s*$", heading):
            bare, unit = heading[: match.start()], match[1]
        name = _plain(bare)
        column = by_name.get(name)
        if column is None and len(name) > 3:
            close = get_close_matches(name, by_name, n=1, cutoff=0.85)
            column = by_name[close[0]] if close else None
        if column is None or column.field in used:
            understood.append(Understood(heading, None, None))
            continue
        used.add(column.field)
        understood.append(Understood(heading, column.field, column.heading, unit))
    return tuple(understood)


def readers(columns: Sequence[Understood], known: Sequence[Column] = COLUMNS) -> list[Column | None]:
    """For each column of a file, the known one that reads its cells."""
    by_field = {c.field: c for c in known}
    return [by_field[u.field] if u.field else None for u in columns]


def read_row(
    number: int, cells: Sequence[str], columns: Sequence[Understood], known: Sequence[Column | None]
) -> tuple[dict[str, Any], list[RowError]]:
    """The values of a row by field, and what is wrong with it."""
    values: dict[str, Any] = {}
    errors: list[RowError] = []
    for index, column in enumerate(known):
        if column is None:
            continue
        cell = _unguard(cells[index].strip()) if index < len(cells) else ""
        if not cell:
            if column.needed:
                errors.append(RowError(number, f"The {column.heading} is missing.", column.heading))
            continue
        unit = columns[index].unit
        if unit and re.fullmatch(r"[\d.,'_]+", cell):
            cell = f"{cell} {unit}"
        try:
            values[column.field] = column.read(cell)
        except BadInput as error:
            errors.append(RowError(number, error.message, column.heading))
    if any(extra.strip() for extra in cells[len(known) :]):
        errors.append(RowError(number, f"Has {len(cells)} cells, the heading has {len(known)}."))
    if "price" in values:
        values["price"], values["currency"] = values["price"]
    return values, errors


def _unguard(cell: str) -> str:
    return _GUARDED.sub(r"\1\2\3", cell)


def guard(cell: str) -> str:
    """A cell of which no spreadsheet takes any part for a formula; reading it gives the cell back."""
    return _FORMULA.sub(r"\1\2'\3", cell)


_WRITE: dict[str, Callable[[DriveRecord], str]] = {
    "kind": lambda r: r.kind.value,
    "size": lambda r: f"{r.size} B",
    "rate": lambda r: f"{r.rate} B/s" if r.rate else "",
    "link": lambda r: f"{r.link} B/s" if r.link else "",
    "error_recovery": lambda r: "" if r.error_recovery is None else f"{r.error_recovery!r} s",
    "rated_writes": lambda r: f"{r.rated_writes} B" if r.rated_writes else "",
    "max_temperature": lambda r: "" if r.max_temperature is None else f"{r.max_temperature!r} C",
    "afr": lambda r: "" if r.afr is None else repr(r.afr),
    "uber": lambda r: "" if r.uber is None else repr(r.uber),
    "price": lambda r: "" if r.price is None else f"{r.price} {r.currency or ''}".strip(),
    "in_service": lambda r: r.in_service.isoformat() if r.in_service else "",
    "starts_host": lambda r: "yes" if r.starts_host else "",
}


def write_inventory(records: Iterable[DriveRecord]) -> bytes:
    """The records as CSV; reading it back gives the same records."""
    out = io.StringIO(newline="")
    writer = csv.writer(out)
    writer.writerow([c.heading for c in COLUMNS])
    for record in records:
        writer.writerow([guard(_cell(record, c.field)) for c in COLUMNS])
    return out.getvalue().encode()


def _cell(record: DriveRecord, name: str) -> str:
    if name in _WRITE:
        return _WRITE[name](record)
    value = getattr(record, name)
    return "" if value is None else str(value)


#: What a drive of a question takes from a list, beside its id.
_OF_A_DRIVE = (
    "size", "kind", "rate", "shelf", "link", "host", "site", "afr", "uber", "price", "model", "serial", "in_service",
    "error_recovery",
)  # fmt: skip


def read_drives(raw: bytes) -> tuple[Drive, ...]:
    """Drives of any CSV that has at least an id (or serial), a size and a kind, in their order.

    Takes an inventory, or ``id,size_bytes,kind`` with more columns allowed. Raises BadInput naming
    the first row that cannot be read.
    """
    table = read_table(raw)
    try:
        _, headings = next(table)
    except StopIteration:
        raise BadInput("The file of drives is empty.", field="drives") from None
    columns = understand(headings)
    where = {u.field: i for i, u in enumerate(columns) if u.field}
    ids = next((i for i, h in enumerate(headings) if _plain(h) in {"id", "driveid", "drive"}), where.get("serial"))
    if ids is None or "size" not in where or "kind" not in where:
        missing = [
            n for n, got in (("id", ids), ("size", where.get("size")), ("kind", where.get("kind"))) if got is None
        ]
        raise BadInput(f"The file has no column for the {' and the '.join(missing)}.", field="drives")
    wanted = [
        replace(c, needed=c.field in ("size", "kind")) if c is not None and c.field in _OF_A_DRIVE else None
        for c in readers(columns)
    ]
    drives: list[Drive] = []
    for number, cells in table:
        values, wrong = read_row(number, cells[: len(columns)], columns, wanted)
        if wrong:
            raise BadInput(f"Row {number}: {wrong[0].reason}", field="drives")
        identity = _unguard(cells[ids].strip()) if ids < len(cells) else ""
        if not identity:
            raise BadInput(f"Row {number}: the id is missing.", field="drives")
        if (price := values.get("price")) is not None:
            values["price"] = float(price)
        drives.append(Drive(identity, **values))
    return tuple(drives)
