"""Who reaches what: hosts with their mounts and applications, shares, block targets, people; and who notices."""

from __future__ import annotations

from typing import Any, Literal

from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field
from sqlalchemy import func
from sqlmodel import col, select

from pairshelf.api.guard import needs
from pairshelf.api.pools import MountOut, mount_out
from pairshelf.api.queries import Query
from pairshelf.core.changes.access.sharing import addresses, who_may
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.depends import stands_on
from pairshelf.core.domain.estate import EstateMount
from pairshelf.core.domain.file_systems import APPLICATION_KINDS
from pairshelf.core.domain.folders import FOLDER_SCHEMES
from pairshelf.core.domain.names import near_misses
from pairshelf.core.domain.units import EXTENT
from pairshelf.engine.pools import devices
from pairshelf.services import switching_off
from pairshelf.store.database import in_these, these, transaction
from pairshelf.store.repositories.books import load_access, load_books, load_mounted, taken_by
from pairshelf.store.tables import (
    Application,
    Host,
    Initiator,
    Mount,
    Party,
    PoolRow,
    SampleFile,
    Share,
    ShareVisit,
    Site,
    Target,
    TargetLun,
    TargetRight,
    VolumeRow,
)

api = APIBlueprint("access", __name__, url_prefix="/api")


class AccessPage(Query):
    after: str = ""
    limit: int = Field(default=10, ge=1, le=200)
    #: A part of the name.
    like: str = ""


class VolumesQuery(AccessPage):
    """The name is that of the volume with its pool's."""

    #: Only volumes without a file system that no target serves yet.
    bare: bool = False


class VolumeLine(BaseModel):
    id: int
    ref: str
    size: int
    thin: bool
    file_system: str
    purpose: str
    mounts: int


class VolumesOut(BaseModel):
    volumes: list[VolumeLine]
    more: bool


class ApplicationOut(BaseModel):
    id: int
    name: str
    kind: str
    owner: str
    folder: str
    settings: str
    running: bool
    volume: str | None
    folder_scheme: str | None
    files_per_folder: int | None
    moved: bool
    #: Bytes of its data on its host's own disk; null where they stand on a volume.
    own_bytes: int | None
    #: Whether it writes recordings to a volume that nothing deletes from.
    fills_up: bool


class HostMountOut(MountOut):
    volume: str


class HostUseOut(BaseModel):
    id: int
    name: str
    site: str
    letters: bool
    address: str | None
    storage_address: str | None
    iqn: str | None
    link: int | None
    mounts: list[HostMountOut]
    applications: list[ApplicationOut]


class HostsUseOut(BaseModel):
    hosts: list[HostUseOut]
    more: bool
    #: Kinds of application, and what they ask for.
    kinds: dict[str, str]
    folder_schemes: dict[str, str]


class RightOut(BaseModel):
    party: str
    may: str


class VisitOut(BaseModel):
    person: str
    client: str
    since: Any


class AddressOut(BaseModel):
    label: str
    text: str


class SharedOut(BaseModel):
    id: int
    name: str
    volume: str
    folder: str
    purpose: str
    quota: int | None
    #: Bytes its folder takes, its bin included.
    taken: int
    bin_days: int | None
    bin_files: int
    encrypted: bool
    rights: list[RightOut]
    #: Each person with the right that counts.
    people: list[RightOut]
    addresses: list[AddressOut]
    visits: list[VisitOut]


class SharedListOut(BaseModel):
    shares: list[SharedOut]
    more: bool


class LetInOut(BaseModel):
    iqn: str
    host: str | None
    chap: bool
    #: Names of hosts that differ from it by a slip.
    near: list[str]


class LunOut(BaseModel):
    lun: int
    volume: str
    size: int
    thin: bool
    taken: int


class TargetOut(BaseModel):
    id: int
    iqn: str
    host: str
    address: str
    shared: bool
    luns: list[LunOut]
    initiators: list[LetInOut]


class InitiatorOut(BaseModel):
    iqn: str
    #: The host that has this name, if one is known.
    host: str | None
    near: list[str]


