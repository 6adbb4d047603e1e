"""What needs a person, and how everything stands: for the first screen, the console and whoever asks by machine."""

from __future__ import annotations

import datetime as dt
import shutil
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache
from typing import Any

from sqlalchemy import and_, bindparam, case, func
from sqlmodel import Session, col, or_, select

from pairshelf.core.domain.away import Stood, away_named
from pairshelf.core.policies.attention import Matter, NotedDrive, PoolFacts, is_well, matters, verdict
from pairshelf.core.watching.failing import RULE, Health
from pairshelf.core.watching.glance import Glance, in_order
from pairshelf.engine import keys, signs
from pairshelf.engine.pools import devices
from pairshelf.engine.signs import WATCHER, WORKER
from pairshelf.services.watching import glances, levels_of, what_fills, with_outlooks
from pairshelf.store.database import in_these, pick, these
from pairshelf.store.repositories.holdings import drives_free, load_holdings, load_watched
from pairshelf.store.tables import (
    Application,
    BackupRow,
    DriveHealth,
    DriveRow,
    JobRow,
    JobState,
    KeepRule,
    PoolPlace,
    PoolRow,
    SampleFile,
    SheetRow,
    SheetState,
    Shelf,
    VolumeRow,
    WipeRow,
    ids,
    now,
)

#: Pools and drives looked at one by one; beyond these, the screens of pools and shelves serve.
_MOST = 200


@dataclass(frozen=True, slots=True)
class Attention:
    """How everything stands."""

    matters: list[Matter]
    #: All pools, those first about which something is to be said.
    glances: list[Glance]
    drives: int
    free_drives: int
    #: Bytes of all drives.
    raw: int

    @property
    def verdict(self) -> str:
        """Whether all is well, in one sentence."""
        return verdict(self.matters, len(self.glances))

    @property
    def well(self) -> bool:
        """Whether nothing needs a person now or soon."""
        return is_well(self.matters)

    def total(self, figure: str, *, of_drives: bool | None = None) -> int:
        """A figure of the accounts of pools together: of all, or of those whose capacity is usable, or (``of_drives``)
        that of their drives."""
        chosen = [g.account for g in self.glances if of_drives is None or g.account.of_drives == of_drives]
        return sum(getattr(a, figure) for a in chosen)


# Statements that never change are put together once: that takes longer than asking.


@cache
def _drives_counted() -> Any:
    new = func.count().filter(col(DriveRow.service) == "new")
    return (
        select(func.count(), drives_free(), new, func.coalesce(func.sum(DriveRow.size), 0))
        .select_from(DriveRow)
        .where(DriveRow.service != "retired")
    )


def attend(session: Session, most: int | None = None) -> Attention:
    """What needs a person, and every pool at a glance; of the first ``most`` of them also when they will be full."""
    drives, free_drives, new_drives, raw = session.exec(_drives_counted()).one()
    held = load_holdings(session)
    watched = load_watched(session)
    levels = levels_of(held, watched)
    looks = in_order(glances(session, held, watched, levels=levels))
    looks = [*with_outlooks(session, looks[:most], held), *(looks[most:] if most is not None else [])]
    away = signs.away(session)
    found = matters(
        _pools(session, {g.id: g.may_fail for g in looks}), new_drives=new_drives, drives=_drives(session), drafts=_drafts(session),
        worker_away=WORKER in away, watcher_away=WATCHER in away, no_drives=drives == 0, free_drives=free_drives,
        no_pools=not held, locked=_locked(session), unkept=_unkept(session), room_left=shutil.disk_usage(devices().folder).free,
        unruled=_unruled(session), fills=what_fills(session, held, watched, levels), spoilt=_spoilt(session),
        backups=_backups(session),
    )  # fmt: skip
    return Attention(found, looks, drives, free_drives, int(raw))


@cache
def _backups_recorded() -> Any:
    return (
        pick(PoolRow.id, PoolRow.name, VolumeRow.name, BackupRow.recorded_at, BackupRow.age_hours)
        .select_from(BackupRow).join(PoolRow, col(PoolRow.id) == BackupRow.pool_id)
        .outerjoin(VolumeRow, col(VolumeRow.id) == BackupRow.volume_id)
        .order_by(PoolRow.name, col(BackupRow.id))
    )  # fmt: skip


def _backups(session: Session) -> list[tuple[int, str, float]]:
    """Recorded backups that may be old: (pool, of what, days)."""
    return [
        (pool, f"{volume} of {name}" if volume else name, (now() - at) / dt.timedelta(days=1) + hours / 24)
        for pool, name, volume, at, hours in session.exec(_backups_recorded())
    ]


