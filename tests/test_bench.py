"""Two trees are compared by what was measured by turns."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest
from bench import against
from bench.common import line


def test_what_is_printed_is_read_again(capsys: pytest.CaptureFixture[str]) -> None:
    line("  while something changes 4 times a second", "36 ms (29 to 411) (95th)")
    line("60 drives of 14 TB built, filled, every byte verified", "43.0 s = 0.72 of allowed")
    line("second start of the demo to the first answered page, as it is", "7 s")
    print("not a figure")
    assert against.figures(capsys.readouterr().out) == {
        "while something changes 4 times a second": (36.0, "ms"),
        "60 drives of 14 TB built, filled, every byte verified": (43.0, "s"),
        "second start of the demo to the first answered page, as it is": (7.0, "s"),
    }


def _tree(folder: Path, part: str) -> Path:
    """A tree whose benchmark takes a second longer each time it is run, and writes down that it was."""
    (folder / "bench").mkdir(parents=True)
    (folder / "bench" / "__init__.py").touch()
    (folder / "bench" / f"{part}.py").write_text(
        "from pathlib import Path\n"
        f"log = Path({str(folder.parent / 'log')!r})\n"
        f"log.open('a').write({folder.name!r} + ' ')\n"
        f"number = log.read_text().split().count({folder.name!r})\n"
        "print('a figure' + ' ' * 50, number ** 2, 's = 0.1 of allowed')\n"
        f"print('only of {folder.name}' + ' ' * 50, '1 s')\n"
    )
    return folder


def test_trees_are_measured_by_turns_and_their_middles_compared(tmp_path: Path) -> None:
    trees = {name: _tree(tmp_path / name, "made_up") for name in (against.HERE, against.THERE)}
    found = against.by_turns(trees, "made_up", 3)
    assert (tmp_path / "log").read_text().split() == ["here", "there", "there", "here", "here", "there"]
    found[against.THERE].append({"a figure": (1.0, "s")})
    head, *lines = against.compared(found)
    assert "here" in head and "there" in head
    # 1, 4 and 9 here; 1, 1, 4 and 9 there. What only one of them has is left out.
    assert [text.split() for text in lines] == [["a", "figure", "s", "4", "2.5", "1.60"]]


def test_what_cannot_be_compared_is_refused(tmp_path: Path) -> None:
    for given, said in (
        ([str(tmp_path)], "there is no bench/run.py"),
        ([str(_tree(tmp_path / "x", "run")), "--rounds", "0"], "--rounds: at least one"),
    ):
        done = subprocess.run(
            [sys.executable, "-m", "bench.against", *given], capture_output=True, text=True, check=False
        )
        assert done.returncode == 2 and said in done.stderr, done.stderr


def test_a_benchmark_that_fails_is_named(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capfd: pytest.CaptureFixture[str]
) -> None:
    tree = _tree(tmp_path / "there", "building")
    (tree / "bench" / "building.py").write_text("raise SystemExit('it broke')")
    monkeypatch.setattr(against, "by_turns", lambda trees, part, _rounds: against.measured(trees[against.THERE], part))
    monkeypatch.setattr(sys, "argv", ["against", str(tree), "--part", "building"])
    with pytest.raises(SystemExit, match=r"bench\.building failed, with .*python"):
        against.main()
    assert "it broke" in capfd.readouterr().err
