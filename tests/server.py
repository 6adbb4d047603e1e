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
from typing import Any

import psycopg
from sqlalchemy import Dialect, Engine, create_engine, event, make_url

from pairshelf.engine import pools, queue
from pairshelf.launch.cluster import Cluster
from pairshelf.store import database
from pairshelf.store import settings as store_settings

_MEMORY = "/dev/shm"
#: Where the address stands for the processes of a run.
NAMED = "PAIRSHELF_TESTS_SERVER"


def forget_connections() -> None:
    """Drop everything a process keeps about its database and devices."""
    for cached in (store_settings.settings, database.engine, pools.devices, queue._sender):
        cached.cache_clear()


#: The engine of this process; the address it is led to, and the process that asked for that.
_led: dict[str, Any] = {}


def led_engine(url: str, **given: Any) -> Engine:
    """In place of ``create_engine``: one engine a process, led to the database that is asked for. An engine for
    each test would compile the same statements anew each time."""
    if "engine" not in _led:
        _led["engine"] = made = create_engine(url, **given)

        @event.listens_for(made, "do_connect")
        def lead(dialect: Dialect, _record: Any, _words: Any, named: dict[str, Any]) -> None:
            named.update(dialect.create_connect_args(make_url(_led["url"]))[1])

    else:
        # What another process was given by its parent is not for it to close.
        _led["engine"].dispose(close=_led["process"] == os.getpid())
    _led.update(url=url, process=os.getpid())
    return _led["engine"]  # type: ignore[no-any-return]


def in_a_hurry(url: str) -> None:
    """No test takes the power from the database itself, so it need not wait for the disk."""
    with psycopg.connect(url.rsplit("/", 1)[0] + "/postgres", autocommit=True) as connection:
        for name in ("fsync", "synchronous_commit", "full_page_writes", "autovacuum"):
            connection.execute(f"alter system set {name} = off".encode())
        # Whoever is stopped while it connects is waited for, for a minute otherwise, before a database can be dropped.
        connection.execute("alter system set authentication_timeout = '15s'")
        connection.execute("select pg_reload_conf()")


def copy_database(server: str, template: str, name: str) -> None:
    """A database with all that stands in the template. Its files are copied as they are: in memory that takes half of
    the time of writing each page to the log."""
    with psycopg.connect(f"{server}/postgres", autocommit=True) as connection:
        connection.execute(f"create database {name} template {template} strategy file_copy".encode())


def in_memory() -> str | None:
    """A folder that lies in memory, where there is one with room: each database is a thousand small files, and to
    make and remove them took a disk a quarter of all the time."""
    try:
        room = os.statvfs(_MEMORY)
    except OSError:
        return None
    return _MEMORY if os.access(_MEMORY, os.W_OK) and room.f_bavail * room.f_frsize > 4 << 30 else None


@contextmanager
def running() -> Iterator[str]:
    """The address of a database with all tables, on a server that is gone afterwards."""
    folder = Path(tempfile.mkdtemp(prefix="pairshelf-tests-", dir=in_memory()))
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
