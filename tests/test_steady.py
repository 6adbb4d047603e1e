"""What is run once more, and what never is."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "scripts"))

import steady  # noqa: E402 - a script, not a package


def test_only_few_stories_of_the_browser_are_run_again() -> None:
    story = {f"tests/ui/test_x.py::test_{i}": "why" for i in range(9)}
    assert steady.may_run_again(dict(list(story.items())[: steady.MOST]))
    assert not steady.may_run_again(story) and not steady.may_run_again({})
    for other in ("tests/api/test_doors.py::test_x", "tests/core/test_x.py::test_y", "tests/engine/test_x.py::test_y"):
        assert not steady.may_run_again({**dict(list(story.items())[:1]), other: "why"})


def test_few_are_unsteady_and_each_is_a_story_there_is() -> None:
    names = steady.known()
    assert len(names) <= steady.MOST
    for name in names:
        path, _, test = name.partition("::")
        assert path.startswith(steady.STORIES) and f"def {test.partition('[')[0]}(" in (ROOT / path).read_text()


@pytest.mark.parametrize(("second", "status"), [("passes", 0), ("fails", 1)])
def test_a_story_that_passes_the_second_time_is_said_and_does_not_fail_the_run(
    second: str, status: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    """With a pytest of its own, whose first run fails."""
    stand_in = tmp_path / "pytest"
    stand_in.write_text(
        "#!/bin/sh\n"
        f"if [ -e {tmp_path}/again ]; then [ {second} = passes ]; exit; fi\n"
        f"touch {tmp_path}/again\n"
        """echo '{"tests/ui/test_x.py::test_y": "it was not there"}' > "$PAIRSHELF_FAILED"\nexit 1\n"""
    )
    stand_in.chmod(0o755)
    monkeypatch.setenv("PATH", f"{tmp_path}:{os.environ['PATH']}")
    assert subprocess.run(["pytest", "--version"], env={**os.environ, "PAIRSHELF_FAILED": "/dev/null"}).returncode == 1
    (tmp_path / "again").unlink()
    assert steady.main(["-q"]) == status
    said = capsys.readouterr().out
    assert ("unsteady: tests/ui/test_x.py::test_y: it was not there" in said) == (second == "passes")