class TargetsOut(BaseModel):
    targets: list[TargetOut]
    initiators: list[InitiatorOut]
    more: bool


class PartyOut(BaseModel):
    name: str
    #: Of a group; null for a person.
    members: list[str] | None


class PartiesOut(BaseModel):
    parties: list[PartyOut]


class PullQuery(Query):
    kind: Literal["drive", "shelf", "host", "site", "volume", "pool", "everything"]
    #: A drive's serial, or a name.
    name: str


class HitOut(BaseModel):
    pool: str
    drives: list[str]
    sets: list[int]
    before: str
    after: str
    sentence: str


class StandOut(BaseModel):
    volume: str
    serves: bool
    mounts: list[str]
    shares: list[str]
    target: str | None
    applications: list[str]
    hosts: list[str]
    people: list[str]
    #: Hosts that could serve it instead.
    instead: list[str]


class PowerOut(BaseModel):
    """Whether it is safe to power off."""

    #: yes; reduced: all stays in service, less protected; wait: something has to finish first; no: something stops.
    safe: str
    sentence: str
    first: list[str]
    lines: list[str]


class NoticeOut(BaseModel):
    #: Of what has power: a drive, a shelf, a host, a site, everything. Null for the others.
    power: PowerOut | None
    what: str
    below: list[str]
    hits: list[HitOut]
    stands: list[StandOut]
    sentence: str
    people: list[str]


class PersonQuery(Query):
    name: str


class FoundationOut(BaseModel):
    person: str
    lines: list[list[str]]


@api.get("/volumes", responses={200: VolumesOut})
@needs(Act.LOOK, shared="with-all")
def volumes(query: VolumesQuery) -> Any:
    """Volumes by pool and name, a page at a time."""
    ref = col(PoolRow.name) + "/" + col(VolumeRow.name)
    mounts = select(func.count()).where(Mount.volume_id == VolumeRow.id).scalar_subquery()
    statement = select(VolumeRow, ref, mounts).join(PoolRow, col(PoolRow.id) == VolumeRow.pool_id)
    statement = statement.where(col(VolumeRow.moving_from).is_(None))
    if query.bare:
        served = select(TargetLun.volume_id).where(TargetLun.volume_id == VolumeRow.id)
        statement = statement.where(VolumeRow.file_system == "none", ~served.exists())
    if query.like.strip():
        statement = statement.where(ref.contains(query.like.strip(), autoescape=True))
    with transaction() as session:
        rows = session.exec(statement.where(ref > query.after).order_by(ref).limit(query.limit + 1)).all()
    lines = [
        VolumeLine(id=v.id, ref=name, size=v.size, thin=v.thin, file_system=v.file_system, purpose=v.purpose, mounts=n)
        for v, name, n in rows
    ]
    return VolumesOut(volumes=lines[: query.limit], more=len(lines) > query.limit)


_MOUNTED = select(Mount.volume_id).where(in_these(Mount.host_id))
_RUN_ON = select(Application).where(in_these(Application.host_id)).order_by(Application.name)


@api.get("/access/hosts", responses={200: HostsUseOut})
@needs(Act.LOOK, shared="with-all")
def hosts(query: AccessPage) -> Any:
    """Hosts with what they mount and what runs on them."""
    with transaction() as session:
        rows = session.exec(
            select(Host, Site.name).join(Site, col(Site.id) == Host.site_id)
            .where(Host.name > query.after, col(Host.name).contains(query.like.strip(), autoescape=True))
            .order_by(Host.name).limit(query.limit + 1)
        ).all()  # fmt: skip
        page = rows[: query.limit]
        those = these(h.id for h, _ in page)
        mounted = session.exec(_MOUNTED, params=those).all()
        apps = session.exec(_RUN_ON, params=those).all()
        estate = load_mounted(session, {*mounted, *(a.volume_id for a in apps if a.volume_id)})
        refs = {v.id: v.ref for v in estate.volumes}
        kept = {v.id for v in estate.volumes if v.keep_above is not None}
    names = {h.id: h.name for h, _ in page}
    mounts: dict[str, list[EstateMount]] = {}
    for m in estate.mounts:
        mounts.setdefault(m.host, []).append(m)
    return HostsUseOut(
        hosts=[
            HostUseOut(
                id=h.number, name=h.name, site=site, letters=h.letters, address=h.address, iqn=h.iqn, link=h.link,
                storage_address=h.storage_address,
                mounts=[
                    HostMountOut(**mount_out(estate, m).model_dump(), volume=m.volume)
                    for m in mounts.get(h.name, ())
                ],
                applications=[_application_out(a, names[a.host_id], refs, kept) for a in apps if a.host_id == h.id],
            )
            for h, site in page
        ],
        more=len(rows) > query.limit, kinds=APPLICATION_KINDS,
        folder_schemes={s.id: s.about for s in FOLDER_SCHEMES.values()},
    )  # fmt: skip


