"""A set more."""

from __future__ import annotations

from pairshelf.core.changes.growing import Growing, Path, Step, alike, step_of
from pairshelf.core.changes.later import Later, Opening
from pairshelf.core.domain.file_systems import FileSystem, file_system_of
from pairshelf.core.domain.units import format_size
from pairshelf.core.layouts import Layout, build_layout
from pairshelf.core.layouts.model import Family


def door(layout: Layout, _file_system: FileSystem) -> tuple[Opening, str]:
    """Whether a layout leaves it open."""
    if layout.scheme.family is Family.STEPPED:
        return Opening.CLOSED, "A stepped pool is one set; add single drives instead."
    if layout.scheme.survives == 0:
        return Opening.CLOSED, "Without redundancy there are no sets to add."
    return Opening.OPEN, f"{layout.width} drives alike; their capacity is there at once."


def after(growing: Growing) -> Path:
    """Set by set; each brings its capacity at once."""
    layout = growing.found.layout
    name = f"one more set of {layout.width}"
    opening, why = door(layout, file_system_of(growing.file_system))
    if opening is Opening.CLOSED:
        return Path("add-set", name if layout.scheme.survives == 0 else "one more set", (), closed=why)
    found: list[Step] = []
    before = growing.found
    for number in range(1, growing.steps + 1):
        new = [alike(layout, (number - 1) * layout.width + i + 1) for i in range(layout.width)]
        drives = [*before.layout.members, *new]
        grown = build_layout(drives, layout.scheme.id, sets=len(before.layout.sets) + 1, checked=True)
        after = growing.after(grown)
        found.append(
            step_of(f"add a set of {layout.width} drives of {format_size(new[0].size)}", before, after, 0.0, "at once")
        )
        before = after
    return Path("add-set", name, tuple(found))


LATER = Later("add-set", "add a set", door, after)
