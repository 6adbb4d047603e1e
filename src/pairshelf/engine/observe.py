"""What the devices show, brought into the books: arrivals, drives that vanish, fail, warn or return."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from dataclasses import replace

import structlog
from sqlalchemy.exc import IntegrityError, OperationalError, TimeoutError
from sqlmodel import Session, and_, col, or_, select

from pairshelf.core.domain.device import Arrival, DeviceError, Devices, Presence
from pairshelf.core.domain.drives import Kind, extents_of, offered
from pairshelf.core.domain.inventory import DriveRecord
from pairshelf.core.figures.survival import after_failures
from pairshelf.core.layouts.regions import ANYWHERE
from pairshelf.core.watching.failing import Health, Limits
from pairshelf.engine.found_pools import bears, missed_by_serial
from pairshelf.engine.jobs.rebuild import start_rebuild
from pairshelf.engine.jobs.self_repair import start_self_repair
from pairshelf.engine.jobs.starting import open_jobs
from pairshelf.engine.log import SYSTEM, log
from pairshelf.engine.pools import OpenPool, into_service, open_pool, refresh_state
from pairshelf.engine.records import head_on, house_of, marked_on, record_on
from pairshelf.engine.relayout import (
    end_copy,
    give_free,
    give_up_standing_by,
    holds_no_more_than,
    leave_off,
    stands_where,
)
from pairshelf.store.database import pick, transaction
from pairshelf.store.repositories.drives_and_pools import add_records
from pairshelf.store.repositories.health import load_limits
from pairshelf.store.tables import (
    Condition,
    DriveHealth,
    DriveRow,
    MemberState,
    MissedWrite,
    PoolPlace,
    PoolRecord,
    PoolRow,
    Service,
    Shelf,
    Site,
    now,
)

_logger = structlog.get_logger()

CONDITIONS = {
    Presence.ANSWERS: Condition.GOOD,
    Presence.WARNS: Condition.FAILING,
    Presence.ABSENT: Condition.MISSING,
    Presence.FAILED: Condition.FAILED,
}
_SENTENCES = {
    Condition.GOOD: "answers, and nothing speaks against it",
    Condition.FAILING: "still answers, but is failing by its readings",
    Condition.MISSING: "is not in its bay any more",
    Condition.FAILED: "has failed",
}
_OFFLINE = "is offline: its shelf or host does not answer"


def observe(world: Devices) -> bool:
    """Bring everything that changed into the books; whether anything had."""
    changed = False
    for arrival in world.arrivals():
        try:
            if arrival.record is None:
                raise ValueError(arrival.why)
            _arrive(world, arrival, arrival.record)
        except (OperationalError, TimeoutError):
            raise  # The database is away: nothing is wrong with the drive.
        except Exception as error:
            _set_aside(world, arrival, error)
        changed = True
    troubled = {s: p for s, p in world.troubled().items() if s.isprintable()}
    failed: Exception | None = None
    for drive_id in _differing(troubled):
        try:
            with transaction() as session:
                changed |= _settle(session, drive_id, troubled, world)
        except (OperationalError, TimeoutError):
            raise
        except Exception as error:  # One drive that cannot be settled does not hide the others.
            _logger.exception("settle", drive=drive_id)
            failed = error
    changed |= _leave_the_dark(world)
    if failed is not None and not changed:
        raise failed
    return changed


def _leave_the_dark(world: Devices) -> bool:
    """Drives that were offline with their shelf, and are in it no more: their bays are free. Whether there were any."""
    with transaction() as session:
        query = select(DriveRow).where(DriveRow.condition == Condition.MISSING, col(DriveRow.shelf_id).is_not(None))
        rows = session.exec(query).all()
        dark = world.disconnected() if rows else frozenset()
        out = [d for d in rows if d.serial not in dark]
        for drive in out:
            where = _leave_or_return(session, drive, offline=False)
            log(session, SYSTEM, "drive-missing", drive.serial,
                f"Drive {drive.serial} ({where}) {_SENTENCES[Condition.MISSING]}.")  # fmt: skip
    return bool(out)


def look_after_a_rest(world: Devices) -> int:
    """While nobody looked, drives may have been in use in another installation, and be back in their bays: theirs is
    not what the books say, and nothing of it is touched. How many; asked once, when looking begins."""
    with transaction() as session:
        query = (
            pick(PoolPlace.pool_id, PoolPlace.drive_id, DriveRow.serial, DriveRow.size, PoolRow.uid, PoolRecord.generation)
            .join(DriveRow, col(DriveRow.id) == PoolPlace.drive_id).join(PoolRow, col(PoolRow.id) == PoolPlace.pool_id)
            .join(PoolRecord, col(PoolRecord.pool_id) == PoolPlace.pool_id)
            .where(PoolPlace.state == MemberState.ACTIVE, DriveRow.condition == Condition.GOOD, col(PoolPlace.slot).is_not(None))
        )  # fmt: skip
        members = session.connection().execute(query).all()
    found = 0
    for pool_id, drive_id, serial, size, uid, generation in members:
        with suppress(DeviceError, OSError):
            # A short question first: the record itself may be long.
            if marked_on(world, serial, size, uid) <= generation:
                continue
            with transaction() as session:
                pool = open_pool(session, pool_id)
                place = next((p for p in pool.members if p.drive_id == drive_id), None)
                if place is not None and not _as_it_went(session, pool, place, world):
                    place.state, place.absence = MemberState.MISSING, place.absence + 1
                    refresh_state(session, pool)
                    found += 1
    return found


def _set_aside(world: Devices, arrival: Arrival, error: Exception) -> None:
    why = " ".join(str(error).split("\n")[0].split())[:200]
    serial = arrival.record.serial if arrival.record else "whose serial cannot be read"
    with transaction() as session:
        log(session, SYSTEM, "drive-set-aside", serial if arrival.record else "",
            f"A drive {serial} was put in, and cannot be recorded: {why}. It is left aside; take it out and try another.")  # fmt: skip
    world.set_aside(arrival)


def _differing(troubled: Mapping[str, Presence]) -> list[int]:
    """Drives whose condition on the books is not what the devices show, and what their readings say."""
    with transaction() as session:
        limits = load_limits(session)
        rows = session.connection().execute(
            pick(DriveRow.id, DriveRow.serial, DriveRow.kind, DriveRow.condition, DriveHealth.level)
            .outerjoin(DriveHealth, col(DriveHealth.drive_id) == DriveRow.id)
            .where(or_(col(DriveRow.condition) != Condition.GOOD, col(DriveRow.serial).in_(troubled),
                       col(DriveHealth.level) == Health.FAILING))
        )  # fmt: skip
        return [
            r.id for r in rows
            if r.condition != _condition(Kind(r.kind), troubled.get(r.serial, Presence.ANSWERS), r.level, limits)
        ]  # fmt: skip


def _condition(kind: Kind, presence: Presence, level: int | None, limits: Limits) -> Condition:
    """How a drive is: what it says of itself at once, and what the rules find in its readings, count while it answers."""
    if not presence.works:
        return CONDITIONS[presence]
    warns = presence is Presence.WARNS and limits.holds(kind, "verdict")
    return Condition.FAILING if warns or level == Health.FAILING else Condition.GOOD


def _arrive(world: Devices, arrival: Arrival, record: DriveRecord) -> None:
    try:
        with transaction() as session:
            known = session.exec(select(DriveRow).where(DriveRow.serial == record.serial)).first()
            if known:
                _return_to_bay(session, known, record)
                if known.service in (Service.NEW, Service.FREE):
                    known.bears = bears(world, record.serial, record.size)
            else:
                label = world.open(record.serial, record.size).read_label()
                says = bears(world, record.serial, record.size)
                if (says or label) and not record.holds:
                    name = (says or {}).get("name") or str((label or {}).get("pool"))
                    record = replace(record, holds=f"data of a pool {name if name.isprintable() else ''}"[:200].strip())
                (row,) = add_records(session, [record], service=Service.NEW)
                row.bears = says
                log(session, SYSTEM, "drive-arrived", record.serial,
                    f"A new drive {record.serial} is in {record.shelf} bay {record.bay}.")  # fmt: skip
    except IntegrityError:
        with transaction() as session:
            log(session, SYSTEM, "drive-not-recorded", record.serial,
                f"Drive {record.serial} says it is in {record.shelf} bay {record.bay}, where another drive is. It was put aside.")  # fmt: skip
        world.bay_is_taken(arrival)
        return
    world.acknowledge(arrival)


def _return_to_bay(session: Session, drive: DriveRow, record: DriveRecord) -> None:
    shelf = session.exec(
        select(Shelf).join(Site, col(Site.id) == Shelf.site_id)
        .where(Shelf.name == record.shelf, Site.name == record.site)
    ).first()  # fmt: skip
    if shelf is not None:
        drive.shelf_id, drive.bay = shelf.id, record.bay
        drive.left_shelf_id = drive.left_bay = None
        session.flush()
        place = session.exec(select(PoolPlace).where(PoolPlace.drive_id == drive.id)).first()
        # Of a pool that keeps shelves, hosts or sites apart a place belongs to the one that it was made in.
        if place is not None and session.get_one(PoolRow, place.pool_id).domain in (None, "drive"):
            stands_where(session, place, drive)
        log(
            session,
            SYSTEM,
            "drive-moved",
            drive.serial,
            f"Drive {drive.serial} is now in {record.shelf} bay {record.bay}.",
        )


def _settle(session: Session, drive_id: int, troubled: Mapping[str, Presence], world: Devices) -> bool:
    """Bring one drive's condition, and what it means for its pool, into the books."""
    place = session.exec(select(PoolPlace).where(PoolPlace.drive_id == drive_id)).first()
    pool = open_pool(session, place.pool_id) if place else None
    drive = session.get(DriveRow, drive_id, with_for_update=True, populate_existing=True)
    assert drive is not None
    health = session.get(DriveHealth, drive_id)
    level = health.level if health is not None else None
    presence = troubled.get(drive.serial, Presence.ANSWERS)
    condition = _condition(Kind(drive.kind), presence, level, load_limits(session))
    if drive.condition == condition or _never_came(drive):
        return False
    failed = drive.condition == Condition.FAILED
    drive.condition, drive.seen_at = condition, now()
    offline = condition is Condition.MISSING and drive.serial in world.disconnected()
    where, because = _leave_or_return(session, drive, offline=offline), ""
    if condition is Condition.FAILING and health is not None and level == Health.FAILING:
        because = ": " + "; ".join(r["sentence"] for r in health.reasons)
    log(session, SYSTEM, f"drive-{condition.value}", drive.serial,
        f"Drive {drive.serial} ({where}) {_OFFLINE if offline else _SENTENCES[condition]}{because}.")  # fmt: skip
    if pool:
        own = next((p for p in pool.places if p.drive_id == drive_id), None)
        if own is not None and own.slot is not None:
            # One that had failed has failed still, wherever it is carried.
            _settle_member(
                session, pool, own, Condition.FAILED if failed and condition is Condition.MISSING else condition, world
            )
        elif own is not None and own.beside is not None:
            _settle_copy(session, pool, own, condition)
    return True


