"""The command itself, and how answers are printed: tables for people, JSON for scripts, progress on stderr."""

from __future__ import annotations

import json
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

import typer
from rich.console import Console
from rich.table import Table

app = typer.Typer(
    help="Choose, build and look after protected storage.\n\n"
    "Begin with: pairshelf layouts 8x4TB --need 15TB --survive 1. Every command has --json, and --help with examples.",
    no_args_is_help=True,
    add_completion=False,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
)

#: Work that takes longer than this shows how far it is.
_PATIENCE = 1.0


def print_json(value: Any) -> None:
    """JSON on standard output."""
    print(json.dumps(value, indent=2, ensure_ascii=False))


def table(*columns: str, right: range | tuple[int, ...] = ()) -> Table:
    """A plain table; columns in ``right`` hold numbers."""
    made = Table(*columns, box=None, pad_edge=False)
    for index in right:
        made.columns[index].justify = "right"
    return made


def show(made: Table) -> None:
    """A table on standard output, never narrower than it needs where nobody watches."""
    Console(width=None if sys.stdout.isatty() else 200).print(made)


@contextmanager
def progress(what: str) -> Iterator[Callable[[int, int], None]]:
    """Says on standard error how far a longer piece of work is, once it has lasted a second."""
    started = time.monotonic()
    shown = False

    def tell(done: int, total: int) -> None:
        nonlocal shown
        if time.monotonic() - started > _PATIENCE and total:
            shown = True
            end = "\r" if sys.stderr.isatty() else "\n"
            print(f"{what}: {done * 100 // total} %", end=end, file=sys.stderr, flush=True)

    yield tell
    if shown and sys.stderr.isatty():
        print(" " * 60, end="\r", file=sys.stderr)
