"""An inventory: the facts of a drive as people list them, and what makes a list of them sound."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, fields
from decimal import Decimal, InvalidOperation

from pairshelf.core.domain.drives import LARGEST, Kind, extents_of, parse_kind
from pairshelf.core.domain.units import parse_rate, parse_size
from pairshelf.core.errors import BadInput

#: Longest text taken in any cell.
LONGEST = 200
MOST_BAYS = 1000
#: Where a drive is when its list names no site.
USUAL_SITE = "Main site"


@dataclass(frozen=True, slots=True)
class DriveRecord:
    """One drive of an inventory. Sizes in bytes, rates in bytes per second, times in seconds."""

    shelf: str
    bay: int
    serial: str
    size: int
    kind: Kind
    site: str = USUAL_SITE
    host: str | None = None
    bays: int | None = None
    #: What all drives of its shelf share, bytes per second.
    link: int | None = None
    maker: str | None = None
    model: str | None = None
    bus: str | None = None
    sector_size: int | None = None
    rpm: int | None = None
    error_recovery: float | None = None
    afr: float | None = None
    uber: float | None = None
    rate: int | None = None
    #: What its maker rates it for: bytes written in all, and degrees Celsius.
    rated_writes: int | None = None
    max_temperature: float | None = None
    use: str | None = None
    #: The number under which its owner has it in the books of what is owned.
    property_number: str | None = None
    in_service: dt.date | None = None
    price: Decimal | None = None
    currency: str | None = None
    #: What is known of data on it that Pair Shelf did not write.
    holds: str | None = None
    #: A host starts from it: it is never offered.
    starts_host: bool = False


@dataclass(frozen=True, slots=True)
class RowError:
    """What is wrong with a row, by its number in the file (the heading is row 1)."""

    row: int
    reason: str
    column: str | None = None


def text(value: str) -> str:
    """A cell's text, refused when too long or not printable."""
    if len(value) > LONGEST:
        raise BadInput(f"Longer than {LONGEST} characters.")
    if not value.isprintable():
        raise BadInput("Contains characters that cannot be printed.")
    return value


def _serial(value: str) -> str:
    if len(value) > 64:
        raise BadInput("A serial has at most 64 characters.")
    return text(value)


def _size(value: str) -> int:
    size = parse_size(value)
    if size == 0:
        raise BadInput("A drive of size zero.")
    if extents_of(size) < 1:
        raise BadInput(f"{size} bytes is too small for a drive (at least 1.25 GiB); is the unit missing?")
    if size > LARGEST:
        raise BadInput("More than 1 PB in one drive; check the number and its unit.")
    return size


#: Texts of a record, and the numbers with the ranges they may have.
_TEXTS = ("shelf", "site", "host", "maker", "model", "bus", "use", "property_number", "currency", "holds")
_RANGES: dict[str, tuple[float, float]] = {
    "bay": (0, MOST_BAYS), "bays": (1, MOST_BAYS), "link": (1, 10**15), "sector_size": (512, 65536), "rpm": (0, 30000),
    "error_recovery": (0, 10**6), "afr": (0, 1), "uber": (0, 1e-6), "rate": (1, 10**15), "rated_writes": (1, 10**18),
    "max_temperature": (0, 150), "price": (0, 10**9),
}  # fmt: skip


def checked(record: DriveRecord) -> DriveRecord:
    """The record itself. BadInput, with the field, for what no drive and no list can have: whoever hands it over."""
    if not isinstance(record.serial, str) or not record.serial:
        raise BadInput("A drive has a serial.", field="serial")
    for name in _TEXTS:
        value = getattr(record, name)
        if value is not None or name in ("shelf", "site"):
            _is_text(value, name)
    _is_text(record.serial, "serial", 64)
    if type(record.size) is not int or not 0 < record.size <= LARGEST or extents_of(record.size) < 1:
        raise BadInput("A drive has from 1.25 GiB to 1 PB.", field="size")
    for name, (low, high) in _RANGES.items():
        value = getattr(record, name)
        if value is None and name != "bay":
            continue
        if isinstance(value, bool) or not isinstance(value, int | float | Decimal) or not low <= value <= high:
            raise BadInput(f"{name} is none that can be ({low} to {high}).", field=name)
    return record


