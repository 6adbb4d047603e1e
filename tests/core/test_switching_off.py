"""Whether it is safe to power something off: what stops, what stays in service, and what has to finish first."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace
from itertools import combinations

import pytest

from pairshelf.core.domain.depends import pull
from pairshelf.core.domain.drives import Drive, Kind
from pairshelf.core.domain.estate import (
    Estate,
    EstateApplication,
    EstateDrive,
    EstateHost,
    EstateMount,
    EstatePlace,
    EstatePool,
    EstateShare,
    EstateTarget,
    EstateVolume,
)
from pairshelf.core.domain.units import GIB, TB
from pairshelf.core.layouts import build_layout
from pairshelf.core.policies.switching_off import Going, PowerOff, Safe, safe_to_power_off


def pool(scheme: str, count: int, *states: str, number: int = 1, name: str = "herbs") -> EstatePool:
    layout = build_layout([Drive(str(i), 2 * TB) for i in range(count)], scheme)
    places = tuple(
        EstatePlace(i, states[i] if i < len(states) else "active", layout.members[i],
                    EstateDrive(100 * number + i, f"{name}{i}", "Oak", i + 1, 2 * TB, Kind.HDD, None, "in-use", "good", pool=name))
        for i in range(count)
    )  # fmt: skip
    return EstatePool(number, name, "healthy", layout, places, (), True, scheme)


def ask(pools: list[EstatePool], gone: Collection[int], going: list[Going], *, kind: str = "shelf", name: str = "Oak",
        **used: object) -> PowerOff:  # fmt: skip
    estate = Estate(pools=tuple(pools), **used)  # type: ignore[arg-type]
    drives = [p.drive for one in pools for p in one.places if p.drive and p.drive.id in gone]
    return safe_to_power_off(pull(estate, kind, name, drives), pools, gone, going)


@pytest.mark.parametrize(("scheme", "bears"), [("parity-1", 1), ("parity-2", 2), ("parity-3", 3), ("stripe", 0)])
def test_as_many_as_it_survives_leave_it_in_service_and_one_more_stops_it(scheme: str, bears: int) -> None:
    herbs = pool(scheme, 6)
    for count in range(1, 5):
        for gone in combinations(range(100, 106), count):
            answer = ask([herbs], gone, [])
            assert answer.safe is (Safe.REDUCED if count <= bears else Safe.NO), (scheme, gone)
            more = {0: "survives no further failure", 1: "survives 1 more failure"}.get(
                bears - count, f"survives {bears - count} more failures"
            )
            if count <= bears:
                assert answer.sentence == f"Yes, with reduced protection: pool herbs {more} until it is back."
            else:
                assert answer.sentence == "No: pool herbs is offline."
                assert "no data are lost" in " ".join(answer.lines)
            assert not answer.first


def test_what_is_being_filled_goes_first_where_that_helps() -> None:
    filling = pool("parity-1", 4, "rebuilding")
    rebuild = Going("rebuild", "Rebuild of herbs", 1, 7200.0)
    wait = ask([filling], {101}, [rebuild])
    assert wait.safe is Safe.WAIT and wait.first == ("Rebuild of herbs: 2 h left. Then herbs stays in service.",)
    # Where it would stop anyway, nobody is made to wait; nor where the drive that is being filled goes itself.
    assert ask([filling], {101, 102}, [rebuild]).safe is Safe.NO
    assert ask([filling], {100}, [rebuild]).safe is Safe.REDUCED
    # Of another pool, or of one that is not being filled, no job is waited for.
    assert ask([filling], {101}, [replace(rebuild, pool_id=2)]).safe is Safe.NO
    assert ask([filling], {101}, [replace(rebuild, kind="check")]).safe is Safe.NO


def test_jobs_continue_and_what_erases_by_itself_would_begin_again() -> None:
    herbs = pool("parity-2", 5)
    check = Going("check", "Check of herbs", 1, 60.0)
    assert "Check of herbs: continues where it stopped." in ask([herbs], {100}, [check]).lines
    lot = Going("wipe", "Wiping", None, 60.0, erasing=(7, 8))
    assert ask([], {9}, [lot]).sentence == "Yes. Nothing that is in use depends on it."
    one, two = ask([], {7}, [lot]), ask([], {7, 8}, [lot])
    assert one.safe is two.safe is Safe.WAIT
    assert one.first == ("Wiping: a drive erases by itself, and would begin again.",)
    assert two.first == ("Wiping: 2 drives erase by themselves, and would begin again.",)


def test_several_pools_each_have_their_line() -> None:
    herbs, seeds = pool("parity-1", 3), pool("stripe", 2, number=2, name="seeds")
    answer = ask([herbs, seeds], {100, 200}, [])
    assert answer.sentence == "No: pool seeds is offline."
    assert answer.lines[0].startswith("Pool herbs stays in service, unprotected: it survives no further failure")
    assert ask([herbs, seeds], {100, 101, 200}, []).sentence == "No: pool herbs is offline; pool seeds is offline."


IQN = "iqn.2026-01.example:"
HOSTS = (
    EstateHost("elm", "Here", iqn=IQN + "elm"), EstateHost("fir", "Here", iqn=IQN + "fir"), EstateHost("oak", "There"),
)  # fmt: skip
PEOPLE = (("ash", None), ("bay", None), ("reed", None), ("office", ("ash", "bay", "reed")))


def volume(name: str, number: int = 1) -> EstateVolume:
    return EstateVolume(number, "herbs", name, GIB, False, "xfs", None, 0, name)


def test_a_host_whose_drives_nobody_has_is_not_safe_while_it_serves_people() -> None:
    """Not one drive of the pool hangs on it: only the share does."""
    served = {
        "volumes": (volume("archive"),), "mounts": (EstateMount(1, "elm", "herbs/archive", "/srv/a"),), "machines": HOSTS,
        "shares": (EstateShare("archive", "herbs/archive", "", None, None, True, (("office", "write"),)),), "parties": PEOPLE,
    }  # fmt: skip
    answer = ask([pool("parity-1", 3)], (), [], kind="host", name="elm", **served)
    assert (answer.safe, answer.sentence) == (Safe.NO, "No: 3 people lose herbs/archive.")
    (line,) = answer.lines
    assert "ash, bay and reed" in line and "shared as archive" in line
    # Only hosts of the place that stay on can take it over.
    assert line.endswith("Host fir could serve it instead.")
    assert ask([pool("parity-1", 3)], (), [], kind="host", name="fir", **served).safe is Safe.YES
    everything = ask([pool("parity-1", 3)], (100, 101, 102), [], kind="everything", name="all", **served)
    assert everything.safe is Safe.NO and "instead" not in " ".join(everything.lines)


def test_a_host_is_not_safe_while_it_mounts_runs_or_uses_something() -> None:
    herbs = pool("parity-1", 3)
    log = EstateApplication(1, "elm", "log", "database", "ash", "/srv/log", "/etc/log", True, None)
    mounted = ask([herbs], (), [], kind="host", name="elm", machines=HOSTS, volumes=(volume("a"),),
                  mounts=(EstateMount(1, "elm", "herbs/a", "/srv/a"),))  # fmt: skip
    assert mounted.sentence == "No: herbs/a stops."
    runs = ask([], (), [], kind="host", name="elm", machines=HOSTS, applications=(log,))
    assert runs.sentence == "No: application log on elm stops."
    target = EstateTarget(IQN + "t", "fir", False, ((0, "herbs/a"),), ((IQN + "elm", False),))
    uses = ask([herbs], (), [], kind="host", name="elm", machines=HOSTS, volumes=(volume("a"),), targets=(target,))
    assert uses.sentence == "No: host elm stops using herbs/a."
    serves = ask([herbs], (), [], kind="host", name="fir", machines=HOSTS, volumes=(volume("a"),), targets=(target,))
    assert serves.sentence == "No: herbs/a stops." and "disk of elm" in serves.lines[0]


def test_a_shelf_that_a_host_starts_from_stops_that_host() -> None:
    log = EstateApplication(1, "elm", "log", "database", "ash", "/srv/log", "/etc/log", True, None)
    boots = EstateDrive(9, "B", "Own", 1, TB, Kind.SSD, None, "in-use", "good", starts_host=True, host="elm")
    estate = Estate(machines=HOSTS, applications=(log,))
    assert safe_to_power_off(pull(estate, "shelf", "Own", [boots]), [], {9}, []).safe is Safe.NO
    assert (
        safe_to_power_off(pull(estate, "shelf", "Own", [replace(boots, starts_host=False)]), [], {9}, []).safe
        is Safe.YES
    )


def test_a_rebuild_is_not_waited_for_where_the_host_stops_its_volumes_anyway() -> None:
    filling, rebuild = pool("parity-1", 4, "rebuilding"), Going("rebuild", "Rebuild of herbs", 1, 60.0)
    used = {"volumes": (volume("a"),), "mounts": (EstateMount(1, "elm", "herbs/a", "/srv/a"),), "machines": HOSTS}
    assert ask([filling], {101}, [rebuild], **used).safe is Safe.WAIT
    assert ask([filling], {101}, [rebuild], kind="host", name="elm", **used).safe is Safe.NO
