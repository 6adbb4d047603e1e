"""Growing: a pool goes to another layout, at once or by a restripe; a drive takes another's place by copying."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping

from sqlmodel import Session, col, select

from pairshelf.core.domain.device import Devices
from pairshelf.core.domain.drives import offered
from pairshelf.core.errors import Busy, NotPossible
from pairshelf.core.figures.durations import restripe
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.grown import with_room
from pairshelf.core.layouts.restripe import Moving
from pairshelf.engine.jobs.even_out import start_evening
from pairshelf.engine.jobs.first_sync import start_sync_of_more
from pairshelf.engine.jobs.rebuild import start_rebuild
from pairshelf.engine.jobs.restripe import start_restripe
from pairshelf.engine.jobs.starting import meet
from pairshelf.engine.log import SYSTEM, log
from pairshelf.engine.partition_tables import table_follows
from pairshelf.engine.pools import OpenPool, open_io, refresh_state
from pairshelf.engine.relayout import give_free, holds_no_more_than, join, label, lay_way, stand_by, stands_where, take
from pairshelf.store.tables import Condition, DriveRow, GrowthPathRow, JobRow, MemberState, now


def begin(
    session: Session, pool: OpenPool, after: Layout, rows: Mapping[str, DriveRow], who: str, sheet_id: int | None,
    world: Devices, besides: JobRow | None = None,
) -> None:  # fmt: skip
    """Go to another layout. Its members that have a slot's number for an id are the drives there are; the others are
    among ``rows``. ``besides``: the job that it is a part of."""
    moving = Moving(pool.layout, after)
    at_once = moving.at_once or moving.only_copies
    meet(session, pool.row.id, "add-sets" if at_once else "restripe", besides=besides)
    if not at_once:
        moving.walk()  # Refused here, where nothing has been changed.
    # Whatever a crash interrupted is put right by the layout that it was written under.
    open_io(session, pool, world)
    before = pool.layout.stripes
    for index, number in enumerate(moving.numbers):
        if number < len(moving.old.members):
            pool.place(number).size = moving.new.members[index].size
    have = len(pool.layout.members)
    join(session, pool, moving, rows)
    if moving.only_copies:
        take(session, pool, moving, sheet_id)
        pool.row.synced_to = pool.layout.stripes
        for index, number in enumerate(moving.numbers):
            if number >= have:
                start_rebuild(session, pool, index, who, sheet_id)
        refresh_state(session, pool)
    elif at_once:
        take(session, pool, moving, sheet_id)
        if pool.layout.own_protection:
            with contextlib.suppress(Busy):  # What is under way goes first; it can be evened out later.
                start_evening(session, pool, who, sheet_id)
        start_sync_of_more(session, pool, before, who, sheet_id)
    else:
        lay_way(session, pool, moving, sheet_id)
        start_restripe(session, pool, restripe(moving).idle, who, sheet_id)


def change_over(session: Session, pool: OpenPool, slot: int, job: JobRow, world: Devices) -> None:
    """The copy is whole: the new drive has the place, the old one leaves; and where larger drives now let the pool
    reach further, it does."""
    place, beside = pool.place(slot), pool.copy_beside(slot)
    assert beside is not None
    old, new_id = place.drive_id, beside.drive_id
    pool.places.remove(beside)
    session.delete(beside)
    session.flush()
    place.drive_id, place.state = None, MemberState.ACTIVE
    session.flush()
    stays = session.get(DriveRow, old) if old is not None and job.report.get("stands_by") else None
    if stays is not None and stays.condition == Condition.GOOD:
        stand_by(session, pool, stays, "pool")
    else:
        give_free(session, pool.row, old)
    place.drive_id = new_id
    holds_no_more_than(place, session.get_one(DriveRow, new_id))
    stands_where(session, place, session.get_one(DriveRow, new_id))
    session.flush()
    label(session, pool.row, [place], job.sheet_id)
    table_follows(session, pool, session.get_one(DriveRow, new_id), job.sheet_id)
    take_step(session, pool, slot, new_id)
    if job.drain_id is None:  # Of a drain that is not asked for; what larger drives bring is there to be used later.
        reach_further(session, pool, job, world)


def take_step(session: Session, pool: OpenPool, slot: int, drive_id: int | None) -> None:
    """Note on the pool's path that a drive has come; with the last it ends."""
    query = select(GrowthPathRow).where(GrowthPathRow.pool_id == pool.row.id, col(GrowthPathRow.ended_at).is_(None))
    path = session.exec(query).first()
    if path is None:
        return
    path.steps = [[s, d, came or (s, d) == (slot, drive_id)] for s, d, came in path.steps]
    if all(came for _, _, came in path.steps):
        path.ended_at = now()


def reach_further(session: Session, pool: OpenPool, job: JobRow, world: Devices) -> None:
    """Use what the pool's drives have more than their places were made with, as far as their sets let it. Where
    something else is under way nothing changes, and it is there to be used later."""
    drives = {p.member: session.get_one(DriveRow, p.drive_id) for p in pool.members if p.drive_id is not None}
    before = pool.layout
    after = with_room(before, {slot: offered(d.size, d.held_share) for slot, d in drives.items()})
    if after is before:
        return
    if after.bands == before.bands and not before.own_protection:
        # Not enough of them are larger yet; what the places can hold is known from now on.
        for place, member in zip(pool.members, after.members, strict=True):
            place.size = member.size
        return
    try:
        begin(session, pool, after, {}, SYSTEM, job.sheet_id, world, job)
    except (Busy, NotPossible) as error:
        log(session, SYSTEM, "grows-later", pool.row.name,
            f"Pool {pool.row.name} could use more of its drives; not yet: {error.message}")  # fmt: skip