def _application_out(a: Application, host: str, refs: dict[int, str], kept: set[int]) -> ApplicationOut:
    entries = None if a.volume_id else devices().hosts.entries(host, a.folder)
    return ApplicationOut(
        id=a.number, name=a.name, kind=a.kind, owner=a.owner, folder=a.folder, settings=a.settings, running=a.running,
        volume=refs.get(a.volume_id) if a.volume_id else None, folder_scheme=a.folder_scheme, files_per_folder=a.files_per_folder,
        moved=bool(a.moved), own_bytes=None if a.volume_id else sum(e.size for e in entries or ()),
        fills_up=a.kind == "recorder" and a.volume_id is not None and a.volume_id not in kept,
    )  # fmt: skip


@api.get("/access/shares", responses={200: SharedListOut})
@needs(Act.LOOK, shared="with-all")
def shares(query: AccessPage) -> Any:
    """Shares with their rights, addresses, and who is connected."""
    with transaction() as session:
        rows = session.exec(
            select(Share)
            .where(Share.name > query.after, col(Share.name).contains(query.like.strip(), autoescape=True))
            .order_by(Share.name)
            .limit(query.limit + 1)
        ).all()
        page = rows[: query.limit]
        estate = load_access(session, {s.volume_id for s in page})
        ids = [s.number for s in page]
        visits: dict[int, list[VisitOut]] = {}
        query_visits = select(ShareVisit, Party.name).join(Party, col(Party.id) == ShareVisit.person_id)
        for visit, name in session.exec(query_visits.where(col(ShareVisit.share_id).in_(ids)).order_by(Party.name)):
            visits.setdefault(visit.share_id, []).append(VisitOut(person=name, client=visit.client, since=visit.since))
        taken = taken_by(session, page)
    by_name = {s.name: s for s in estate.shares}
    out = []
    for row in page:
        share = by_name[row.name]
        extents, binned = taken[row.id]
        out.append(SharedOut(
            id=row.number, name=row.name, volume=share.volume, folder=row.folder, purpose=row.purpose,
            quota=row.quota, taken=extents * EXTENT, bin_days=row.bin_days, bin_files=binned, encrypted=row.encrypted,
            rights=[RightOut(party=n, may=m) for n, m in share.rights],
            people=[RightOut(party=n, may=m) for n, m in sorted(who_may(estate, share).items())],
            addresses=[AddressOut(label=t.label, text=t.text) for t in addresses(estate, share)],
            visits=visits.get(row.number, []),
        ))  # fmt: skip
    return SharedListOut(shares=out, more=len(rows) > query.limit)


