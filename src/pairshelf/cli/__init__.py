"""The console command. The same figures as the screens, from the same functions."""

from __future__ import annotations

import os
import sys

from pairshelf.cli import by_hand, disposal, growing, laying_out, moving, planning, running, spreading, watching
from pairshelf.cli.show import app, print_json
from pairshelf.core.errors import PairShelfError

__all__ = [
    "app",
    "by_hand",
    "disposal",
    "growing",
    "laying_out",
    "main",
    "moving",
    "planning",
    "running",
    "spreading",
    "watching",
]


@app.command("openapi", hidden=True)
def print_openapi() -> None:
    """The description of the API, for the types of the web part."""
    from pairshelf.api.app import create_app

    print_json(create_app().api_doc)


def main() -> None:
    """Run the command; whatever cannot be done ends with a sentence on stderr and status 2."""
    try:
        app()
    except BrokenPipeError:  # a pager was closed
        sys.stderr.close()
        sys.exit(1)
    except Exception as error:
        if os.environ.get("PAIRSHELF_TRACE"):
            raise
        print(f"pairshelf: {_sentence(error)}", file=sys.stderr)
        sys.exit(2)


def _sentence(error: Exception) -> str:
    """What is in the way, on one line."""
    if isinstance(error, PairShelfError):
        return _line(error.message)
    if isinstance(error, UnicodeError):
        return "There is a character in it that is none; type it anew."
    if isinstance(error, OSError):
        where = f"{error.filename}: " if error.filename else ""
        return _line(f"{where}{error.strerror or error}.")
    return database_said(error) or _line(
        f"This was not foreseen ({type(error).__name__}: {error}); PAIRSHELF_TRACE=1 before the command shows where."
    )


def database_said(error: Exception) -> str | None:
    """What is wrong with the database, or None where it is something else."""
    from pairshelf.launch.errors import CannotStart

    if isinstance(error, CannotStart):
        return _line(str(error))
    module = type(error).__module__
    if not module.startswith(("sqlalchemy", "psycopg")):
        return None
    name = type(error).__name__
    if name in ("ArgumentError", "NoSuchModuleError", "ProgrammingError"):
        return "PAIRSHELF_DATABASE_URL is no address of a PostgreSQL of Pair Shelf; it looks like postgresql://user@host:5432/name."
    if name == "DataError":
        return "A value is none that can be kept: a number far too large, or a character that is none."
    reason = _line(str(getattr(error, "orig", None) or error).strip())
    return f"The database does not answer ({reason})."


def _line(text: str) -> str:
    return " ".join("".join(c if c.isprintable() else " " for c in text).split())[:500]
