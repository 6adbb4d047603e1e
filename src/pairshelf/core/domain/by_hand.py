"""Shelves and drives written down by hand: what a person types, and how a fact is put right."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Any

from pairshelf.core.domain.drives import Kind, extents_of, parse_kind, parse_shorthand
from pairshelf.core.domain.inventory import COLUMNS, MOST_BAYS, text
from pairshelf.core.domain.units import parse_size
from pairshelf.core.errors import BadInput

#: What may be put right of a drive by hand; where it is it says itself, and its serial is what it is known by.
CORRECTABLE = tuple(
    c.field for c in COLUMNS if c.field not in ("site", "shelf", "host", "bays", "link", "bay", "serial", "starts_host")
)
#: What a pool was laid out with: fixed while the drive is in one.
LAID_OUT_WITH = ("size", "kind")


@dataclass(frozen=True, slots=True)
class Typed:
    """A drive as it was typed; ``serial`` None: one is made up for it."""

    size: int
    kind: Kind
    serial: str | None = None


def typed_drives(typed: str) -> list[Typed]:
    """Drives of a text: groups such as ``8x4TB hdd``, separated by commas or lines, or a line for each drive that
    begins with its serial, ``KL-1024 4TB hdd``."""
    found: list[Typed] = []
    for part in re.split(r"[\n,;]", typed):
        words = part.split()
        if not words:
            continue
        # A serial is no size and no group: then a size follows it.
        if (
            len(words) >= 2
            and not _is_size(words[0])
            and _is_size(words[1] + ("" if len(words) < 3 or not _is_unit(words[2]) else words[2]))
        ):
            joined = len(words) > 2 and _is_unit(words[2])
            size = parse_size("".join(words[1:3]) if joined else words[1], field="drives")
            rest = words[3 if joined else 2 :]
            kind = parse_kind(" ".join(rest)) if rest else Kind.HDD
            found.append(Typed(size, kind, _serial(words[0])))
        else:
            found += [Typed(d.size, d.kind) for d in parse_shorthand(part)]
    if not found:
        raise BadInput("Type drives such as 8x4TB hdd, or a line for each: its serial, then its size.", field="drives")
    if small := next((t for t in found if extents_of(t.size) < 1), None):
        raise BadInput(f"{small.size} bytes is too small for a drive; is the unit missing?", field="drives")
    serials = [t.serial for t in found if t.serial]
    if twice := next((s for s in serials if serials.count(s) > 1), None):
        raise BadInput(f"Serial {twice} stands there twice.", field="drives")
    return found


def _is_unit(word: str) -> bool:
    return re.fullmatch(r"(?i)[kmgtp]?i?b", word) is not None


def _is_size(word: str) -> bool:
    return re.fullmatch(r"(?i)(\d+\s*[x×*]\s*)?\d+([.,]\d+)?([kmgtp]i?b?|b)?", word) is not None


def _serial(word: str) -> str:
    if len(word) > 64 or not word.isprintable():
        raise BadInput("A serial has at most 64 characters that can be printed.", field="drives")
    return word


def free_bays(bays: int, taken: Collection[int], count: int) -> list[int]:
    """The first bays of a shelf that are empty. BadInput where there are too few."""
    empty = [bay for bay in range(1, bays + 1) if bay not in taken]
    if len(empty) < count:
        left = f"{len(empty)} of its {bays} bays are empty" if empty else f"all its {bays} bays are taken"
        raise BadInput(f"These are {count} drives, and {left}.", field="drives")
    return empty[:count]


def check_bays(bays: int) -> int:
    """How many bays a shelf has."""
    if not 1 <= bays <= MOST_BAYS:
        raise BadInput(f"A shelf has 1 to {MOST_BAYS} bays.", field="bays")
    return bays


def corrected(said: Mapping[str, str], *, in_pool: bool) -> dict[str, Any]:
    """Facts of a drive from what was typed, read as an inventory's cells are; an empty text takes a fact away."""
    known = {c.field: c for c in COLUMNS}
    found: dict[str, Any] = {}
    for name, typed in said.items():
        if name not in CORRECTABLE:
            raise BadInput(f"{name} is nothing that is put right by hand.", field=name)
        if in_pool and name in LAID_OUT_WITH:
            raise BadInput(
                "It is in a pool that was laid out with this; it stays as it is until it leaves.", field=name
            )
        if not typed.strip():
            if name in (*LAID_OUT_WITH, "serial"):
                raise BadInput("A drive has one; it cannot be left empty.", field=name)
            found[name] = None
            if name == "price":
                found["currency"] = None
            continue
        try:
            value = known[name].read(text(typed.strip()))
        except BadInput as wrong:
            raise BadInput(wrong.message, field=name) from None
        if name == "price":
            found["price"], found["currency"] = value  # type: ignore[misc]
        else:
            found[name] = value.value if isinstance(value, Kind) else value
    return found
