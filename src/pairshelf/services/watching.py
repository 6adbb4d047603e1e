"""What is watched of the estate: every pool at a glance, what is filling up, thresholds, and histories."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection
from dataclasses import dataclass, replace
from functools import cache
from typing import Any

from sqlalchemy import func, or_
from sqlmodel import Session, col, select

from pairshelf.core.domain.estate import EstatePool
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.errors import BadInput, NotFound
from pairshelf.core.figures.survival import after_failures
from pairshelf.core.layouts.registry import scheme_of
from pairshelf.core.policies.filling import Filling, filling
from pairshelf.core.watching.glance import Glance, VolumeGlance, first_to_fill
from pairshelf.core.watching.series import Grain, Series, Subject, grain_for, kept_bytes, series_named
from pairshelf.core.watching.thresholds import USUAL, Level, Thresholds, Watched
from pairshelf.core.watching.trend import Outlook
from pairshelf.engine.history import used_on_drives
from pairshelf.engine.log import log
from pairshelf.store.database import among, in_these, in_these_or_all, many, pick, these
from pairshelf.store.repositories.books import load_volumes
from pairshelf.store.repositories.drives_and_pools import load_pools
from pairshelf.store.repositories.history import Point, bytes_of_all, load_points
from pairshelf.store.repositories.holdings import PoolHolds, load_holdings, load_watched
from pairshelf.store.tables import (
    DriveRow,
    Host,
    JobRow,
    JobState,
    OutlookRow,
    PoolRow,
    Shelf,
    Threshold,
    VolumeRow,
    now,
)


def drives_used(session: Session, pools: Collection[int] | None = None) -> dict[int, int]:
    """Bytes in use on each member drive of these pools, or of all, now."""
    return {drive: extents * EXTENT for drive, extents in used_on_drives(session, pools).items()}


def what_fills(
    session: Session, held: list[PoolHolds], watched: Watched, levels: dict[int, Level] | None = None
) -> list[Filling]:
    """What is filling up. Only pools in which anything is nearly full are looked at one by one."""
    ids = [number for number, level in (levels or levels_of(held, watched)).items() if level]
    if not ids:
        return []
    return filling(load_pools(session, ids), load_volumes(session, ids, only=True), watched, _waiting(session, ids))


def _waiting(session: Session, ids: Collection[int]) -> dict[int, list[str]]:
    """Volumes of these pools that something is written to, and has to wait, by pool."""
    held = (
        select(JobRow.pool_id, VolumeRow.name).join(VolumeRow, col(VolumeRow.id) == JobRow.volume_id)
        .where(JobRow.kind == "fill", JobRow.state == JobState.HELD, among(JobRow.pool_id, ids)).order_by(VolumeRow.name)
    )  # fmt: skip
    found: dict[int, list[str]] = {}
    for pool, volume in session.exec(held):
        found.setdefault(pool or 0, []).append(volume)
    return found


def levels_of(held: list[PoolHolds], watched: Watched) -> dict[int, Level]:
    """How full each pool is, or the fullest of its volumes, where any of them is near a threshold."""
    near, found = watched.lowest, {}
    for pool in held:
        level = Level.ROOM
        for v in pool.volumes:
            if v.share >= near and v.told_of:
                level = max(level, watched.volume_level(v.id, v.share))
        if pool.account.thin and pool.account.share >= near:
            level = max(level, watched.pool_level(pool.id, pool.account.share))
        found[pool.id] = level
    return found


def glances(
    session: Session,
    held: list[PoolHolds],
    watched: Watched,
    outlooks: dict[int, list[tuple[str | None, Outlook]]] | None = None,
    levels: dict[int, Level] | None = None,
) -> list[Glance]:
    """Each of these pools at a glance. A fixed number of statements, but for those that are not healthy."""
    outlooks, levels = outlooks or {}, levels or levels_of(held, watched)
    ids, connection = [p.id for p in held], session.connection()
    last_checked, under_way = _asked(many(ids))
    checked = dict(connection.execute(last_checked, these(ids)).all())
    busy = {pool for (pool,) in connection.execute(under_way, these(ids))}
    doubtful = [p.id for p in held if p.state != "healthy" or p.restripes]
    left = {p.id: _left(p) for p in load_pools(session, doubtful)} if doubtful else {}
    found = []
    for pool in held:
        of, told = first_to_fill(outlooks.get(pool.id, []))
        survives = scheme_of(pool.scheme).survives if pool.survives is None else pool.survives
        found.append(Glance(
            pool.id, pool.name, pool.tint, pool.state, pool.account, watched.of_pool(pool.id), levels[pool.id],
            left.get(pool.id, survives), pool.domain or "drive", told, of, checked.get(pool.id), pool.id in busy,
        ))  # fmt: skip
    return found


@cache
def _asked(every: bool) -> tuple[Any, Any]:
    """What is asked of some pools, or of every one: when they were last checked, and on which anything is under way."""
    return (
        select(JobRow.pool_id, func.max(JobRow.finished_at))
        .where(JobRow.kind == "check", JobRow.state == "done", in_these_or_all(JobRow.pool_id, every))
        .group_by(col(JobRow.pool_id)),
        select(JobRow.pool_id).where(in_these_or_all(JobRow.pool_id, every), col(JobRow.state).not_in(("done", "failed"))),
    )  # fmt: skip


def _left(pool: EstatePool) -> int | None:
    """What may still fail of a pool that is not whole; None where it cannot be said."""
    if pool.state in ("lost", "unreachable"):
        return None
    after = after_failures(pool.layout, pool.absent)
    return after.more_guaranteed if after.survives else None


def with_outlooks(session: Session, found: list[Glance], held: list[PoolHolds]) -> list[Glance]:
    """The same with what is known of when each will be full."""
    wanted = {g.id for g in found}
    outlooks = load_outlooks(session, [p for p in held if p.id in wanted])
    return [
        replace(g, outlook=told, outlook_of=of) for g in found for of, told in [first_to_fill(outlooks.get(g.id, []))]
    ]


def pools_at_a_glance(session: Session, pool_ids: Collection[int] | None) -> dict[int, Glance]:
    """These pools, or all, at a glance, by their numbers."""
    held = load_holdings(session, pool_ids)
    return {g.id: g for g in glances(session, held, load_watched(session), load_outlooks(session, held))}


def pool_and_volumes(session: Session, pool_id: int) -> tuple[Glance, dict[int, VolumeGlance]]:
    """A pool at a glance, and its volumes by their numbers."""
    held = load_holdings(session, [pool_id])
    watched, outlooks = load_watched(session), load_outlooks(session, held)
    seen = {v.holds.id: v for v in _volumes(held[0], watched, outlooks)}
    return glances(session, held, watched, outlooks)[0], seen


def volumes_at_a_glance(session: Session, pool_ids: Collection[int] | None = None) -> list[tuple[str, VolumeGlance]]:
    """Every volume of these pools, or of all, with its pool's name, by name. A fixed number of statements."""
    held = load_holdings(session, pool_ids)
    watched, outlooks = load_watched(session), load_outlooks(session, held)
    return [(pool.name, seen) for pool in held for seen in _volumes(pool, watched, outlooks)]


