"""Sizes: both systems understood, the unclear refused with its readings."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pairshelf.core.domain.drive_filter import Facts, parse_filter
from pairshelf.core.domain.drives import Kind, extents_of, parse_shorthand
from pairshelf.core.domain.names import check_mount_point, check_name
from pairshelf.core.domain.units import GIB, MIB, format_size, parse_size
from pairshelf.core.errors import BadInput


@pytest.mark.parametrize(
    ("text", "size"),
    [
        ("4TB", 4 * 10**12),
        ("4 tb", 4 * 10**12),
        ("3.64TiB", 4002222325105),
        ("4096MiB", 4 * GIB),
        ("500 GB", 500 * 10**9),
        ("4000787030016", 4000787030016),
        ("0,5 TB", 5 * 10**11),
        ("1.5 B", 2),
    ],
)
def test_sizes_are_read(text: str, size: int) -> None:
    assert parse_size(text) == size


@pytest.mark.parametrize("text", ["", "TB", "-4TB", "4 XB", "4.5", "4TB4", "1e12", "99999999 PB", "٤ TB x"])
def test_what_is_no_size_is_refused(text: str) -> None:
    with pytest.raises(BadInput):
        parse_size(text)


@pytest.mark.parametrize("text", ["4T", "4 G", "12k"])
def test_a_bare_prefix_is_refused_with_both_readings(text: str) -> None:
    with pytest.raises(BadInput, match=r"B \(powers of 1000\) or .*iB \(powers of 1024\)") as caught:
        parse_size(text)
    assert caught.value.code == "ambiguous-unit"


@given(st.integers(0, 10**16), st.sampled_from(["decimal", "binary"]))
def test_what_is_written_reads_back_nearly(size: int, system: str) -> None:
    again = parse_size(format_size(size, system, digits=3))  # type: ignore[arg-type]
    assert abs(again - size) <= max(1, size * 0.001)


@pytest.mark.parametrize(("size", "extents"), [(0, 0), (256 * MIB, 0), (GIB + 256 * MIB, 1), (GIB + 256 * MIB - 1, 0)])
def test_extents(size: int, extents: int) -> None:
    assert extents_of(size) == extents


def test_shorthand() -> None:
    drives = parse_shorthand("2x4TB, 1x500GB ssd")
    assert [(d.id, d.size, d.kind) for d in drives] == [
        ("d1", 4 * 10**12, Kind.HDD), ("d2", 4 * 10**12, Kind.HDD), ("d3", 5 * 10**11, Kind.SSD),
    ]  # fmt: skip
    for wrong in ("", ",", "0x4TB", "2x", "2x0TB", "5000x4TB", "2x4T"):
        with pytest.raises(BadInput):
            parse_shorthand(wrong)


@pytest.mark.parametrize(
    ("text", "matches"),
    [
        ("", True),
        ("free hdd >= 4TB shelf:cold", True),
        ("free hdd > 4TB", False),
        ("ssd", False),
        ("4tb", True),
        ('shelf:"cold store" bay:3', True),
        ("bay:30", False),
        ("in use", False),
        ("keel", True),
    ],
)
def test_filter(text: str, matches: bool) -> None:
    facts = Facts(4 * 10**12, Kind.HDD, frozenset({"free"}), {"shelf": "Cold Store", "model": "Keel 4", "bay": "3"}.get)
    assert parse_filter(text)(facts) is matches


@given(
    st.text("abC ", max_size=3), st.text("abC ", max_size=3), st.none() | st.text("abC", max_size=3),
    st.lists(st.sampled_from(['shelf:a', 'site:"b c"', "host:C", "shelf:ab", "free", "hdd", "host:zz", "a"]), max_size=3),
)  # fmt: skip
def test_what_passes_a_filter_stands_where_it_may(shelf: str, site: str, host: str | None, terms: list[str]) -> None:
    """Drives are looked at only where they could pass: so none that passes may stand elsewhere."""
    test = parse_filter(" ".join(terms))
    said = {"shelf": shelf, "site": site, "host": host}
    if test(Facts(10**12, Kind.HDD, frozenset({"free"}), said.get)):
        assert test.may_stand(shelf, site, host)


@pytest.mark.parametrize("text", ["weight:3", ">= 4T", "< 3 XB"])
def test_filter_terms_that_mean_nothing_are_refused(text: str) -> None:
    with pytest.raises(BadInput):
        parse_filter(text)


@pytest.mark.parametrize("name", ["", "a" * 61, "a/b", "a b", "-a", "..", "\u202eabc", "שלום", "a\nb", "🗄️"])
def test_names_that_will_not_do(name: str) -> None:
    with pytest.raises(BadInput):
        check_name(name, "pool", field="name")


@pytest.mark.parametrize("path", ["srv", "/", "/a/../b", "/a//b", "/a b", "C:", "/" + "a" * 300, "/a\x00"])
def test_mount_points_that_will_not_do(path: str) -> None:
    with pytest.raises(BadInput):
        check_mount_point(path)


def test_names_and_mount_points_that_will() -> None:
    assert check_name(" grün-2 ", "pool", field="name") == "grün-2"
    assert check_mount_point("/srv/scans/") == "/srv/scans"
    assert check_mount_point("s:") == "S:"