def _settle_copy(session: Session, pool: OpenPool, place: PoolPlace, condition: Condition) -> None:
    """A drive that is being made a copy has gone, or is back: what was written meanwhile it has not, so the copy
    begins again. One that has failed leaves; the member it was to be works on."""
    job = next((j for j in open_jobs(session, pool.row.id) if j.kind == "copy" and j.slot == place.beside), None)
    if condition is Condition.FAILED:
        leave_off(session, pool, place, "the drive that was to take the place failed")
    elif condition is Condition.MISSING:
        place.state, place.rebuilt_to = MemberState.MISSING, 0
    elif place.state == MemberState.MISSING:
        place.state, place.rebuilt_to = MemberState.COPYING, 0
        if job is not None:
            job.cursor, job.spent = 0, 0.0


def _leave_or_return(session: Session, drive: DriveRow, *, offline: bool) -> str:
    """A drive that is out leaves its bay free; one of a shelf or host that is ``offline`` stays in it; one that is back
    without a word is where it was. Where that is."""
    if drive.condition == Condition.MISSING and drive.shelf_id is not None and not offline:
        drive.left_shelf_id, drive.left_bay = drive.shelf_id, drive.bay
        drive.shelf_id = drive.bay = None
    elif drive.condition != Condition.MISSING and drive.shelf_id is None and drive.left_shelf_id is not None:
        there = select(DriveRow.id).where(DriveRow.shelf_id == drive.left_shelf_id, DriveRow.bay == drive.left_bay)
        if session.exec(there).first() is None:
            drive.shelf_id, drive.bay = drive.left_shelf_id, drive.left_bay
            drive.left_shelf_id = drive.left_bay = None
    where = drive.shelf_id or drive.left_shelf_id
    shelf = session.get(Shelf, where) if where else None
    bay = drive.bay if drive.shelf_id is not None else drive.left_bay
    return f"{shelf.name} bay {bay}" if shelf else "on no shelf"


