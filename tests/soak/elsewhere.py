"""In the midst of a history the machine is gone: its drives are carried to another installation, bays shuffled, some
forgotten, and what was on them must be there."""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import tempfile
import time
import traceback
import uuid
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

import psycopg
from sqlalchemy import text
from sqlmodel import col, select

from pairshelf.core.changes.kinds import request_of
from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.inventory import DriveRecord
from pairshelf.core.errors import PairShelfError
from pairshelf.engine import approver, keys
from pairshelf.engine.carry import carry
from pairshelf.engine.errands import do_errands
from pairshelf.engine.found_pools import found_pools
from pairshelf.engine.jobs.check import start_check
from pairshelf.engine.jobs.read_files import start_reading
from pairshelf.engine.observe import observe
from pairshelf.engine.pools import devices, open_pool
from pairshelf.store import database
from pairshelf.store.database import transaction
from pairshelf.store.tables import JobRow, JobState, PoolRow, SampleFile, Setting, VolumeRow
from tests.server import copy_database, forget_connections

FILES = text("""
select v.name || '/' || f.name || ' ' || f.checksum from sample_file f join volume v on v.id = f.volume_id
where v.moving_from is null
""")


@dataclass(frozen=True)
class Carried:
    """What goes, and what must be there then."""

    #: Serial to size, of the drives that are put in, in the order of bays.
    drives: Mapping[str, int]
    passphrase: str
    #: Files of the books, where the drives know of all of them.
    files: frozenset[str] | None


def carry_elsewhere(server: str, template: str, carried: Carried, journals: Sequence[Path]) -> None:
    """Copy the media as they are just now; AssertionError with what did not hold there."""
    folder = Path(tempfile.mkdtemp(prefix="pairshelf-elsewhere-"))
    name = f"e{uuid.uuid4().hex[:12]}"
    try:
        (folder / "devices" / "journals").mkdir(parents=True)
        subprocess.run(["cp", "-a", "--sparse=always", devices().folder / "media", folder / "devices"], check=True)
        for journal in journals:
            if journal.exists():
                shutil.copy(journal, folder / "devices" / "journals")
        copy_database(server, template, name)
        database.engine().dispose()
        child = os.fork()
        if not child:
            os.environ.update(PAIRSHELF_DATABASE_URL=f"{server}/{name}", PAIRSHELF_DEVICES=str(folder / "devices"))
            forget_connections()
            try:
                _there(carried)
            except BaseException:
                (folder / "why").write_text(traceback.format_exc())
            database.engine().dispose()
            os._exit(0)
        os.waitpid(child, 0)
        why = folder / "why"
        assert not why.exists(), f"elsewhere, with {list(carried.drives)}:\n{why.read_text()}"
    finally:
        shutil.rmtree(folder, ignore_errors=True)
        with psycopg.connect(f"{server}/postgres", autocommit=True) as connection:
            connection.execute(f"drop database if exists {name} with (force)".encode())


def _there(carried: Carried) -> None:
    with transaction() as session:
        session.merge(Setting(key="speed", value={"factor": 0}))
    for bay, (serial, size) in enumerate(carried.drives.items(), 1):
        devices().put_in(DriveRecord("E", bay, serial, size, Kind.HDD, bays=200))
    observe(devices())
    with transaction() as session:
        (found,) = found_pools(session, devices())
        sheet = approver.draw_up(session, "bring-in", request_of("bring-in", {"pool": found.uid}), "ida")
    with transaction() as session:
        pool = approver.approve(session, sheet.number, "ida", sheet.body["confirm"] or "", devices())[1].pool_id or 0
    do_errands()
    if carried.passphrase:
        with transaction() as session:
            keys.open_key(pool, keys.unwrap(session.get_one(PoolRow, pool).key or {}, carried.passphrase))
    for _ in range(6):
        do_errands()
        for job in _open_jobs():
            until = time.monotonic() + 2
            carry(job, stop=lambda until=until: time.monotonic() > until)  # type: ignore[misc]
    with transaction() as session:
        have = frozenset(session.connection().execute(FILES).scalars())
        volumes = session.exec(select(VolumeRow).where(VolumeRow.pool_id == pool)).all()
    if carried.files is not None:
        assert have == carried.files, f"{len(have)} of {len(carried.files)} files"
    for volume in volumes:
        _all_intact(pool, volume)
    with suppress(PairShelfError):
        with transaction() as session:
            check = start_check(session, open_pool(session, pool), "ida").number
        carry(check)
        with transaction() as session:
            job = session.get_one(JobRow, check)
        if job.state == JobState.DONE:
            assert (job.report["mismatches"], job.report["files_differing"]) == (0, []), job.report


def _open_jobs() -> list[int]:
    with transaction() as session:
        rows = select(JobRow.id).where(col(JobRow.finished_at).is_(None)).order_by(col(JobRow.id))
        return [i for i in session.exec(rows) if i is not None]


def _all_intact(pool: int, volume: VolumeRow) -> None:
    with transaction() as session:
        if session.exec(select(SampleFile.id).where(SampleFile.volume_id == volume.id)).first() is None:
            return
        job = start_reading(session, open_pool(session, pool), volume, "ida").number
    carry(job)
    with transaction() as session:
        files = session.exec(select(SampleFile).where(SampleFile.volume_id == volume.id)).all()
        done = session.get_one(JobRow, job)
        wrong = [f.name for f in files if not f.intact]
        assert not wrong and done.state == JobState.DONE, (
            f"{wrong} of {len(files)}; {done.state} {done.why_held} {done.error}"
        )


def shuffled(drives: Mapping[str, int], dice: random.Random) -> dict[str, int]:
    """In some order."""
    order = list(drives)
    dice.shuffle(order)
    return {s: drives[s] for s in order}
