"""Every sheet, word by word and figure by figure, against the texts that were read: ``sheets.txt``.

Where a text differs on purpose, ``python -m tests.core.sheets`` writes it anew; read what changed before keeping it.
"""

from __future__ import annotations

import pytest

from pairshelf.core.changes.kinds import KINDS, request_of
from tests.core.estates import estate
from tests.core.sheets import CASES, GROWING, later_text, recorded, sheet_text

READ = recorded()


@pytest.mark.parametrize("name", CASES)
def test_a_sheet_says_what_it_said_when_it_was_read(name: str) -> None:
    assert sheet_text(name) == READ[name]


@pytest.mark.parametrize("name", GROWING)
def test_later_changes_and_ways_to_grow_are_as_they_were_read(name: str) -> None:
    assert later_text(name) == READ[f"later: {name}"]


def test_every_kind_of_change_is_among_them_and_nothing_else_is() -> None:
    assert {kind for kind, *_ in CASES.values()} == set(KINDS)
    assert set(READ) == {*CASES, *(f"later: {name}" for name in GROWING)}


@pytest.mark.parametrize("name", CASES)
def test_capacity_is_neither_made_nor_lost(name: str) -> None:
    """What a volume gains of its pool, the pool loses, to the extent; nothing is taken twice."""
    kind, request, change = CASES[name]
    one = change(estate())
    sheet = KINDS[kind].plan(one, request_of(kind, request)).sheet
    figures = {f.label.removesuffix(" (drives' capacity)"): f for f in sheet.figures}
    left = figures.get("Left in the pool")
    if left is None or left.before.bytes is None or left.after.bytes is None:
        return
    if kind in ("add-drives", "add-sets", "convert-pool", "use-room", "take-out", "hold-back"):
        # What the pool gains is left in it; what it loses, it loses of that.
        capacity = next(f for label, f in figures.items() if label.startswith(("Pool capacity", "Capacity of")))
        assert left.after.bytes - left.before.bytes == (capacity.after.bytes or 0) - (capacity.before.bytes or 0)
        assert left.before.bytes == one.pool_named(request.get("pool", "d")).free * 2**30
        return
    if kind == "extend-volumes":
        plan = KINDS[kind].plan(one, request_of(kind, request))
        taken = sum(p.after.extents - -(-p.volume.size // 2**30) for p in plan.each)  # type: ignore[attr-defined]
        assert left.before.bytes - left.after.bytes == taken * 2**30 == left.before.bytes
        return
    ref = request.get("volume") or f"{request['pool']}/"
    pool = one.pool_named(ref.split("/")[0])
    assert left.before.bytes == pool.free * 2**30
    if kind == "delete-volume":
        assert left.after.bytes - left.before.bytes == one.volume(ref).placed * 2**30
        return
    plan = KINDS[kind].plan(one, request_of(kind, request))
    specs = plan.specs if kind == "make-volumes" else (plan.after,)  # type: ignore[attr-defined]
    had = 0 if kind == "make-volumes" else one.volume(ref).placed
    takes = sum(s.pool_use for s in specs)
    if kind == "resize-volume" and specs[0].thin:
        takes = min(had, specs[0].extents)
    assert left.before.bytes - left.after.bytes == (takes - had) * 2**30
