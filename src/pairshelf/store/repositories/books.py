"""What is in use by whom, for the core: volumes, mounts, shares, block targets, hosts, applications."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Iterable, Sequence
from functools import cache
from typing import Any

from sqlalchemy import func
from sqlmodel import Session, and_, col, or_, select

from pairshelf.core.domain.estate import (
    Estate,
    EstateApplication,
    EstateBackup,
    EstateHost,
    EstateMount,
    EstatePool,
    EstateShare,
    EstateTarget,
    EstateVolume,
)
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.layouts.spread import base_of
from pairshelf.store.database import among, in_these, in_these_or_all, pick, these
from pairshelf.store.repositories.drives_and_pools import load_drives, load_pools
from pairshelf.store.tables import (
    Application,
    BackupRow,
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
    VolumeStripes,
    ids,
)

#: Shares of which it is looked up what lies in them.
_FEW = 50


def load_books(session: Session, *, pool_ids: Collection[int] = (), drive_ids: Collection[int] = ()) -> Estate:
    """Everything that names, mounts, shares and targets have to agree with; of these pools also the layouts
    and what their volumes hold. A fixed number of statements, and none about what there is none of."""
    volumes = load_volumes(session, pool_ids)
    refs = {v.id: v.ref for v in volumes}
    mounts = _mounts(session, refs)
    return Estate(
        drives=tuple(load_drives(session, drive_ids)),
        pools=tuple(load_pools(session, pool_ids)),
        pool_names=frozenset(name.lower() for name in session.exec(select(PoolRow.name))),
        volumes=tuple(volumes),
        mounts=tuple(mounts),
        machines=tuple(load_hosts(session)),
        shares=tuple(_shares(session, refs)),
        targets=tuple(_targets(session, refs)),
        initiators=tuple(session.exec(_INITIATORS)),
        applications=tuple(_applications(session, refs)),
        backups=tuple(_backups(session, pool_ids)),
        parties=tuple(_parties(session)),
    )


def _backups(session: Session, pool_ids: Collection[int]) -> list[EstateBackup]:
    if not pool_ids:
        return []
    query = (
        pick(PoolRow.name, VolumeRow.name, BackupRow.place, BackupRow.recorded_at, BackupRow.age_hours, BackupRow.recorded_by)
        .select_from(BackupRow).join(PoolRow, col(PoolRow.id) == BackupRow.pool_id)
        .outerjoin(VolumeRow, col(VolumeRow.id) == BackupRow.volume_id)
        .where(among(BackupRow.pool_id, pool_ids)).order_by(col(BackupRow.id))
    )  # fmt: skip
    return [
        EstateBackup(pool, volume, place, (at - dt.timedelta(hours=age)).date(), at.date(), who)
        for pool, volume, place, at, age, who in session.exec(query)
    ]


def load_use(session: Session, pool: EstatePool) -> Estate:
    """One pool, its volumes, and what stands on those: for a screen, however much else there is."""
    volumes = load_volumes(session, [pool.id], only=True)
    refs = {v.id: v.ref for v in volumes}
    return Estate(
        pools=(pool,), volumes=tuple(volumes), mounts=tuple(_mounts(session, refs)),
        shares=tuple(_shares(session, refs)), targets=tuple(_targets(session, refs, every=False)),
        applications=tuple(_applications(session, refs, every=False)),
    )  # fmt: skip


def load_mounted(session: Session, volume_ids: Collection[int]) -> Estate:
    """These volumes and their mounts; not what the files on them take."""
    volumes = load_volumes(session, (), ids=volume_ids, held=False)
    return Estate(volumes=tuple(volumes), mounts=tuple(_mounts(session, {v.id: v.ref for v in volumes})))


def load_access(session: Session, volume_ids: Collection[int], *, hosts: Collection[int] = ()) -> Estate:
    """These volumes with what stands on them, all hosts, and all persons and groups; of these ``hosts`` also the
    applications whose data are on no volume."""
    volumes = load_volumes(session, (), ids=volume_ids)
    refs = {v.id: v.ref for v in volumes}
    applications = _applications(session, refs, every=False)
    if hosts:
        own = _asked_of_applications(True).where(
            among(Application.host_id, hosts), col(Application.volume_id).is_(None)
        )
        applications += _as_applications(session.exec(own, params=these(())), refs)
    return Estate(
        volumes=tuple(volumes), mounts=tuple(_mounts(session, refs)), machines=tuple(load_hosts(session)),
        shares=tuple(_shares(session, refs)), targets=tuple(_targets(session, refs, every=False)),
        applications=tuple(applications), parties=tuple(_parties(session)),
        initiators=tuple(session.exec(_INITIATORS)) if hosts else (),
    )  # fmt: skip


#: What is asked of a volume's row: plain values are quicker than an object each.
_VOLUME = (
    "id", "name", "size", "thin", "file_system", "reserved_share", "overhead", "uuid", "protection", "purpose",
    "partition",
)  # fmt: skip


def load_volumes(
    session: Session, pool_ids: Collection[int], *, only: bool = False, ids: Collection[int] | None = None,
    held: bool = True,
) -> list[EstateVolume]:  # fmt: skip
    """All volumes, or only those of these pools, or only these; what the files on them take is filled in for
    these pools' volumes, if it is asked for."""
    chosen = pool_ids if ids is None else ids
    placed, files, stands = _held(session, chosen, of_pools=ids is None) if chosen and held else ({}, {}, {})
    which = "volumes" if ids is not None else "pools" if only else "all"
    found = []
    for v in session.exec(_volumes_of(which), params=these(chosen)):
        count, total, last, in_bins, bins = files.get(v.id, (0,) * 5)
        written, stripes = placed.get(v.id, (0, None))
        own = written if stripes is None else stripes
        found.append(EstateVolume(
            v.id, v.pool, v.name, v.size, v.thin, v.file_system, v.reserved_share, v.overhead, v.uuid,
            int(total) * EXTENT, count, int(last) * EXTENT, int(own), v.protection, v.purpose, v.above, v.partition,
            int(bins) * EXTENT, in_bins, *stands.get(v.id, (0, 0)), int(written),
        ))  # fmt: skip
    return found


