"""What a person types of drives and shelves, and what of it is refused, at its field."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace
from decimal import Decimal

import pytest

from pairshelf.core.changes.drives.replace_drive import careful_order, why_not_replaceable
from pairshelf.core.changes.volumes.volume_plan import why_closed, why_in_use
from pairshelf.core.domain.by_hand import Typed, check_bays, corrected, free_bays, typed_drives
from pairshelf.core.domain.drives import Drive, Kind
from pairshelf.core.domain.estate import EstateDrive, EstatePlace
from pairshelf.core.domain.units import GIB, TB
from pairshelf.core.errors import BadInput
from tests.core.estates import estate, free

HDD, SSD = Kind.HDD, Kind.SSD


@pytest.mark.parametrize(
    ("typed", "drives"),
    [
        ("2x4TB", [Typed(4 * TB, HDD)] * 2),
        ("2x4TB hdd, 1x960GB ssd", [Typed(4 * TB, HDD)] * 2 + [Typed(960 * 10**9, SSD)]),
        ("KL-1 4TB hdd\nKL-2 4 TB\n", [Typed(4 * TB, HDD, "KL-1"), Typed(4 * TB, HDD, "KL-2")]),
        ("KL-1 500GiB nvme; 2 x 8TB", [Typed(500 * GIB, Kind.NVME, "KL-1"), *[Typed(8 * TB, HDD)] * 2]),
        ("4TB", [Typed(4 * TB, HDD)]),
    ],
)
def test_drives_as_they_are_typed(typed: str, drives: list[Typed]) -> None:
    assert typed_drives(typed) == drives


@pytest.mark.parametrize(
    "typed",
    ["", " ,\n", "eight drives", "KL-1 4TB tape", "K 4TB, K 6TB", "2x1MB", f"{'k' * 65} 4TB", "0x4TB", "9999x4TB"],
)
def test_what_is_no_drive_is_refused(typed: str) -> None:
    with pytest.raises(BadInput) as refused:
        typed_drives(typed)
    assert (refused.value.field or "drives") == "drives" and refused.value.message.endswith((".", "?"))


def test_drives_go_into_the_first_empty_bays() -> None:
    assert free_bays(6, {1, 3}, 3) == [2, 4, 5]
    with pytest.raises(BadInput, match="3 of its 4 bays are empty"):
        free_bays(4, {2}, 4)
    with pytest.raises(BadInput, match="all its 2 bays are taken"):
        free_bays(2, {1, 2}, 1)
    for wrong in (0, 1001, -3):
        with pytest.raises(BadInput):
            check_bays(wrong)
    assert check_bays(1000) == 1000


def test_facts_are_read_as_a_lists_cells_are() -> None:
    said = {"price": "249.50 EUR", "in_service": "2026-03-31", "rated_writes": "600 TB", "max_temperature": "60 °C",
            "use": " archive ", "rate": "200 MB/s", "maker": ""}  # fmt: skip
    assert corrected(said, in_pool=True) == {
        "price": Decimal("249.50"), "currency": "EUR", "in_service": dt.date(2026, 3, 31), "rated_writes": 600 * TB,
        "max_temperature": 60.0, "use": "archive", "rate": 200_000_000, "maker": None,
    }  # fmt: skip
    assert corrected({"price": "", "kind": "ssd"}, in_pool=False) == {"price": None, "currency": None, "kind": "ssd"}


@pytest.mark.parametrize(
    ("said", "in_pool"),
    [({"serial": "X"}, False), ({"bay": "3"}, False), ({"size": "8 TB"}, True), ({"kind": "ssd"}, True), ({"size": " "}, False),
     ({"price": "much"}, False), ({"afr": "2"}, False), ({"max_temperature": "200"}, False), ({"rated_writes": "0"}, False),
     ({"in_service": "31.3.2026"}, False), ({"use": "a\tb"}, False)],
)  # fmt: skip
def test_what_cannot_be_put_right_is_refused_at_its_field(said: dict[str, str], in_pool: bool) -> None:
    with pytest.raises(BadInput) as refused:
        corrected(said, in_pool=in_pool)
    assert refused.value.field == next(iter(said))


def test_drives_are_offered_as_a_careful_person_would_try_them() -> None:
    old = EstateDrive(1, "S0", None, None, 6 * TB, HDD, None, "in-use", "missing", left=("Oak", 4))
    place = EstatePlace(0, "missing", Drive("0", 6 * TB, HDD, None, "Oak", "elm"), old)

    def at(number: int, shelf: str, bay: int, host: str = "elm", **more: object) -> EstateDrive:
        size = more.pop("size", 6 * TB)
        kind = more.pop("kind", HDD)
        one = free(number, size, host=host, **more)  # type: ignore[arg-type]
        return EstateDrive(number, f"F{number}", shelf, bay, size, kind, None, "free", one.condition, host=host)  # type: ignore[arg-type]

    wanted = [
        at(1, "Oak", 4), at(2, "Oak", 2), at(3, "Oak", 10), at(4, "Elm 2", 1), at(5, "Elm 10", 1), at(6, "Ash", 1, "fir"),
        at(7, "Oak", 5, size=8 * TB), at(8, "Oak", 6, kind=SSD), at(9, "Oak", 4, condition="failing"), at(10, "Oak", 7, condition="failing"),
    ]  # fmt: skip
    mixed = [*wanted[5:], *wanted[:5]]
    assert [d.id for d in sorted(mixed, key=lambda d: careful_order(place, d))] == list(range(1, 11))


def test_who_leaves_and_who_stays() -> None:
    assert free(1).why_it_stays() is None
    assert free(1, condition="failed").why_it_stays() is None
    for stays in (free(1, service="in-use", pool="cold"), free(1, service="in-use"), free(1, starts_host=True),
                  free(1, service="retired", retired_to="sold")):  # fmt: skip
        assert stays.why_it_stays()
    assert free(1, service="retired", retired_to="sold").why_not_offered() == "It has left: sold."


def test_a_screen_says_beforehand_why_a_thing_cannot_be_done() -> None:
    known = estate()
    (pool,) = known.pools
    assert why_closed(pool) is None
    for closed in (replace(pool, state="lost"), replace(pool, state="unreachable"), replace(pool, locked=True)):
        assert pool.name in (why_closed(closed) or "")
    for volume in known.volumes:
        mounts = known.mounts_of(volume)
        assert all(m.at in (why_in_use(known, volume) or "") for m in mounts)
    assert why_in_use(replace(known, mounts=(), shares=(), targets=(), applications=()), known.volumes[0]) is None


@pytest.mark.parametrize(
    ("states", "why"),
    [
        ("active", None), ("rebuilding", "is being rebuilt"), ("failed", None), ("missing", None),
        ("failed failed", "more drives than it survives"), ("missing missing", "are away"),
        ("failed missing", "are away"), ("missing rebuilding", "are away"),
    ],
)  # fmt: skip
def test_a_place_takes_another_drive_while_the_rest_can_fill_it(states: str, why: str | None) -> None:
    (pool,) = estate().pools
    places = list(pool.places)
    for slot, state in enumerate(states.split()):
        places[slot] = replace(places[slot], state=state)
    said = why_not_replaceable(replace(pool, places=tuple(places)), places[0])
    assert said is None if why is None else why in (said or "")
