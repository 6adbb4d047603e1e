"""The console command as a person meets it: figures, JSON, and bad input with status 2."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import pytest


def pairshelf(*arguments: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-m", "pairshelf.cli", *arguments], capture_output=True, text=True, check=False
    )


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
