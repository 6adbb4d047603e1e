"""What leaves the house: the cut as SVG, comparisons as CSV, JSON and PDF; and price lists coming in."""

from __future__ import annotations

import csv
import io
import json
import re
import xml.etree.ElementTree as ElementTree

import pytest
from hypothesis import given

from pairshelf.core.domain.drives import Drive, Kind, parse_shorthand
from pairshelf.core.errors import BadInput
from pairshelf.core.figures.report import answer_json, cut_json
from pairshelf.core.layouts import Layout, build_layout
from pairshelf.core.search.candidates import Question, all_layouts, load_of
from pairshelf.formats.comparison_csv import comparison_csv, comparison_json
from pairshelf.formats.comparison_pdf import comparison_pdf
from pairshelf.formats.cut_drawing import Box, draw_cut
from pairshelf.formats.cut_svg import cut_svg
from pairshelf.formats.price_list_csv import read_price_list
from tests.core.strategies import layouts

SVG = "{http://www.w3.org/2000/svg}"


@given(layouts(most=16))
def test_areas_of_the_cut_are_the_space_account(layout: Layout) -> None:
    """Data, redundancy and what is left over take areas in the proportion of their extents."""
    drawing = draw_cut(cut_json(layout))
    area = dict.fromkeys(("data", "redundancy"), 0.0)
    for shape in drawing.shapes:
        if isinstance(shape, Box) and shape.fill in area:
            area[shape.fill] += shape.height
        if isinstance(shape, Box):
            assert shape.x >= 0 and shape.x + shape.width <= drawing.width and shape.height >= 0
    guard = sum(band.rows * (band.width - band.data) for band in layout.bands)
    assert area["redundancy"] * layout.data_extents == pytest.approx(area["data"] * guard, rel=1e-6, abs=1e-6)


def test_the_svg_is_well_formed_and_escapes_names() -> None:
    layout = build_layout([Drive(f"<{i}&", 4 * 10**12, Kind(k)) for i, k in enumerate(["hdd", "ssd", "nvme", "hdd", "hdd"])],
                          "parity-1", spares=1)  # fmt: skip
    root = ElementTree.fromstring(cut_svg(cut_json(layout), failed=frozenset({"<0&"}), title="a <b>"))
    assert root.tag == f"{SVG}svg"
    texts = [t.text for t in root.iter(f"{SVG}text")]
    assert texts == ["<0&", "<1&", "<2&", "<3&", "<4&"]
    assert len(list(root.iter(f"{SVG}path"))) == 5 + 1
    assert any("Spare" in (t.text or "") for t in root.iter(f"{SVG}title"))


def test_csv_and_json_carry_every_layout_and_no_formula() -> None:
    drives = [Drive(f"={i}", 6 * 10**12) for i in range(6)]
    answer = answer_json(all_layouts(drives))
    rows = list(csv.DictReader(io.StringIO(comparison_csv(answer).decode(), newline="")))
    assert len(rows) == len(answer["layouts"])
    for row, layout in zip(rows, answer["layouts"], strict=True):
        assert int(row["usable_bytes"]) == layout["space"]["usable"]
        assert float(row["yearly_damage"]) == layout["yearly_damage"]
        assert (row["suggested"] == "yes") == (layout["key"] == answer["recommended"])
        assert not any(v.startswith(("=", "+", "@")) for v in row.values())
    content = json.loads(comparison_json("t", drives, {"=0": "Cold 1"}, answer))
    assert content["drives_compared"][0]["label"] == "Cold 1"
    assert [x["key"] for x in content["layouts"]] == [x["key"] for x in answer["layouts"]]
    assert comparison_csv({"layouts": [], "recommended": None}).strip() == b"scheme"


@pytest.mark.parametrize("count", [2, 12, 130])
def test_the_pdf_holds_our_type_and_is_the_same_every_time(count: int) -> None:
    question = Question(need=10**12, given=Question().given)
    answer = all_layouts(parse_shorthand(f"{count}x4TB"), question)
    report = answer_json(answer) | {"drives": count, "basis": [], "load": load_of(answer, question)}
    side = answer.layouts[:4]
    content = comparison_pdf("Täglich <&> “x”", question, report, side, {}, "binary")
    assert content.startswith(b"%PDF-") and content.rstrip().endswith(b"%%EOF")
    assert len(set(re.findall(rb"/BaseFont /(\S+)", content))) >= 2, "regular and semi-bold are told apart"
    assert comparison_pdf("Täglich <&> “x”", question, report, side, {}, "binary") == content


GOOD = "Model,Capacity (TB),Type,Price,IOPS,Power\nA4,4,HDD,99.00 EUR,150,4.5 W\nF2,2,SSD,1.50 EUR,40000,\n"


def test_a_price_list_is_read_kindly() -> None:
    found = read_price_list(GOOD.encode())
    assert not found.errors
    first, second = found.models
    assert (first.model, first.size, first.kind, first.price, first.currency) == (
        "A4",
        4 * 10**12,
        Kind.HDD,
        99.0,
        "EUR",
    )
    assert (first.ops, first.watts, second.ops, second.watts) == (150, 4.5, 40000, None)


@pytest.mark.parametrize(
    ("text", "row", "words"),
    [
        ("model,size,kind,price\nA,4 TB,tape,1\n", 2, "not a known kind"),
        ("model,size,kind,price\nA,4,hdd,1\n", 2, "too small"),
        ("model,size,kind,price\nA,4 TB,hdd,cheap\n", 2, "not a price"),
        ("model,size,kind,price\nA,4 TB,hdd,1\na,8 TB,hdd,2\n", 3, "stands already in row 2"),
        ("model,size,kind,price\n,4 TB,hdd,1\n", 2, "missing"),
        ("model,kind\nA,hdd\n", 1, "no column for the size"),
        ("model,size,kind,price,watts\nA,4 TB,hdd,1,lots\n", 2, "not a power"),
        ("model,size,kind,price\n", 2, "no models"),
    ],
)
def test_a_price_list_with_mistakes_says_where(text: str, row: int, words: str) -> None:
    found = read_price_list(text.encode())
    assert found.errors[0].row == row and words in found.errors[0].reason


def test_what_is_no_price_list_at_all_is_refused() -> None:
    for raw in (b"", b"\x00\x01", b"\xff\xfe\x00"):
        with pytest.raises(BadInput):
            read_price_list(raw)