@cache
def _volumes_of(which: str) -> Any:
    query = (
        pick(*(getattr(VolumeRow, n) for n in _VOLUME), PoolRow.name.label("pool"), KeepRule.above)  # type: ignore[attr-defined]
        .join(PoolRow, col(PoolRow.id) == VolumeRow.pool_id)
        .outerjoin(KeepRule, col(KeepRule.volume_id) == VolumeRow.id)
        .order_by(PoolRow.name, VolumeRow.name)
    )
    query = query.where(col(VolumeRow.moving_from).is_(None))
    of: dict[str, Any] = {"pools": VolumeRow.pool_id, "volumes": VolumeRow.id}
    return query.where(in_these(of[which])) if which in of else query


def _held(
    session: Session, chosen: Collection[int], *, of_pools: bool
) -> tuple[dict[int, tuple[int, int | None]], dict[int, Any], dict[int, tuple[int, int]]]:
    """Of each volume of these pools, or of each of these, the extents that it has a place for and, in a spread pool, what
    that takes of its drives; what its files take, and how far their stripes reach."""
    places, in_files, ends = _asked_of(of_pools)
    placed: dict[int, tuple[int, int | None]] = {
        volume: (written, of_drives) for volume, written, of_drives in session.exec(places, params=these(chosen))
    }
    files: dict[int, Any] = {volume: facts for volume, *facts in session.exec(in_files, params=these(chosen))}
    return placed, files, _stand(session.exec(ends, params=these(chosen)))


@cache
def _asked_of(of_pools: bool) -> tuple[Any, Any, Any]:
    """What is asked of each volume of some pools, or of some volumes: its places, its files, how far their stripes reach."""
    counted = in_these(VolumeRow.pool_id if of_pools else VolumeRow.id)
    # Eight bytes for each extent of a stripe: on which drive, and where.
    stripes = func.max(func.octet_length(VolumeStripes.placed) / 8)
    placed = (
        pick(VolumePiece.volume_id, func.sum(VolumePiece.count), stripes)
        .outerjoin(VolumeStripes, col(VolumeStripes.volume_id) == VolumePiece.volume_id)
        .where(in_these(VolumePiece.pool_id if of_pools else VolumePiece.volume_id))
        .group_by(col(VolumePiece.volume_id))
    )
    ends, binned = func.max(SampleFile.first + SampleFile.extents), col(SampleFile.deleted_at).is_not(None)
    files = (
        pick(SampleFile.volume_id, func.count(), func.sum(SampleFile.extents), ends, func.count().filter(binned),
             func.coalesce(func.sum(SampleFile.extents).filter(binned), 0))
        .join(VolumeRow, col(VolumeRow.id) == SampleFile.volume_id)
        .where(counted).group_by(col(SampleFile.volume_id))
    )  # fmt: skip
    return placed, files, _ends(counted)


