"""``make mutants``: small deliberate faults in the source, one at a time, and how many of them a test notices.

First the tests run once, and it is written down which of them come by which line. Then, for each fault drawn from
the rooms below, those that come by it run with that one fault in the source, until one fails: first those that are
quick and come by little else. What nobody noticed is printed with its line.

NUMBER=60 faults a room (0: all there are), SEED=1, ROOM=core/changes for one room alone.
"""

from __future__ import annotations

import ast
import hashlib
import importlib
import importlib.machinery
import importlib.util
import os
import random
import re
import signal
import subprocess
import sys
import time
from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from types import CodeType, ModuleType

ROOT = Path(__file__).resolve().parents[1]
SOURCE = ROOT / "src"
#: What the last run of all tests came by; made anew when the source or a test changed.
KEPT = ROOT / ".mutants"

#: What is reckoned has to be noticed where it is reckoned, without a database.
_OWN = ("tests/core", "tests/formats")
#: The tests of each room. The screens, and what runs for minutes, is left out.
ROOMS = {
    "core/layouts": _OWN,
    "core/policies": _OWN,
    "core/disposal": _OWN,
    "engine/io": (*(f"tests/engine/test_{name}.py" for name in (
        "io_parts", "io_edges", "pool_io", "restripe_io", "volumes", "reclaiming", "moving_volumes", "playing", "pool_life", "growing",
    )), "tests/standin", "tests/api/test_loads.py", "tests/api/test_building.py"),
    "core/changes": ("tests/core", "tests/engine", "tests/store", "tests/formats", "tests/api", "tests/test_cli.py",
                     "tests/test_cli_planning.py"),
}  # fmt: skip
LEFT_OUT = ["tests/api/test_description.py", "tests/api/test_nasty.py", "tests/api/test_made_up_kinds.py"]
#: Tests whose work is done in processes of their own, where no line is seen: tried last, whatever line it is.
ALSO = {
    "engine/io": [
        *(
            f"tests/soak/test_histories.py::test_random_histories_lose_nothing[{kind}]"
            for kind in ("parity-2", "spread-copies")
        ),
        "tests/engine/test_crashes.py::test_rebuild_through_crashes_with_writes_between[parity-1]",
    ],
}
#: Seconds of tests that are tried on one fault.
PATIENCE = 30.0
#: What a sheet says is held against what is carried out: slow, so it would seldom be among these. So many of them are tried
#: all the same, of those that come by.
WHOLE, OF_WHOLE = "tests/engine/test_approvals_killed.py", 4
#: Tests that may fail by themselves, on a machine that has much to do.
_FEW = 5

_COMPARE = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq,
    ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.In: ast.NotIn, ast.NotIn: ast.In,
}  # fmt: skip
_REACH = {ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.FloorDiv, ast.FloorDiv: ast.Mult, ast.Mod: ast.Mult}


def faults(tree: ast.Module) -> Iterator[tuple[ast.AST, str]]:
    """Every place where a fault can be put, and what it would be."""
    left = _whatever_is_left(tree)
    for node in ast.walk(tree):
        if node in left:
            continue
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


def _whatever_is_left(tree: ast.Module) -> set[ast.AST]:
    """The ones of ``reshape(-1, ...)``: there any other number below zero says the same."""
    return {
        arg.operand for node in ast.walk(tree)
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.func.attr == "reshape"
        for arg in node.args if isinstance(arg, ast.UnaryOp) and isinstance(arg.op, ast.USub)
    }  # fmt: skip


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


@dataclass(frozen=True, slots=True)
class Fault:
    """One fault: where it is, and the whole source with it."""

    path: Path
    line: int
    kind: str
    what: str
    text: str


def _short(node: ast.AST) -> str:
    return ast.unparse(node).replace("\n", " ")[:60]


def drawn(room: str, number: int, dice: random.Random) -> list[Fault]:
    """Faults of a room."""
    places = []
    for path in sorted((SOURCE / "pairshelf" / room).rglob("*.py")):
        tree = ast.parse(path.read_text())
        places += [(path, index) for index, _ in enumerate(faults(tree))]
    found = []
    for path, index in dice.sample(places, min(number or len(places), len(places))):
        tree = ast.parse(path.read_text())
        node, kind = list(faults(tree))[index]
        line = getattr(node, "lineno", 0)
        before = _short(node)
        put(node, kind)
        ast.fix_missing_locations(tree)
        found.append(Fault(path, line, kind, f"{before} -> {_short(node)}", ast.unparse(tree)))
    return found