def _settle_member(session: Session, pool: OpenPool, place: PoolPlace, condition: Condition, world: Devices) -> None:
    if condition is Condition.MISSING:
        catching_up = _catching_up(session, pool, place)
        place.incomplete = place.state != MemberState.ACTIVE and catching_up is None
        place.state, place.absence = MemberState.MISSING, place.absence + 1
        # What it had not caught up with, it lacks still.
        session.add_all(
            MissedWrite(place_id=place.number, absence=place.absence, region=region) for region in catching_up or ()
        )
    elif condition is Condition.FAILED:
        place.state = MemberState.FAILED
        _go_on_as_a_rebuild(session, pool, place)
    elif place.state == MemberState.MISSING:
        _come_back(session, pool, place, world)
    bring_back_the_stale(session, pool, world)
    refresh_state(session, pool)
    session.flush()
    bring_in_spares(session, pool)


def _go_on_as_a_rebuild(session: Session, pool: OpenPool, place: PoolPlace) -> None:
    """A member failed while it was being copied: the new drive has its place now, and is filled from where the copy
    had come to."""
    beside = pool.copy_beside(place.slot)
    if beside is None or beside.state != MemberState.COPYING:
        return
    rows, drive = beside.rebuilt_to, session.get(DriveRow, beside.drive_id)
    assert drive is not None
    end_copy(session, pool, beside, "the drive failed; what the copy lacked comes from the others")
    give_place(session, pool, place, drive)
    session.flush()
    away = {str(p.slot) for p in pool.members if p.state != MemberState.ACTIVE}
    if not after_failures(pool.layout, away).survives:
        return
    job = start_rebuild(session, pool, place.member, SYSTEM)
    done = pool.layout.stripes_below(place.member, rows)
    job.cursor = place.rebuilt_to = min(done, job.total - 1)
    job.spent = job.seconds * job.cursor / job.total
    log(session, SYSTEM, "copy-took-over", pool.row.name,
        f"{drive.serial} takes the place of the failed drive in {pool.row.name}, with what had been copied.")  # fmt: skip