def stands_to(session: Session, pool_ids: Collection[int], *, every: bool = False) -> dict[int, tuple[int, int]]:
    """Of thin volumes of these spread pools, or of ``every`` one, extents of their stripes up to the last file, and up to
    the last that is in no bin."""
    return _stand(session.exec(_ends_in_pools(every), params=these(pool_ids)))


@cache
def _ends_in_pools(every: bool) -> Any:
    return _ends(in_these_or_all(VolumeRow.pool_id, every))


def _ends(wanted: Any) -> Any:
    inside = func.least(SampleFile.first + SampleFile.extents, VolumePiece.at + VolumePiece.count)
    end = func.max(VolumePiece.first + inside - VolumePiece.at)
    return (
        pick(VolumePiece.volume_id, end, end.filter(col(SampleFile.deleted_at).is_(None)))
        .join(SampleFile, (col(SampleFile.volume_id) == VolumePiece.volume_id)
              & (col(SampleFile.first) < VolumePiece.at + VolumePiece.count)
              & (SampleFile.first + SampleFile.extents > col(VolumePiece.at)))
        .join(VolumeRow, col(VolumeRow.id) == VolumePiece.volume_id)
        .where(wanted, col(VolumeRow.thin), col(VolumeRow.protection).is_not(None)).group_by(col(VolumePiece.volume_id))
    )  # fmt: skip


def _stand(rows: Iterable[Any]) -> dict[int, tuple[int, int]]:
    return {
        volume: (int(last) - base_of(volume), max(0, int(kept or 0) - base_of(volume))) for volume, last, kept in rows
    }


_INITIATORS = select(Initiator.iqn, Host.name).outerjoin(Host, col(Host.id) == Initiator.host_id)
_HOSTS = (
    pick(Host.name, Site.name, Host.letters, Host.address, Host.storage_address, Host.iqn, Host.link)
    .join(Site, col(Site.id) == Host.site_id).order_by(Host.name)
)  # fmt: skip


def load_hosts(session: Session) -> list[EstateHost]:
    """All hosts by name."""
    return [EstateHost(*row) for row in session.exec(_HOSTS)]


_MOUNTS = (
    pick(Mount.id, Host.name, Mount.volume_id, Mount.at, Mount.read_only, Mount.access_times, Mount.required)
    .join(Host, col(Host.id) == Mount.host_id).where(in_these(Mount.volume_id)).order_by(Host.name, Mount.at)
)  # fmt: skip


def _mounts(session: Session, refs: dict[int, str]) -> list[EstateMount]:
    if not refs:
        return []
    found = session.exec(_MOUNTS, params=these(refs))
    return [EstateMount(i, host, refs[volume], *rest) for i, host, volume, *rest in found]


_SHARES = select(Share).where(in_these(Share.volume_id)).order_by(Share.name).execution_options(populate_existing=True)
_RIGHTS = (
    select(ShareRight.share_id, Party.name, ShareRight.may).join(Party, col(Party.id) == ShareRight.party_id)
    .where(in_these(ShareRight.share_id))
)  # fmt: skip
_VISITORS = (
    select(ShareVisit.share_id, Party.name).join(Party, col(Party.id) == ShareVisit.person_id)
    .where(in_these(ShareVisit.share_id))
)  # fmt: skip


def _shares(session: Session, refs: dict[int, str]) -> list[EstateShare]:
    if not refs:
        return []
    rows = session.exec(_SHARES, params=these(refs)).all()
    if not rows:
        return []
    those = these(s.id for s in rows)
    rights: dict[int, list[tuple[str, str]]] = {}
    for share_id, name, may in session.exec(_RIGHTS, params=those):
        rights.setdefault(share_id, []).append((name, may))
    visitors: dict[int, set[str]] = {}
    for share_id, name in session.exec(_VISITORS, params=those):
        visitors.setdefault(share_id, set()).add(name)
    # What lies in them is looked up where the question is about few.
    taken = taken_by(session, rows) if len(rows) <= _FEW else {}
    return [
        EstateShare(
            s.name, refs[s.volume_id], s.folder, s.quota, s.bin_days, s.encrypted,
            tuple(sorted(rights.get(s.number, ()))), tuple(sorted(visitors.get(s.number, ()))),
            taken.get(s.id, (0, 0))[0] * EXTENT,
        )
        for s in rows
    ]  # fmt: skip


