"""Sizes, rates and durations: reading what people type and writing what they read.

Sizes are whole bytes. Decimal units (kB, MB, GB, TB, PB) are powers of 1000 as makers sell them,
binary units (KiB ... PiB) powers of 1024 (IEC 80000-13). A bare "4T" could be either and is refused.
"""

from __future__ import annotations

import re
from fractions import Fraction
from typing import Literal

from pairshelf.core.errors import BadInput

KIB = 1024
MIB = 1024**2
GIB = 1024**3
TIB = 1024**4
EIB = 1024**6
TB = 10**12

#: Unit of allocation of every pool.
EXTENT = GIB

UnitSystem = Literal["decimal", "binary"]

_FACTORS: dict[str, int] = {
    "B": 1,
    **{f"{p}B": 1000 ** (i + 1) for i, p in enumerate("kMGTPE")},
    **{f"{p}iB": 1024 ** (i + 1) for i, p in enumerate("KMGTPE")},
}
_BY_LOWER = {unit.lower(): (unit, factor) for unit, factor in _FACTORS.items()} | {
    "byte": ("B", 1),
    "bytes": ("B", 1),
}
_SIZE = re.compile(r"^\s*([+-]?[0-9][0-9_']*(?:[.,][0-9]+)?|[+-]?[.,][0-9]+)\s*([A-Za-z]*)\s*$")
#: Above any single drive or volume that could be meant: 10 EB.
_ABSURD = 10 * 1000**6


def parse_size(text: str | int, *, field: str | None = None) -> int:
    """Bytes of a typed size such as ``4TB``, ``4 TB``, ``3.64TiB`` or ``4000787030016``.

    A fraction of a unit is rounded to the nearest byte (half to even). Raises BadInput for
    anything else, and for a bare ``4T`` with the two readings it could have.
    """
    if isinstance(text, bool) or not isinstance(text, int | str):
        raise BadInput(f"{text!r} is not a size; write for example 4 TB or 3.64 TiB.", field=field)
    if isinstance(text, int):
        return _in_range(text, str(text), field)
    match = _SIZE.match(text)
    if not match:
        raise BadInput(f"“{text}” is not a size; write for example 4 TB or 3.64 TiB.", field=field)
    digits, unit = match.groups()
    number = Fraction(digits.replace("_", "").replace("'", "").replace(",", "."))
    if not unit:
        if number.denominator != 1:
            raise BadInput(f"“{text}” has a fraction but no unit; write for example 3.64 TB.", field=field)
        return _in_range(int(number), text, field)
    known = _BY_LOWER.get(unit.lower())
    if known is None:
        prefix = unit.upper()
        if len(prefix) == 1 and prefix in "KMGTPE":
            shown = "k" if prefix == "K" else prefix
            raise BadInput(
                f"“{text.strip()}” could be {digits} {shown}B (powers of 1000) or {digits} {prefix}iB "
                f"(powers of 1024); write which one you mean.",
                code="ambiguous-unit",
                field=field,
            )
        raise BadInput(f"“{unit}” is not a unit of size; use kB, MB, GB, TB or KiB, MiB, GiB, TiB.", field=field)
    return _in_range(round(number * known[1]), text, field)


def _in_range(size: int, text: str, field: str | None) -> int:
    if size < 0:
        raise BadInput(f"“{text}” is negative; a size is zero or more.", field=field)
    if size > _ABSURD:
        raise BadInput(f"“{text}” is more than 10 EB; check the number and its unit.", field=field)
    return size


def format_size(size: int, system: UnitSystem = "decimal", *, digits: int = 2) -> str:
    """A size for people, with its unit: the largest unit that gives at least 1."""
    base, suffixes = (
        (1000, ("B", "kB", "MB", "GB", "TB", "PB"))
        if system == "decimal"
        else (1024, ("B", "KiB", "MiB", "GiB", "TiB", "PiB"))
    )
    value, step = float(abs(size)), 0
    while value >= base and step < len(suffixes) - 1:
        value /= base
        step += 1
    sign = "-" if size < 0 else ""
    if step == 0:
        return f"{sign}{abs(size)} B"
    text = f"{value:.{digits}f}"
    if "." in text:
        text = text.rstrip("0").rstrip(".")
    return f"{sign}{text} {suffixes[step]}"


def parse_rate(text: str | int, *, field: str | None = None) -> int:
    """Bytes per second of a rate such as ``200MB``, ``200 MB/s``, ``1 Gbit/s`` or ``210000000``."""
    if isinstance(text, str):
        bits = re.fullmatch(r"\s*(\d+(?:[.,]\d+)?)\s*([kMG])bit\s*(?:/\s*s)?\s*", text)
        if bits:
            text = f"{round(Fraction(bits[1].replace(',', '.')) * _FACTORS[bits[2] + 'B'] / 8)}"
        text = re.sub(r"\s*(/\s*s|ps)\s*$", "", text)
    rate = parse_size(text, field=field)
    if rate == 0:
        raise BadInput("A rate of zero would never finish.", field=field)
    return rate


def format_duration(seconds: float) -> str:
    """A duration for people, in at most two units: ``3 d 4 h``, ``8 h 20 min``, ``40 s``."""
    whole = round(seconds)
    if whole < 60:
        return f"{whole} s"
    minutes = round(seconds / 60)
    if minutes < 60:
        return f"{minutes} min"
    hours, minutes = divmod(minutes, 60)
    if hours < 48:
        return f"{hours} h {minutes} min" if minutes else f"{hours} h"
    days, hours = divmod(round(seconds / 3600), 24)
    return f"{days} d {hours} h" if hours else f"{days} d"


def format_chance(chance: float) -> str:
    """A chance for people: in per cent while that says something, else as once in so many."""
    if chance == 0:
        return "none"
    if chance >= 0.001:
        return f"{chance * 100:.2g} %"
    if chance < 1e-12:
        return "below 1 in 10\u00b9\u00b2"
    once = float(f"{1 / chance:.2g}")
    for size, word in ((1e9, " billion"), (1e6, " million")):
        if once >= size:
            return f"1 in {once / size:,.0f}{word}"
    return f"1 in {once:,.0f}"
