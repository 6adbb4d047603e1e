"""A built pool as the engine handles it: its row, its places, its bytes, its state."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from sqlalchemy import update
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Session, col, select

from pairshelf.core.domain.device import Device, Devices
from pairshelf.core.errors import Gone, NotServing
from pairshelf.core.figures.survival import PoolState, state_of
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.registry import scheme_of
from pairshelf.core.layouts.restriping import Restriping, restriping
from pairshelf.engine.io.pool_io import Member, PoolIO
from pairshelf.engine.io.restripe_io import RestripeIO
from pairshelf.engine.io.spread_io import SpreadIO
from pairshelf.engine.io.stripe_journal import StripeJournal
from pairshelf.engine.log import SYSTEM, log
from pairshelf.engine.records import bring_up_to_date, write_record
from pairshelf.standin.world import World
from pairshelf.store.database import Lock, engine, lock_until_commit
from pairshelf.store.repositories.drives_and_pools import load_stripes
from pairshelf.store.repositories.layouts import designed_layout, is_synced
from pairshelf.store.settings import settings
from pairshelf.store.tables import DriveRow, MemberState, MissedWrite, PoolPlace, PoolRow, Service

#: Of a place whose drive is there.
_ANSWERS = (MemberState.ACTIVE, MemberState.REBUILDING, MemberState.COPYING)


@lru_cache
def devices() -> World:
    """The devices of this process. An agent for real drives would be made here instead."""
    return World(settings().devices)


@dataclass(slots=True)
class OpenPool:
    """A pool under its lock, for the length of a transaction."""

    row: PoolRow
    places: list[PoolPlace]
    layout: Layout

    def place(self, slot: int) -> PoolPlace:
        """The member's place at a slot."""
        return next(p for p in self.places if p.slot == slot)

    @property
    def members(self) -> list[PoolPlace]:
        """Members' places in the order of slots."""
        return sorted((p for p in self.places if p.slot is not None), key=lambda p: p.member)

    @property
    def whole(self) -> bool:
        """Every place holds all its data."""
        return all(p.state in (MemberState.ACTIVE, MemberState.EMPTIED) for p in self.members)

    def copy_beside(self, slot: int | None) -> PoolPlace | None:
        """The place of the drive that is being made the copy of the member at a slot."""
        return next((p for p in self.places if p.beside is not None and p.beside == slot), None)

    def closed(self) -> list[int]:
        """Slots that nothing new may be put on (spread pools)."""
        return [p.member for p in self.members if p.state != MemberState.ACTIVE or p.draining]

    @property
    def synced(self) -> bool:
        """Whether all its redundancy is in step."""
        return is_synced(self.row, self.layout)

    def serves(self) -> bool:
        """Whether its data can be read and written now."""
        return self.row.state not in (PoolState.LOST, PoolState.UNREACHABLE)


def open_pool(session: Session, pool_id: int) -> OpenPool:
    """Take the pool's lock until the transaction ends, and load it."""
    lock_until_commit(session, Lock.POOL, pool_id)
    row = session.get(PoolRow, pool_id, populate_existing=True)
    if row is None:
        raise Gone("pool")
    places = list(
        session.exec(select(PoolPlace).where(PoolPlace.pool_id == pool_id).execution_options(populate_existing=True))
    )
    stripes = load_stripes(session, [pool_id]).get(pool_id, []) if scheme_of(row.scheme).own_protection else []
    return OpenPool(row, places, designed_layout(row, places, stripes))


def load_members(session: Session, pool: OpenPool, world: Devices) -> list[Member]:
    """The places of a pool with the drives that answer there."""
    ids = [p.drive_id for p in pool.places if p.drive_id is not None]
    drives = {d.id: d for d in session.exec(select(DriveRow).where(col(DriveRow.id).in_(ids)))}

    def device_of(place: PoolPlace | None) -> Device | None:
        drive = drives.get(place.drive_id) if place is not None and place.state in _ANSWERS else None
        return world.open(drive.serial, drive.size) if drive is not None else None

    members = []
    for place in pool.members:
        rebuilt_to = place.rebuilt_to if place.state == MemberState.REBUILDING else None
        members.append(Member(device_of(place), rebuilt_to, device_of(pool.copy_beside(place.slot))))
    return members


