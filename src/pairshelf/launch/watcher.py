"""The process that keeps watch, with all that is told."""

from __future__ import annotations

import os

from pairshelf.engine import watcher
from pairshelf.services.telling import keep_noticing, keep_sending


def main() -> None:
    """Run until told to stop."""
    # Where many share the processors, as in tests, it must not come last of all.
    late = {} if "PAIRSHELF_WATCH_AT_ONCE" not in os.environ else {"after_jobs": 0}
    watcher.main(besides=[keep_noticing, keep_sending], **late)


if __name__ == "__main__":
    main()
