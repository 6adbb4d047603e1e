"""One name for one thing: two classes of one name are taken for each other by whoever reads."""

from __future__ import annotations

import ast
from collections import defaultdict
from pathlib import Path

SOURCE = Path(__file__).resolve().parents[1] / "src" / "pairshelf"


def test_no_two_classes_have_one_name() -> None:
    where = defaultdict(list)
    for path in SOURCE.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.ClassDef) and not node.name.startswith("_"):
                where[node.name].append(str(path.relative_to(SOURCE)))
    assert len(where) > 500
    assert {name: places for name, places in where.items() if len(places) > 1} == {}
