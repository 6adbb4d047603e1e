"""What the tests share: a PostgreSQL of their own, a fresh database and fresh simulated drives a test.

They run side by side, on twice as many processes as there are cores, since much of the time something is waited
for. What is about time itself (marked ``alone``) runs afterwards, one test after the other; ``scripts/check`` runs
those of the rules beside it, which wait for nothing.
"""

from __future__ import annotations

import fcntl
import json
import os
import subprocess
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import psycopg
import pytest
from argon2 import PasswordHasher
from hypothesis import HealthCheck, Phase, settings

from pairshelf.engine import carry, keys
from pairshelf.services import accounts
from pairshelf.store import database
from tests.kept import forget, nothing_kept_is_old
from tests.server import NAMED, copy_database, forget_connections, in_memory, led_engine, running

settings.register_profile("here", deadline=None, suppress_health_check=[HealthCheck.too_slow], max_examples=60)
# Who only asks whether a test fails need not be shown the least example.
settings.register_profile("unshrunk", settings.get_profile("here"), phases=(Phase.explicit, Phase.generate))
settings.load_profile("here")


def pytest_terminal_summary(terminalreporter: pytest.TerminalReporter) -> None:
    """What failed, and why, for whoever runs some of it once more (``scripts/steady.py``)."""
    path = os.environ.get("PAIRSHELF_FAILED")
    if path:
        found = [*terminalreporter.stats.get("failed", []), *terminalreporter.stats.get("error", [])]
        why = {r.nodeid: str(getattr(r.longrepr, "reprcrash", None) or r.longreprtext)[:300] for r in found}
        Path(path).write_text(json.dumps(why))


#: The longest first, so that none is begun when all others have ended; the shortest last, for whoever is free.
_FIRST = ("tests/ui/test_watching", "tests/soak", "test_description", "test_cli_fuzz", "test_crashes", "test_story")
_LAST = "tests/core"


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Begin with what takes longest. Stories in the browser wait much and then want a processor at once: they are
    spread among the others, which hardly wait, so that there are never many at a time."""
    items.sort(key=lambda item: next((n for n, part in enumerate(_FIRST) if part in item.nodeid), len(_FIRST)))
    stories = [item for item in items if "tests/ui" in item.nodeid]
    last = [item for item in items if _LAST in item.nodeid]
    among = [item for item in items if "tests/ui" not in item.nodeid and _LAST not in item.nodeid]
    placed = [((n + 0.5) / len(group), item) for group in (stories, among) for n, item in enumerate(group)]
    items[:] = [item for _place, item in sorted(placed, key=lambda one: one[0])] + last


@pytest.fixture(autouse=True, scope="session")
def one_engine() -> Iterator[None]:
    """What one test had compiled, the next ones use."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(database, "create_engine", led_engine)
        yield


@pytest.fixture(autouse=True, scope="session")
def tried_again_soon() -> Iterator[None]:
    """Whoever is held up is asked again at once: how long that takes is not what is tested here."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(carry, "_AGAIN", 0.02)
        yield


class _Loud:
    """What is done after a commit and fails is only written to the log there; here it fails the test."""

    def warning(self, event: str, **facts: object) -> None:
        raise AssertionError(f"{event}: {facts}")


@pytest.fixture(autouse=True, scope="session")
def what_fails_afterwards_is_noticed() -> Iterator[None]:
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(database, "_logger", _Loud())
        yield


@pytest.fixture(autouse=True, scope="session")
def quick_passwords() -> Iterator[None]:
    """Passwords that take a thousandth of the time to look at; how long they take is not what is tested here."""
    hasher = PasswordHasher(time_cost=1, memory_cost=8, parallelism=1)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(accounts, "_hasher", hasher)
        yield


def pytest_configure(config: pytest.Config) -> None:
    """Whoever begins several processes gives them one server for all. Simulated drives lie in memory too."""
    memory = in_memory()
    if memory and "PYTEST_DEBUG_TEMPROOT" not in os.environ:
        os.environ["PYTEST_DEBUG_TEMPROOT"] = memory
    if config.getoption("numprocesses", None) and NAMED not in os.environ:
        given = running()
        os.environ[NAMED] = given.__enter__()

        def end() -> None:
            given.__exit__(None, None, None)

        config.add_cleanup(end)


@pytest.fixture(scope="session")
def _address() -> Iterator[str]:
    if NAMED in os.environ:
        yield os.environ[NAMED]
        return
    with running() as address:
        yield address


@pytest.fixture(scope="session")
def server(_address: str) -> str:
    """Where databases can be made: an address without a database."""
    return _address.rsplit("/", 1)[0]


@pytest.fixture(scope="session")
def template(_address: str) -> str:
    """The name of a database with all tables, for others to be copied from."""
    return _address.rsplit("/", 1)[1]


@dataclass(frozen=True)
class House:
    """A database and the devices that belong to it, for others to be copied from."""

    database: str
    devices: Path


@pytest.fixture(scope="session")
def common(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder that all processes of a run share."""
    own = tmp_path_factory.getbasetemp()
    return own.parent if "PYTEST_XDIST_WORKER" in os.environ else own


def house_of(server: str, template: str, common: Path, name: str, furnish: Callable[[], object]) -> House:
    """A house that is furnished once a run, by whoever of its processes comes first."""
    made, devices = common / f"{name}.house", common / f"{name}-devices"
    with (common / f"{name}.lock").open("w") as door:
        fcntl.flock(door, fcntl.LOCK_EX)
        if made.exists():
            return House(made.read_text(), devices)
        database_name = f"h{uuid.uuid4().hex[:12]}"
        copy_database(server, template, database_name)
        with pytest.MonkeyPatch.context() as patch:
            patch.setenv("PAIRSHELF_DATABASE_URL", f"{server}/{database_name}")
            patch.setenv("PAIRSHELF_DEVICES", str(devices))
            forget_connections()
            furnish()
            database.engine().dispose()
        forget_connections()
        made.write_text(database_name)
        return House(database_name, devices)


@contextmanager
def database_from(template: str | House, server: str, devices: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[str]:
    """A copy of a database, with an empty room of devices or a copy of the house's, which the code then uses;
    the database's address."""
    if isinstance(template, House):
        if template.devices.exists():
            subprocess.run(["cp", "-a", "--sparse=always", template.devices, devices], check=True)
        template = template.database
    name = f"t{uuid.uuid4().hex[:12]}"
    copy_database(server, template, name)
    monkeypatch.setenv("PAIRSHELF_DATABASE_URL", f"{server}/{name}")
    monkeypatch.setenv("PAIRSHELF_DEVICES", str(devices))
    forget_connections()
    yield f"{server}/{name}"
    database.engine().dispose()
    keys.forget_all()
    forget_connections()
    with psycopg.connect(f"{server}/postgres", autocommit=True) as connection:
        connection.execute(f"drop database {name} with (force)".encode())


@pytest.fixture
def house(template: str) -> str | House:
    """What the database of a test begins as: no more than its tables, unless a folder of tests says otherwise."""
    return template


@pytest.fixture
def db(server: str, house: str | House, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[str]:
    """A fresh database and the devices that belong to it; the address of the database."""
    with database_from(house, server, tmp_path / "devices", monkeypatch) as address:
        forget()
        yield address
        nothing_kept_is_old()
