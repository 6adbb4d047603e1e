"""Spread pools: how many stripes there are, where they lie, what they bear, and whether they can be repaired."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from itertools import combinations

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from pairshelf.core.domain.drives import Drive, parse_shorthand
from pairshelf.core.domain.units import EXTENT, GIB, MIB
from pairshelf.core.errors import BadInput, NotPossible, PairShelfError
from pairshelf.core.figures.assumptions import Assumptions
from pairshelf.core.figures.spread_pools import spread_account, spread_figures
from pairshelf.core.layouts.placing import (
    WantedVolume,
    fits,
    parse_volume,
    place,
    spread_pool,
    stripes_max,
    widest_domain,
)
from pairshelf.core.layouts.protections import Protection, parse_protection

protections = st.sampled_from(
    [Protection("copies-2", 2), Protection("copies-3", 3), Protection("parity-1", 3), Protection("parity-2", 5)]
)
capacities = st.lists(st.integers(0, 14), min_size=1, max_size=8)


def _drives(extents: list[int], hosts: int = 0) -> list[Drive]:
    return [
        Drive(f"d{i}", e * GIB + 256 * MIB, host=f"h{i % hosts}" if hosts else None) for i, e in enumerate(extents)
    ]  # fmt: skip


def _greedy(free: list[int], width: int) -> int:
    """Stripes that fit when each takes the domains with most room, the plain way."""
    left, count = list(free), 0
    while True:
        order = sorted(range(len(left)), key=lambda i: -left[i])[:width]
        if len(order) < width or left[order[-1]] == 0:
            return count
        for i in order:
            left[i] -= 1
        count += 1


@given(capacities, st.integers(1, 6))
def test_the_greatest_number_of_stripes(free: list[int], width: int) -> None:
    most = stripes_max(free, width)
    assert most == _greedy(free, width)
    assert fits(free, [(most, width)]) and not fits(free, [(most + 1, width)])
    assert stripes_max([*free, 5], width) >= most, "a drive more never lowers it"


@given(capacities, st.lists(st.tuples(st.integers(1, 5), st.integers(1, 4)), min_size=1, max_size=3))
def test_stripes_of_several_widths_fit_exactly_when_widest_first_places_them(
    free: list[int], stripes: list[tuple[int, int]]
) -> None:
    left = list(free)
    placed = True
    for count, width in sorted(stripes, key=lambda s: -s[1]):
        for _ in range(count):
            order = sorted(range(len(left)), key=lambda i: -left[i])[:width]
            if len(order) < width or left[order[-1]] == 0:
                placed = False
                break
            for i in order:
                left[i] -= 1
    assert fits(free, stripes) == placed


@given(st.lists(st.integers(1, 30), min_size=2, max_size=9), protections, st.integers(0, 4), st.data())
def test_stripes_lie_in_different_domains_and_nowhere_twice(
    extents: list[int], protection: Protection, hosts: int, data: st.DataObject
) -> None:
    pool = spread_pool(_drives(extents, hosts), "host" if hosts else "drive")
    most = pool.stripes_max(protection)
    assume(most > 0)
    count = data.draw(st.integers(1, most))
    (stripes,) = place(pool, [WantedVolume(count * protection.data * EXTENT, protection)])
    assert stripes.shape == (count, protection.width)
    for stripe in stripes:
        assert len({pool.domain_of[d] for d in stripe}) == protection.width
    used = Counter(stripes.ravel().tolist())
    assert all(used[i] <= e for i, e in enumerate(extents))
    with pytest.raises(NotPossible):
        place(pool, [WantedVolume((most + 1) * protection.data * EXTENT, protection)])


@given(st.integers(3, 12), st.integers(2, 4), st.integers(0, 3))
def test_equal_drives_are_all_partnered(count: int, width: int, hosts_per: int) -> None:
    assume(count > width)
    protection = Protection(f"copies-{width}", width) if width < 4 else Protection("parity-2", 4)
    pool = spread_pool(_drives([200] * count), "drive")
    figures = spread_figures(pool, [WantedVolume(count * 12 * protection.data * EXTENT, protection)], Assumptions())
    assert all(figures.partners[i][j] > 0 for i, j in combinations(range(count), 2))
    if hosts_per:
        hosted = _drives([200] * (count * hosts_per), count)
        shared = spread_figures(
            spread_pool(hosted, "host"),
            [WantedVolume(count * 12 * protection.data * EXTENT, protection)],
            Assumptions(),
        )
        by_host = np.zeros((count, count), int)
        for i, j in combinations(range(len(hosted)), 2):
            by_host[i % count, j % count] += shared.partners[i][j]
            by_host[j % count, i % count] += shared.partners[i][j]
        assert all(by_host[i, j] > 0 for i, j in combinations(range(count), 2))


@given(st.lists(st.integers(2, 12), min_size=4, max_size=8), protections, st.integers(1, 12))
def test_what_a_volume_bears_agrees_with_every_selection(
    extents: list[int], protection: Protection, count: int
) -> None:
    pool = spread_pool(_drives(extents), "drive")
    assume(0 < count <= pool.stripes_max(protection))
    wanted = WantedVolume(count * protection.data * EXTENT, protection)
    found = spread_figures(pool, [wanted], Assumptions())
    (stripes,) = place(pool, [wanted])
    sets = [set(s.tolist()) for s in stripes]
    units = range(len(extents))
    shares = [
        [all(len(s & set(gone)) <= protection.survives for s in sets) for gone in combinations(units, k)]
        for k in range(len(extents) + 1)
    ]
    (volume,) = found.volumes
    assert list(volume.survives.curve) == pytest.approx([sum(x) / len(x) for x in shares])
    assert volume.survives.guaranteed == protection.survives
    assert volume.survives.best_case == max(k for k, x in enumerate(shares) if any(x))
    assert 0 <= volume.odds.yearly_loss <= volume.odds.yearly_damage * (1 + 1e-9) < 1
    assert found.used + found.free == sum(extents) * EXTENT


@given(st.lists(st.integers(1, 40), min_size=2, max_size=9), protections)
def test_the_account_of_a_named_protection_adds_up(extents: list[int], protection: Protection) -> None:
    pool = spread_pool(_drives(extents), "drive")
    for repair in (True, False):
        account = spread_account(pool, protection, repair=repair, file_system="none").as_dict()
        rest = sum(v for k, v in account.items() if k not in ("raw", "usable"))
        assert account["raw"] - rest == account["usable"] >= 0
        assert all(v >= 0 for v in account.values())
    assert account["repair"] == 0
    larger = spread_pool(_drives([*extents, 20]), "drive")
    assert (
        spread_account(larger, protection, repair=False, file_system="none").usable
        >= spread_account(pool, protection, repair=False, file_system="none").usable
    )


@given(st.lists(st.integers(2, 10), min_size=3, max_size=7), protections, st.integers(1, 10))
def test_self_repair_is_what_placing_on_the_rest_shows(extents: list[int], protection: Protection, count: int) -> None:
    pool = spread_pool(_drives(extents), "drive")
    assume(count <= pool.stripes_max(protection))
    fails = pool.self_repair_fails_without([WantedVolume(count * protection.data * EXTENT, protection)])
    for i in range(len(extents)):
        rest = [e for j, e in enumerate(extents) if j != i]
        assert (f"d{i}" in fails) == (_greedy(rest, protection.width) < count)
    with_repair = pool.stripes_with_repair(protection)
    assert (
        not pool.self_repair_fails_without([WantedVolume(with_repair * protection.data * EXTENT, protection)])
        or not with_repair
        or not pool.repairs_a_domain(protection)
    )
    account = spread_account(pool, protection, file_system="none")
    assert account.repair >= 0 and (account.repair == 0 or pool.repairs_a_domain(protection))
    if not pool.repairs_a_domain(protection):
        assert account.usable == pool.stripes_max(protection) * protection.data * EXTENT


def test_three_hosts_with_three_copies_hold_what_one_of_them_holds() -> None:
    hosts = [Drive(f"d{i}", 8 * 10**12, host=f"h{i % 3}", shelf=f"h{i % 3}", site="main") for i in range(9)]
    own = Protection("copies-3", 3)
    account = spread_account(spread_pool(hosts, "host"), own, file_system="none")
    assert account.usable == 3 * hosts[0].extents * EXTENT and account.repair == 0


def test_the_domain_proposed_is_the_widest_that_the_drives_stand_in() -> None:
    drives = [Drive(f"d{i}", 10**12, shelf=f"s{i % 4}", host=f"h{i % 2}", site="main") for i in range(8)]
    assert widest_domain(drives, 2) == "host" and spread_pool(drives, "").domain == "host"
    assert widest_domain(drives, 3) == "shelf" and widest_domain(drives, 5) == "drive"
    assert spread_pool(drives, "drive").domain == "drive"
    far = [replace(d, site=f"site {i % 2}") for i, d in enumerate(drives)]
    assert widest_domain(far, 2) == "site"
    assert widest_domain([*far, Drive("x", 10**12)], 2) == "drive"


def test_rebuild_is_shared_by_all() -> None:
    given = Assumptions(rate=100_000_000)
    drives = [Drive(f"d{i}", 4 * 10**12, rate=100_000_000) for i in range(10)]
    wanted = WantedVolume(1000 * EXTENT, Protection("copies-2", 2))
    found = spread_figures(spread_pool(drives, "drive"), [wanted], given)
    # 200 extents a drive: 2B over nine drives' rates.
    assert found.rebuild_hours == pytest.approx(2 * 200 * EXTENT / 900e6 / 3600, rel=0.02)
    # Two hosts and copies over hosts: only the drives left in the lost one's host may take them.
    hosts = [Drive(f"d{i}", 4 * 10**12, rate=100_000_000, host=f"h{i % 2}") for i in range(6)]
    held = spread_figures(spread_pool(hosts, "host"), [wanted], given)
    assert held.rebuild_hours == pytest.approx(334 * EXTENT / 200e6 / 3600, rel=0.02)


def test_a_volume_over_hosts_bears_whole_hosts() -> None:
    pool = spread_pool(parse_shorthand("3x8TB@a,3x8TB@b,3x8TB@c,3x8TB@d"), "host")
    found = spread_figures(pool, [parse_volume("1TiB:copies-3"), parse_volume("300GiB:copies-2")], Assumptions())
    threefold, twofold = found.volumes
    assert (threefold.by_domain.guaranteed, twofold.by_domain.guaranteed) == (2, 1)
    assert found.survives.guaranteed == 1
    assert threefold.odds.yearly_loss < twofold.odds.yearly_loss


@pytest.mark.parametrize(
    "text",
    ["", "40GiB", "40GiB:", "0GiB:copies-2", "40G:copies-2", "-1GiB:copies-2", "1TiB:parity-2", "1TiB:parity-2:3",
     "1TiB:parity-1:1", "1TiB:parity-9:8", "1TiB:copies-2:5", "1TiB:parity-2:9999", "x:copies-2"],
)  # fmt: skip
def test_volumes_that_make_no_sense_are_refused(text: str) -> None:
    with pytest.raises(BadInput):
        parse_volume(text)


def test_pools_that_cannot_be_are_refused() -> None:
    with pytest.raises(BadInput, match="no host"):
        spread_pool(parse_shorthand("4x4TB"), "host")
    with pytest.raises(BadInput, match="failure domain"):
        spread_pool(parse_shorthand("4x4TB"), "planet")
    pool = spread_pool(parse_shorthand("4x4TB"), "drive")
    for volume in ("1TiB:parity-2:6", "900TiB:copies-2"):
        with pytest.raises(PairShelfError):
            place(pool, [parse_volume(volume)])
    assert parse_protection("parity-2:8") == Protection("parity-2", 8)