# -- which tests come by which line ---------------------------------------------------------------------------


@dataclass(frozen=True)
class Trail:
    """Of each file of the rooms, which tests come by each line, and how long each takes, in seconds."""

    by_line: Mapping[Path, Mapping[int, frozenset[str]]]
    seconds: Mapping[str, float]

    @cached_property
    def breadth(self) -> Mapping[str, int]:
        """By how many lines each test comes: one that comes by few is about them."""
        return Counter(test for lines in self.by_line.values() for tests in lines.values() for test in tests)

    def of(self, fault: Fault) -> list[str]:
        """The tests to try: first those that are quick, and about little else. What stands outside of functions is run
        by importing: then all that come by the file, and those beside them, which may use what it makes without coming
        by any line of it."""
        lines = self.by_line.get(fault.path, {})
        by = {t for t in lines.get(fault.line, ()) if t}
        if not by and "" in lines.get(fault.line, {""}):
            by = {t for tests in lines.values() for t in tests if t}
            beside = {t.partition("::")[0] for t in by}
            by |= {t for t in self.seconds if t.partition("::")[0] in beside}
        chosen, spent = [], 0.0
        for test in sorted(by, key=lambda t: (self.seconds.get(t, 1.0) * self.breadth[t], t)):
            spent += self.seconds.get(test, 1.0)
            if chosen and spent > PATIENCE:
                break
            chosen.append(test)
        chosen += [t for t in sorted(by) if t.startswith(WHOLE) and t not in chosen][:OF_WHOLE]
        return chosen + next((also for room, also in ALSO.items() if f"/{room}/" in str(fault.path)), [])


def trail(tests: Sequence[str]) -> Trail:
    """Run these tests once, unless neither any test nor the source changed since."""
    from coverage import CoverageData

    told = hashlib.sha256()
    for path in sorted([*SOURCE.rglob("*.py"), *(ROOT / "tests").rglob("*.py")]):
        told.update(path.read_bytes())
    kept_in = KEPT / hashlib.sha256(" ".join(tests).encode()).hexdigest()[:8]
    data, log, mark = kept_in / "coverage", kept_in / "tests.log", kept_in / "of"
    if not mark.exists() or mark.read_text() != told.hexdigest():
        kept_in.mkdir(parents=True, exist_ok=True)
        print(f"running {' '.join(tests)} once, to see which come by which line", flush=True)
        surroundings = {**os.environ, "COVERAGE_FILE": str(data)}
        command = [
            sys.executable, "-m", "pytest", "-vv", "-n", str(os.cpu_count() or 1), "-m", "not alone and not crash and not ui",
            "--cov=pairshelf", "--cov-context=test", "--cov-report=", "--durations=0", "--durations-min=0",
            "-p", "no:cacheprovider", *(f"--ignore={name}" for name in LEFT_OUT), *tests,
        ]  # fmt: skip
        with log.open("w") as out:
            done = subprocess.run(command, cwd=ROOT, env=surroundings, stdout=out, stderr=out, check=False)
        failing = re.findall(r"^FAILED (\S+)", log.read_text(), re.MULTILINE)
        if len(failing) > _FEW or (done.returncode and not failing):
            raise SystemExit(f"the tests fail without any fault of ours; see {log}")
        for name in failing:
            print(f"  left out, because it fails without any fault of ours: {name}", flush=True)
        (kept_in / "failing").write_text("\n".join(failing))
        mark.write_text(told.hexdigest())
    left_out = set((kept_in / "failing").read_text().split())
    seconds: dict[str, float] = defaultdict(float)
    for found in re.finditer(r"^([0-9.]+)s (?:call|setup) +(tests/.*)$", log.read_text(), re.MULTILINE):
        seconds[found[2]] += float(found[1])
    kept = CoverageData(str(data))
    kept.read()
    by_line: dict[Path, dict[int, frozenset[str]]] = {}
    for room in ROOMS:
        for path in (SOURCE / "pairshelf" / room).rglob("*.py"):
            lines = kept.contexts_by_lineno(str(path))
            by_line[path] = {
                line: frozenset(c.partition("|")[0] for c in contexts) - left_out for line, contexts in lines.items()
            }
    return Trail(by_line, dict(seconds))