def bring_back_the_stale(session: Session, pool: OpenPool, world: Devices) -> None:
    """Drives that came back earlier but could not be filled then, perhaps can now."""
    for place in pool.members:
        if place.state == MemberState.MISSING and place.drive_id:
            drive = session.get(DriveRow, place.drive_id)
            if drive is not None and drive.condition in (Condition.GOOD, Condition.FAILING):
                _come_back(session, pool, place, world)


def _never_came(drive: DriveRow) -> bool:
    """A member of a pool that was brought in that has not been here yet: only an arrival tells of it."""
    return drive.condition == Condition.MISSING and drive.shelf_id is None and drive.left_shelf_id is None


def _written_since(told: PoolRecord | None, drive: DriveRow, world: Devices) -> bool:
    """Whether, by what stands on a drive, its pool was written to in another installation after it came here. A drive
    that was taken out there after the others knows of later records, which tell only that the others were gone."""
    brought = (told.brought if told is not None else None) or {"generation": 0, "missed": {}}
    record = record_on(world, drive.serial, drive.size)
    if record is None or record.head.generation <= brought["generation"]:
        return False
    missed = brought["missed"]
    return not brought["generation"] or any(
        set(regions) - set(missed.get(serial, ())) for serial, regions in missed_by_serial(record).items()
    )


def _as_it_went(session: Session, pool: OpenPool, place: PoolPlace, world: Devices) -> bool:
    """Whether what a drive that is back holds is this pool's; one that is older than it should be is to be filled anew.

    What was written elsewhere since is neither read nor written over: somebody may want it.
    """
    drive = session.get_one(DriveRow, place.drive_id)
    try:
        head, damaged = head_on(world, drive.serial, drive.size)
    except DeviceError:
        return False
    told = session.get(PoolRecord, pool.row.number, populate_existing=True)
    due = told.reached.get(drive.serial, 0) if told is not None else 0
    elsewhere = head is not None and (
        head.pool != pool.row.uid
        or (head.generation > due and head.house != house_of(session) and _written_since(told, drive, world))
    )
    if elsewhere:
        assert head is not None
        if drive.bears is None:
            drive.bears = {"pool": head.pool, "name": head.name, "elsewhere": True}
            log(session, SYSTEM, "drive-used-elsewhere", drive.serial,
                f"Drive {drive.serial} is back in pool {pool.row.name} and was used in another installation since, as pool "
                f"{head.name}: nothing of it is read or written over.")  # fmt: skip
        return False
    drive.bears = None
    if due and (head is None or head.generation < due):
        place.incomplete = True
        what = "has an older record than it should" if head is not None else "has no record that can be read"
        log(session, SYSTEM, "drive-older", drive.serial,
            f"Drive {drive.serial} {what}{' (damaged)' if damaged else ''}: it is filled anew.")  # fmt: skip
    return True