def _is_text(value: object, name: str, longest: int = LONGEST) -> None:
    if not isinstance(value, str) or not value or len(value) > longest or not value.isprintable():
        raise BadInput(f"{name} is no text of 1 to {longest} characters that can be printed.", field=name)


def whole(low: int, high: int, what: str) -> Callable[[str], int]:
    """A reader of whole numbers within a range."""

    def read(value: str) -> int:
        cleaned = re.sub(r"(?i)\s*(bytes?|b|rpm|u/min|n|e)$", "", value.replace("'", "").strip())
        if not re.fullmatch(r"\d{1,9}", cleaned) or not low <= int(cleaned) <= high:
            raise BadInput(f"“{value}” is not {what} (a whole number from {low} to {high}).")
        return int(cleaned)

    return read


def _share(value: str) -> float:
    percent = value.endswith("%")
    try:
        number = float(value.rstrip("% ").replace(",", "."))
    except ValueError:
        raise BadInput(f"“{value}” is not a yearly failure rate; write 1.5 % or 0.015.") from None
    number = number / 100 if percent else number
    if not 0 <= number < 1:
        raise BadInput(f"“{value}” is not a yearly failure rate between 0 and 100 %.")
    return number


def _uber(value: str) -> float:
    try:
        number = float(value.lower().replace("10^", "1e").replace("<", "").strip())
    except ValueError:
        raise BadInput(f"“{value}” is not an error rate per bit; write for example 1e-15.") from None
    if not 0 <= number <= 1e-6:
        raise BadInput(f"“{value}” is not an error rate per bit between 0 and 1e-6.")
    return number


def _seconds(value: str) -> float | None:
    word = value.lower().strip()
    if word in {"none", "off", "no limit"}:
        return None
    match = re.fullmatch(r"(\d+(?:[.,]\d+)?)\s*(ms|s|sec|seconds)?", word)
    if not match:
        raise BadInput(f"“{value}” is not an error-recovery limit; write for example 7 s.")
    return float(match[1].replace(",", ".")) / (1000 if match[2] == "ms" else 1)


def _writes(value: str) -> int:
    size = parse_size(value)
    if not 1 <= size <= 10**18:
        raise BadInput(f"“{value}” is none that a drive is rated for; write for example 600 TB.")
    return size


def _degrees(value: str) -> float:
    match = re.fullmatch(r"(\d{1,3}(?:[.,]\d+)?)\s*(?:°\s*)?C?", value.strip())
    if not match or float(match[1].replace(",", ".")) > 150:
        raise BadInput(f"“{value}” is not a temperature in degrees Celsius; write for example 60.")
    return float(match[1].replace(",", "."))


def _date(value: str) -> dt.date:
    try:
        return dt.date.fromisoformat(value)
    except ValueError:
        raise BadInput(f"“{value}” is not a date; write it as 2026-03-31.") from None


def _yes(value: str) -> bool:
    word = value.lower()
    if word in {"yes", "true", "1", "y", "x"}:
        return True
    if word in {"no", "false", "0", "n", "-"}:
        return False
    raise BadInput(f"“{value}” is neither yes nor no.")


def _price(value: str) -> tuple[Decimal, str | None]:
    match = re.fullmatch(r"([A-Z]{3}|[€£$])?\s*(\d{1,9}(?:[.,]\d{1,2})?)\s*([A-Z]{3}|[€£$])?", value)
    if not match or (match[1] and match[3]):
        raise BadInput(f"“{value}” is not a price; write for example 249.00 EUR.")
    sign = match[1] or match[3]
    currency = {"€": "EUR", "£": "GBP", "$": "USD"}.get(sign, sign) if sign else None
    try:
        return Decimal(match[2].replace(",", ".")).quantize(Decimal("0.01")), currency
    except InvalidOperation:  # pragma: no cover - the pattern admits only decimals
        raise BadInput(f"“{value}” is not a price.") from None


