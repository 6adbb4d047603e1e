"""A pool takes another layout: drives come and go, slots are renumbered, the front is laid or has arrived."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence

from sqlmodel import Session, col, select

from pairshelf.core.changes.pools.build_pool import promised
from pairshelf.core.domain.drives import Drive, offered
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.restripe import Moving
from pairshelf.core.layouts.restriping import Restriping, restriping
from pairshelf.core.layouts.spread import spread_of
from pairshelf.core.layouts.stripe_moves import without_slots
from pairshelf.engine.errands import on_drive, send
from pairshelf.engine.jobs.starting import end_unfinished, open_jobs
from pairshelf.engine.log import SYSTEM, log
from pairshelf.engine.pools import OpenPool, into_service, label_of, refresh_state
from pairshelf.engine.records import key_at_large
from pairshelf.store.repositories.drives_and_pools import load_drives, store_stripes
from pairshelf.store.repositories.layouts import Goal, all_bands, designed_layout, goal_of, kept_bands
from pairshelf.store.tables import (
    Condition,
    DrainRow,
    DriveRow,
    Host,
    JobRow,
    JobState,
    PoolPlace,
    PoolRow,
    Service,
    Shelf,
    Site,
    now,
)


def give_free(session: Session, pool: PoolRow, drive_id: int | None, *, with_record: bool = False) -> None:
    """A drive leaves a pool with what it holds; of an encrypted one, which goes on or may come back, without its key."""
    drive = session.get(DriveRow, drive_id) if drive_id is not None else None
    if drive is not None:
        if pool.key is not None and not with_record:
            _without_key(session, pool, drive)
        drive.service, drive.holds = Service.FREE, f"old data of pool {pool.name}, readable"
        if drive.drain_id is not None:
            end_drain_if_empty(session, drive.drain_id)


def _without_key(session: Session, pool: PoolRow, drive: DriveRow) -> None:
    """What a drive keeps of an encrypted pool goes; where it cannot be reached, that is kept in mind with the key."""
    if drive.condition in (Condition.GOOD, Condition.FAILING):
        send(
            session,
            "forget-record",
            on_drive(drive.serial),
            serial=drive.serial,
            size=drive.size,
            uid=pool.uid,
            pool=pool.name,
        )
    else:
        key = pool.key or {}
        pool.key = {**key, "at_large": sorted({*key.get("at_large", ()), drive.serial})}


def forget_key_copies(
    session: Session, pool: str, uid: str, drives: Iterable[DriveRow], at_large: Sequence[str]
) -> None:
    """The key of an encrypted pool that is no more is gone from its drives, too, as far as they can be reached.
    ``at_large``: serials of those that left it and could not be reached then."""
    unreached = list(at_large)
    for drive in drives:
        drive.bears = None
        if drive.condition in (Condition.GOOD, Condition.FAILING):
            send(
                session,
                "forget-record",
                on_drive(drive.serial),
                serial=drive.serial,
                size=drive.size,
                uid=uid,
                pool=pool,
            )
        else:
            unreached.append(drive.serial)
    if unreached:
        key_at_large(session, pool, unreached)


def end_drain_if_empty(session: Session, drain_id: int) -> None:
    """A drain ends with its last drive that was in use; its drives may be given duties again."""
    session.flush()
    # Two of its drives may leave at the same moment, in pools of their own: one after the other looks whether it was the last.
    row = session.get_one(DrainRow, drain_id, with_for_update=True, populate_existing=True)
    going = select(DriveRow.id).where(DriveRow.drain_id == drain_id, DriveRow.service == Service.IN_USE)
    if row.ended_at is not None or session.exec(going).first() is not None:
        return
    used = select(DriveRow.serial).where(col(DriveRow.id).in_(row.drives), DriveRow.service == Service.IN_USE)
    stay = list(session.exec(used))
    end_drain(session, row)
    row.left_off = bool(stay)
    many, what = len(row.drives) - len(stay), row.subject[0].upper() + row.subject[1:]
    free = f"{many} drive{'s are' if many != 1 else ' is'} free, old data readable until wiped"
    log(session, SYSTEM, "drained", row.subject,
        f"{what} is empty: {free}." if not stay else f"Draining {row.subject} has ended: {free}; {', '.join(stay)} stay in use.")  # fmt: skip


def stays_after_all(session: Session, pool: OpenPool, slot: int, why: str) -> None:
    """A member that was to leave does not, for now: the drive it was being copied onto is gone. It can be drained again."""
    drive = session.get(DriveRow, pool.place(slot).drive_id)
    if drive is not None and (drain_id := drive.drain_id) is not None:
        drive.drain_id = None
        log(session, SYSTEM, "drain-stopped", drive.serial,
            f"Drive {drive.serial} stays in pool {pool.row.name} for now: {why}. Drain it again onto another.")  # fmt: skip
        end_drain_if_empty(session, drain_id)


def end_drain(session: Session, row: DrainRow) -> None:
    """Nothing is drained with it any more."""
    row.ended_at = now()
    for drive in session.exec(select(DriveRow).where(DriveRow.drain_id == row.id)):
        drive.drain_id = None
    session.flush()


def let_spares_go(session: Session, pool: OpenPool, drives: Collection[int]) -> None:
    """Spares leave a pool."""
    for place in [p for p in pool.places if p.slot is None and p.beside is None and p.drive_id in drives]:
        give_free(session, pool.row, place.drive_id)
        pool.places.remove(place)
        session.delete(place)
    session.flush()


def end_copy(session: Session, pool: OpenPool, beside: PoolPlace, why: str) -> None:
    """The drive beside a member stands there no longer; its job ends unfinished."""
    for job in open_jobs(session, pool.row.id):
        if job.kind == "copy" and job.slot == beside.beside:
            end_unfinished(job, why)
    pool.places.remove(beside)
    session.delete(beside)
    session.flush()


def leave_off(session: Session, pool: OpenPool, beside: PoolPlace, why: str) -> None:
    """No longer make a drive the copy of a member: it leaves the pool, the member stays."""
    drive_id, slot = beside.drive_id, beside.beside
    assert slot is not None, "it stands beside a member"
    going = (j for j in open_jobs(session, pool.row.id) if j.kind == "copy" and j.slot == slot)
    spare = next((j.report.get("spare") for j in going), None)
    end_copy(session, pool, beside, why)
    drive = session.get(DriveRow, drive_id) if drive_id is not None else None
    if spare is not None and drive is not None and drive.condition == Condition.GOOD:
        stand_by(session, pool, drive, spare)
    else:
        give_free(session, pool.row, drive_id)
    stays_after_all(session, pool, slot, why)


def stands_by_no_more(session: Session, pool: OpenPool, drive_id: int) -> str | None:
    """A spare of a pool gets a place in it; what it stood by for, or None where it was none."""
    spare = next((p for p in pool.places if p.drive_id == drive_id and p.slot is None and p.beside is None), None)
    if spare is None:
        return None
    give_up_standing_by(session, pool, spare)
    return spare.scope


def give_up_standing_by(session: Session, pool: OpenPool, spare: PoolPlace) -> None:
    """A spare, this pool's or another's, stands by no longer: a place of this pool is to have it."""
    if spare in pool.places:
        pool.places.remove(spare)
    session.delete(spare)
    session.flush()


def stand_by(session: Session, pool: OpenPool, drive: DriveRow, scope: str) -> None:
    """A drive stands by for its pool, its shelf, or all, as a spare of this pool."""
    (known,) = load_drives(session, [drive.number])
    place = place_of(pool.row, known.as_drive, drive, None)
    place.scope = scope
    session.add(place)
    pool.places.append(place)
    session.flush()
    label(session, pool.row, [place], None)


def place_of(pool: PoolRow, member: Drive, drive: DriveRow, slot: int | None) -> PoolPlace:
    """A place for a drive that comes to a pool."""
    into_service(drive, pool)
    return PoolPlace(
        pool_id=pool.number, slot=slot, size=member.size, rate=member.rate, kind=drive.kind, shelf=member.shelf,
        link=member.link, host=member.host, site=member.site, drive_id=drive.id,
    )  # fmt: skip


def holds_no_more_than(place: PoolPlace, drive: DriveRow) -> None:
    """What a larger drive had more than the layout used goes with it: the place counts on no more than its drive has."""
    place.size = min(place.size, offered(drive.size, drive.held_share))


def stands_where(session: Session, place: PoolPlace, drive: DriveRow) -> None:
    """The place is where the drive that has come to it stands."""
    shelf = session.get(Shelf, drive.shelf_id) if drive.shelf_id is not None else None
    if shelf is None:
        return
    host = session.get(Host, shelf.host_id) if shelf.host_id is not None else None
    place.shelf, place.link, place.host = shelf.name, shelf.link, host.name if host else None
    place.site = session.get_one(Site, shelf.site_id).name


def label(session: Session, pool: PoolRow, places: Sequence[PoolPlace], sheet_id: int | None) -> None:
    """Write on each of these drives what it belongs to now."""
    for place in places:
        drive = session.get(DriveRow, place.drive_id) if place.drive_id is not None else None
        if drive is not None:
            send(session, "write-label", on_drive(drive.serial), sheet_id, serial=drive.serial, size=drive.size,
                 label=label_of(pool, place.slot))  # fmt: skip


def join(session: Session, pool: OpenPool, moving: Moving, rows: Mapping[str, DriveRow]) -> None:
    """Drives that only the new layout has become members, numbered on from those there are."""
    have = len(moving.old.members)
    for number, drive in enumerate(moving.drives[have:], start=have):
        place = place_of(pool.row, drive, rows[drive.id], number)
        session.add(place)
        pool.places.append(place)
    session.flush()


def take(session: Session, pool: OpenPool, moving: Moving, sheet_id: int | None) -> None:
    """The new layout holds from now on, where what is stored stands in the same places under it: slots are
    renumbered, drives that it does not use leave."""
    numbers = {number: index for index, number in enumerate(moving.numbers)}
    _renumber(session, pool, numbers)
    row, new = pool.row, moving.new
    row.scheme, row.sets, row.bands = new.scheme.id, len(new.sets), kept_bands(new)
    _hold(session, pool, new)
    label(session, row, pool.members, sheet_id)


def drop(session: Session, pool: OpenPool, slots: Sequence[int], after: Layout, sheet_id: int | None) -> None:
    """Members on which nothing stands leave; the others close up."""
    kept = [p.member for p in pool.members if p.slot not in slots]
    # Of the stripes that were in step, those before and behind the ones that go still are.
    whole = pool.row.synced_to >= pool.layout.stripes
    _renumber(session, pool, {slot: index for index, slot in enumerate(kept)})
    pool.row.sets, pool.row.bands = len(after.sets), kept_bands(after)
    pool.row.synced_to = after.stripes if whole else 0
    _hold(session, pool, after)
    label(session, pool.row, pool.members, sheet_id)


def leave_empty(session: Session, pool: OpenPool, slots: Sequence[int], sheet_id: int | None) -> None:
    """Members of a spread pool on which nothing stands leave it; the others close up, with their stripes and jobs."""
    after = without_slots(spread_of(pool.layout), slots)
    kept = [p.member for p in pool.members if p.slot not in slots]
    numbers = {slot: index for index, slot in enumerate(kept)}
    for volume in after.volumes:
        store_stripes(session, pool.row.number, volume)
    of_members = [job for job in open_jobs(session, pool.row.id) if job.slot is not None]
    for job in sorted(of_members, key=lambda j: j.member):
        if job.slot in numbers:
            job.slot = numbers[job.slot]
        else:
            job.state, job.finished_at, job.why_held, job.error = (
                JobState.FAILED,
                now(),
                None,
                "the drive has left, empty",
            )
        session.flush()
    for slot, place in sorted(((p.beside, p) for p in pool.places if p.beside is not None), key=lambda one: one[0]):
        place.beside = numbers[slot]
        session.flush()
    _renumber(session, pool, numbers)
    _hold(session, pool, after)
    label(session, pool.row, pool.members, sheet_id)


def lay_way(session: Session, pool: OpenPool, moving: Moving, sheet_id: int | None) -> None:
    """The front stands where it begins; until it has arrived the pool holds what both layouts do."""
    walk, row = moving.walk(), pool.row
    for index, number in enumerate(moving.numbers):
        pool.place(number).to_slot = index
    goal = Goal(
        moving.new.scheme.id, len(moving.new.sets), kept_bands(moving.new), len(moving.old.members), walk.upwards
    )  # fmt: skip
    # Drives may be larger by now than the old layout knew; its rows are what they are.
    row.bands = all_bands(moving.old)
    row.walk, row.front, row.turned = goal.kept(), walk.begins, False
    row.promised = {**row.promised, "restripe_hours": moving.seconds() / 3600}
    row.measured = {k: v for k, v in row.measured.items() if k != "restripe_hours"}
    pool.layout = restriping(moving, walk.begins, upwards=walk.upwards, turned=False)
    row.capacity, row.synced_to = pool.layout.data_extents, pool.layout.stripes
    _set_apart(session, pool)
    session.flush()
    label(session, row, [p for p in pool.members if p.member >= goal.members], sheet_id)


def arrive(session: Session, pool: OpenPool, job: JobRow) -> None:
    """The front has arrived, there or back where it began: one layout is left."""
    layout, goal, row = pool.layout, goal_of(pool.row), pool.row
    assert isinstance(layout, Restriping) and goal is not None
    if row.turned:
        final, slots = layout.both.old, {n: n for n in range(goal.members)}
    else:
        final = layout.both.new
        slots = {p.member: p.to_slot for p in pool.members if p.to_slot is not None}
        row.scheme, row.sets, row.bands = goal.scheme, goal.sets, goal.bands
    hours = row.promised.get("restripe_hours")
    row.walk, row.front, row.turned = None, None, False
    # What the drives had to do is measured by the layout on the way, which stays in hand until the job is noted.
    after = OpenPool(row, pool.places, layout)
    _renumber(session, after, slots)
    pool.places = after.places
    _hold(session, after, final, job)
    row.synced_to = final.stripes
    if hours is not None and not layout.turned:
        row.promised = {**row.promised, "restripe_hours": hours}
    label(session, row, after.members, job.sheet_id)
    waiting, row.extend_after = row.extend_after, None
    if waiting is not None and final is layout.both.new:
        send(session, "extend-volumes", f"pool {row.name}", waiting["sheet"], pool=row.name, volumes=waiting["volumes"],
             who=waiting["who"], sheet=waiting["sheet"])  # fmt: skip
    log(session, SYSTEM, "pool-restriped", row.name, f"Pool {row.name} is {final.scheme.id}, {final.describe()}.")


def _renumber(session: Session, pool: OpenPool, slots: Mapping[int, int]) -> None:
    """Members get new slots; those that have none leave."""
    for place in pool.members:
        to = slots.get(place.member)
        place.to_slot = None
        if to is None:
            give_free(session, pool.row, place.drive_id)
            pool.places.remove(place)
            session.delete(place)
        else:
            place.slot = to
    session.flush()


def _set_apart(session: Session, pool: OpenPool, besides: JobRow | None = None) -> None:
    """What jobs under way make the drives do proves nothing any more: it is of two layouts."""
    for job in open_jobs(session, pool.row.id):
        if job is not besides:
            job.report = {k: v for k, v in job.report.items() if k != "moved"} | {"of_two_layouts": True}


def _hold(session: Session, pool: OpenPool, layout: Layout, besides: JobRow | None = None) -> None:
    """The pool promises, and has, what its layout does."""
    row = pool.row
    _set_apart(session, pool, besides)
    row.capacity = layout.stock
    row.promised, row.measured = promised(layout), {}
    session.flush()
    stripes = layout.volumes if layout.own_protection else ()  # type: ignore[attr-defined]
    pool.layout = designed_layout(row, pool.places, stripes)
    refresh_state(session, pool)
