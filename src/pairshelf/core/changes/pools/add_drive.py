"""One more drive, or one more for each set."""

from __future__ import annotations

from pairshelf.core.changes.growing import Growing, Path, Step, alike, step_of
from pairshelf.core.changes.later import AWAY, Later, Opening
from pairshelf.core.domain.file_systems import DEFAULT_FILE_SYSTEM, FileSystem, file_system_of
from pairshelf.core.domain.units import format_size
from pairshelf.core.figures.durations import restripe_seconds
from pairshelf.core.layouts import Layout, build_layout
from pairshelf.core.layouts.model import Code, Family


def door(layout: Layout, _file_system: FileSystem) -> tuple[Opening, str]:
    """Whether a layout leaves it open."""
    scheme, sets, width = layout.scheme, len(layout.sets), layout.width
    if scheme.id == "span":
        return Opening.OPEN, "Its capacity is there at once."
    if scheme.id == "stripe":
        return Opening.CLOSED, f"A stripe cannot be widened. {AWAY}"
    if scheme.id == "single":
        return Opening.AT_A_COST, "A second drive makes it copies-2: safer, not larger."
    if scheme.code is Code.COPIES:
        return Opening.CLOSED, f"Copies grow by whole sets of {width}; a single drive can only be a spare."
    if sets > 1:
        return Opening.AT_A_COST, f"One drive for each of the {sets} sets, {sets} at once; everything is restriped."
    return Opening.AT_A_COST, "Everything is restriped; the capacity comes when that ends."


def grows_by_more_than_one(layout: Layout) -> str | None:
    """What is to be known of a layout that cannot grow by one drive; None where it can."""
    opening, why = door(layout, file_system_of(DEFAULT_FILE_SYSTEM))
    return why if opening is Opening.CLOSED or (opening is Opening.AT_A_COST and len(layout.sets) > 1) else None


def after(growing: Growing) -> Path:
    """Drive by drive, restriped each time."""
    layout = growing.found.layout
    scheme, sets = layout.scheme, len(layout.sets)
    name = (
        "one more drive"
        if sets == 1 or scheme.family is Family.STEPPED
        else f"one more drive for each of the {sets} sets"
    )
    if scheme.id in ("stripe", "single") or scheme.code is Code.COPIES:
        return Path("add-drive", name, (), closed=door(layout, file_system_of(growing.file_system))[1])
    found: list[Step] = []
    before = growing.found
    for number in range(1, growing.steps + 1):
        divided = [
            [*before.layout.sets[i], alike(layout, (number - 1) * sets + i + 1)]
            for i in range(len(before.layout.sets))
        ]  # fmt: skip
        grown = build_layout([d for one in divided for d in one], scheme.id, sets=len(divided), checked=True)
        after = growing.after(grown)
        at_once = scheme.id == "span"
        hours = 0.0 if at_once else growing.hours(restripe_seconds(before.layout, grown))
        added = format_size(alike(layout, 1).size)
        found.append(step_of(
            f"add {'a drive' if sets == 1 else f'{sets} drives'} of {added}", before, after, hours,
            "at once" if at_once else "when the restripe ends",
        ))  # fmt: skip
        before = after
    return Path("add-drive", name, tuple(found))


LATER = Later("add-drive", "add one drive", door, after)
