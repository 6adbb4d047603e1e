"""The process that keeps watch, with all that is told."""

from __future__ import annotations

from pairshelf.engine import watcher
from pairshelf.services.telling import keep_noticing, keep_sending


def main(*, after_jobs: int = watcher.AFTER_JOBS) -> None:
    """Run until told to stop."""
    watcher.main(besides=[keep_noticing, keep_sending], after_jobs=after_jobs)


if __name__ == "__main__":
    main()
