"""The check of a file system: every file read, and no two in one place."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pairshelf.engine.jobs.kind import JobKind
from pairshelf.engine.jobs.read_files import step


def _outcome(report: Mapping[str, Any], _pool: str) -> str:
    twice = f", {len(report['overlapping'])} claim a place twice" if report["overlapping"] else ""
    differing = len(report["files_differing"])
    return f"Check of the file system: {report['files_read']} files read, {differing} differing{twice}."


KIND = JobKind(
    "check-files", "Check of the file system", "It is read as by any user; nothing is changed.", step, _outcome,
    users_work=True, may_end=True,
)  # fmt: skip