def taken_in(session: Session, volume_id: int, folder: str) -> int:
    """Bytes of the files in a volume's folder and below."""
    query = select(func.coalesce(func.sum(SampleFile.extents), 0)).where(SampleFile.volume_id == volume_id)
    if folder:
        below = col(SampleFile.folder).startswith(folder + "/", autoescape=True)
        query = query.where(or_(col(SampleFile.folder) == folder, below))
    return int(session.exec(query).one()) * EXTENT


def in_folder() -> Any:
    """A condition on files: those in a share's folder and below."""
    below = col(SampleFile.folder).startswith(col(Share.folder) + "/", autoescape=False)
    inside = or_(col(Share.folder) == "", col(SampleFile.folder) == Share.folder, below)
    return and_(col(SampleFile.volume_id) == Share.volume_id, inside)


_TAKEN = (
    select(Share.id, func.sum(SampleFile.extents), func.count().filter(col(SampleFile.deleted_at).is_not(None)))
    .join(SampleFile, in_folder())
    .where(in_these(Share.id))
    .group_by(col(Share.id))
)


def taken_by(session: Session, shares: Sequence[Share]) -> dict[int | None, tuple[int, int]]:
    """For each share the extents of the files in its folder, and how many of them lie in its bin."""
    rows = session.exec(_TAKEN, params=these(s.id for s in shares))
    found = {share: (int(extents), count) for share, extents, count in rows}
    return {s.id: found.get(s.number, (0, 0)) for s in shares}


_LUNS = select(TargetLun).where(in_these(TargetLun.volume_id)).order_by(col(TargetLun.lun))


def _targets(session: Session, refs: dict[int, str], *, every: bool = True) -> list[EstateTarget]:
    luns: dict[int, list[tuple[int, str]]] = {}
    for lun in session.exec(_LUNS, params=these(refs)):
        luns.setdefault(lun.target_id, []).append((lun.lun, refs[lun.volume_id]))
    if not every and not luns:
        return []
    rows = session.exec(
        select(Target, Host.name).join(Host, col(Host.id) == Target.host_id).order_by(Target.iqn)
        .execution_options(populate_existing=True)
    ).all()  # fmt: skip
    if not rows:
        return []
    rights: dict[int, list[tuple[str, bool]]] = {}
    query = (
        select(TargetRight, Initiator.iqn).join(Initiator, col(Initiator.id) == TargetRight.initiator_id)
        .order_by(Initiator.iqn).execution_options(populate_existing=True)
    )  # fmt: skip
    for right, iqn in session.exec(query):
        rights.setdefault(right.target_id, []).append((iqn, right.chap_hash is not None))
    return [
        EstateTarget(t.iqn, host, t.shared, tuple(luns.get(t.number, ())), tuple(rights.get(t.number, ())))
        for t, host in rows
        if every or t.id in luns
    ]


@cache
def _asked_of_applications(every: bool) -> Any:
    return (
        select(Application, Host.name).join(Host, col(Host.id) == Application.host_id)
        .where(in_these_or_all(Application.volume_id, every))
        .order_by(Host.name, Application.name).execution_options(populate_existing=True)
    )  # fmt: skip


def _applications(session: Session, refs: dict[int, str], *, every: bool = True) -> list[EstateApplication]:
    return _as_applications(session.exec(_asked_of_applications(every), params=these(refs)), refs)


def _as_applications(rows: Iterable[Any], refs: dict[int, str]) -> list[EstateApplication]:
    return [
        EstateApplication(
            a.number, host, a.name, a.kind, a.owner, a.folder, a.settings, a.running,
            refs.get(a.volume_id) if a.volume_id else None, a.folder_scheme, a.files_per_folder, a.moved.get("from"),
        )
        for a, host in rows
    ]  # fmt: skip


_PARTIES = select(ids(Party), Party.name, Party.kind).order_by(Party.name)
_MEMBERS = select(PartyMember.group_id, PartyMember.person_id)


def _parties(session: Session) -> list[tuple[str, tuple[str, ...] | None]]:
    rows = session.exec(_PARTIES).all()
    names = {i: name for i, name, _ in rows}
    members: dict[int, list[str]] = {}
    for group, person in session.exec(_MEMBERS):
        members.setdefault(group, []).append(names[person])
    return [(name, tuple(sorted(members.get(i, ()))) if kind == "group" else None) for i, name, kind in rows]