# -- one fault, tried -----------------------------------------------------------------------------------------


class Faulty(importlib.machinery.SourceFileLoader):
    """A module whose text is not that of its file."""

    text = ""

    def get_code(self, fullname: str) -> CodeType:
        return compile(self.text, self.path, "exec")


class Put:
    """Gives one module the text with the fault, whenever it is imported."""

    def __init__(self, fault: Fault) -> None:
        parts = fault.path.relative_to(SOURCE).with_suffix("").parts
        self._package = parts[-1] == "__init__"
        self._name = ".".join(parts[:-1] if self._package else parts)
        self._fault = fault

    def find_spec(
        self, name: str, path: Sequence[str] | None = None, target: ModuleType | None = None
    ) -> importlib.machinery.ModuleSpec | None:
        """See importlib.abc.MetaPathFinder."""
        if name != self._name:
            return None
        loader = Faulty(name, str(self._fault.path))
        loader.text = self._fault.text
        where = [str(self._fault.path.parent)] if self._package else None
        return importlib.util.spec_from_file_location(
            name, self._fault.path, loader=loader, submodule_search_locations=where
        )


def begin(fault: Fault, tests: Sequence[str]) -> int:
    """A child that runs the tests on the fault and exits with 0 if all pass; its process. Nothing of ours has been
    imported before, everything else has: that takes longer than most tests."""
    if child := os.fork():
        return child
    status = 1
    try:
        os.setsid()
        quiet = os.open(os.devnull, os.O_RDWR)
        for stream in range(3):
            os.dup2(quiet, stream)
        sys.meta_path.insert(0, Put(fault))  # type: ignore[arg-type]
        import pytest

        status = int(pytest.main(["-q", "-x", "-p", "no:cacheprovider", "-p", "no:xdist", "-p", "no:cov",
                                  "--hypothesis-seed=0", "--hypothesis-profile=unshrunk", *tests]))  # fmt: skip
    finally:
        os._exit(status)


def tried(some: Sequence[Fault], known: Trail) -> Iterator[tuple[Fault, bool]]:
    """Each fault, and whether some test fails, or does not end, because of it."""
    waiting, running = list(some), dict[int, tuple[Fault, float]]()
    while waiting or running:
        while waiting and len(running) < (os.cpu_count() or 1):
            fault = waiting.pop()
            if tests := known.of(fault):
                running[begin(fault, tests)] = (fault, time.monotonic())
            else:
                yield fault, False
        child, status = os.waitpid(-1, os.WNOHANG) if running else (0, 0)
        if child in running:
            yield running.pop(child)[0], status != 0
            continue
        for child, (_, began) in running.items():
            if time.monotonic() - began > 8 * PATIENCE:
                os.killpg(child, signal.SIGKILL)
        time.sleep(0.02)


def main() -> int:
    number, dice = int(os.environ.get("NUMBER") or 60), random.Random(int(os.environ.get("SEED") or 1))  # noqa: S311
    rooms = [os.environ["ROOM"]] if os.environ.get("ROOM") else list(ROOMS)
    os.chdir(ROOT)
    began = time.monotonic()
    for name in ("alembic", "cryptography", "flask_openapi3", "flask_wtf", "flask_login", "hypothesis", "numpy", "procrastinate",
                 "psycopg", "pytest", "reportlab.platypus", "sqlmodel", "structlog", "typer"):  # fmt: skip
        importlib.import_module(name)
    for room in rooms:
        noticed, known = 0, trail(ROOMS[room])
        some = drawn(room, number, dice)
        for count, (fault, found) in enumerate(tried(some, known), 1):
            noticed += found
            if not found:
                where = f"{fault.path.relative_to(ROOT)}:{fault.line} ({fault.kind}: {fault.what})"
                print(f"  nobody noticed: {where}, {len(known.of(fault))} tests tried", flush=True)
            if count % 20 == 0:
                print(f"  {noticed} of {count}", flush=True)
        print(f"{room}: {noticed} of {len(some)} noticed ({noticed / len(some):.0%})", flush=True)
    print(f"{time.monotonic() - began:.0f} s")
    return 0


if __name__ == "__main__":
    sys.exit(main())
