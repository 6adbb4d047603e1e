"""A pool with its places, its key, its first volume and its first sync."""

from __future__ import annotations

from functools import partial

from sqlalchemy import delete
from sqlmodel import Session, col, select

from pairshelf.core.changes.pools.build_pool import BuildPoolPlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine import keys
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.errands import on_drive, send
from pairshelf.engine.io.volume_io import make_volume
from pairshelf.engine.jobs.first_sync import start_first_sync, start_volume_sync
from pairshelf.engine.mount_table import write_mount
from pairshelf.engine.pools import OpenPool, into_service, label_of
from pairshelf.engine.records import afterwards_written
from pairshelf.store.database import among, if_undone
from pairshelf.store.tables import BackupRow, DriveRow, PartitionPlan, PoolPlace, PoolRow, SheetRow

#: How many tints the screens tell pools apart by, besides pattern and name.
TINTS = 8


def apply(session: Session, sheet: SheetRow, planned: BuildPoolPlan, who: str, world: Devices) -> Outcome:
    """The pool with its places, its key if it has one, its first volume, and the first sync."""
    request, layout = planned.request, planned.layout
    pool = PoolRow(
        name=request.name, scheme=request.scheme, sets=len(layout.sets),
        capacity=layout.stock,
        tint=new_tint(session),
        domain=layout.domain if layout.own_protection else None, promised=planned.promised,
    )  # fmt: skip
    session.add(pool)
    session.flush()
    pool_id = pool.number
    places, rows = _places(session, pool_id, planned)
    passphrase = None
    if request.encrypted:
        key, passphrase = keys.new_key(), keys.new_passphrase()
        pool.key, pool.passphrase_kept = keys.wrap(key, passphrase), False
        # Before the commit: a pool whose passphrase nobody has seen must at least be open. A key left by a kill
        # belongs to no pool, and the worker clears it away.
        if_undone(session, partial(keys.forget_key, pool_id))
        keys.open_key(pool_id, key)
    for place in places:
        assert place.drive_id is not None
        drive = rows[place.drive_id]
        into_service(drive, pool)
        send(session, "write-label", on_drive(drive.serial), sheet.id, serial=drive.serial, size=drive.size,
             label=label_of(pool, place.slot))  # fmt: skip
    opened = OpenPool(pool, places, layout)
    volume = make_volume(session, opened, planned.volume) if planned.volume else None
    if volume is not None and planned.mount is not None:
        write_mount(session, planned.mount, volume, sheet.id)
    if planned.backup is not None:
        session.add(BackupRow(
            pool_id=pool_id, place=planned.backup.where, age_hours=planned.backup.age_hours, link=planned.backup.link,
            recorded_by=who,
        ))  # fmt: skip
    afterwards_written(session, pool_id, world)
    if not layout.own_protection:
        start_first_sync(session, opened, who, sheet.id)
    elif volume is not None:
        start_volume_sync(session, opened, volume, who, sheet.id)
    return Outcome(pool_id, passphrase)


def new_tint(session: Session) -> int:
    """The tint of the next pool."""
    return len(session.exec(select(PoolRow.id)).all()) % TINTS


def _places(session: Session, pool_id: int, planned: BuildPoolPlan) -> tuple[list[PoolPlace], dict[int, DriveRow]]:
    layout = planned.layout
    everyone = [*layout.members, *layout.spares]
    found = session.exec(select(DriveRow).where(col(DriveRow.id).in_([int(d.id) for d in everyone])))
    rows = {d.number: d for d in found}
    places = []
    for index, member in enumerate(everyone):
        drive = rows[int(member.id)]
        spare = index >= len(layout.members)
        places.append(
            PoolPlace(
                pool_id=pool_id, slot=None if spare else index, size=member.size, rate=member.rate, kind=drive.kind,
                shelf=member.shelf, link=member.link, host=member.host, site=member.site, drive_id=drive.id,
                scope=planned.request.spares_for if spare else "pool",
            )
        )  # fmt: skip
    session.connection().execute(delete(PartitionPlan).where(among(PartitionPlan.drive_id, rows)))
    session.add_all(places)
    session.flush()
    return places, rows
