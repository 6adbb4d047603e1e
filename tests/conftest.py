"""What the tests share: a PostgreSQL of their own, a fresh database and fresh simulated drives a test.

They run side by side, on twice as many processes as there are cores, since half of the time something is waited
for. What is about time itself (marked ``alone``) runs afterwards, one test after the other.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import psycopg
import pytest
from argon2 import PasswordHasher
from hypothesis import HealthCheck, settings

from pairshelf.engine import pools, queue
from pairshelf.launch.cluster import Cluster
from pairshelf.services import accounts
from pairshelf.store import database
from pairshelf.store import settings as store_settings

settings.register_profile("here", deadline=None, suppress_health_check=[HealthCheck.too_slow], max_examples=60)
settings.load_profile("here")


#: The longest first, so that none is begun when all others have ended.
_FIRST = ("tests/soak", "test_description", "tests/ui", "test_cli_fuzz", "test_crashes", "test_story")


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Begin with what takes longest."""
    items.sort(key=lambda item: next((n for n, part in enumerate(_FIRST) if part in item.nodeid), len(_FIRST)))


@pytest.fixture(autouse=True, scope="session")
def quick_passwords() -> Iterator[None]:
    """Passwords that take a thousandth of the time to look at; how long they take is not what is tested here."""
    hasher = PasswordHasher(time_cost=1, memory_cost=8, parallelism=1)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(accounts, "_hasher", hasher)
        patch.setattr(accounts, "_NOBODY", hasher.hash("nobody"))
        yield


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


@dataclass(frozen=True)
class House:
    """A database and the devices that belong to it, for others to be copied from."""

    database: str
    devices: Path


def house_of(cluster: Cluster, template: str, devices: Path, furnish: Callable[[], object]) -> House:
    """A house that is furnished once."""
    name = f"h{uuid.uuid4().hex[:12]}"
    server, _ = cluster.url.rsplit("/", 1)
    with psycopg.connect(f"{server}/postgres", autocommit=True) as connection:
        connection.execute(f"create database {name} template {template}".encode())
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("PAIRSHELF_DATABASE_URL", f"{server}/{name}")
        patch.setenv("PAIRSHELF_DEVICES", str(devices))
        forget_connections()
        furnish()
        database.engine().dispose()
    forget_connections()
    return House(name, devices)


@contextmanager
def database_from(
    template: str | House, cluster: Cluster, devices: Path, monkeypatch: pytest.MonkeyPatch
) -> Iterator[str]:
    """A copy of a database, with an empty room of devices or a copy of the house's, which the code then uses;
    the database's address."""
    if isinstance(template, House):
        if template.devices.exists():
            subprocess.run(["cp", "-a", "--sparse=always", template.devices, devices], check=True)
        template = template.database
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
def house(template: str) -> str | House:
    """What the database of a test begins as: no more than its tables, unless a folder of tests says otherwise."""
    return template


@pytest.fixture
def db(cluster: Cluster, house: str | House, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[str]:
    """A fresh database and the devices that belong to it; the address of the database."""
    with database_from(house, cluster, tmp_path / "devices", monkeypatch) as address:
        yield address
