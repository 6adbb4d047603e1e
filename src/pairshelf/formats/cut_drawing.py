"""The cut as plain geometry: what the SVG and the PDF of it are written from.

Spines side by side to scale, cut into sets and bands: data plain, redundancy hatched, spares banded,
left-over blank. Units are points; y grows downwards.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from pairshelf.core.domain.units import format_size

TALL = 160.0
_TOP = 24.0


@dataclass(frozen=True, slots=True)
class Box:
    """A rectangle: ``data``, ``redundancy``, ``blank`` or ``band``; with what it means."""

    x: float
    y: float
    width: float
    height: float
    fill: str
    meaning: str = ""


@dataclass(frozen=True, slots=True)
class Outline:
    """A spine's outline; the foot tells the kind."""

    x: float
    y: float
    width: float
    height: float
    kind: str
    failed: bool = False


@dataclass(frozen=True, slots=True)
class Words:
    """A short text, centred at x, its baseline at y."""

    x: float
    y: float
    text: str
    size: float = 9.0


@dataclass(frozen=True, slots=True)
class Drawing:
    """All of it, in the order of painting."""

    width: float
    height: float
    shapes: tuple[Box | Outline | Words, ...]


def draw_cut(
    cut: Mapping[str, Any], labels: Mapping[str, str] | None = None, failed: frozenset[str] = frozenset()
) -> Drawing:
    """The drawing of a cut as ``report.cut_json`` gives it; ``labels`` name the drives, by id."""
    members, spares = cut["members"], cut["spares"]
    count = len(members) + len(spares)
    width = 7.0 if count > 60 else 14.0 if count > 24 else 28.0
    gap, set_gap = (2.0, 9.0) if count > 24 else (6.0, 20.0)
    largest = max([m["extents"] for m in members] + [s["extents"] for s in spares] + [1])
    scale = TALL / largest
    shapes: list[Box | Outline | Words] = []
    x, before = 6.0, 0
    starts: dict[int, list[float]] = {}
    for index, member in enumerate(members):
        if member["set"] != before:
            x += set_gap - gap
            before = member["set"]
        starts.setdefault(member["set"], []).append(x)
        shapes += _spine(cut, index, x, width, scale)
        high = member["extents"] * scale
        gone = member["id"] in failed
        shapes.append(Outline(x, _TOP + TALL - high, width, high, member["kind"], gone))
        if width > 10:
            shapes.append(Words(x + width / 2, _TOP + TALL + 14, (labels or {}).get(member["id"], member["id"]), 8.0))
        x += width + gap
    x += set_gap - gap if spares else 0
    for spare in spares:
        high = spare["extents"] * scale
        top = _TOP + TALL - high
        shapes.append(Box(x, top, width, high, "blank", f"Spare, {format_size(spare['size'])}"))
        shapes.append(Outline(x, top, width, high, spare["kind"]))
        shapes.append(Box(x, top + high / 2 - 6, width, 12, "band", "spare"))
        if width > 10:
            shapes.append(Words(x + width / 2, _TOP + TALL + 14, (labels or {}).get(spare["id"], spare["id"]), 8.0))
        x += width + gap
    if len(starts) > 1:
        shapes += [
            Words((xs[0] + xs[-1] + width) / 2, 12, f"set {number + 1}" if xs[-1] - xs[0] > 40 else str(number + 1))
            for number, xs in starts.items()
        ]
    return Drawing(x + 6, _TOP + TALL + 24, tuple(shapes))


def _spine(cut: Mapping[str, Any], index: int, x: float, width: float, scale: float) -> list[Box | Outline | Words]:
    """A member's pieces from the foot up: in each band its data and its share of redundancy."""
    member = cut["members"][index]
    foot = _TOP + TALL
    pieces: list[Box | Outline | Words] = [
        Box(x, foot - member["extents"] * scale, width, member["extents"] * scale, "blank", "Left over")
    ]
    for number, band in enumerate(cut["bands"], start=1):
        group = next((g for g in band["groups"] if index in g["members"]), None)
        if group is None:
            continue
        data = band["rows"] * group["data"] / group["width"]
        for fill, extents in (("data", data), ("redundancy", band["rows"] - data)):
            if extents <= 0:
                continue
            high = extents * scale
            foot -= high
            said = f"{fill.capitalize()}: {format_size(round(extents * 2**30))} of this drive, band {number} over {group['width']} drives"
            pieces.append(Box(x, foot, width, high, fill, said))
    return pieces
