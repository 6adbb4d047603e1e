"""Whether power may go off: what stays in use, what waits, and what has to finish first."""

from __future__ import annotations

from dataclasses import replace
from itertools import combinations

import pytest

from pairshelf.core.domain.drives import Drive, Kind
from pairshelf.core.domain.estate import EstateDrive, EstatePlace, EstatePool
from pairshelf.core.domain.units import TB
from pairshelf.core.layouts import build_layout
from pairshelf.core.policies.switching_off import Going, May, may_go_off


def pool(scheme: str, count: int, *states: str, number: int = 1, name: str = "herbs") -> EstatePool:
    layout = build_layout([Drive(str(i), 2 * TB) for i in range(count)], scheme)
    places = tuple(
        EstatePlace(i, states[i] if i < len(states) else "active", layout.members[i],
                    EstateDrive(100 * number + i, f"{name}{i}", "Oak", i + 1, 2 * TB, Kind.HDD, None, "in-use", "good", pool=name))
        for i in range(count)
    )  # fmt: skip
    return EstatePool(number, name, "healthy", layout, places, (), True, scheme)


@pytest.mark.parametrize(("scheme", "bears"), [("parity-1", 1), ("parity-2", 2), ("parity-3", 3), ("stripe", 0)])
def test_as_many_as_it_survives_may_go_off_and_one_more_is_held(scheme: str, bears: int) -> None:
    herbs = pool(scheme, 6)
    for count in range(1, 5):
        for gone in combinations(range(100, 106), count):
            answer = may_go_off([herbs], gone, [])
            assert answer.may is (May.YES if count <= bears else May.HELD), (scheme, gone)
            left = bears - count
            assert (f"{left} more drive" in " ".join(answer.lines)) == (left > 0)
            assert ("cannot be used until it is back" in " ".join(answer.lines)) == (count > bears)
            assert not answer.first


def test_what_is_being_filled_goes_first_where_that_helps() -> None:
    filling = pool("parity-1", 4, "rebuilding")
    rebuild = Going("rebuild", "Rebuild of herbs", 1, 7200.0)
    wait = may_go_off([filling], {101}, [rebuild])
    assert wait.may is May.WAIT and wait.first == (
        "Rebuild of herbs: 2 h left. Then herbs bears it, and stays in use.",
    )
    # Where it would be held all the same, nobody is made to wait; nor where the drive that is being filled goes itself.
    assert may_go_off([filling], {101, 102}, [rebuild]).may is May.HELD
    assert may_go_off([filling], {100}, [rebuild]).may is May.YES
    # Of another pool, or of one that is not being filled, no job is waited for.
    assert may_go_off([filling], {101}, [replace(rebuild, pool_id=2)]).may is May.HELD
    assert may_go_off([filling], {101}, [replace(rebuild, kind="check")]).may is May.HELD


def test_what_runs_goes_on_and_what_erases_by_itself_would_begin_anew() -> None:
    herbs = pool("parity-2", 5)
    check = Going("check", "Check of herbs", 1, 60.0)
    assert "Check of herbs: goes on where it stopped." in may_go_off([herbs], {100}, [check]).lines
    lot = Going("wipe", "Wiping", None, 60.0, erasing=(7, 8))
    assert may_go_off([], {9}, [lot]).sentence == "Yes. Nothing of a pool stands there."
    one, two = may_go_off([], {7}, [lot]), may_go_off([], {7, 8}, [lot])
    assert one.may is two.may is May.WAIT
    assert one.first == ("Wiping: a drive erases by itself, and would begin anew.",)
    assert two.first == ("Wiping: 2 drives erase by themselves, and would begin anew.",)


def test_several_pools_each_have_their_line() -> None:
    herbs, seeds = pool("parity-1", 3), pool("stripe", 2, number=2, name="seeds")
    answer = may_go_off([herbs, seeds], {100, 200}, [])
    assert answer.may is May.HELD and answer.sentence.startswith("Yes, when nobody needs seeds:")
    assert answer.lines[0].startswith("herbs stays in use, unprotected: no more drive may fail")
    both = may_go_off([herbs, seeds], {100, 101, 200}, [])
    assert both.sentence.startswith("Yes, when nobody needs herbs and seeds:")