def open_io(session: Session, pool: OpenPool, world: Devices) -> PoolIO | SpreadIO | RestripeIO:
    """The pool's bytes, any interrupted write finished first.

    NotPossible while too many members are away: finishing a write without them could cost what they hold.
    """
    if not pool.serves():
        raise NotServing(pool.row.name, pool.row.state, "nothing of it is touched")
    members = load_members(session, pool, world)
    absences = {p.slot: (p.number, p.absence) for p in pool.members if p.state == MemberState.MISSING}

    def miss(regions: Mapping[int, Sequence[int]]) -> None:
        if _note_missed((*absences[s], region) for s, found in regions.items() if s in absences for region in found):
            write_record(pool.row.number, world)

    bring_up_to_date(session, pool.row.number, world)
    journal = StripeJournal(journal_of(pool.row.uid))
    if isinstance(pool.layout, Restriping):
        moving = RestripeIO(
            pool.layout,
            members,
            world.block,
            journal,
            miss,
            names=(pool.row.uid, pool.row.number),
            moves=pool.row.moves,
        )
        moving.recover()
        note_front(pool, moving)
        return moving
    bytes_of: type[PoolIO] | type[SpreadIO] = SpreadIO if pool.layout.own_protection else PoolIO
    io = bytes_of(pool.layout, members, world.block, journal, miss)
    io.synced_to = pool.row.synced_to
    io.recover()
    return io


def note_front(pool: OpenPool, io: RestripeIO) -> None:
    """Bring how far the front has come into the books."""
    if (pool.row.front, pool.row.moves) != (io.front, io.moves):
        pool.row.front, pool.row.moves = io.front, io.moves
        layout = io.layout
        pool.layout = io.layout = restriping(layout.both, io.front, upwards=layout.upwards, turned=layout.turned)


def into_service(drive: DriveRow, pool: PoolRow) -> None:
    """A drive has come to a pool: what was known of its past holds no more. One that was blank, and comes to an
    encrypted pool, will only ever have held ciphertext."""
    drive.sealed_by = (
        pool.name if pool.key is not None and (drive.wiped_at is not None or drive.sealed_by == pool.name) else None
    )
    drive.service, drive.holds, drive.wiped_at, drive.bears = Service.IN_USE, None, None, None


def journal_of(uid: str) -> Path:
    """The file of a pool: by what it is known by wherever it is, so that one of another installation is never taken
    for it."""
    return settings().devices / "journals" / f"pool-{uid}"


def keep_front(pool: OpenPool, io: RestripeIO, world: Devices) -> None:
    """Keep for good, whatever becomes of the caller's transaction, how far the front has come, on the drives, too: what
    lies behind it may be written over from now on. The caller has not written to the pool's row yet."""
    with engine().begin() as connection:
        where = col(PoolRow.id) == pool.row.number
        connection.execute(update(PoolRow).where(where).values(front=io.front, moves=io.moves))
    write_record(pool.row.number, world)


def _note_missed(missed: Iterable[tuple[int, int, int]]) -> bool:
    """Keep for good, whatever becomes of the caller's transaction, which regions these absences missed a write of;
    whether any of them is new."""
    rows = [{"place_id": place, "absence": absence, "region": region} for place, absence, region in missed]
    if not rows:
        return False
    # A connection of its own. It waits for no lock the caller has: rows of an absence that lasts are never changed.
    with engine().begin() as connection:
        noted = insert(MissedWrite).on_conflict_do_nothing()
        return bool(connection.execute(noted.values(rows)).rowcount)


def refresh_state(session: Session, pool: OpenPool) -> None:
    """Work the pool's state out from its places; a change goes to the logbook."""
    failed = [str(p.slot) for p in pool.members if p.state in (MemberState.FAILED, MemberState.REBUILDING)]
    missing = [str(p.slot) for p in pool.members if p.state == MemberState.MISSING]
    state = state_of(pool.layout, failed, missing)
    if state == pool.row.state:
        return
    before, pool.row.state = pool.row.state, state.value
    log(session, SYSTEM, "pool-state", pool.row.name, f"Pool {pool.row.name} is {state.value}; it was {before}.",
        before=before, after=state.value)  # fmt: skip


def label_of(pool: PoolRow, slot: int | None) -> dict[str, object]:
    """What is written on a drive so that its pool can be recognised."""
    return {
        "pool": pool.name,
        "uid": pool.uid,
        "pool_id": pool.id,
        "slot": slot,
        "scheme": pool.scheme,
        "sets": pool.sets,
    }