_DIFFERING = (
    select(VolumeRow.pool_id, func.count()).join(SampleFile, col(SampleFile.volume_id) == VolumeRow.id)
    .where(col(SampleFile.intact).is_(False)).group_by(col(VolumeRow.pool_id))
)  # fmt: skip
_CHECKS = select(JobRow.pool_id, JobRow.report).where(
    col(JobRow.id).in_(
        select(func.max(JobRow.id)).where(JobRow.kind == "check", JobRow.state == "done").group_by(col(JobRow.pool_id))
    )
)


@cache
def _in_doubt() -> Any:
    """Pools that are not well, or one of these: with how many members are gone, are filled again, are away."""
    away = func.sum(case((col(PoolPlace.state) == "missing", 1), else_=0))
    empty = func.sum(case((col(PoolPlace.state).in_(("failed", "missing")), 1), else_=0))
    filling = func.sum(case((col(PoolPlace.state) == "rebuilding", 1), else_=0))
    return (
        pick(PoolRow.id, PoolRow.name, PoolRow.state, empty, filling, away)
        .join(PoolPlace, col(PoolPlace.pool_id) == PoolRow.id)
        .where(col(PoolPlace.slot).is_not(None), or_(PoolRow.state != "healthy", in_these(PoolRow.id)))
        .group_by(col(PoolRow.id)).order_by(PoolRow.name)
    )  # fmt: skip


def _pools(session: Session, left: Mapping[int, int | None]) -> list[PoolFacts]:
    """Pools that may need somebody: most are well, and are not looked at."""
    differing = dict(session.exec(_DIFFERING).all())
    unsettled = {pool: report["mismatches"] - report["put_right"] for pool, report in session.exec(_CHECKS)}
    doubtful = [*differing, *(pool for pool, count in unsettled.items() if count)]
    rows = session.exec(_in_doubt(), params=these(doubtful)).all()
    waited_for = _away(session, [i for i, *_, missing in rows if missing])
    failed = _failed(session, [i for i, _, _, gone, fills, missing in rows if fills or gone > missing])
    return [
        PoolFacts(i, name, state, gone, bool(fills), differing.get(i, 0), unsettled.get(i, 0), missing,
                  waited_for.get(i, ""), tuple(failed.get(i, ())), left.get(i))
        for i, name, state, gone, fills, missing in rows
    ]  # fmt: skip


def _failed(session: Session, pool_ids: list[int]) -> dict[int, list[str]]:
    """Failed drives that are still in their places, by bay and serial."""
    if not pool_ids:
        return {}
    found: dict[int, list[str]] = {}
    query = (
        pick(PoolPlace.pool_id, DriveRow.serial, Shelf.name, DriveRow.bay)
        .join(DriveRow, col(DriveRow.id) == PoolPlace.drive_id)
        .outerjoin(Shelf, col(Shelf.id) == DriveRow.shelf_id)
        .where(in_these(PoolPlace.pool_id), PoolPlace.state == "failed", col(PoolPlace.slot).is_not(None))
        .order_by(col(PoolPlace.slot))
    )
    for pool, serial, shelf, bay in session.exec(query, params=these(pool_ids)):
        found.setdefault(pool, []).append(f"{serial} ({shelf} bay {bay})" if shelf else serial)
    return found


def _away(session: Session, pool_ids: list[int]) -> dict[int, str]:
    """What is away of these pools, in words."""
    if not pool_ids:
        return {}
    members: dict[int, list[Stood]] = {}
    query = select(PoolPlace.pool_id, PoolPlace.host, PoolPlace.shelf, PoolPlace.state)
    for pool, host, shelf, state in session.exec(
        query.where(col(PoolPlace.pool_id).in_(pool_ids), col(PoolPlace.slot).is_not(None)).order_by(
            col(PoolPlace.slot)
        )
    ):
        members.setdefault(pool, []).append(Stood(host, shelf, state == "missing"))
    return {pool: away_named(own) for pool, own in members.items()}


_ENCRYPTED = select(ids(PoolRow), PoolRow.name).where(col(PoolRow.key).is_not(None))
_UNKEPT = select(ids(PoolRow), PoolRow.name).where(col(PoolRow.passphrase_kept).is_(False)).order_by(PoolRow.name)


def _locked(session: Session) -> list[tuple[int, str]]:
    return [(i, name) for i, name in session.exec(_ENCRYPTED) if not keys.is_open(i)]


def _unkept(session: Session) -> list[tuple[int, str]]:
    return list(session.exec(_UNKEPT))


