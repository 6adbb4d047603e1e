"""What is filling up, told with what there is to do about it."""

from __future__ import annotations

from dataclasses import replace

import pytest

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.estate import EstateVolume
from pairshelf.core.domain.units import GIB, TB
from pairshelf.core.layouts import build_layout
from pairshelf.core.layouts.restripe import Moving
from pairshelf.core.layouts.restriping import restriping
from pairshelf.core.policies.attention import Gravity, matters
from pairshelf.core.policies.filling import Filling, filling, written_share
from pairshelf.core.watching.thresholds import USUAL, Level, level
from tests.core.estates import estate

POOL = estate().pools[0]
FULL = replace(POOL, gaps=())


def volume(share: float, name: str = "v", **facts: object) -> EstateVolume:
    """800 GiB, of which one is the file system's: files take so much of the rest."""
    made = EstateVolume(1, "p", name, 800 * GIB, False, "ext4", None, GIB, "u", int(share * 799 * GIB), placed=800)
    return replace(made, **facts)  # type: ignore[arg-type]


def told(pool: object, *volumes: EstateVolume) -> Filling | None:
    found = filling([pool], volumes)  # type: ignore[list-item]
    return found[0] if found else None


@pytest.mark.parametrize(("share", "said", "urgent"), [(0.79, False, False), (0.815, True, False), (0.915, True, True)])
def test_a_volume_is_told_of_from_four_fifths_on(share: float, said: bool, urgent: bool) -> None:
    found = told(FULL, volume(share), volume(0.2, "w"))
    assert (found is not None) == said
    if found:
        assert (found.act, found.urgent) == ("grow", urgent)
        assert found.sentence.startswith(f"Volume v of p is {int(share * 100)} % full.")


def test_it_is_extended_from_what_the_pool_has_before_the_pool_is_made_larger() -> None:
    found = told(POOL, volume(0.95))
    assert found is not None and found.act == "extend" and "has room to extend it" in found.sentence


def test_what_a_keep_rule_empties_is_meant_to_be_full() -> None:
    assert told(FULL, volume(0.99, keep_above=0.95)) is None
    assert told(FULL, volume(0.99, keep_above=0.95), volume(0.85, "w")) is not None


def test_under_thin_volumes_the_pool_fills_whatever_their_files_take() -> None:
    thin = volume(0.01, thin=True, size=100 * TB)
    assert told(replace(POOL, gaps=((0, int(POOL.capacity * 0.25)),)), thin) is None
    low = replace(POOL, gaps=((0, int(POOL.capacity * 0.15)),))
    found = told(low, thin)
    assert found is not None and found.act == "grow" and "has to wait" in found.sentence
    assert found.share == pytest.approx(written_share(low)) and "85 % full" in found.sentence
    full = told(FULL, thin)
    assert (
        full is not None
        and full.sentence == "Pool p is full. What needs new room in its thin volumes has to wait; nothing is lost."
    )
    (held,) = filling([FULL], [thin], waiting={FULL.id: ["v", "w"]})
    assert held.sentence.startswith("Pool p is full. What is written to v and w waits, and goes on by itself")
    # A write that waits is told of even where a little room is left.
    (held,) = filling([low], [thin], waiting={low.id: ["v"]})
    assert "What is written to v waits" in held.sentence
    # Of volumes that have all their room, what the pool has given away says nothing.
    assert told(low, volume(0.01)) is None


def test_nearly_full_is_never_called_full_and_the_fullest_comes_first() -> None:
    found = told(FULL, volume(0.85, "a"), volume(0.9999, "b"))
    assert found is not None and found.sentence.startswith("2 volumes of p are filling up; b is 99 % full.")
    other = replace(FULL, id=2, name="q")
    both = filling([FULL, other], [volume(0.85), volume(0.95, pool="q")])
    assert [f.pool_id for f in both] == [2, 1]


def test_a_pool_that_is_growing_already_is_only_watched() -> None:
    members = [Drive(str(i), 6 * TB) for i in range(5)]
    moving = Moving(build_layout(members[:4], "parity-1"), build_layout(members, "parity-1"))
    growing = replace(FULL, layout=restriping(moving, 0, upwards=True, turned=False))
    found = told(growing, volume(0.97))
    assert found is not None and (found.act, found.urgent) == ("watch", False) and "on its way" in found.sentence
    back = replace(FULL, layout=restriping(moving, 0, upwards=True, turned=True))
    found = told(back, volume(0.97))
    assert found is not None and (found.act, found.urgent) == ("grow", True)


@pytest.mark.parametrize(
    ("share", "act", "gravity", "said", "link"),
    [
        (0.85, "grow", Gravity.SOMETIME, "Make it larger", "/pools/7/grow"),
        (0.95, "grow", Gravity.SOON, "Make it larger", "/pools/7/grow"),
        (0.95, "extend", Gravity.SOON, "Extend it", "/pools/7"),
        (0.95, "watch", Gravity.SOMETIME, "Watch it", "/pools/7"),
    ],
)
def test_today_leads_to_what_is_to_be_done(share: float, act: str, gravity: Gravity, said: str, link: str) -> None:
    (matter,) = matters(
        (), new_drives=0, drives=(), drafts=(), worker_away=False, no_drives=False, free_drives=0, no_pools=False,
        fills=[Filling(7, share, "It fills.", act, level(share, Level.ROOM, USUAL))],
    )  # fmt: skip
    assert (matter.gravity, matter.act, matter.link) == (gravity, said, link)
