"""Every sheet, word by word and figure by figure, against the texts that were read: ``sheets.txt``.

Where a text differs on purpose, ``python -m tests.core.sheets`` writes it anew; read what changed before keeping it.
"""

from __future__ import annotations

import re
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pairshelf.core.changes.drives.replace_drive import careful_order
from pairshelf.core.changes.kinds import KINDS, request_of
from pairshelf.core.changes.sheet import ChangeSheet
from pairshelf.core.changes.volumes.make_volumes import MakeVolumesPlan
from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.estate import EstateDrive
from pairshelf.core.domain.units import GIB
from pairshelf.core.errors import BadInput, Busy, NameTaken
from tests.core.estates import TB, divided, estate, free, more_drives, spread, with_pool, with_volume
from tests.core.sheets import CASES, GROWING, bare, later_text, recorded, sheet_text

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
    if kind == "make-target":
        assert sheet.effect.given == left.before.bytes - left.after.bytes > 0
        return
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
        # What would be beyond its end has no place.
        takes = min(had, replace(specs[0], thin=False).pool_use)
    assert left.before.bytes - left.after.bytes == (takes - had) * 2**30
    assert sheet.effect.given + sheet.effect.drives_given == left.before.bytes - left.after.bytes


@pytest.mark.parametrize("end", [5, 500], ids=["together", "far out"])
@pytest.mark.parametrize("system", ["ext4", "btrfs", "ntfs"])
@pytest.mark.parametrize("where", ["in a pool", "a partition"])
def test_the_least_size_that_is_said_is_taken_and_a_byte_less_is_not(system: str, end: int, where: str) -> None:
    one = bare(estate()) if where == "in a pool" else bare(divided(estate()))
    ref = "p/a" if where == "in a pool" else "F12/part-4"
    name = ref.split("/")[1]
    had = one.volume(ref).size
    files = had // 3
    one = with_volume(one, name, file_system=system, files=2, files_bytes=files, files_end=min(end * GIB, had // 2))

    def refusal(size: int) -> str:
        try:
            KINDS["resize-volume"].plan(one, request_of("resize-volume", {"volume": ref, "size": f"{size} B"}))
        except BadInput as error:
            return f"{error.field}: {error.message}"
        return ""

    least = int(re.search(r"size: Its files .* cannot be smaller than .* \((\d+) bytes\)", refusal(files // 2))[1])  # type: ignore[index]
    assert files <= least < had
    assert refusal(least) == ""
    assert f"({least} bytes)" in refusal(least - 1)


@pytest.mark.parametrize("over", [0, 1, GIB // 2, GIB - 1])
@pytest.mark.parametrize("ref", ["p/a", "s/two"])
def test_all_is_all_wherever_a_volume_ends_and_a_byte_more_is_too_much(ref: str, over: int) -> None:
    had = 101 * GIB - over
    # Two extents of data a stripe of three: 101 extents take 51 stripes.
    spot = {"placed": 101} if ref == "p/a" else {"placed": 153, "protection": "parity-1:3"}
    one = with_volume(spread(estate()), ref.split("/")[1], size=had, **spot)

    def sheet(size: str) -> ChangeSheet:
        return KINDS["resize-volume"].plan(one, request_of("resize-volume", {"volume": ref, "size": size})).sheet

    left = next(f for f in sheet("all").figures if f.label.startswith("Left in the pool"))
    size = next(f.after.bytes for f in sheet("all").figures if f.label == "Size")
    assert left.before.bytes and left.after.bytes == 0
    assert sheet(f"{size} B").figures == sheet("all").figures
    with pytest.raises(BadInput, match=r"1 bytes\) too large"):
        sheet(f"{size + 1} B")


@pytest.mark.parametrize("count", [1, 2, 3, 7])
@pytest.mark.parametrize("protection", ["", "copies-2", "parity-1:3", "parity-1:4", "parity-2:5"])
def test_all_that_is_left_is_shared_in_whole_stripes_and_a_byte_more_each_is_too_much(
    protection: str, count: int
) -> None:
    one = spread(estate())
    asked = {"pool": "s" if protection else "p", "name": "v", "count": count, "protection": protection}

    def planned(size: str) -> MakeVolumesPlan:
        found = KINDS["make-volumes"].plan(one, request_of("make-volumes", asked | {"size": size}))
        assert isinstance(found, MakeVolumesPlan)
        return found

    shared = planned("all")
    size, room = shared.specs[0].size, one.pool_named(asked["pool"]).largest(protection or None)
    data = shared.specs[0].protection.data if shared.specs[0].protection else 1
    # As many stripes each as there are for all; fewer than one for each are left.
    assert size % (data * GIB) == 0 and 0 <= room - count * size < count * data * GIB
    assert planned(f"{size} B").specs == shared.specs
    with pytest.raises(BadInput, match="too large"):
        planned(f"{size + 1} B")


def test_a_drive_that_is_being_made_a_copy_is_not_drained() -> None:
    one = with_pool(estate(), copies=((0, free(12)),))
    one = more_drives(one, free(12))
    with pytest.raises(Busy, match="is being made a copy for p"):
        KINDS["drain"].plan(one, request_of("drain", {"drives": (12,)}))


def test_each_kind_says_in_a_sentence_what_it_does() -> None:
    for kind in KINDS.values():
        assert kind.about and kind.about == (kind.request.__doc__ or "").partition("\n")[0]
        assert kind.about.endswith(".") and kind.about[0].isupper(), kind.id


def test_a_drive_is_drained_onto_the_shelf_from_which_it_goes_where_none_of_its_set_stays() -> None:
    one = estate()
    first = replace(one.drives[0], shelf="Ash")
    pool = one.pools[0]
    one = replace(
        one, drives=(first, *one.drives[1:], replace(free(11), shelf="Ash"), free(12, 8 * TB)),
        pools=(replace(pool, places=(replace(pool.places[0], drive=first), *pool.places[1:])),),
    )  # fmt: skip
    copied = KINDS["drain"].plan(one, request_of("drain", {"drives": (1,), "onto": (11, 12)})).copies  # type: ignore[attr-defined]
    assert [(c.old.id, c.onto.id) for c in copied] == [(1, 11)], "the smaller one; what leaves crowds nobody"
    # Where one of its set stays, the larger one elsewhere is better.
    second = replace(one.drives[1], shelf="Ash")
    pool = one.pools[0]
    one = replace(
        one, drives=(first, second, *one.drives[2:]),
        pools=(replace(pool, places=(pool.places[0], replace(pool.places[1], drive=second), *pool.places[2:])),),
    )  # fmt: skip
    copied = KINDS["drain"].plan(one, request_of("drain", {"drives": (1,), "onto": (11, 12)})).copies  # type: ignore[attr-defined]
    assert [(c.old.id, c.onto.id) for c in copied] == [(1, 12)]


def _candidates() -> list[EstateDrive]:
    """Free drives from the best to the worst for the first place, each worse than the one before it in one way alone that
    counts more than all that it is better in."""
    here = {"shelf": "Oak", "host": "elm"}
    return [
        free(70, **here, bay=5),
        free(71, **here, bay=6),
        free(60, **here, bay=None),
        free(61, shelf="Oak", host="fir", bay=1),
        free(62, shelf="Oak9", host="elm", bay=9),
        free(63, shelf="Oak10", host="elm", bay=1),
        free(64, 7 * TB, **here, bay=1),
        free(65, kind=Kind.SSD, **here, bay=1),
        free(66, holds="old letters", **here, bay=1),
        free(67, condition="failing", **here, bay=1),
    ]


@given(st.permutations(range(10)))
@settings(max_examples=20)
def test_the_drive_that_suits_best_is_copied_onto_then_the_next(order: list[int]) -> None:
    # One of its set stays in no shelf and on no host that is offered, so that nothing is crowded.
    one = estate()
    away = tuple(replace(p, drive=p.drive and replace(p.drive, shelf=f"Far {p.slot}", host=f"far-{p.slot}")) if p.slot else
                 replace(p, designed=replace(p.designed, shelf="Oak", host="elm")) for p in one.pools[0].places)  # fmt: skip
    one = replace(one, pools=(replace(one.pools[0], places=away),))
    best = _candidates()
    # In no bay counts as the first bay; of the others the lower one.
    best = [best[2], best[0], best[1], *best[3:]]
    shuffled = [best[i] for i in order]
    silent = free(59, shelf="Oak", host="elm", bay=0)
    found, left = [], shuffled
    while left:
        house = replace(
            more_drives(one, *left, silent, free(58, service="in-use")), silent=((59, "it does not answer"),)
        )
        chosen = KINDS["drain"].choose(house, request_of("drain", {"drives": (1,)}))  # type: ignore[misc]
        found.append(chosen.onto[0])
        left = [d for d in left if d.id != chosen.onto[0]]
    assert found == [d.id for d in best]


@given(st.permutations(range(10)))
@settings(max_examples=20)
def test_drives_are_tried_for_a_place_as_a_careful_person_would(order: list[int]) -> None:
    place = estate().pools[0].places[0]
    place = replace(place, designed=replace(place.designed, shelf="Oak", host="elm"))
    best = [d for d in _candidates() if d.holds is None]
    # In the bay that the old one left: before any that is as well.
    there = free(80, 8 * TB, kind=Kind.SSD, shelf="Oak", bay=1, host="fir")
    best = [
        there,
        *(replace(d, bay=20 + i) if d.bay == 1 else d for i, d in enumerate([best[2], best[0], best[1], *best[3:]])),
    ]
    shuffled = sorted((best[i] for i in order if i < len(best)), key=lambda d: careful_order(place, d))
    assert [d.id for d in shuffled] == [d.id for d in best]
    # An old one that is in no bay any more left one all the same; of none nothing is known.
    assert place.drive is not None
    gone = replace(place, drive=replace(place.drive, shelf=None, bay=None, left=("Oak", 1)))
    assert min(best, key=lambda d: careful_order(gone, d)) is there
    assert min(best, key=lambda d: careful_order(replace(place, drive=None), d)) is best[1]


def test_of_many_drives_that_leave_the_first_are_shown() -> None:
    one = more_drives(estate(), *(free(i) for i in range(100, 130)))

    def shown(count: int) -> int:
        request = request_of("hand-out", {"drives": tuple(range(100, 100 + count)), "how": "sold", "to": "me"})
        return len(KINDS["hand-out"].plan(one, request).sheet.figures)

    assert (shown(24), shown(25)) == (24, 24)


def test_a_name_is_taken_only_in_its_own_pool_and_a_volume_may_change_the_case_of_its_own() -> None:
    one = spread(estate())

    def renamed(name: str) -> str:
        return str(
            KINDS["rename-volume"].plan(one, request_of("rename-volume", {"volume": "p/a", "name": name})).sheet.title
        )

    other = next(v.name for v in one.volumes if v.pool == "s")
    assert renamed(other) == f"Rename volume p/a to {other}"
    assert renamed("A") == "Rename volume p/a to A"
    with pytest.raises(NameTaken):
        renamed("B")


def test_only_what_goes_on_writing_to_the_volume_is_said_to() -> None:
    one = with_volume(with_volume(estate(), "rec", keep_above=0.5), "b", keep_above=0.5)
    app = one.applications[0]
    one = replace(one, applications=(app, replace(app, id=2, name="plans", kind="files"),
                                     replace(app, id=3, name="yard", volume="p/b")))  # fmt: skip
    ended = KINDS["end-keep-rule"].plan(one, request_of("end-keep-rule", {"volume": "p/rec"})).sheet
    assert ended.cautions == ("cam goes on writing; when the volume is full, it stops.",)
