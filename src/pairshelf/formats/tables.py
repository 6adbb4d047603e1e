"""What a list may come as: whatever holds rows of cells. A reader each, and a line here.

Inventories and price lists are both read through this, so that a new reader serves both.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from pairshelf.core.errors import BadInput
from pairshelf.core.patience import still_wanted

#: Lines of a file, empty ones counted.
MOST_LINES = 50_000
MOST_BYTES = 16 * 1024 * 1024


@dataclass(frozen=True, slots=True)
class TableFormat:
    """A way to keep rows of cells in a file."""

    id: str
    about: str
    #: What a file chooser offers: endings, and media types.
    accepts: tuple[str, ...]
    #: Whether a file is of this format, by how it begins.
    known: Callable[[bytes], bool]
    #: Its rows, each with the number by which the person finds it; BadInput where they cannot be read.
    rows: Callable[[bytes], Iterator[tuple[int, list[str]]]]


def _csv_rows(raw: bytes) -> Iterator[tuple[int, list[str]]]:
    content = _decode(raw)
    first = content.split("\n", 1)[0]
    delimiter = max(",;\t", key=first.count)
    reader = csv.reader(io.StringIO(content, newline=""), delimiter=delimiter)

    def numbered() -> Iterator[tuple[int, list[str]]]:
        number = 0
        try:
            for number, cells in enumerate(reader, start=1):
                if number > MOST_LINES:
                    raise BadInput(
                        f"More than {MOST_LINES:,} lines, empty ones counted; leave out what is empty, or bring the "
                        "drives in with several smaller files.",
                        code="too-many-rows",
                    )
                yield number, cells
        except csv.Error as error:
            raise BadInput(f"Row {number + 1} cannot be read as CSV: {error}.", code="not-csv") from None

    return numbered()


def _decode(raw: bytes) -> str:
    if raw.startswith((b"\xff\xfe", b"\xfe\xff")):
        try:
            return raw.decode("utf-16")
        except UnicodeDecodeError:
            raise BadInput("The file starts like UTF-16 but is not.", code="wrong-encoding") from None
    if b"\x00" in raw:
        raise BadInput("This is not a text file. Save the list as CSV and choose that file.", code="binary-file")
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        row = raw.count(b"\n", 0, error.start) + 1
        raise BadInput(
            f"Row {row} is not UTF-8 text (byte {raw[error.start]:#04x}). Save the list as “CSV UTF-8”.",
            code="wrong-encoding",
        ) from None


#: What was added last is asked first whether it knows a file; the first takes whatever is text.
TABLES: dict[str, TableFormat] = {
    "csv": TableFormat(
        "csv", "Comma-separated values (RFC 4180); semicolons and tabs too.", (".csv", ".tsv", ".txt", "text/csv"),
        lambda raw: True, _csv_rows,
    ),
}  # fmt: skip


def read_table(raw: bytes) -> Iterator[tuple[int, list[str]]]:
    """Rows of a file as (number, cells), blank rows left out."""
    if len(raw) > MOST_BYTES:
        raise BadInput(
            "The file is larger than 16 MiB; bring the drives in with several smaller files.",
            code="too-large",
        )
    found = next(one for one in reversed(TABLES.values()) if one.known(raw))

    def filled() -> Iterator[tuple[int, list[str]]]:
        for number, cells in found.rows(raw):
            if not number % 256:
                still_wanted()
            if any(c.strip() for c in cells):
                yield number, cells

    return filled()
