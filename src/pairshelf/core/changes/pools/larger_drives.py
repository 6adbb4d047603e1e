"""Larger drives in the place of smaller ones, one by one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from pairshelf.core.changes.growing import Growing, Path, Step, step_of
from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.later import AWAY, Later, Opening
from pairshelf.core.changes.pools.relayout import closed, drives_to_add, pool_to_change
from pairshelf.core.changes.sheet import BeforeAfter, ChangeSheet, Figure, Takes, simple_sheet
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstateDrive, EstatePool
from pairshelf.core.domain.file_systems import DEFAULT_FILE_SYSTEM, FileSystem, file_system_of
from pairshelf.core.domain.units import EXTENT, format_duration, format_size
from pairshelf.core.domain.words import counted, every
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.figures.durations import at_rate, copy, copy_seconds, restripe
from pairshelf.core.layouts import Layout, build_layout
from pairshelf.core.layouts.grown import with_members
from pairshelf.core.layouts.model import Family
from pairshelf.core.layouts.restripe import Moving


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
    return (
        Opening.AT_A_COST,
        f"One by one, by copying; it grows when {every(layout.width, 'drive')} of a set are larger.",
    )


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
    if len(layout.sets) == 1:
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
    own = layout.members_of(number)
    sizes = sorted({layout.members[i].extents for i in own})
    top = replace(layout.members[own[0]], size=size).extents
    stages: list[tuple[Sequence[int], int]] = []
    for step, height in enumerate(sizes):
        if height >= top:
            break
        after = min(sizes[step + 1] if step + 1 < len(sizes) else top, top)
        some = [i for i in own if layout.members[i].extents == height]
        stages.append((some, after - height))
    return stages


@dataclass(frozen=True, slots=True)
class PathStep:
    """A larger drive comes into a place, and what that brings."""

    slot: int
    drive: EstateDrive
    #: Bytes of capacity that it brings, and the hours of copying, and of restriping where that is needed.
    gain: int
    hours: float

    @property
    def act(self) -> str:
        """In words."""
        return f"{self.drive.serial} ({format_size(self.drive.size)}) into place {self.slot + 1}"


def one_by_one(
    layout: Layout, larger: Sequence[EstateDrive], order: Sequence[int] | None = None, *, whole: bool = False
) -> tuple[list[PathStep], int, float]:
    """The steps in their best order (or in this one), up to the last that brings capacity; what they gain together,
    bytes, and how long they take, hours. All of them where none brings any, or the ``whole`` is asked for."""
    if order is None:
        order = best_order(layout, max((d.offers for d in larger), default=0))
    current, steps, kept = layout, [], 0
    for slot, drive in zip(order, larger, strict=False):
        old = current.members[slot]
        new = replace(old, size=max(old.size, drive.offers), kind=drive.kind, rate=drive.as_drive.rate)
        after = with_members(current, {slot: new})
        seconds = copy(current, slot, new).idle
        moving = Moving(current, after)
        if after.bands != current.bands and not moving.at_once:
            seconds += restripe(moving).idle
        steps.append(PathStep(slot, drive, (after.stock - current.stock) * EXTENT, seconds / 3600))
        current = after
        if steps[-1].gain:
            kept = len(steps)
    steps = steps[:kept] if kept and not whole else steps
    return steps, sum(s.gain for s in steps), sum(s.hours for s in steps)


@dataclass(frozen=True, slots=True)
class ReplaceLarger:
    """Plan larger drives into the places of smaller ones, one after the other: each step is a sheet of its own."""

    pool: str
    drives: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class ReplaceLargerPlan:
    """The path, and the sheet that shows it whole."""

    sheet: ChangeSheet
    pool: EstatePool
    steps: tuple[PathStep, ...]


def plan(estate: Estate, request: ReplaceLarger) -> ReplaceLargerPlan:
    """The path for these drives, in its best order. Raises where none of them would come in, naming the field."""
    pool = pool_to_change(estate, request.pool)
    if pool.path:
        raise NotPossible(
            f"{pool.name} is on a path already; leave that first.", code="on-a-path", field="pool"
        )  # fmt: skip
    closed(door(pool.layout, file_system_of(DEFAULT_FILE_SYSTEM)))
    drives, findings = drives_to_add(estate, request.drives)
    smallest = min(d.size for d in pool.layout.members)
    if not drives:
        raise BadInput("Choose the larger drives that are to come.", field="drives")
    for drive in drives:
        if drive.offers <= smallest:
            raise BadInput(
                f"{drive.place} ({drive.serial}) is not larger than the smallest of {pool.name}, {format_size(smallest)}.",
                field="drives",
            )  # fmt: skip
    larger = sorted(drives, key=lambda d: (-d.offers, d.id))
    steps, gain, hours = one_by_one(pool.layout, larger)
    places = {p.slot: p.drive for p in pool.places}

    def said(step: PathStep) -> str:
        old = places[step.slot]
        what = f"{step.drive.named} in the place of {old.named if old else f'place {step.slot + 1}'}"
        brings = f"brings {format_size(step.gain)}" if step.gain else "brings nothing yet"
        return f"{what}: {format_duration(step.hours * 3600)}, {brings}."

    sheet = simple_sheet(
        "replace-larger",
        f"Plan {counted(len(steps), 'larger drive')} into pool {pool.name}{', one after the other' if len(steps) > 1 else ''}",
        f"It becomes {format_size(gain)} larger on the way." if gain else "These bring no capacity yet; more of them will.",
        figures=(
            BeforeAfter("Pool capacity", Figure(bytes=pool.capacity * EXTENT), Figure(bytes=pool.capacity * EXTENT + gain)),
            BeforeAfter("Steps", Figure(text="0"), Figure(text=str(len(steps)))),
        ),
        takes=(Takes.of("All steps together", at_rate(hours * 3600)),),
        meanwhile=(
            "Nothing is done yet. Each step is a sheet of its own, which copies from the old drive while it still works"
            + (": redundancy stays whole." if pool.layout.scheme.survives else "."),
            "The path is kept, over weeks if need be, and shows where it stands. It can be left at any time.",
        ),
        steps=tuple(said(s) for s in steps),
        cautions=() if gain or not steps else (
            f"It takes {gains_after(pool.layout)} larger drives before the pool grows.",
        ),
        findings=tuple(findings),
    )  # fmt: skip
    return ReplaceLargerPlan(sheet, pool, tuple(steps))


def context(request: ReplaceLarger) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(pools=(request.pool,), drives=request.drives, read_drives=True)


KIND = ChangeKind("replace-larger", Act.BUILD_POOLS, ReplaceLarger, context, plan)


LATER = Later("larger-drives", "put in larger drives, one by one", door, after)
