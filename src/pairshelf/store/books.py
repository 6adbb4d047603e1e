"""What is in use by whom, for the core: volumes, mounts, shares, block targets, hosts, applications."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

from sqlalchemy import func
from sqlmodel import Session, col, select

from pairshelf.core.estate import (
    Estate,
    EstateApplication,
    EstateHost,
    EstateMount,
    EstatePool,
    EstateShare,
    EstateTarget,
    EstateVolume,
)
from pairshelf.core.layouts.spread import parse_protection
from pairshelf.core.units import EXTENT
from pairshelf.store.estate import load_drives, load_pools
from pairshelf.store.tables import (
    Application,
    Host,
    Initiator,
    KeepRule,
    Mount,
    Party,
    PartyMember,
    PoolRow,
    SampleFile,
    Share,
    ShareRight,
    ShareVisit,
    Site,
    Target,
    TargetLun,
    TargetRight,
    VolumePiece,
    VolumeRow,
)


def load_books(session: Session, *, pool_ids: Collection[int] = (), drive_ids: Collection[int] = ()) -> Estate:
    """Everything that names, mounts, shares and targets have to agree with; of these pools also the layouts
    and what their volumes hold. A fixed number of statements."""
    volumes = load_volumes(session, pool_ids)
    refs = {v.id: v.ref for v in volumes}
    mounts = _mounts(session, refs)
    return Estate(
        drives=tuple(load_drives(session, drive_ids)),
        pools=tuple(load_pools(session, pool_ids)),
        pool_names=frozenset(name.lower() for name in session.exec(select(PoolRow.name))),
        mount_points=frozenset((m.host, m.at) for m in mounts),
        volumes=tuple(volumes),
        mounts=tuple(mounts),
        machines=tuple(load_hosts(session)),
        shares=tuple(_shares(session, refs)),
        targets=tuple(_targets(session, refs)),
        initiators=tuple(
            session.exec(select(Initiator.iqn, Host.name).outerjoin(Host, col(Host.id) == Initiator.host_id))
        ),
        applications=tuple(_applications(session, refs)),
        parties=tuple(_parties(session)),
    )


def load_use(session: Session, pool: EstatePool) -> Estate:
    """One pool, its volumes, and what stands on those: for a screen, however much else there is."""
    volumes = load_volumes(session, [pool.id], only=True)
    refs = {v.id: v.ref for v in volumes}
    return Estate(
        pools=(pool,), volumes=tuple(volumes), mounts=tuple(_mounts(session, refs)),
        shares=tuple(_shares(session, refs)), targets=tuple(_targets(session, refs, every=False)),
        applications=tuple(_applications(session, refs, every=False)),
    )  # fmt: skip


def load_access(session: Session, volume_ids: Collection[int]) -> Estate:
    """These volumes with what stands on them, all hosts, and all persons and groups."""
    pools = session.exec(select(VolumeRow.pool_id).where(col(VolumeRow.id).in_(volume_ids)).distinct()).all()
    volumes = load_volumes(session, pools, ids=volume_ids)
    refs = {v.id: v.ref for v in volumes}
    return Estate(
        volumes=tuple(volumes), mounts=tuple(_mounts(session, refs)), machines=tuple(load_hosts(session)),
        shares=tuple(_shares(session, refs)), targets=tuple(_targets(session, refs, every=False)),
        applications=tuple(_applications(session, refs, every=False)), parties=tuple(_parties(session)),
    )  # fmt: skip


def load_volumes(
    session: Session, pool_ids: Collection[int], *, only: bool = False, ids: Collection[int] | None = None
) -> list[EstateVolume]:
    """All volumes, or only those of these pools, or only these; what the files on them take is filled in for
    these pools' volumes."""
    placed: dict[int, int] = dict(
        session.exec(
            select(VolumePiece.volume_id, func.sum(VolumePiece.count))
            .where(col(VolumePiece.pool_id).in_(pool_ids)).group_by(col(VolumePiece.volume_id))
        ).all()
    )  # fmt: skip
    ends = func.max(SampleFile.first + SampleFile.extents)
    files: dict[int, Any] = {
        volume: (count, total, end)
        for volume, count, total, end in session.exec(
            select(SampleFile.volume_id, func.count(), func.sum(SampleFile.extents), ends)
            .join(VolumeRow, col(VolumeRow.id) == SampleFile.volume_id)
            .where(col(VolumeRow.pool_id).in_(pool_ids)).group_by(col(SampleFile.volume_id))
        )
    }  # fmt: skip
    query = (
        select(VolumeRow, PoolRow.name, KeepRule.above)
        .join(PoolRow, col(PoolRow.id) == VolumeRow.pool_id)
        .outerjoin(KeepRule, col(KeepRule.volume_id) == VolumeRow.id)
        .order_by(PoolRow.name, VolumeRow.name)
        .execution_options(populate_existing=True)
    )
    if only:
        query = query.where(col(VolumeRow.pool_id).in_(pool_ids))
    if ids is not None:
        query = query.where(col(VolumeRow.id).in_(ids))
    found = []
    for v, pool, above in session.exec(query):
        count, total, end = files.get(v.id, (0, 0, 0))
        own = placed.get(v.id, 0)
        if v.protection:
            protection = parse_protection(v.protection)
            own = -(-own // protection.data) * protection.width
        found.append(EstateVolume(
            v.id, pool, v.name, v.size, v.thin, v.file_system, v.reserved_share, v.overhead, v.uuid,
            int(total) * EXTENT, count, int(end) * EXTENT, int(own), v.protection, v.purpose, above,
        ))  # fmt: skip
    return found


def load_hosts(session: Session) -> list[EstateHost]:
    """All hosts by name."""
    query = select(Host, Site.name).join(Site, col(Site.id) == Host.site_id).order_by(Host.name)
    return [
        EstateHost(h.name, site, h.letters, h.address, h.storage_address, h.iqn, h.link)
        for h, site in session.exec(query.execution_options(populate_existing=True))
    ]


def _mounts(session: Session, refs: dict[int, str]) -> list[EstateMount]:
    query = (
        select(Mount, Host.name).join(Host, col(Host.id) == Mount.host_id)
        .where(_among(Mount.volume_id, refs)).order_by(Host.name, Mount.at)
    )  # fmt: skip
    return [
        EstateMount(m.id, host, refs[m.volume_id], m.at, m.read_only, m.access_times, m.required)
        for m, host in session.exec(query.execution_options(populate_existing=True))
    ]


def _shares(session: Session, refs: dict[int, str]) -> list[EstateShare]:
    rows = session.exec(
        select(Share)
        .where(_among(Share.volume_id, refs))
        .order_by(Share.name)
        .execution_options(populate_existing=True)
    ).all()
    if not rows:
        return []
    names: dict[int, str] = dict(session.exec(select(Party.id, Party.name)).all())
    rights: dict[int, list[tuple[str, str]]] = {}
    for right in session.exec(select(ShareRight).execution_options(populate_existing=True)):
        rights.setdefault(right.share_id, []).append((names[right.party_id], right.may))
    visitors: dict[int, set[str]] = {}
    for share_id, person in session.exec(select(ShareVisit.share_id, ShareVisit.person_id)):
        visitors.setdefault(share_id, set()).add(names[person])
    return [
        EstateShare(
            s.name, refs[s.volume_id], s.folder, s.quota, s.bin_days, s.encrypted,
            tuple(sorted(rights.get(s.id or 0, ()))), tuple(sorted(visitors.get(s.id or 0, ()))),
        )
        for s in rows
    ]  # fmt: skip


#: More values than this are not named one by one.
_NAMED = 1000


def _among(column: Any, refs: dict[int, str]) -> Any:
    """A condition that leaves out other volumes' rows, where there are not too many to name."""
    return col(column).in_(list(refs)) if len(refs) <= _NAMED else col(column).is_not(None)


def _targets(session: Session, refs: dict[int, str], *, every: bool = True) -> list[EstateTarget]:
    luns: dict[int, list[tuple[int, str]]] = {}
    for lun in session.exec(select(TargetLun).where(_among(TargetLun.volume_id, refs)).order_by(col(TargetLun.lun))):
        luns.setdefault(lun.target_id, []).append((lun.lun, refs[lun.volume_id]))
    if not every and not luns:
        return []
    rights: dict[int, list[tuple[str, bool]]] = {}
    query = (
        select(TargetRight, Initiator.iqn).join(Initiator, col(Initiator.id) == TargetRight.initiator_id)
        .order_by(Initiator.iqn).execution_options(populate_existing=True)
    )  # fmt: skip
    for right, iqn in session.exec(query):
        rights.setdefault(right.target_id, []).append((iqn, right.chap_hash is not None))
    rows = session.exec(
        select(Target, Host.name).join(Host, col(Host.id) == Target.host_id).order_by(Target.iqn)
        .execution_options(populate_existing=True)
    )  # fmt: skip
    return [
        EstateTarget(t.iqn, host, t.shared, tuple(luns.get(t.id, ())), tuple(rights.get(t.id, ())))
        for t, host in rows
        if every or t.id in luns
    ]


def _applications(session: Session, refs: dict[int, str], *, every: bool = True) -> list[EstateApplication]:
    query = (
        select(Application, Host.name).join(Host, col(Host.id) == Application.host_id)
        .order_by(Host.name, Application.name).execution_options(populate_existing=True)
    )  # fmt: skip
    return [
        EstateApplication(
            a.id, host, a.name, a.kind, a.owner, a.folder, a.settings, a.running,
            refs.get(a.volume_id) if a.volume_id else None, a.folder_scheme, a.files_per_folder, a.moved.get("from"),
        )
        for a, host in session.exec(query if every else query.where(_among(Application.volume_id, refs)))
    ]  # fmt: skip


def _parties(session: Session) -> list[tuple[str, tuple[str, ...] | None]]:
    rows = session.exec(select(Party).order_by(Party.name)).all()
    names = {p.id: p.name for p in rows}
    members: dict[int, list[str]] = {}
    for one in session.exec(select(PartyMember)):
        members.setdefault(one.group_id, []).append(names[one.person_id])
    return [(p.name, tuple(sorted(members.get(p.id or 0, ()))) if p.kind == "group" else None) for p in rows]
