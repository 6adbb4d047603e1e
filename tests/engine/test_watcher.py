"""The process that keeps watch: apart from the jobs, and gone when it is told to go."""

from __future__ import annotations

import subprocess
import sys
import time

import pytest
from sqlmodel import select

from pairshelf.store.database import transaction
from pairshelf.store.tables import LogRow
from tests.engine.helpers import at_once, build, shelf

pytestmark = pytest.mark.usefixtures("db")


def _rounds() -> int:
    with transaction() as session:
        return int(session.connection().exec_driver_sql("select count(*) from history_round").scalar() or 0)


def _within(seconds: float, what: str) -> None:
    until = time.monotonic() + seconds
    while not _rounds():
        assert time.monotonic() < until, what
        time.sleep(0.2)


def test_what_is_recorded_has_a_process_of_its_own() -> None:
    at_once()
    build(shelf(4), "parity-1")
    worker = subprocess.Popen([sys.executable, "-m", "pairshelf.launch.worker"])
    try:
        time.sleep(3)
        assert _rounds() == 0, "those who carry jobs record nothing"
        watcher = subprocess.Popen([sys.executable, "-m", "pairshelf.launch.watcher"])
        try:
            _within(60, "nothing was recorded")
            watcher.kill()
            watcher.wait()
            with transaction() as session:
                session.connection().exec_driver_sql("delete from history_round")
            watcher = subprocess.Popen([sys.executable, "-m", "pairshelf.launch.watcher"])
            _within(60, "the next one did not go on where the killed one was")
        finally:
            watcher.terminate()
            assert watcher.wait(60) == 0
    finally:
        worker.terminate()
        worker.wait(60)
    with transaction() as session:
        assert not session.exec(select(LogRow).where(LogRow.act == "failed")).all()