@api.get("/access/targets", responses={200: TargetsOut})
@needs(Act.LOOK, shared="with-all")
def targets(query: AccessPage) -> Any:
    """Block targets with their disks and who is let in; and the declared initiators."""
    with transaction() as session:
        rows = session.exec(
            select(Target, Host).join(Host, col(Host.id) == Target.host_id).where(Target.iqn > query.after, col(Target.iqn).contains(query.like.strip(), autoescape=True))
            .order_by(Target.iqn).limit(query.limit + 1)
        ).all()  # fmt: skip
        page = rows[: query.limit]
        ids = [t.id for t, _ in page]
        luns = session.exec(
            select(TargetLun, VolumeRow, PoolRow.name).join(VolumeRow, col(VolumeRow.id) == TargetLun.volume_id)
            .join(PoolRow, col(PoolRow.id) == VolumeRow.pool_id)
            .where(col(TargetLun.target_id).in_(ids)).order_by(col(TargetLun.lun))
        ).all()  # fmt: skip
        taken: dict[int, int] = dict(
            session.exec(
                select(SampleFile.volume_id, func.sum(SampleFile.extents))
                .where(col(SampleFile.volume_id).in_([v.id for _, v, _ in luns])).group_by(col(SampleFile.volume_id))
            ).all()
        )  # fmt: skip
        rights = session.exec(
            select(TargetRight, Initiator.iqn).join(Initiator, col(Initiator.id) == TargetRight.initiator_id)
            .where(col(TargetRight.target_id).in_(ids)).order_by(Initiator.iqn)
        ).all()  # fmt: skip
        declared = session.exec(select(Initiator.iqn).order_by(Initiator.iqn).limit(500)).all()
        owners = {iqn: host for iqn, host in session.exec(select(Host.iqn, Host.name)) if iqn is not None}
    return TargetsOut(
        targets=[
            TargetOut(
                id=t.number, iqn=t.iqn, host=h.name, shared=t.shared,
                address=(h.storage_address or h.address or h.name).split("/")[0],
                luns=[
                    LunOut(lun=n.lun, volume=f"{pool}/{v.name}", size=v.size, thin=v.thin,
                           taken=int(taken.get(v.number, 0)) * EXTENT)
                    for n, v, pool in luns if n.target_id == t.id
                ],
                initiators=[
                    LetInOut(iqn=iqn, host=owners.get(iqn), chap=r.chap_hash is not None, near=near_misses(iqn, owners))
                    for r, iqn in rights if r.target_id == t.id
                ],
            )
            for t, h in page
        ],
        initiators=[InitiatorOut(iqn=i, host=owners.get(i), near=near_misses(i, owners)) for i in declared],
        more=len(rows) > query.limit,
    )  # fmt: skip


@api.get("/access/parties", responses={200: PartiesOut})
@needs(Act.LOOK)
def parties() -> Any:
    """Persons and groups that shares are for."""
    with transaction() as session:
        estate = load_access(session, [])
    return PartiesOut(parties=[PartyOut(name=n, members=None if m is None else list(m)) for n, m in estate.parties])


# -- what depends on what --------------------------------------------------------------------------


@api.get("/depends/pull", responses={200: NoticeOut})
@needs(Act.LOOK, shared="with-all")
def who_notices(query: PullQuery) -> Any:
    """What stops working without something: a drive, a shelf, a host, a site, a pool, a volume. Nothing is changed."""
    with transaction() as session:
        found, off = switching_off.asked(session, query.kind, query.name)
    return NoticeOut(
        power=None if off is None else PowerOut(
            safe=off.safe.value, sentence=off.sentence, first=list(off.first), lines=list(off.lines)
        ),
        what=found.what, below=list(found.below), sentence=found.sentence, people=list(found.people),
        hits=[
            HitOut(pool=h.pool, drives=list(h.drives[:60]), sets=list(h.sets), before=h.before, after=h.after,
                   sentence=h.sentence)
            for h in found.hits
        ],
        stands=[
            StandOut(volume=s.volume, serves=s.serves, mounts=list(s.mounts), shares=list(s.shares), target=s.target,
                     applications=list(s.applications), hosts=list(s.hosts), people=list(s.people),
                     instead=list(s.instead))
            for s in found.stands[:500]
        ],
    )  # fmt: skip


@api.get("/depends/person", responses={200: FoundationOut})
@needs(Act.LOOK, shared="with-all")
def foundation(query: PersonQuery) -> Any:
    """What somebody's work stands on, down to bays, links and power."""
    with transaction() as session:
        pools = session.exec(
            select(VolumeRow.pool_id).join(Share, col(Share.volume_id) == VolumeRow.id).distinct().limit(200)
        ).all()
        found = stands_on(load_books(session, pool_ids=pools), query.name)
    return FoundationOut(person=found.person, lines=[[p for p in line if p] for line in found.lines])
