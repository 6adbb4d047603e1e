"""The console command, run in this process: what it printed, what it said, and its status."""

from __future__ import annotations

import contextlib
import io
import sys
from typing import Any

import pytest
import typer.main

from pairshelf import cli

#: Made once: making the commands takes longer than most of them.
_COMMAND = typer.main.get_command(cli.app)


def run(words: list[str]) -> tuple[int, str, str]:
    """Status, what it printed, what it said."""
    out, err = io.StringIO(), io.StringIO()
    status: Any = 0
    with pytest.MonkeyPatch.context() as patch, contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        patch.setattr(sys, "argv", ["pairshelf", *words])
        patch.setattr(typer.main, "get_command", lambda _app: _COMMAND)
        try:
            cli.main()
        except SystemExit as ended:
            status = ended.code
    return int(status or 0), out.getvalue(), err.getvalue()