@cache
def _recorders() -> Any:
    return (
        select(VolumeRow.pool_id, VolumeRow.name, Application.name)
        .join(Application, col(Application.volume_id) == VolumeRow.id)
        .outerjoin(KeepRule, col(KeepRule.volume_id) == VolumeRow.id)
        .where(Application.kind == "recorder", col(KeepRule.volume_id).is_(None)).order_by(VolumeRow.name).limit(_MOST)
    )  # fmt: skip


def _unruled(session: Session) -> list[tuple[int, str, str]]:
    return [(pool, volume, app) for pool, volume, app in session.exec(_recorders())]


@cache
def _drives_spoken_of() -> Any:
    # A member whose copying is under way needs nobody any more.
    copied = select(JobRow.slot).where(
        JobRow.kind == "copy", JobRow.pool_id == PoolPlace.pool_id, JobRow.slot == PoolPlace.slot,
        col(JobRow.state).not_in((JobState.DONE, JobState.FAILED)),
    )  # fmt: skip
    # One that is scanned is being seen to.
    scanned = select(JobRow.id).where(
        JobRow.kind == "scan", col(JobRow.state).not_in((JobState.DONE, JobState.FAILED)),
        or_(JobRow.pool_id == PoolPlace.pool_id, JobRow.report["drive"].as_integer() == DriveRow.id),  # type: ignore[index]
    )  # fmt: skip
    warns = and_(col(DriveHealth.level) == Health.WARNS, col(DriveRow.condition) == "good", ~scanned.exists())
    # Found by what is said of them first: joined are few.
    spoken_of = (
        select(DriveRow.id).where(DriveRow.condition == "failing")
        .union(select(DriveHealth.drive_id).where(DriveHealth.level == Health.WARNS))
    )  # fmt: skip
    return (
        pick(DriveRow.id, Shelf.name, DriveRow.bay, DriveRow.serial, DriveRow.condition, PoolPlace.pool_id, PoolRow.acts_early, PoolRow.domain,
             DriveHealth.reasons)
        .outerjoin(Shelf, col(Shelf.id) == DriveRow.shelf_id)
        .outerjoin(PoolPlace, and_(col(PoolPlace.drive_id) == DriveRow.id, col(PoolPlace.slot).is_not(None)))
        .outerjoin(PoolRow, col(PoolRow.id) == PoolPlace.pool_id)
        .outerjoin(DriveHealth, col(DriveHealth.drive_id) == DriveRow.id)
        .where(col(DriveRow.id).in_(spoken_of), ~copied.exists(), DriveRow.service != "retired", or_(col(DriveRow.condition) == "failing", warns))
        .order_by(Shelf.name, col(DriveRow.bay)).limit(_MOST)
    )  # fmt: skip


def _drives(session: Session) -> list[NotedDrive]:
    """Drives that their readings speak against."""
    rows = session.exec(_drives_spoken_of())
    found = []
    for number, shelf, bay, serial, condition, pool, early, domain, reasons in rows:
        rules = [RULE[r["rule"]] for r in reasons or ()]
        found.append(NotedDrive(
            number, f"Drive {serial} ({shelf} bay {bay})" if shelf else f"Drive {serial}", pool, condition == "failing",
            "; ".join(r["sentence"] for r in reasons or ()), bool(rules) and all(r.of_link for r in rules),
            any(r.id == "unscanned" for r in rules), ("move" if domain else "copy") if early else "",
        ))  # fmt: skip
    return found


@cache
def _badly_wiped() -> Any:
    last = select(func.max(WipeRow.id)).group_by(col(WipeRow.drive_id))
    return (
        pick(ids(DriveRow), DriveRow.serial, WipeRow.state)
        .join(WipeRow, col(WipeRow.drive_id) == DriveRow.id)
        .where(col(WipeRow.id).in_(last), col(WipeRow.state).in_(("partly", "not")), DriveRow.service == "free")
        .order_by(DriveRow.serial).limit(_MOST)
    )  # fmt: skip


def _spoilt(session: Session) -> list[tuple[int, str, str]]:
    """Drives still here whose last wiping did not come to its end."""
    rows = session.exec(_badly_wiped())
    words = {"partly": "only partly wiped", "not": "not wiped, though it was to be"}
    return [(i, f"Drive {serial}", words[state]) for i, serial, state in rows]


_OPEN_SHEETS = (
    select(ids(SheetRow), SheetRow.title)
    .where(SheetRow.state == SheetState.DRAFT, SheetRow.created_at > bindparam("since"), col(SheetRow.stale).is_(None))
    .order_by(col(SheetRow.id).desc()).limit(5)
)  # fmt: skip


def _drafts(session: Session) -> list[tuple[int, str]]:
    since = now() - dt.timedelta(days=7)
    return list(session.exec(_OPEN_SHEETS, params={"since": since}))
