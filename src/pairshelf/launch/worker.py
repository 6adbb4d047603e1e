"""The worker process, with all that is kept beside its jobs."""

from __future__ import annotations

from pairshelf.engine import worker
from pairshelf.services.telling import keep_noticing, keep_sending


def main() -> None:
    """Run until told to stop."""
    worker.main(besides=[keep_noticing, keep_sending])


if __name__ == "__main__":
    main()
