"""The worker process."""

from __future__ import annotations

from pairshelf.engine.worker import main

if __name__ == "__main__":
    main()
