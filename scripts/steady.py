"""Runs pytest. Stories of the browser that failed are run once more, each by itself, at the end: those that pass then do not
fail the run, and are said to be unsteady. Nothing else is ever run again. Usage: scripts/steady.py PYTEST-ARGUMENTS"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
#: Names of those that are known to be unsteady, and how many there may be.
KNOWN, MOST = ROOT / "tests" / "ui" / "unsteady.txt", 5
STORIES = "tests/ui/"


def known() -> list[str]:
    """Stories that are to be worked off."""
    lines = (line.strip() for line in KNOWN.read_text().splitlines())
    return [line for line in lines if line and not line.startswith("#")]


def ran(arguments: list[str]) -> tuple[int, dict[str, str]]:
    """The exit status, and what failed, with why."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "failed.json"
        status = subprocess.run(["pytest", *arguments], env={**os.environ, "PAIRSHELF_FAILED": str(path)}).returncode
        return status, json.loads(path.read_text()) if path.exists() else {}


def may_run_again(failed: dict[str, str]) -> bool:
    """Only stories of the browser, and few of them: a test of data, rules or security that fails has found something."""
    return 0 < len(failed) <= MOST and all(name.startswith(STORIES) for name in failed)


def main(arguments: list[str]) -> int:
    status, failed = ran(arguments)
    if status != 1 or not may_run_again(failed):
        return status
    print(f"\n== once more, each by itself: {', '.join(failed)}", flush=True)
    for name in failed:
        again, _ = ran(["-p", "no:xdist", "-p", "no:cacheprovider", name])
        if again != 0:
            return again
    for name, why in failed.items():
        print(f"unsteady: {name}: {why}")
    listed = set(known()) | set(failed)
    if missing := [name for name in failed if name not in known()]:
        print(f"Write into {KNOWN.relative_to(ROOT)}, and work off: {', '.join(missing)}")
    if len(listed) > MOST:
        print(f"More than {MOST} stories are unsteady.", file=sys.stderr)
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
