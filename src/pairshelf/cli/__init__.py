"""The console command. The same figures as the screens, from the same functions."""

from __future__ import annotations

import sys

from pairshelf.cli import growing, laying_out, planning, running, spreading
from pairshelf.cli.show import app, print_json
from pairshelf.core.errors import PairShelfError

__all__ = ["app", "growing", "laying_out", "main", "planning", "running", "spreading"]


@app.command("openapi", hidden=True)
def print_openapi() -> None:
    """The description of the API, for the types of the web part."""
    from pairshelf.api.app import create_app

    print_json(create_app().api_doc)


def main() -> None:
    """Run the command; bad input ends with a message on stderr and status 2."""
    try:
        app()
    except PairShelfError as error:
        print(f"pairshelf: {error.message}", file=sys.stderr)
        sys.exit(2)
    except BrokenPipeError:  # a pager was closed
        sys.stderr.close()
        sys.exit(1)