def _catching_up(session: Session, pool: OpenPool, place: PoolPlace) -> list[int] | None:
    """The regions that a drive which was away is being brought up to date with just now; None: it is not."""
    if place.state != MemberState.REBUILDING:
        return None
    jobs = (j for j in open_jobs(session, pool.row.id) if j.kind == "rebuild" and j.slot == place.slot)
    return next((j.report.get("missed") for j in jobs), None)


def _come_back(session: Session, pool: OpenPool, place: PoolPlace, world: Devices) -> None:
    """A drive is back: as it was if it missed nothing, otherwise it is brought up to date with what it missed."""
    if not _as_it_went(session, pool, place, world):
        return
    marks = select(MissedWrite.region).where(MissedWrite.place_id == place.id, MissedWrite.absence == place.absence)
    missed = sorted(session.exec(marks))
    if not place.incomplete and not missed:
        place.state = MemberState.ACTIVE
        return
    place.state = MemberState.FAILED
    away = {str(p.slot) for p in pool.members if p.state != MemberState.ACTIVE}
    if after_failures(pool.layout, away).survives:
        known = not place.incomplete and ANYWHERE not in missed
        start_rebuild(session, pool, place.member, SYSTEM, missed=missed if known else None)
    else:
        # Nothing to fill it from yet; what it holds is old, and it waits as one that is away.
        place.state = MemberState.MISSING


def bring_in_spares(session: Session, pool: OpenPool) -> None:
    """A spare takes the place of each failed drive it is large enough for."""
    if pool.row.state in ("lost", "unreachable"):
        return
    if pool.layout.own_protection:
        for place in pool.members:
            if place.state == MemberState.FAILED:
                start_self_repair(session, pool, place.member, SYSTEM)
        return
    for place in pool.members:
        if place.state != MemberState.FAILED:
            continue
        spare = fitting_spare(session, pool, place)
        if spare is None:
            continue
        old = session.get(DriveRow, place.drive_id) if place.drive_id else None
        drive = session.get(DriveRow, spare.drive_id)
        assert drive is not None
        give_up_standing_by(session, pool, spare)
        give_place(session, pool, place, drive)
        start_rebuild(session, pool, place.member, SYSTEM)
        log(session, SYSTEM, "spare-took-over", pool.row.name,
            f"Spare {drive.serial} takes the place of {old.serial if old else 'a lost drive'} in {pool.row.name}.")  # fmt: skip
        refresh_state(session, pool)


def fitting_spare(session: Session, pool: OpenPool, place: PoolPlace) -> PoolPlace | None:
    """The smallest good spare that is large enough: the pool's own first, then one that stands by for the
    shelf of the failed drive, then one that stands by for all."""
    near = and_(PoolPlace.scope == "shelf", PoolPlace.shelf == place.shelf, PoolPlace.site == place.site)
    query = (
        select(PoolPlace, DriveRow)
        .join(DriveRow, col(DriveRow.id) == PoolPlace.drive_id)
        .where(col(PoolPlace.slot).is_(None), col(PoolPlace.beside).is_(None), DriveRow.condition == Condition.GOOD,
               or_(PoolPlace.pool_id == pool.row.id, PoolPlace.scope == "all", near))
        .order_by(col(DriveRow.size), col(DriveRow.id))
        .with_for_update(of=PoolPlace, skip_locked=True)
    )  # fmt: skip
    order = {"pool": 0, "shelf": 1, "all": 2}
    needed = pool.layout.needs(place.member)
    fitting = [p for p, d in session.exec(query) if extents_of(offered(d.size, d.held_share)) >= needed]
    return min(fitting, key=lambda p: (p.pool_id != pool.row.id, order[p.scope]), default=None)


def give_place(session: Session, pool: OpenPool, place: PoolPlace, drive: DriveRow) -> None:
    """The drive takes the place; the one that was there leaves the pool with what it holds."""
    give_free(session, pool.row, place.drive_id)
    place.drive_id = drive.id
    holds_no_more_than(place, drive)
    stands_where(session, place, drive)
    into_service(drive, pool.row)
