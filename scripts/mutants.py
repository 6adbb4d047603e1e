"""``make mutants``: small deliberate faults in the source, one at a time, and how many of them a test notices.

For each fault drawn from the rooms below, the tests that are about the room run on a copy of the source with that
one fault in it, until the first fails. What nobody noticed is printed with its line.

NUMBER=60 faults a room, SEED=1, ROOM=core/changes for one room alone.
"""

from __future__ import annotations

import ast
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor, as_completed
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
SOURCE = ROOT / "src" / "pairshelf"

#: Tests that are about a room, those that fail soonest first. Longer ones than a minute are left out.
ROOMS = {
    "core/changes": ["tests/core/test_judgement.py", "tests/core/test_access.py",
                     "tests/core/test_figures.py", "tests/core/test_deciding.py", "tests/engine/test_rules_hold.py",
                     "tests/engine/test_volumes.py", "tests/engine/test_approver.py", "tests/api/test_building.py",
                     "tests/engine/test_approvals_killed.py"],
    "core/layouts": ["tests/core/test_space.py", "tests/core/test_figures.py", "tests/core/test_survival.py",
                     "tests/core/test_spread.py", "tests/core/test_erasure.py", "tests/core/test_search.py",
                     "tests/engine/test_pool_io.py", "tests/engine/test_pool_life.py"],
    "engine/io": ["tests/engine/test_pool_io.py", "tests/engine/test_rules_hold.py", "tests/engine/test_volumes.py",
                  "tests/engine/test_pool_life.py", "tests/engine/test_hard_ground.py", "tests/soak/test_histories.py"],
    "core/policies": ["tests/core/test_judgement.py", "tests/core/test_beside.py", "tests/engine/test_rules_hold.py"],
}  # fmt: skip

_COMPARE = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq,
    ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.In: ast.NotIn, ast.NotIn: ast.In,
}  # fmt: skip
_REACH = {ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.FloorDiv, ast.FloorDiv: ast.Mult, ast.Mod: ast.Mult}


def faults(tree: ast.Module) -> Iterator[tuple[ast.AST, str]]:
    """Every place where a fault can be put, and what it would be."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Compare) and len(node.ops) == 1 and type(node.ops[0]) in _COMPARE:
            yield node, "compare"
        elif isinstance(node, ast.BinOp) and type(node.op) in _REACH and not _words(node):
            yield node, "reckon"
        elif isinstance(node, ast.BoolOp):
            yield node, "and-or"
        elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
            yield node, "not"
        elif isinstance(node, ast.Constant) and type(node.value) is int and 0 <= node.value < 1000:
            yield node, "number"
        elif isinstance(node, ast.If) and not node.orelse and isinstance(node.body[0], ast.Raise):
            yield node, "refusal"


def _words(node: ast.BinOp) -> bool:
    return any(isinstance(n, ast.JoinedStr) or (isinstance(n, ast.Constant) and isinstance(n.value, str))
               for n in ast.walk(node))  # fmt: skip


def put(node: ast.AST, kind: str) -> None:
    """Change the tree."""
    if kind == "compare":
        node.ops = [_COMPARE[type(node.ops[0])]()]  # type: ignore[attr-defined]
    elif kind == "reckon":
        node.op = _REACH[type(node.op)]()  # type: ignore[attr-defined]
    elif kind == "and-or":
        node.op = ast.Or() if isinstance(node.op, ast.And) else ast.And()  # type: ignore[attr-defined]
    elif kind == "not":
        node.op = ast.UAdd()  # type: ignore[attr-defined]
        node.operand = ast.Call(ast.Name("bool", ast.Load()), [node.operand], [])  # type: ignore[attr-defined]
    elif kind == "number":
        node.value += 1  # type: ignore[attr-defined]
    else:
        node.body = [ast.Pass()]  # type: ignore[attr-defined]


def drawn(room: str, number: int, dice: random.Random) -> list[tuple[Path, int, str, str]]:
    """Faults of a room: file, line, kind, and the whole source with it."""
    places = []
    for path in sorted((SOURCE / room).rglob("*.py")):
        tree = ast.parse(path.read_text())
        places += [(path, index) for index, _ in enumerate(faults(tree))]
    found = []
    for path, index in dice.sample(places, min(number, len(places))):
        tree = ast.parse(path.read_text())
        node, kind = list(faults(tree))[index]
        line = getattr(node, "lineno", 0)
        put(node, kind)
        found.append((path, line, kind, ast.unparse(ast.fix_missing_locations(tree))))
    return found


def noticed(path: Path, text: str, tests: list[str]) -> bool:
    """Whether some test fails, or does not end, with this text in the place of a file's."""
    with tempfile.TemporaryDirectory(prefix="pairshelf-mutant-") as folder:
        copy = Path(folder) / "src"
        shutil.copytree(ROOT / "src", copy, ignore=shutil.ignore_patterns("__pycache__"))
        (copy / path.relative_to(ROOT / "src")).write_text(text)
        surroundings = {**os.environ, "PYTHONPATH": str(copy), "PYTHONDONTWRITEBYTECODE": "1", "HYPOTHESIS_SEED": "0"}
        command = [sys.executable, "-m", "pytest", "-q", "-x", "-p", "no:cacheprovider", "-p", "no:xdist", *tests]
        try:
            done = subprocess.run(command, cwd=ROOT, env=surroundings, capture_output=True, timeout=600, check=False)
        except subprocess.TimeoutExpired:
            return True
        return done.returncode != 0


def main() -> int:
    number, dice = int(os.environ.get("NUMBER") or 60), random.Random(int(os.environ.get("SEED") or 1))  # noqa: S311
    rooms = [os.environ["ROOM"]] if os.environ.get("ROOM") else list(ROOMS)
    began = time.monotonic()
    for room in rooms:
        some = drawn(room, number, dice)
        with ThreadPoolExecutor(os.cpu_count()) as workers:
            running = {
                workers.submit(noticed, path, text, ROOMS[room]): (path, line, kind) for path, line, kind, text in some
            }
            found = []
            for one in as_completed(running):
                found.append(one.result())
                if not found[-1]:
                    path, line, kind = running[one]
                    print(f"  nobody noticed: {path.relative_to(ROOT)}:{line} ({kind})", flush=True)
                elif len(found) % 10 == 0:
                    print(f"  {sum(found)} of {len(found)}", flush=True)
        print(f"{room}: {sum(found)} of {len(found)} noticed ({sum(found) / len(found):.0%})", flush=True)
    print(f"{time.monotonic() - began:.0f} s")
    return 0


if __name__ == "__main__":
    sys.exit(main())
