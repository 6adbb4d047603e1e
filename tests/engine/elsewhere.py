"""Another installation: the books are empty, and all there is are drives with what stands on them."""

from __future__ import annotations

import random
import shutil
from collections.abc import Iterable

from sqlalchemy import text
from sqlmodel import select

from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.inventory import DriveRecord
from pairshelf.engine import keys
from pairshelf.engine.errands import do_errands
from pairshelf.engine.found_pools import found_pools
from pairshelf.engine.observe import observe
from pairshelf.engine.pools import devices
from pairshelf.engine.records import Recorder
from pairshelf.store.database import transaction
from pairshelf.store.tables import DriveRow, PoolRow
from tests.engine.helpers import at_once, carry_all, do


def recorded() -> None:
    """Everything that is due stands on the drives."""
    do_errands()
    Recorder(devices()).write_due(at_once=True)


def sizes() -> dict[str, int]:
    """All drives of the books, by serial."""
    with transaction() as session:
        return {d.serial: d.size for d in session.exec(select(DriveRow))}


def books_lost(*, journals: bool = False) -> dict[str, int]:
    """Nothing is left but the drives: no books, no open key, nothing that was known of them; the drives by serial."""
    known = sizes()
    with transaction() as session:
        for pool_id in session.exec(select(PoolRow.id)):
            keys.forget_key(pool_id or 0)
        names = session.connection().execute(text(
            "select string_agg(quote_ident(tablename), ', ') from pg_tables where schemaname = 'public' "
            "and tablename <> 'alembic_version'"
        )).scalar_one()  # fmt: skip
        session.connection().execute(text("set local session_replication_role = replica"))
        session.connection().execute(text(f"truncate {names} restart identity cascade"))
    folders = ("faults", "arrivals", "lost", *(() if journals else ("journals",)))
    for name in folders:
        for file in (devices().folder / name).glob("*"):
            file.unlink() if file.is_file() else shutil.rmtree(file)
    at_once()
    return known


def put_in(drives: dict[str, int], serials: Iterable[str], *, shelf: str = "B", first: int = 1) -> None:
    """These are put in, in this order, and noticed."""
    for bay, serial in enumerate(serials, first):
        devices().put_in(DriveRecord(shelf, bay, serial, drives[serial], Kind.HDD, bays=60))
    observe(devices())


def carried(drives: dict[str, int], *, but: Iterable[str] = (), seed: int = 1) -> None:
    """All of them but some, bays shuffled."""
    order = sorted(set(drives) - set(but))
    random.Random(seed).shuffle(order)
    put_in(drives, order)


def brought_in(name: str = "", passphrase: str | None = None) -> int:
    """The one pool that drives speak of is brought in, and unlocked; its id."""
    with transaction() as session:
        (found,) = found_pools(session, devices())
    pool = do("bring-in", pool=found.uid, name=name).pool_id or 0
    do_errands()
    if passphrase is not None:
        with transaction() as session:
            keys.open_key(pool, keys.unwrap(session.get_one(PoolRow, pool).key or {}, passphrase))
    carry_all()
    do_errands()  # Once every place holds all its data, everything is compared.
    carry_all()
    return pool
