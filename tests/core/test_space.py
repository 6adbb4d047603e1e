"""The space account: every byte of any drives is accounted for, in every layout."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pairshelf.core.domain.drives import Drive, parse_shorthand
from pairshelf.core.domain.file_systems import FILE_SYSTEMS, overhead
from pairshelf.core.domain.units import GIB, MIB
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.figures.space import space_account
from pairshelf.core.layouts import Layout, build_layout
from tests.core.strategies import drives, layouts

file_systems = st.sampled_from(list(FILE_SYSTEMS))
#: btrfs keeps four times the metadata from 50 GiB on, so a volume of 50 GiB holds less than one of 49.
growing = st.sampled_from([fs for fs in FILE_SYSTEMS if fs != "btrfs"])


@given(layouts(), file_systems)
def test_the_account_adds_up_to_the_byte(layout: Layout, file_system: str) -> None:
    lines = space_account(layout, file_system=file_system).as_dict()
    assert lines["raw"] == sum(d.size for d in (*layout.members, *layout.spares))
    assert lines["usable"] == 2 * lines["raw"] - sum(v for k, v in lines.items() if k != "usable")
    assert all(v >= 0 for v in lines.values())
    assert lines["labels"] >= len(layout.members) * 256 * MIB


@given(drives(2, 16), st.sampled_from([1, 2]))
def test_stepped_is_the_sum_less_the_largest(members: list[Drive], parity: int) -> None:
    if len(members) <= parity:
        with pytest.raises(NotPossible):
            build_layout(members, f"stepped-{parity}")
        return
    layout = build_layout(members, f"stepped-{parity}")
    extents = sorted(d.extents for d in members)
    assert layout.data_extents == sum(extents[:-parity])


@given(drives(4, 12), st.sampled_from([1, 2]), growing, st.data())
def test_stepped_never_gains_by_losing_a_drive(members: list[Drive], parity: int, fs: str, data: st.DataObject) -> None:
    gone = data.draw(st.integers(0, len(members) - 1))
    before = space_account(build_layout(members, f"stepped-{parity}"), file_system=fs).usable
    fewer = members[:gone] + members[gone + 1 :]
    assert space_account(build_layout(fewer, f"stepped-{parity}"), file_system=fs).usable <= before


@given(
    st.integers(5, 20), st.integers(2 * GIB, 21 * 10**12), st.sampled_from(["stripe", "parity-1", "parity-2", "span"])
)
def test_equal_drives_never_gain_by_losing_one(count: int, size: int, scheme: str) -> None:
    members = [Drive(str(i), size) for i in range(count)]
    more = space_account(build_layout(members, scheme)).usable
    assert space_account(build_layout(members[1:], scheme)).usable < more


@given(growing, st.integers(1, 400 * 1024), st.integers(0, 1024))
def test_more_extents_never_hold_less(fs: str, extents: int, extra: int) -> None:
    size, more = extents * GIB, extra * GIB
    assert size - overhead(fs, size) <= size + more - overhead(fs, size + more)


def test_a_case_worked_by_hand() -> None:
    """Five drives of 10.5 GiB and one of 21 GiB: e = floor((size - 256 MiB) / 1 GiB) = 10 and 20."""
    members = [Drive(f"d{i}", 10 * GIB + 512 * MIB) for i in range(5)] + [Drive("big", 21 * GIB)]
    account = space_account(build_layout(members, "parity-2"), file_system="none")
    assert account.as_dict() == {
        "raw": 5 * (10 * GIB + 512 * MIB) + 21 * GIB,
        "spares": 0,
        "labels": 5 * 512 * MIB + GIB,
        "uneven": 10 * GIB,
        "redundancy": 20 * GIB,
        "repair": 0,
        "reserve": 0,
        "file_system": 0,
        "usable": 40 * GIB,
    }  # fmt: skip


def test_sets_of_unequal_size_add_up_each_by_itself() -> None:
    layout = build_layout(parse_shorthand("4x10.25GiB,4x20.25GiB"), "parity-1", sets=2)
    assert layout.data_extents == 3 * 10 + 3 * 20


def test_spares_are_the_last_ones_and_count_whole() -> None:
    layout = build_layout(parse_shorthand("4x4TB,2x8TB"), "parity-1", spares=2)
    assert [d.id for d in layout.spares] == ["d5", "d6"]
    assert space_account(layout).spares == 16 * 10**12


@pytest.mark.parametrize(
    ("shorthand", "scheme", "sets", "spares"),
    [
        ("7x4TB", "copies-2", None, 0),
        ("2x4TB", "parity-1", 1, 0),
        ("8x4TB", "parity-2", 3, 0),
        ("8x4TB", "parity-2", 0, 0),
        ("8x4TB", "stepped-1", 2, 0),
        ("4x4TB", "parity-1", 1, 4),
        ("4x4TB", "parity-1", 1, -1),
        ("4x4TB", "parity-9", 1, 0),
        ("2x300MB", "copies-2", 1, 0),
        ("300x4TB", "parity-2", 1, 0),
    ],
)
def test_what_cannot_be_laid_out_is_refused(shorthand: str, scheme: str, sets: int | None, spares: int) -> None:
    with pytest.raises((BadInput, NotPossible)):
        build_layout(parse_shorthand(shorthand), scheme, sets=sets, spares=spares)
