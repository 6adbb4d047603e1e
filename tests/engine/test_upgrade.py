"""A database of the version before, with real bytes on its drives, is brought up to date and nothing is lost."""

from __future__ import annotations

import hashlib
import random
from collections.abc import Iterator
from pathlib import Path

import psycopg
import pytest
from alembic import command
from alembic.config import Config
from sqlmodel import select

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.units import GIB
from pairshelf.core.layouts import build_layout
from pairshelf.engine.io.pool_io import Member, PoolIO
from pairshelf.engine.io.stripe_journal import StripeJournal
from pairshelf.engine.pools import devices
from pairshelf.store import database
from pairshelf.store.database import transaction
from pairshelf.store.tables import Host, Mount, SampleFile, VolumePiece
from tests.conftest import database_from
from tests.engine.helpers import at_once, carry_all, check, do, files_intact, fill

SIZE = 60 * GIB
BEFORE = """
insert into site (id, name) values (1, 'Here');
insert into host (id, site_id, name) values (1, 1, 'elm');
insert into shelf (id, site_id, name, bays) values (1, 1, 'A', 8);
insert into drive (id, shelf_id, bay, serial, size, kind, starts_host, service, condition, seen_at)
    select g, 1, g, 'A' || g, {size}, 'hdd', false, 'in-use', 'good', now() from generate_series(1, 5) g;
insert into pool (id, name, scheme, sets, capacity, state, writes, synced_to, tint, created_at)
    values (1, 'old', 'parity-2', 1, 177, 'healthy', 1, 59, 0, now());
insert into pool_place (pool_id, slot, size, kind, drive_id, state, rebuilt_to)
    select 1, g - 1, {size}, 'hdd', g, 'active', 0 from generate_series(1, 5) g;
insert into volume (id, pool_id, name, size, first, extents, file_system, overhead, mount_point, host_id, uuid, created_at)
    values (1, 1, 'v', {volume}, 7, 150, 'xfs', 0, '/srv/v', 1, 'c0ffee00-0000-4000-8000-000000000001', now());
select setval(pg_get_serial_sequence(t, 'id'), 100)
    from unnest(array['site', 'host', 'shelf', 'drive', 'pool', 'volume', 'pool_place']) t;
"""


@pytest.fixture
def before(server: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[str]:
    """A database as the version before left it; its address."""
    with database_from("template0", server, tmp_path / "devices", monkeypatch) as address:
        config = Config()
        config.set_main_option("script_location", str(Path(database.__file__).parent / "migrations"))
        with database.engine().connect() as connection:
            config.attributes["connection"] = connection
            command.upgrade(config, "0003")
            connection.commit()
        yield address


def test_volumes_mounts_files_and_their_checksums_come_along(before: str, tmp_path: Path) -> None:
    world = devices()
    layout = build_layout([Drive(str(i), SIZE) for i in range(5)], "parity-2")
    members = [Member(world.open(f"A{i + 1}", SIZE)) for i in range(5)]
    io = PoolIO(layout, members, world.block, StripeJournal(tmp_path / "devices" / "journals" / "pool-1"))
    for run in io.runs(0, 10**6):
        io.sync(run)
    dice = random.Random(3)
    with psycopg.connect(before, autocommit=True) as connection:
        connection.execute(BEFORE.format(size=SIZE, volume=150 * GIB).encode())
        for number, (first, extents) in enumerate(((0, 9), (9, 40), (60, 30)), 1):
            content = dice.randbytes(extents * world.block)
            io.write(7 + first, content)
            connection.execute(
                "insert into sample_file (volume_id, name, first, extents, sha256, written_at) "
                "values (1, %s, %s, %s, %s, now())",
                (f"f{number}", first, extents, hashlib.sha256(content).hexdigest()),
            )
    database.migrate()
    at_once()
    report = check(1).report
    assert (report["mismatches"], report["files_read"], report["files_differing"]) == (0, 3, [])
    with transaction() as session:
        assert [(p.at, p.first, p.count) for p in session.exec(select(VolumePiece))] == [(0, 7, 150)]
        assert session.exec(select(Host.name, Mount.at).join(Mount)).all() == [("elm", "/srv/v")]  # type: ignore[arg-type]
    fill(1, 0.9)
    carry_all()
    do("resize-volume", volume="old/v", size="all")
    assert files_intact(1)
    with transaction() as session:
        assert {f.checksum.split(":")[0] for f in session.exec(select(SampleFile))} == {"sha256", "blake2b"}
    # The old checksums still find what is wrong.
    for serial in ("A1", "A2", "A3", "A4", "A5"):
        world.flip_bits(serial, SIZE, extents=list(range(3, 8)))  # type: ignore[attr-defined]
    assert set(check(1).report["files_differing"]) & {"f1", "f2", "f3"}