def _volumes(
    pool: PoolHolds, watched: Watched, outlooks: dict[int, list[tuple[str | None, Outlook]]]
) -> list[VolumeGlance]:
    told = dict(outlooks[pool.id])
    return [
        VolumeGlance(
            v, watched.of_volume(v.id), Level.ROOM if not v.told_of else watched.volume_level(v.id, v.share), told.get(v.name)
        )
        for v in pool.volumes if not v.unseen
    ]  # fmt: skip


#: What of an outlook's row makes an outlook, in its order.
_OUTLOOK = ("growth", "at", "earliest", "latest", "days", "why_none")
# Plain values: there are as many as volumes.
_OUTLOOKS = pick(
    OutlookRow.pool_id, OutlookRow.volume_id, OutlookRow.capacity, *(getattr(OutlookRow, n) for n in _OUTLOOK)
).where(or_(in_these(OutlookRow.pool_id), in_these(OutlookRow.volume_id, "those")))


def load_outlooks(session: Session, held: list[PoolHolds]) -> dict[int, list[tuple[str | None, Outlook]]]:
    """What is known of when pools and their volumes will be full, by pool: of thin pools the pool's own first, then of
    each volume that is not meant to be full. What was worked out for another capacity is left out."""
    if not held:
        return {}
    pools: dict[int, tuple[Any, ...]] = {}
    volumes: dict[int, tuple[Any, ...]] = {}
    asked = {**these(p.id for p in held), "those": [v.id for p in held for v in p.volumes]}
    for row in session.connection().execute(_OUTLOOKS, asked):
        if row[0] is not None:
            pools[row[0]] = tuple(row[2:])
        else:
            volumes[row[1]] = tuple(row[2:])
    found: dict[int, list[tuple[str | None, Outlook]]] = {}
    for pool in held:
        own = found.setdefault(pool.id, [])
        if pool.account.thin and (facts := pools.get(pool.id)) and facts[0] == pool.account.capacity:
            own.append((None, Outlook(*facts[1:])))
        for volume in pool.volumes:
            facts = volumes.get(volume.id)
            if facts and volume.told_of and facts[0] == volume.for_files:
                own.append((volume.name, Outlook(*facts[1:])))
    return found


def set_thresholds(
    session: Session, who: str, limits: Thresholds, *, pool_id: int | None = None, volume_id: int | None = None
) -> Thresholds:
    """Say at which shares of a pool, or of a volume, a person is told. The usual ones are kept as no row."""
    if pool_id is not None:
        row = session.get(PoolRow, pool_id)
        if row is None:
            raise NotFound("pool")
        name, mine = f"Pool {row.name}", col(Threshold.pool_id) == pool_id
    else:
        volume = session.get(VolumeRow, volume_id)
        if volume is None:
            raise NotFound("volume")
        name, mine = f"Volume {volume.name}", col(Threshold.volume_id) == volume_id
    kept = session.exec(select(Threshold).where(mine).with_for_update()).first()
    if limits == USUAL:
        if kept is not None:
            session.delete(kept)
    elif kept is None:
        session.add(Threshold(pool_id=pool_id, volume_id=volume_id, tell=limits.tell, urgent=limits.urgent))
    else:
        kept.tell, kept.urgent = limits.tell, limits.urgent
    said = f"{name}: told at {limits.tell * 100:.0f} %, pressing at {limits.urgent * 100:.0f} %."
    log(session, who, "thresholds-set", name, said)
    return limits


