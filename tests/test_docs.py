"""The docs and the registries agree, and nothing that is committed names a registry of packages."""

from __future__ import annotations

import re
from pathlib import Path

from pairshelf.core.changes.kinds import KINDS
from pairshelf.core.domain.acts import Role, allowed
from pairshelf.core.domain.drives import DEFAULTS, Kind
from pairshelf.core.domain.file_systems import FILE_SYSTEMS
from pairshelf.core.domain.inventory import COLUMNS, FIELDS
from pairshelf.core.figures.cautions import CAUTIONS
from pairshelf.core.figures.workloads import WORKLOADS
from pairshelf.core.layouts import DIVIDED
from pairshelf.engine.apply import APPLY
from pairshelf.engine.jobs.kinds import JOBS

ROOT = Path(__file__).resolve().parents[1]


def test_every_scheme_is_explained_with_its_tolerance() -> None:
    rows = re.findall(r"^\| `([a-z0-9-]+)` \|.*\| (\d) \|$", (ROOT / "docs/rules.md").read_text(), re.MULTILINE)
    assert {(name, int(survives)) for name, survives in rows} == {(s.id, s.survives) for s in DIVIDED.values()}


def test_registries_are_whole() -> None:
    assert all(kind.name and kind.notices for kind in JOBS.values())
    assert set(DEFAULTS) == set(Kind)
    assert {c.field for c in COLUMNS} == set(FIELDS)
    assert set(APPLY) == set(KINDS)
    assert all(allowed(Role.ADMINISTRATOR, kind.act) and kind.about for kind in KINDS.values())
    assert "none" in FILE_SYSTEMS


def test_every_picture_and_page_that_is_linked_is_there() -> None:
    for page in [ROOT / "README.md", *(ROOT / "docs").rglob("*.md")]:
        for link in re.findall(r"\]\(([^)#:]+)\)", page.read_text()):
            assert (page.parent / link).exists(), f"{page.name} links to {link}"


def test_lock_files_name_no_registry() -> None:
    for name in ("web/package-lock.json", "requirements/run.txt", "requirements/dev.txt"):
        text = (ROOT / name).read_text()
        assert '"resolved"' not in text and "--index-url" not in text


def test_every_caution_and_every_workload_is_explained_with_its_weights() -> None:
    text = (ROOT / "docs/rules.md").read_text()
    assert all(f"`{code}`" in text for code in CAUTIONS)
    rows = re.findall(r"^\| `([a-z]+)` \| ([\d. %|]+) \|$", text, re.MULTILINE)
    told = {n: [float(x.strip(" %")) / (100 if "%" in x else 1) for x in cells.split("|")] for n, cells in rows}
    assert told == {w.id: [*w.weights().values(), w.writes, w.whole] for w in WORKLOADS.values()}
    assert all(abs(sum(w.weights().values()) - 1) < 1e-9 for w in WORKLOADS.values())


def test_every_promise_names_tests_that_are_there() -> None:
    named = re.findall(r"`(tests/[\w/]+\.py)::(\w+)`", (ROOT / "docs/promises.md").read_text())
    assert len(named) > 30
    for file, name in named:
        assert f"def {name}(" in (ROOT / file).read_text(), f"{file} has no {name}"
    promises = re.split(r"\n\n(?=\*\*)", (ROOT / "docs/promises.md").read_text())[1:]
    assert all("`tests/" in promise for promise in promises)
