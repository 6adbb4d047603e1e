"""``python -m pairshelf.api.serve HOST PORT PROCESSES``: the web server, until it is told to stop."""

from __future__ import annotations

import contextlib
import resource
import sys

import uvicorn


def main() -> None:
    """Serve on all processes; one that dies is started again."""
    host, port, processes = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
    # A socket each for everybody who listens.
    _, most = resource.getrlimit(resource.RLIMIT_NOFILE)
    with contextlib.suppress(ValueError, OSError):
        resource.setrlimit(resource.RLIMIT_NOFILE, (most, most))
    uvicorn.run(
        "pairshelf.api.served:Served", factory=True, host=host, port=port, workers=processes,
        http="pairshelf.api.served:Patient", ws="none", proxy_headers=False, server_header=False, access_log=False,
        log_level="warning", timeout_keep_alive=20, timeout_graceful_shutdown=2, timeout_worker_healthcheck=60,
        h11_max_incomplete_event_size=64 * 1024,
    )  # fmt: skip


if __name__ == "__main__":
    main()
