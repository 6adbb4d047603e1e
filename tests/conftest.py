"""What the tests share: a PostgreSQL of their own, a fresh database and fresh simulated drives a test."""

from __future__ import annotations

import os
import shutil
import tempfile
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import psycopg
import pytest
from hypothesis import HealthCheck, settings

from pairshelf.engine import pools, queue
from pairshelf.launch.cluster import Cluster
from pairshelf.store import database
from pairshelf.store import settings as store_settings

settings.register_profile("here", deadline=None, suppress_health_check=[HealthCheck.too_slow], max_examples=60)
settings.load_profile("here")


def forget_connections() -> None:
    """Drop everything a process keeps about its database and devices."""
    for cached in (store_settings.settings, database.engine, pools.devices, queue._sender):
        cached.cache_clear()


def in_a_hurry(cluster: Cluster) -> None:
    """No test takes the power from the database itself, so it need not wait for the disk."""
    with psycopg.connect(cluster.url.rsplit("/", 1)[0] + "/postgres", autocommit=True) as connection:
        for name in ("fsync", "synchronous_commit", "full_page_writes"):
            connection.execute(f"alter system set {name} = off".encode())
        connection.execute("select pg_reload_conf()")


@pytest.fixture(scope="session")
def cluster() -> Iterator[Cluster]:
    folder = Path(tempfile.mkdtemp(prefix="pairshelf-tests-"))
    folder.chmod(0o755)
    one = Cluster(folder / "postgres")
    one.start()
    in_a_hurry(one)
    yield one
    one.stop()
    shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture(scope="session")
def template(cluster: Cluster) -> str:
    """The name of a database with all tables, for others to be copied from."""
    os.environ["PAIRSHELF_DATABASE_URL"] = cluster.url
    forget_connections()
    database.migrate()
    database.engine().dispose()
    return cluster.url.rsplit("/", 1)[1]


@contextmanager
def database_from(template: str, cluster: Cluster, devices: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[str]:
    """A copy of a database and an empty room of devices, which the code then uses; the database's address."""
    name = f"t{uuid.uuid4().hex[:12]}"
    server, _ = cluster.url.rsplit("/", 1)
    with psycopg.connect(f"{server}/postgres", autocommit=True) as connection:
        connection.execute(f"create database {name} template {template}".encode())
    monkeypatch.setenv("PAIRSHELF_DATABASE_URL", f"{server}/{name}")
    monkeypatch.setenv("PAIRSHELF_DEVICES", str(devices))
    forget_connections()
    yield f"{server}/{name}"
    database.engine().dispose()
    forget_connections()
    with psycopg.connect(f"{server}/postgres", autocommit=True) as connection:
        connection.execute(f"drop database {name} with (force)".encode())


@pytest.fixture
def db(cluster: Cluster, template: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[str]:
    """A fresh database and an empty room of devices; the address of the database."""
    with database_from(template, cluster, tmp_path / "devices", monkeypatch) as address:
        yield address
