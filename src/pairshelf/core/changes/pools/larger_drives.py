"""Larger drives in the place of smaller ones, one by one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from pairshelf.core.changes.growing import Growing, Path, Step, step_of
from pairshelf.core.changes.later import AWAY, Later, Opening
from pairshelf.core.domain.file_systems import FileSystem, file_system_of
from pairshelf.core.domain.units import format_size
from pairshelf.core.figures.durations import copy_seconds
from pairshelf.core.layouts import Layout, build_layout
from pairshelf.core.layouts.model import Family


def door(layout: Layout, _file_system: FileSystem) -> tuple[Opening, str]:
    """Whether a layout leaves it open."""
    scheme = layout.scheme
    if scheme.family is Family.STEPPED:
        p = scheme.survives
        return Opening.AT_A_COST, f"One by one, by copying; it grows after drive {p + 1} of a new size."
    if scheme.id == "span":
        return Opening.OPEN, "One by one, by copying; each brings its capacity at once."
    if scheme.id == "stripe":
        return Opening.CLOSED, f"A stripe stays as wide and as high as it is. {AWAY}"
    if scheme.id == "single":
        return Opening.AT_A_COST, "Copy to the larger drive, then it is larger."
    return Opening.AT_A_COST, f"One by one, by copying; it grows when all {layout.width} of a set are larger."


def gains_after(layout: Layout) -> int | None:
    """Of how many larger drives the last makes it grow; None where none ever does."""
    scheme = layout.scheme
    if scheme.id == "stripe":
        return None
    if scheme.family is Family.STEPPED:
        return scheme.survives + 1
    return 1 if scheme.id == "span" else layout.width


def after(growing: Growing) -> Path:
    """One by one, in the order that brings capacity soonest."""
    size = growing.size
    layout = growing.found.layout
    name = f"drives of {format_size(size)} in place of smaller ones, one by one"
    opening, why = door(layout, file_system_of(growing.file_system))
    if opening is Opening.CLOSED:
        return Path("larger-drives", name, (), closed=why)
    order = best_order(layout, size)
    if not order:
        return Path("larger-drives", name, (), closed=f"No member is smaller than {format_size(size)}.")
    found: list[Step] = []
    before = growing.found
    current = list(layout.members)
    for number, member in enumerate(order, start=1):
        old = current[member]
        new = replace(old, size=size, id=f"new-{number}", serial=None)
        hours = growing.hours(copy_seconds(old, new, before.layout.used_extents[member]))
        current[member] = new
        after = growing.after(build_layout(current, layout.scheme.id, sets=len(layout.sets), checked=True))
        gain = after.space.usable - before.space.usable
        when = "when the copy ends" if gain > 0 else "not yet"
        found.append(step_of(f"replace {old.id} ({format_size(old.size)})", before, after, hours, when))
        before = after
    first = next((i for i, s in enumerate(found, start=1) if s.gain > 0), None)
    said = None
    if first is None:
        said = "Even all replacements bring no more capacity."
    elif first > 1:
        early = "The first replacement brings" if first == 2 else f"The first {first - 1} replacements bring"
        said = f"{early} nothing: more capacity comes after number {first}."
    return Path("larger-drives", name, tuple(found), said)


def best_order(layout: Layout, size: int) -> tuple[int, ...]:
    """Members (by index) in the order of replacing that brings capacity soonest.

    Stepped: the smallest first, which leaves the most beside the p largest at every step. Set-built:
    a set grows when its last smallest member has gone; of the possible next stages always the one with
    the most gain for each replacement (chains of stages with the best ratio first; J. B. Sidney, 1975).
    """
    members = layout.members
    smaller = [i for i, d in enumerate(members) if d.size < size]
    if layout.scheme.family is Family.STEPPED or layout.scheme.id == "span" or len(layout.sets) == 1:
        return tuple(sorted(smaller, key=lambda i: (members[i].size, i)))
    stages = [_stages(layout, number, size) for number in range(len(layout.sets))]
    order: list[int] = []
    while any(stages):
        best: tuple[float, int, int] | None = None
        for number, left in enumerate(stages):
            gain = count = 0
            for length, (some, extents) in enumerate(left, start=1):
                gain, count = gain + extents, count + len(some)
                ratio = gain / count
                if best is None or ratio > best[0]:
                    best = (ratio, number, length)
        assert best is not None
        _, number, length = best
        for some, _ in stages[number][:length]:
            order += some
        del stages[number][:length]
    return tuple(order)


def _stages(layout: Layout, number: int, size: int) -> list[tuple[Sequence[int], int]]:
    """Of one set: the members that go together, smallest size first, and what the set then gains a drive."""
    first = number * layout.width
    sizes = sorted({layout.members[first + i].extents for i in range(layout.width)})
    top = replace(layout.members[first], size=size).extents
    stages: list[tuple[Sequence[int], int]] = []
    for step, height in enumerate(sizes):
        if height >= top:
            break
        after = min(sizes[step + 1] if step + 1 < len(sizes) else top, top)
        some = [first + i for i in range(layout.width) if layout.members[first + i].extents == height]
        stages.append((some, after - height))
    return stages


LATER = Later("larger-drives", "put in larger drives, one by one", door, after)