@dataclass(frozen=True, slots=True)
class Column:
    """A column of the inventory: its heading, other headings taken for it, and how a cell is read."""

    field: str
    heading: str
    read: Callable[[str], object]
    also: tuple[str, ...] = ()
    needed: bool = False
    about: str = ""


COLUMNS: tuple[Column, ...] = (
    Column("site", "site", text, ("location", "place")),
    Column("shelf", "shelf", text, ("enclosure", "box", "chassis", "nas", "shelfname"), True),
    Column("host", "host", text, ("server", "computer", "hostname", "machine")),
    Column("bays", "bays", whole(1, MOST_BAYS, "a number of bays"), ("shelfbays", "numberofbays", "baycount")),
    Column("link", "shelf link", parse_rate, ("link", "linkspeed", "shelflinkspeed", "uplink")),
    Column("bay", "bay", whole(0, MOST_BAYS, "a bay number"), ("baynumber", "slot", "slotnumber", "slotno", "position", "bayno"), True),
    Column("maker", "maker", text, ("manufacturer", "make", "vendor", "brand")),
    Column("model", "model", text, ("modelname", "modelnumber", "product")),
    Column("serial", "serial", _serial, ("serialnumber", "serialno", "sn"), True),
    Column("size", "size", _size, ("capacity", "sizebytes", "capacitybytes", "bytes"), True),
    Column("kind", "kind", parse_kind, ("type", "media", "mediakind", "mediatype", "drivetype", "drivekind"), True),
    Column("bus", "bus", text, ("interface", "connection", "port")),
    Column("sector_size", "sector size", whole(512, 65536, "a sector size"), ("sector", "sectorbytes", "blocksize", "logicalsector")),
    Column("rpm", "rpm", whole(0, 30000, "a rotation speed"), ("speedrpm", "rotation", "rotationspeed", "spindlespeed")),
    Column("error_recovery", "error-recovery limit", _seconds, ("errorrecovery", "erc", "recoverylimit", "errorrecoverylimits")),
    Column("afr", "yearly failure rate", _share, ("afr", "annualfailurerate", "failurerate", "annualisedfailurerate")),
    Column("uber", "UBER", _uber, ("unrecoverableerrorrate", "unrecoverablebiterrorrate", "ure", "biterrorrate")),
    Column("rate", "rate", parse_rate, ("speed", "meanrate", "throughput", "sequentialrate", "ratebytess", "mbs")),
    Column("rated_writes", "rated writes", _writes, ("endurance", "tbw", "writesrated")),
    Column("max_temperature", "maximum temperature", _degrees, ("maxtemperature", "temperaturelimit", "maxtemp")),
    Column("use", "intended use", text, ("use", "purpose", "usage")),
    Column("property_number", "property number", text, ("propertynumber", "inventorynumber", "assetnumber", "assettag", "assetid")),
    Column("in_service", "in service since", _date, ("inservice", "inservicedate", "installed", "purchasedate", "bought", "date")),
    Column("price", "price", _price, ("cost", "unitprice", "pricepaid")),
    Column("holds", "holds", text, ("contents", "otherdata", "data")),
    Column("starts_host", "starts its host", _yes, ("startshost", "bootdrive", "boot", "systemdrive")),
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Kept:
    """A drive that is in the books, as an inventory would list it, and what holds it there."""

    record: DriveRecord
    #: Its pool, while it is in one: what that was laid out with stays.
    pool: str | None = None
    #: It is in a bay; otherwise the record says where it was.
    in_bay: bool = True
    #: Where it went, if it has left the house.
    retired_to: str | None = None


@dataclass(frozen=True, slots=True)
class Taken:
    """What is already on the shelves, for the new rows to be held against: drives by serial."""

    drives: Mapping[str, Kept] = field(default_factory=dict)
    #: Bays of the shelves that are there, by (site, shelf).
    shelf_sizes: Mapping[tuple[str, str], int] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Changed:
    """A drive whose facts differ from those in the books: field, what it was, what it will be."""

    row: int
    serial: str
    facts: tuple[tuple[str, str, str], ...]


@dataclass(frozen=True, slots=True)
class Differences:
    """What a list would do to the books."""

    new: tuple[DriveRecord, ...]
    changed: tuple[Changed, ...]
    #: Drives that are as they are in the books.
    same: int
    #: Serials of drives on the shelves of the list that it does not have. They stay as they are.
    gone: tuple[str, ...]


#: Where a drive is, which a list says of every drive.
_PLACE = ("site", "shelf", "bay")
#: Facts of the shelf rather than of the drive; they only ever come to be known.
_OF_THE_SHELF = ("host", "bays", "link")


def differences(rows: Sequence[tuple[int, DriveRecord]], taken: Taken) -> Differences:
    """What is new in a list, changed, the same, and gone. A cell left empty changes nothing."""
    new, changed, same = [], [], 0
    for number, row in rows:
        kept = taken.drives.get(row.serial)
        if kept is None:
            new.append(row)
            continue
        facts = [
            (name, _shown(getattr(kept.record, name)), _shown(getattr(row, name)))
            for name in FIELDS
            if name not in (*_OF_THE_SHELF, "serial") and getattr(row, name) != getattr(kept.record, name)
            and (name in _PLACE or getattr(row, name) not in (None, False))
        ]  # fmt: skip
        if not kept.in_bay and not any(name in _PLACE for name, *_ in facts):
            facts.insert(0, ("bay", "none", str(row.bay)))
        if facts:
            changed.append(Changed(number, row.serial, tuple(facts)))
        else:
            same += 1
    listed = {row.serial for _, row in rows}
    shelves = {(row.site, row.shelf) for _, row in rows}
    gone = sorted(
        s for s, k in taken.drives.items()
        if s not in listed and k.in_bay and (k.record.site, k.record.shelf) in shelves
    )  # fmt: skip
    return Differences(tuple(new), tuple(changed), same, tuple(gone))


def _shown(value: object) -> str:
    return "none" if value is None else getattr(value, "value", None) or str(value)


def against_each_other(rows: Iterable[tuple[int, DriveRecord]], taken: Taken) -> list[RowError]:
    """Duplicate serials and bays among the rows, and what cannot be beside what is already there."""
    rows = list(rows)
    errors: list[RowError] = []
    serials: dict[str, int] = {}
    bays: dict[tuple[str, str, int], int] = {}
    moving = {row.serial for _, row in rows}
    # Bays of drives that the list does not have; those it has are where it says.
    held = {
        (k.record.site, k.record.shelf, k.record.bay): s
        for s, k in taken.drives.items()
        if k.in_bay and s not in moving
    }
    for number, row in rows:
        place = (row.site, row.shelf, row.bay)
        kept = taken.drives.get(row.serial)
        if row.serial in serials:
            errors.append(
                RowError(number, f"Serial {row.serial} stands already in row {serials[row.serial]}.", "serial")
            )
        elif kept is not None and kept.retired_to is not None:
            errors.append(RowError(number, f"Drive {row.serial} has left the house: {kept.retired_to}.", "serial"))
        elif kept is not None and kept.pool is not None:
            errors += [
                RowError(number, f"Drive {row.serial} is in pool {kept.pool}, which was laid out with its {name}: "
                         f"{_shown(getattr(kept.record, name))}.", name)
                for name in ("size", "kind") if getattr(row, name) != getattr(kept.record, name)
            ]  # fmt: skip
        if place in bays:
            errors.append(RowError(number, f"{row.shelf} bay {row.bay} is taken already by row {bays[place]}.", "bay"))
        elif place in held:
            errors.append(
                RowError(number, f"{row.shelf} bay {row.bay} holds another drive already, {held[place]}.", "bay")
            )
        size = max(row.bays or 0, taken.shelf_sizes.get((row.site, row.shelf), 0))
        if size and row.bay > size:
            errors.append(RowError(number, f"{row.shelf} has {size} bays; bay {row.bay} is beyond them.", "bay"))
        serials.setdefault(row.serial, number)
        bays.setdefault(place, number)
    return errors


#: Every field of a record has a column, so an export leaves nothing out.
FIELDS = tuple(f.name for f in fields(DriveRecord) if f.name != "currency")
