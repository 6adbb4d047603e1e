"""How a layout grows: by a drive, by a set, by larger drives one after another (rules: changes).

A gain that comes only after the second or the last replacement is said beforehand.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from pairshelf.core.assess import Assessment, assess
from pairshelf.core.drives import Drive
from pairshelf.core.figures.durations import copy_seconds, restripe_seconds
from pairshelf.core.figures.speed import user_share
from pairshelf.core.layouts import Layout, build_layout
from pairshelf.core.layouts.model import Code, Family
from pairshelf.core.units import format_size


@dataclass(frozen=True, slots=True)
class Step:
    """One act of growing, and what the pool gives once it is done."""

    act: str
    #: Usable bytes afterwards, and how many more that is than before this step.
    usable: int
    gain: int
    #: Hours it takes; 0 where the capacity is there at once.
    hours: float
    #: When the capacity arrives, in words.
    when: str
    #: Failures survived, whichever they are, afterwards.
    guaranteed: int


@dataclass(frozen=True, slots=True)
class Path:
    """One way to grow, step by step in its best order; ``closed`` says why there is none."""

    way: str
    name: str
    steps: tuple[Step, ...]
    said_before: str | None = None
    closed: str | None = None


@dataclass(frozen=True, slots=True)
class _Context:
    found: Assessment
    file_system: str
    reserved_share: float | None

    def after(self, layout: Layout) -> Assessment:
        return assess(layout, self.found.given, file_system=self.file_system, reserved_share=self.reserved_share)

    def hours(self, seconds: float) -> float:
        return seconds / (1 - user_share(self.found.layout, self.found.given)) / 3600


def growth(
    found: Assessment, *, larger: int | None = None, steps: int = 3, file_system: str = "ext4",
    reserved_share: float | None = None,
) -> tuple[Path, ...]:  # fmt: skip
    """Every way for this layout to grow. ``larger`` is the size of the drives that would come, bytes
    (default: twice the smallest member); ``steps`` how many drives or sets are added."""
    context = _Context(found, file_system, reserved_share)
    size = larger if larger is not None else 2 * min(d.size for d in found.layout.members)
    return (_by_drives(context, steps), _by_sets(context, steps), _by_replacing(context, size))


def _alike(layout: Layout, number: int) -> Drive:
    """One more drive like the largest there is most of."""
    return replace(max(layout.members, key=lambda d: d.size), id=f"new-{number}", shelf=None, serial=None)


def _by_drives(context: _Context, steps: int) -> Path:
    layout = context.found.layout
    scheme, sets = layout.scheme, len(layout.sets)
    name = (
        "one more drive"
        if sets == 1 or scheme.family is Family.STEPPED
        else f"one more drive for each of the {sets} sets"
    )
    if scheme.id in ("stripe", "single") or scheme.code is Code.COPIES:
        why = {
            "stripe": "A stripe cannot be widened: copy the data away, build anew, copy back.",
            "single": "A second drive would make it copies-2: safer, not larger.",
        }.get(scheme.id, f"Copies grow by whole sets of {layout.width}.")
        return Path("add-drive", name, (), closed=why)
    found: list[Step] = []
    before = context.found
    for number in range(1, steps + 1):
        divided = [
            [*before.layout.sets[i], _alike(layout, (number - 1) * sets + i + 1)]
            for i in range(len(before.layout.sets))
        ]  # fmt: skip
        grown = build_layout([d for one in divided for d in one], scheme.id, sets=len(divided), checked=True)
        after = context.after(grown)
        at_once = scheme.id == "span"
        hours = 0.0 if at_once else context.hours(restripe_seconds(before.layout, grown))
        added = format_size(_alike(layout, 1).size)
        found.append(_step(
            f"add {'a drive' if sets == 1 else f'{sets} drives'} of {added}", before, after, hours,
            "at once" if at_once else "when the restripe ends",
        ))  # fmt: skip
        before = after
    return Path("add-drive", name, tuple(found))


def _by_sets(context: _Context, steps: int) -> Path:
    layout = context.found.layout
    name = f"one more set of {layout.width}"
    if layout.scheme.family is Family.STEPPED:
        return Path("add-set", "one more set", (), closed="A stepped pool is one set; it grows by single drives.")
    if layout.scheme.survives == 0:
        return Path("add-set", "one more set", (), closed="Without redundancy there are no sets.")
    found: list[Step] = []
    before = context.found
    for number in range(1, steps + 1):
        new = [_alike(layout, (number - 1) * layout.width + i + 1) for i in range(layout.width)]
        drives = [*before.layout.members, *new]
        grown = build_layout(drives, layout.scheme.id, sets=len(before.layout.sets) + 1, checked=True)
        after = context.after(grown)
        found.append(
            _step(f"add a set of {layout.width} drives of {format_size(new[0].size)}", before, after, 0.0, "at once")
        )
        before = after
    return Path("add-set", name, tuple(found))


def _by_replacing(context: _Context, size: int) -> Path:
    layout = context.found.layout
    name = f"drives of {format_size(size)} in place of smaller ones, one by one"
    if layout.scheme.id == "stripe":
        return Path("larger-drives", name, (), closed="A stripe stays as it is: copy away, build anew, copy back.")
    order = best_order(layout, size)
    if not order:
        return Path("larger-drives", name, (), closed=f"No member is smaller than {format_size(size)}.")
    found: list[Step] = []
    before = context.found
    current = list(layout.members)
    for number, member in enumerate(order, start=1):
        old = current[member]
        new = replace(old, size=size, id=f"new-{number}", serial=None)
        hours = context.hours(copy_seconds(old, new, before.layout.used_extents[member]))
        current[member] = new
        after = context.after(build_layout(current, layout.scheme.id, sets=len(layout.sets), checked=True))
        gain = after.space.usable - before.space.usable
        when = "when the copy ends" if gain > 0 else "not yet"
        found.append(_step(f"replace {old.id} ({format_size(old.size)})", before, after, hours, when))
        before = after
    first = next((i for i, s in enumerate(found, start=1) if s.gain > 0), None)
    said = None
    if first is None:
        said = "Even all replacements bring no more capacity."
    elif first > 1:
        early = "The first replacement brings" if first == 2 else f"The first {first - 1} replacements bring"
        said = f"{early} nothing: more capacity comes after number {first}."
    return Path("larger-drives", name, tuple(found), said)


def _step(act: str, before: Assessment, after: Assessment, hours: float, when: str) -> Step:
    gain = after.space.usable - before.space.usable
    return Step(act, after.space.usable, gain, hours, when, after.survives.guaranteed)


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
