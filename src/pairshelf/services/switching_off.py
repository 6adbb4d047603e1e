"""What stops without something, and whether it is safe to power it off: one answer for screens and console."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace
from typing import Any

from sqlmodel import Session, col, or_, select

from pairshelf.core.disposal.methods import METHODS
from pairshelf.core.domain.depends import THINGS, Notice, pull
from pairshelf.core.domain.estate import Estate, EstatePool
from pairshelf.core.errors import BadInput, NotFound
from pairshelf.core.policies.switching_off import Going, PowerOff, safe_to_power_off
from pairshelf.engine.jobs.kinds import JOBS
from pairshelf.store.database import among, pick
from pairshelf.store.repositories.books import load_access
from pairshelf.store.repositories.drives_and_pools import load_drives, load_pools
from pairshelf.store.tables import (
    Application,
    DriveRow,
    Host,
    Initiator,
    JobRow,
    JobState,
    Mount,
    PoolPlace,
    PoolRow,
    Shelf,
    Site,
    Target,
    TargetLun,
    TargetRight,
    VolumeRow,
    WipeRow,
)

#: What has power.
POWERED = ("drive", "shelf", "host", "site", "everything")
#: Drives looked at, of a site or everything.
_MOST = 20_000


def drives_in(session: Session, kind: str, name: str) -> list[int]:
    """The drives that stand in something: a drive by its serial, a shelf by its name or site/name, a host, a site,
    everything; none of what is something else."""
    statement = select(DriveRow.id)
    if kind == "drive":
        statement = statement.where(DriveRow.serial == name)
    elif kind in ("shelf", "host", "site", "everything"):
        statement = statement.join(Shelf, col(Shelf.id) == DriveRow.shelf_id)
        statement = statement.join(Site, col(Site.id) == Shelf.site_id)
        site, _, shelf = name.rpartition("/")
        if kind == "shelf":
            statement = statement.where(Shelf.name == shelf)
            statement = statement.where(Site.name == site) if site else statement
        elif kind == "host":
            statement = statement.join(Host, col(Host.id) == Shelf.host_id).where(Host.name == name)
        elif kind == "site":
            statement = statement.where(Site.name == name)
    else:
        return []
    return [i for i in session.exec(statement.limit(_MOST)) if i is not None]


def asked(session: Session, kind: str, name: str) -> tuple[Notice, PowerOff | None]:
    """What stops when something is pulled, and whether it is safe to power it off; None for a pool or a volume, which
    have no power of their own. BadInput for other kinds, NotFound where there is nothing of that name."""
    if kind not in THINGS:
        raise BadInput(f"“{kind}” cannot be pulled; choose {', '.join(THINGS)}.", field="kind")
    _must_be_there(session, kind, name)
    drives = drives_in(session, kind, name)
    estate = _around(session, kind, name, drives)
    notice = pull(estate, kind, name, load_drives(session, drives))
    return notice, None if kind not in POWERED else _answer(session, notice, estate.pools, drives)


def ask(session: Session, kind: str, name: str) -> PowerOff:
    """Whether it is safe to power off a drive, a shelf, a host, a site, everything. BadInput for what has no power of
    its own, NotFound where there is nothing of that name."""
    if kind not in POWERED:
        raise BadInput(f"Power goes off for {', '.join(POWERED)}.", field="kind")
    found = asked(session, kind, name)[1]
    assert found is not None
    return found


def _must_be_there(session: Session, kind: str, name: str) -> None:
    """NotFound with names that there are; nothing is answered of what is not known."""
    names: dict[str, Any] = {
        "drive": DriveRow.serial, "shelf": Shelf.name, "host": Host.name, "site": Site.name, "pool": PoolRow.name,
    }  # fmt: skip
    if kind not in names:
        return
    column, wanted = names[kind], name.rpartition("/")[2] if kind == "shelf" else name
    query = select(column).where(column == wanted)
    if kind == "shelf" and "/" in name:
        query = query.join(Site, col(Site.id) == Shelf.site_id).where(Site.name == name.rpartition("/")[0])
    if session.exec(query.limit(1)).first() is None:
        known = [] if kind == "drive" else session.exec(select(column).order_by(column).limit(6)).all()
        raise NotFound(kind, name, field="name", hint=f"There are {', '.join(known)}." if known else "")


def _around(session: Session, kind: str, name: str, drives: Collection[int]) -> Estate:
    """The pools that lose drives, the volumes that stand on them or that hosts which stop use, and what runs there."""
    pools: set[int | None] = {*session.exec(select(PoolPlace.pool_id).where(among(PoolPlace.drive_id, drives)))}
    if kind == "pool":
        pools |= {*session.exec(select(PoolRow.id).where(PoolRow.name == name))}
    volumes: set[int | None] = {*session.exec(select(VolumeRow.id).where(col(VolumeRow.pool_id).in_(pools)))}
    if kind == "volume":
        pool, _, own = name.rpartition("/")
        named = select(VolumeRow.id).join(PoolRow, col(PoolRow.id) == VolumeRow.pool_id).where(VolumeRow.name == own)
        volumes |= {*session.exec(named.where(PoolRow.name == pool) if pool else named)}
    away = _hosts_gone(session, kind, name, drives)
    hosts = [h for h, _ in away]
    volumes |= {*session.exec(select(Mount.volume_id).where(among(Mount.host_id, hosts)))}
    volumes |= {*session.exec(select(Application.volume_id).where(among(Application.host_id, hosts)))}
    lun = pick(TargetLun.volume_id).join(Target, col(Target.id) == TargetLun.target_id)
    volumes |= {*session.exec(lun.where(among(Target.host_id, hosts)))}
    iqns = [iqn for _, iqn in away if iqn]
    used = lun.join(TargetRight, col(TargetRight.target_id) == Target.id)
    used = used.join(Initiator, col(Initiator.id) == TargetRight.initiator_id)
    volumes |= {*session.exec(used.where(or_(among(Initiator.host_id, hosts), col(Initiator.iqn).in_(iqns))))}
    # Who could take over is told from where the drives of their pools are.
    ids = [v for v in volumes if v is not None]
    pools |= {*session.exec(select(VolumeRow.pool_id).where(among(VolumeRow.id, ids)))}
    estate = load_access(session, ids, hosts=hosts)
    return replace(estate, pools=tuple(load_pools(session, [p for p in pools if p is not None])))


def _hosts_gone(session: Session, kind: str, name: str, drives: Collection[int]) -> list[tuple[int, str | None]]:
    """Ids and initiator names of the hosts that stop: those named or inside it, and those that start from a drive in it."""
    starts = select(Shelf.host_id).join(DriveRow, col(DriveRow.shelf_id) == Shelf.id)
    starts = starts.where(among(DriveRow.id, drives), col(DriveRow.starts_host))
    query = pick(Host.id, Host.iqn)
    if kind == "everything":
        return list(session.exec(query))
    own: Any = col(Host.id).in_(starts)
    if kind == "host":
        own = or_(own, Host.name == name)
    if kind == "site":
        own = or_(own, col(Host.site_id).in_(select(Site.id).where(Site.name == name)))
    return list(session.exec(query.where(own)))


def _answer(session: Session, notice: Notice, pools: Collection[EstatePool], drives: Collection[int]) -> PowerOff:
    names = {p.id: p.name for p in pools}
    rows = session.exec(
        select(JobRow).where(
            or_(among(JobRow.pool_id, list(names)), JobRow.kind == "wipe"),
            col(JobRow.state).not_in((JobState.DONE, JobState.FAILED)),
        ).order_by(col(JobRow.id))
    ).all()  # fmt: skip
    erasing: dict[int | None, list[int]] = {}
    for wipe in session.exec(select(WipeRow).where(WipeRow.state == "open", col(WipeRow.started_at).is_not(None))):
        method = METHODS.get(wipe.method)
        if method is not None and method.command is not None and wipe.cursor < wipe.erasing:
            erasing.setdefault(wipe.job_id, []).append(wipe.drive_id)
    going = [
        Going(
            j.kind, JOBS[j.kind].name + (f" of {names[j.pool_id]}" if j.pool_id in names else ""), j.pool_id,
            max(0.0, j.seconds - j.spent), tuple(erasing.get(j.id, ())),
        )
        for j in rows
    ]  # fmt: skip
    return safe_to_power_off(notice, list(pools), set(drives), going)