# -- histories -----------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class History:
    """What was recorded of something between two moments."""

    series: Series
    of: str
    grain: Grain
    begin: dt.datetime
    end: dt.datetime
    points: list[Point]
    #: Where it would be full, in the series' unit.
    full_at: float | None


def history_of(session: Session, series: Series, number: int, span: dt.timedelta, until: dt.datetime | None) -> History:
    """What was recorded of a pool, volume, drive, host or link in a span of time that ends at a moment, or now."""
    end = min(until or now(), now())
    grain = grain_for(span, now() - end)
    begin = max(grain.start(end - span), _FIRST)
    kept_by, name, full_at = _subject(session, series, number)
    points = load_points(session, series, [kept_by], grain, begin, end)[kept_by]
    return History(series, name, grain, begin, end, points, full_at)


def history_named(session: Session, series_id: str, name: str, hours: float) -> History:
    """The same by names: of a pool, of pool/volume, of a drive's serial, of a host, of the shelf at a link. BadInput or NotFound where there is none."""
    series = series_named(series_id)
    if not 0 < hours <= LONGEST_HOURS:
        raise BadInput("Look back between a moment and ten years.", field="hours")
    if series.subject in _PLACES:
        named = select(Host.id).where(Host.name == name.strip())
        if series.subject is Subject.LINK:
            named = select(Shelf.id).where(Shelf.name == name.strip())
        number = session.exec(named).first()
    elif series.subject is Subject.DRIVE:
        number = session.exec(select(DriveRow.id).where(DriveRow.serial == name.strip())).first()
    elif series.subject is Subject.POOL:
        number = session.exec(select(PoolRow.id).where(PoolRow.name == name.strip())).first()
    else:
        pool, _, volume = name.strip().partition("/")
        query = select(VolumeRow.id).join(PoolRow, col(PoolRow.id) == VolumeRow.pool_id)
        number = session.exec(query.where(PoolRow.name == pool, VolumeRow.name == volume)).first()
    if number is None:
        raise NotFound(series.subject.value, name or "without a name", field="of")
    return history_of(session, series, number, dt.timedelta(hours=hours), None)


#: What stands for a host, and for the link of a shelf.
_PLACES: dict[Subject, type[Host] | type[Shelf]] = {Subject.HOST: Host, Subject.LINK: Shelf}

#: How far back can be looked, hours: a little over ten years.
LONGEST_HOURS = 24 * 3660
#: Nothing was recorded before.
_FIRST = dt.datetime(2020, 1, 1, tzinfo=dt.UTC)


def _subject(session: Session, series: Series, number: int) -> tuple[int, str, float | None]:
    """What its history is kept by, what it is called, and where it would be full; NotFound where there is none."""
    if series.subject in _PLACES:
        place = session.get(Host, number) if series.subject is Subject.HOST else session.get(Shelf, number)
        if place is None:
            raise NotFound("host" if series.subject is Subject.HOST else "shelf", field="of")
        return number, place.name, None
    if series.subject is Subject.DRIVE:
        drive = session.exec(pick(DriveRow.serial, DriveRow.size).where(DriveRow.id == number)).first()
        if drive is None:
            raise NotFound("drive", field="of")
        return number, drive.serial, float(drive.size) if series.id == "drive-used" else None
    if series.subject is Subject.VOLUME:
        pool_id = session.exec(select(VolumeRow.pool_id).where(VolumeRow.id == number)).first()
        if pool_id is None:
            raise NotFound("volume", field="of")
        (held,) = load_holdings(session, [pool_id])
        volume = next(v for v in held.volumes if v.id == number)
        full_at = {"volume-files": volume.for_files, "volume-given": volume.size}.get(series.id)
        return held.recorded_as[number], volume.name, None if full_at is None else float(full_at)
    pool = next(iter(load_holdings(session, [number])), None)
    if pool is None:
        raise NotFound("pool", field="of")
    return number, pool.name, float(pool.account.capacity) if series.id in ("pool-given", "pool-files") else None


def room_of_histories(session: Session) -> tuple[int, int]:
    """Bytes that histories take now, and after ten years of watching as much as there is now."""
    counts = {
        Subject.POOL: session.exec(select(func.count()).select_from(PoolRow)).one(),
        Subject.VOLUME: session.exec(select(func.count()).select_from(VolumeRow)).one(),
        Subject.DRIVE: session.exec(
            select(func.count()).select_from(DriveRow).where(DriveRow.service != "retired")
        ).one(),
        **{what: session.exec(select(func.count()).select_from(table)).one() for what, table in _PLACES.items()},
    }
    return bytes_of_all(session), int(kept_bytes(counts))
