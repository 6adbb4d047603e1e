"""Layouts that come of a pool that stands: with more drives, more sets, larger drives, under another scheme.

What a set-built pool has stays where it is as far as that can be: rows are added behind the addresses there are, and
restriped sets keep their rows. Only stepped pools are cut anew. Of the capacity it is the same to the byte as if the
drives were laid out from the start.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace
from itertools import pairwise

from pairshelf.core.domain.drives import Drive
from pairshelf.core.errors import BadInput
from pairshelf.core.layouts.model import Band, Code, Family, Group, Layout, Scheme
from pairshelf.core.layouts.registry import require_fits, scheme_of
from pairshelf.core.layouts.restripe import renumbered
from pairshelf.core.layouts.sets import cut


def height(layout: Layout, number: int) -> int:
    """Rows that are used on the drives of a set, from the first."""
    first = layout.members_of(number)[0]
    return max((b.start + b.rows for b in layout.bands for g in b.groups if first in g.members), default=0)


def needed(layout: Layout, number: int) -> int:
    """Extents that a drive must have to be one more in a set."""
    if layout.scheme.family is not Family.SETS or layout.scheme.one_after_another:
        return 1
    return height(layout, number)


def laid_anew(layout: Layout, sets: Sequence[Sequence[Drive]], scheme: Scheme | None = None) -> Layout:
    """These sets under its scheme, or another, as if built now."""
    scheme = scheme or layout.scheme
    require_fits(scheme, len(sets[0]), len(sets), field="drives")
    drives = [d for one in sets for d in one]
    laid = scheme.lay(scheme, drives, layout.division(len(sets)))
    return replace(laid, spares=layout.spares)


def with_drives(layout: Layout, added: Sequence[Drive], into: int | None = None) -> Layout:
    """As many more drives in each of its sets, dealt out set after set; or all ``into`` one of them, by its number from
    0. BadInput where they do not come out even, there is no such set, or one does not reach as high as its set."""
    count = len(layout.sets)
    if into is not None and not 0 <= into < count:
        raise BadInput(f"It has {count} set{'s' if count > 1 else ''}; there is no set {into + 1}.", field="into")
    if not added or (into is None and len(added) % count):
        raise BadInput(
            f"It has {count} sets; choose {count} drives, or a multiple of that, or say which set gets them."
            if count > 1 else "Choose a drive.",
            field="drives",
        )  # fmt: skip
    each = len(added) // count
    shares = [
        added[i * each : (i + 1) * each] if into is None else added if i == into else () for i in range(count)
    ]  # fmt: skip
    sets = [(*one, *more) for one, more in zip(layout.sets, shares, strict=True)]
    if layout.scheme.family is not Family.SETS or layout.scheme.one_after_another:
        return laid_anew(layout, sets)
    return _with_sets(layout, layout.scheme, sets)


def with_sets(layout: Layout, added: Sequence[Drive]) -> Layout:
    """Further whole sets of its width; their addresses follow those there are. BadInput where they do not come out
    even."""
    width = layout.width
    if not added or len(added) % width:
        raise BadInput(f"A set takes {width} drives; choose {width}, or a multiple of that.", field="drives")
    more = [tuple(added[i : i + width]) for i in range(0, len(added), width)]
    have = len(layout.members)
    bands = renumbered(cut(layout.scheme, more), range(have, have + len(added)))
    return replace(layout, sets=(*layout.sets, *more), bands=(*layout.bands, *bands), known={})


def with_members(layout: Layout, others: Mapping[int, Drive]) -> Layout:
    """With other drives in some of its places, as large as those or larger; where that lets a set reach higher, rows
    are added behind its addresses."""
    members = [others.get(i, d) for i, d in enumerate(layout.members)]
    sets = tuple(tuple(members[i] for i in layout.members_of(n)) for n in range(len(layout.sets)))
    if layout.scheme.family is not Family.SETS:
        return laid_anew(layout, sets)
    if layout.scheme.one_after_another:
        return _longer_span(layout, sets)
    reach = {i: (height(layout, i), min(d.extents for d in one)) for i, one in enumerate(sets)}
    edges = sorted({h for low, high in reach.values() if high > low for h in (low, high)})
    bands = list(layout.bands)
    for low, high in pairwise(edges):
        groups = tuple(_group(layout, i) for i, (have, will) in reach.items() if have <= low and will >= high)
        if groups:
            bands.append(Band(low, high - low, groups))
    return replace(layout, sets=sets, bands=tuple(bands), known={})


def with_room(layout: Layout, offers: Mapping[int, int]) -> Layout:
    """With all that the drives in its places offer (bytes, by slot), where that is more than it was made with; itself,
    where none does."""
    larger = {
        slot: replace(layout.members[slot], size=size)
        for slot, size in offers.items()
        if size > layout.members[slot].size
    }
    return with_members(layout, larger) if larger else layout


def _longer_span(layout: Layout, sets: tuple[tuple[Drive, ...], ...]) -> Layout:
    """Each drive's further rows behind all others': no address changes."""
    bands = list(layout.bands)
    for number, drive in enumerate(d for one in sets for d in one):
        have = max((b.start + b.rows for b in bands for g in b.groups if number in g.members), default=0)
        if drive.extents > have:
            bands.append(Band(have, drive.extents - have, (Group((number,), Code.NONE, 0),)))
    return replace(layout, sets=sets, bands=tuple(bands), known={})


def converted(layout: Layout, scheme_id: str, added: Sequence[Drive], freed: Collection[int] = ()) -> Layout:
    """Under another scheme, with further drives dealt out set after set and some of its members (by index) freed."""
    scheme = scheme_of(scheme_id)
    count = len(layout.sets)
    if len(added) % count:
        raise BadInput(f"It has {count} sets; choose as many drives for each.", field="drives")
    each = len(added) // count
    sets, first = [], 0
    for number, one in enumerate(layout.sets):
        kept = [d for i, d in enumerate(one) if first + i not in freed]
        sets.append((*kept, *added[number * each : (number + 1) * each]))
        first += len(one)
    if len({len(one) - len(before) for one, before in zip(sets, layout.sets, strict=True)}) > 1:
        raise BadInput("As many drives must leave each set.", field="free")
    for one in sets:
        require_fits(scheme, len(one), count, field="drives")
    if scheme.family is Family.STEPPED:
        return laid_anew(layout, sets, scheme)
    return _with_sets(layout, scheme, sets)


def _with_sets(layout: Layout, scheme: Scheme, sets: Sequence[Sequence[Drive]]) -> Layout:
    """The same rows over other sets."""
    for number, one in enumerate(sets):
        least = needed(layout, number)
        for drive in one:
            if drive.extents < least:
                raise BadInput(
                    f"{drive.serial or drive.id} has {drive.extents} extents; its set needs {least}.",
                    code="too-small", field="drives",
                )  # fmt: skip
    other = replace(layout, scheme=scheme, sets=tuple(tuple(one) for one in sets), known={})
    groups = {
        tuple(layout.members_of(i)): Group(tuple(other.members_of(i)), scheme.code, scheme.survives)
        for i in range(len(sets))
    }
    bands = tuple(Band(b.start, b.rows, tuple(groups[g.members] for g in b.groups)) for b in layout.bands)
    return replace(other, bands=bands)


def _group(layout: Layout, number: int) -> Group:
    first = layout.members_of(number)[0]
    return next(g for b in layout.bands for g in b.groups if first in g.members)
