"""The console command as a person meets it: figures, JSON, and bad input with status 2."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from tests.console import run


def pairshelf(*arguments: str) -> subprocess.CompletedProcess[str]:
    return subprocess.CompletedProcess(arguments, *run(list(arguments)))


def test_it_is_a_command_of_its_own() -> None:
    words = [sys.executable, "-m", "pairshelf.cli", "layout", "3x4TB", "--scheme", "parity-1", "--json"]
    done = subprocess.run(words, capture_output=True, text=True, check=False)
    assert (done.returncode, done.stdout) == (0, pairshelf(*words[3:]).stdout)


def test_layout_as_json() -> None:
    done = pairshelf("layout", "5x4TB,3x8TB", "--scheme", "parity-1", "--sets", "2", "--file-system", "none", "--json")
    assert done.returncode == 0, done.stderr
    report = json.loads(done.stdout)
    assert report["sets"] == [["d1", "d2", "d3", "d4"], ["d5", "d6", "d7", "d8"]]
    assert list(report["space"]) == [
        "raw", "spares", "labels", "uneven", "redundancy", "repair", "reserve", "file_system", "usable",
    ]  # fmt: skip
    assert report["space"]["raw"] == 44 * 10**12
    assert report["space"]["usable"] == 2 * 3 * 3725 * 2**30
    assert (report["survives"]["guaranteed"], report["survives"]["best_case"]) == (1, 2)


def test_a_file_gives_the_same_as_the_shorthand(tmp_path: Path) -> None:
    file = tmp_path / "drives.csv"
    file.write_text("id,size_bytes,kind\n" + "".join(f"d{i + 1},6000000000000,hdd\n" for i in range(7)))
    options = ("--scheme", "parity-2", "--spares", "1", "--json")
    assert pairshelf("layout", str(file), *options).stdout == pairshelf("layout", "7x6TB", *options).stdout


def test_layouts_names_what_is_ruled_out() -> None:
    answer = json.loads(pairshelf("layouts", "8x4TB", "--need", "20TB", "--survive", "2", "--json").stdout)
    assert answer["layouts"] and all(x["survives"]["guaranteed"] >= 2 for x in answer["layouts"])
    assert all(x["space"]["usable"] >= 20 * 10**12 for x in answer["layouts"])
    assert {"scheme", "why"} <= set(answer["ruled_out"][0])


@pytest.mark.parametrize(
    "arguments",
    [
        ("layout", "8x4T", "--scheme", "parity-2"),
        ("layout", "8x4TB", "--scheme", "nonsense"),
        ("layout", "8x4TB", "--scheme", "parity-2", "--sets", "3"),
        ("layout", "nowhere.csv", "--scheme", "parity-2"),
        ("layout", "8x4TB"),
        ("layouts", ""),
        ("layouts", "8x4TB", "--need", "20"),
        ("layouts", "8x4TB", "--survive", "-1"),
        ("layouts", "8x4TB", "--file-system", "fat"),
        ("layouts", "5000x4TB"),
    ],
)
def test_bad_input_ends_with_a_message_and_status_2(arguments: tuple[str, ...]) -> None:
    done = pairshelf(*arguments)
    if arguments[-1] == "20":  # twenty bytes are a need that is met
        assert done.returncode == 0
        return
    assert done.returncode == 2
    assert done.stderr.strip() and not done.stdout.strip()
    assert "Traceback" not in done.stderr


def _json(*arguments: str) -> dict[str, Any]:
    done = pairshelf(*arguments, "--json")
    assert done.returncode == 0, done.stderr
    return json.loads(done.stdout)  # type: ignore[no-any-return]


def test_every_assumption_moves_the_figure_it_is_about() -> None:
    base = ("layout", "12x8TB", "--scheme", "parity-2", "--sets", "2")
    plain = _json(*base)
    assert len(plain["survives"]["curve"]) == 13 and plain["pareto"] in (True, False)
    moved = {
        "--afr=0.05": "yearly_loss", "--uber=1e-14": "yearly_damage", "--rate=400MB": "rebuild_hours",
        "--replace-hours=0": "yearly_loss", "--user-share=0.5": "rebuild_hours", "--user-share=0.3": "mttdl_hours",
    }  # fmt: skip
    for option, figure in moved.items():
        assert _json(*base, option)[figure] != plain[figure], option
    assert _json(*base, "--user-share=0.5")["rebuild_hours"] == pytest.approx(2 * plain["rebuild_hours"])
    assert _json(*base, "--ops=300")["speed"]["random_write_rmw"] == 12 * 300 / 6
    assert _json(*base, "--price=100")["cost"]["total"] == 1200
    assert _json(*base, "--backup-link=1Gbit/s")["restore_hours"] > 0
    assert {c["code"] for c in plain["cautions"]} >= {"no-backup"}


def test_whole_shelves(tmp_path: Path) -> None:
    stock = "6x8TB@oak,6x8TB@elm"
    found = _json("layout", stock, "--scheme", "parity-2", "--sets", "2", "--domain", "shelf")
    assert found["survives"]["by_domain"]["guaranteed"] == 0
    layouts = _json("layouts", stock, "--domain", "shelf")["layouts"]
    assert layouts and all(x["arranged"] or len(x["sets"]) == 1 for x in layouts)
    assert any(x["pareto"] for x in layouts)
    drawing = tmp_path / "cut.svg"
    assert pairshelf("layout", stock, "--scheme", "parity-2", "--svg", str(drawing)).returncode == 0
    assert drawing.read_text().startswith("<?xml")
    explained = pairshelf("layout", stock, "--scheme", "parity-2", "--explain").stdout
    assert "Mean time to data loss" in explained and "h_0" in explained.replace("h₀", "h_0")


def test_spread() -> None:
    found = _json("spread", "3x8TB@a,3x8TB@b,3x8TB@c,3x8TB@d", "--domain", "host",
                  "--volume", "40GiB:copies-3", "--volume", "1TiB:parity-1:3")  # fmt: skip
    assert [(v["protection"], v["width"], v["stripes"]) for v in found["volumes"]] == [
        ("copies-3", 3, 40), ("parity-1", 3, 512),
    ]  # fmt: skip
    assert found["volumes"][0]["pool_use"] == 120 * 2**30
    assert set(found["stripes_max"]) == {"copies-3", "parity-1:3"} and found["self_repair"] is True
    assert found["volumes"][0]["survives"]["guaranteed"] == 2


def test_growth_buy_and_split(tmp_path: Path) -> None:
    grown = _json("growth", "4x4TB", "--scheme", "stepped-1", "--larger", "8TB")
    assert [s["gain"] > 0 for s in grown["paths"][2]["steps"]] == [False, True, True, True]
    prices = tmp_path / "prices.csv"
    prices.write_text("model,size,kind,price\nA4,4 TB,hdd,100\nB8,8 TB,hdd,170\n")
    bought = _json("buy", str(prices), "--bays", "8", "--need", "20TB", "--then", "30TB")
    assert bought["purchases"][0]["cheapest_in_all"] and bought["purchases"][0]["later"]
    divided = _json("split", "8x8TB,2x2TB ssd", "--use", "scans:media:30TB:1", "--use", "log:database:1TB:1")
    assert divided["meets"] and len(divided["shares"][0]["drives"]) == 8
    assert "least over all steps" in pairshelf("buy", str(prices), "--bays", "8", "--need", "20TB").stdout


@pytest.mark.parametrize(
    "arguments",
    [
        ("layout", "8x4TB", "--scheme", "parity-2", "--afr", "2"),
        ("layout", "8x4TB", "--scheme", "parity-2", "--user-share", "1"),
        ("layout", "8x4TB", "--scheme", "parity-2", "--rate", "0"),
        ("layout", "8x4TB", "--scheme", "parity-2", "--domain", "shelf"),
        ("layout", "8x4TB", "--scheme", "parity-2", "--domain", "moon"),
        ("layout", "8x4TB", "--scheme", "parity-2", "--svg", "/nowhere/at/all.svg"),
        ("layouts", "8x4TB", "--workload", "games"),
        ("layouts", "8x4TB", "--bays-free", "8"),
        ("spread", "8x4TB"),
        ("spread", "8x4TB", "--volume", "1TB"),
        ("spread", "8x4TB", "--volume", "900TiB:copies-2"),
        ("spread", "8x4TB", "--domain", "host", "--volume", "1TB:copies-2"),
        ("growth", "8x4TB", "--scheme", "parity-2", "--steps", "0"),
        ("buy", "nowhere.csv", "--bays", "4", "--need", "1TB"),
        ("split", "8x4TB", "--use", "scans"),
        ("split", "8x4TB", "--use", "a:general", "--use", "b:games"),
    ],
)
def test_more_bad_input_ends_the_same_way(arguments: tuple[str, ...]) -> None:
    done = pairshelf(*arguments)
    assert done.returncode == 2 and done.stderr.strip() and "Traceback" not in done.stderr
    assert not done.stdout.strip()


def test_help_teaches() -> None:
    for command in ("layout", "layouts", "spread", "growth", "buy", "split"):
        text = pairshelf(command, "--help").stdout
        assert f"pairshelf {command}" in text and "Example" in text
