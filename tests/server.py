"""A PostgreSQL of the tests' own with all tables in one database, for others to be copied from.

One serves all processes of a run. ``python -m tests.server`` prints its address and keeps it until its input ends.
"""

from __future__ import annotations

import os
import shutil
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import psycopg

from pairshelf.engine import pools, queue
from pairshelf.launch.cluster import Cluster
from pairshelf.store import database
from pairshelf.store import settings as store_settings

#: Where the address stands for the processes of a run.
NAMED = "PAIRSHELF_TESTS_SERVER"


def forget_connections() -> None:
    """Drop everything a process keeps about its database and devices."""
    for cached in (store_settings.settings, database.engine, pools.devices, queue._sender):
        cached.cache_clear()


def in_a_hurry(url: str) -> None:
    """No test takes the power from the database itself, so it need not wait for the disk."""
    with psycopg.connect(url.rsplit("/", 1)[0] + "/postgres", autocommit=True) as connection:
        for name in ("fsync", "synchronous_commit", "full_page_writes"):
            connection.execute(f"alter system set {name} = off".encode())
        connection.execute("select pg_reload_conf()")


@contextmanager
def running() -> Iterator[str]:
    """The address of a database with all tables, on a server that is gone afterwards."""
    folder = Path(tempfile.mkdtemp(prefix="pairshelf-tests-"))
    folder.chmod(0o755)
    cluster = Cluster(folder / "postgres")
    cluster.start()
    try:
        in_a_hurry(cluster.url)
        before = os.environ.get("PAIRSHELF_DATABASE_URL")
        os.environ["PAIRSHELF_DATABASE_URL"] = cluster.url
        forget_connections()
        database.migrate()
        database.engine().dispose()
        forget_connections()
        if before is None:
            del os.environ["PAIRSHELF_DATABASE_URL"]
        else:
            os.environ["PAIRSHELF_DATABASE_URL"] = before
        yield cluster.url
    finally:
        cluster.stop()
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    with running() as address:
        print(address, flush=True)
        sys.stdin.read()
