"""This tree's figures beside another's: both measured by turns on one machine, and the middle of all rounds compared.

A machine's pace changes by half within minutes, more than what a change usually costs or saves. What was measured next
to one another, first this one and then the other and the next time the other way round, can be compared all the same.
"""

from __future__ import annotations

import argparse
import os
import re
import statistics
import subprocess
import sys
from pathlib import Path

#: What is printed: a name, two spaces at least, a number and its unit.
_FIGURE = re.compile(r"^\s*(?P<what>\S.*?)\s{2,}(?P<number>\d+(?:\.\d+)?) (?P<unit>\S+)")
HERE, THERE = "here", "there"

Figures = dict[str, tuple[float, str]]


def figures(printed: str) -> Figures:
    """The number and the unit of each figure that a benchmark prints, by its name."""
    found = (_FIGURE.match(text) for text in printed.splitlines())
    return {m["what"]: (float(m["number"]), m["unit"]) for m in found if m}


def measured(tree: Path, part: str) -> Figures:
    """One run of a tree's benchmark, with what is installed for that tree. CalledProcessError when it fails."""
    python = tree / ".venv" / "bin" / "python"
    paths = f"{python.parent}{os.pathsep}{os.environ['PATH']}"
    done = subprocess.run(
        [str(python) if python.exists() else sys.executable, "-m", f"bench.{part}"],
        cwd=tree, env={**os.environ, "PATH": paths, "PYTHONPATH": str(tree)}, stdout=subprocess.PIPE, text=True, check=True,
    )  # fmt: skip
    return figures(done.stdout)


def by_turns(trees: dict[str, Path], part: str, rounds: int) -> dict[str, list[Figures]]:
    """So many rounds of each tree; who was first in one round is last in the next."""
    found: dict[str, list[Figures]] = {name: [] for name in trees}
    for number in range(rounds):
        for name in list(trees)[:: 1 if number % 2 == 0 else -1]:
            found[name].append(measured(trees[name], part))
            print(f"round {number + 1} of {rounds}, {name}: {len(found[name][-1])} figures", flush=True)
    return found


def compared(found: dict[str, list[Figures]]) -> list[str]:
    """A line for each figure that both have in the same unit: the middle of here, of there, and their ratio."""
    middles: list[dict[tuple[str, str], float]] = []
    for name in (HERE, THERE):
        of: dict[tuple[str, str], list[float]] = {}
        for one in found[name]:
            for what, (number, unit) in one.items():
                of.setdefault((what, unit), []).append(number)
        middles.append({key: statistics.median(numbers) for key, numbers in of.items()})
    here, there = middles
    lines = [f"{'the middle of all rounds':<62}{HERE:>10}{THERE:>10}{'ratio':>8}"]
    for key in (key for key in here if key in there):
        ratio = f"{here[key] / there[key]:.2f}" if there[key] else "–"
        lines.append(f"{key[0]:<56}{key[1]:>6}{here[key]:>10.4g}{there[key]:>10.4g}{ratio:>8}")
    return lines


def main() -> None:
    """Measure, and print."""
    asked = argparse.ArgumentParser(description=__doc__)
    asked.add_argument("other", type=Path, help="another clone of the project, set up with `make test` or `make demo`")
    asked.add_argument("--part", default="run", help="a module of bench: run (all of it), building, moving, …")
    asked.add_argument("--rounds", type=int, default=3)
    given = asked.parse_args()
    if not (given.other / "bench" / f"{given.part}.py").is_file():
        asked.error(f"there is no bench/{given.part}.py in {given.other}")
    if given.rounds < 1:
        asked.error("--rounds: at least one")
    trees = {HERE: Path(__file__).resolve().parent.parent, THERE: given.other.resolve()}
    try:
        print("\n".join(compared(by_turns(trees, given.part, given.rounds))))
    except subprocess.CalledProcessError as failed:
        sys.exit(f"bench.{given.part} failed, with {failed.cmd[0]}; what it said stands above.")


if __name__ == "__main__":
    main()
