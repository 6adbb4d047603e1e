"""Mounts, shares, people, hosts on the network, block targets: written into the books, and done on the hosts."""

from __future__ import annotations

from typing import Any

from sqlalchemy import delete
from sqlmodel import Session, SQLModel, col, select

from pairshelf.core.changes import mounts, shares, targets
from pairshelf.core.device import Devices
from pairshelf.core.errors import NotPossible
from pairshelf.core.mounting import MountLine, aside_name
from pairshelf.engine.doing.outcome import Outcome
from pairshelf.engine.errands import on_host, send
from pairshelf.store.tables import (
    Host,
    Initiator,
    Mount,
    Party,
    PartyMember,
    PoolRow,
    Share,
    ShareRight,
    ShareVisit,
    SheetRow,
    Target,
    TargetLun,
    TargetRight,
    VolumeRow,
)


def find_volume(session: Session, ref: str) -> VolumeRow:
    """The volume named pool/volume."""
    pool, _, name = ref.rpartition("/")
    query = select(VolumeRow).join(PoolRow, col(PoolRow.id) == VolumeRow.pool_id)
    found = session.exec(query.where(PoolRow.name == pool, VolumeRow.name == name)).first()
    if found is None:
        raise NotPossible(f"Volume {ref} is not there any more.", code="volume-gone")
    return found


def _one(session: Session, table: type[SQLModel], **facts: Any) -> Any:
    row = session.exec(select(table).filter_by(**facts)).first()
    if row is None:
        raise NotPossible("What this sheet is about is not there any more.", code="gone")
    return row


def write_mount(session: Session, line: MountLine, volume: VolumeRow, sheet_id: int | None) -> Mount:
    """The entry written; then the folder is made or emptied, and closed."""
    host = _one(session, Host, name=line.host)
    session.add(mount := Mount(
        host_id=host.id, volume_id=volume.id or 0, at=line.at, read_only=line.read_only,
        access_times=line.access_times, required=line.required,
    ))  # fmt: skip
    session.flush()
    if not line.letter:
        where = {"sheet_id": sheet_id, "host": line.host, "at": line.at}
        if line.aside:
            send(session, "move-aside", on_host(line.host), **where, to=aside_name(line.at))
        send(session, "mount-folder", on_host(line.host), **where, closed=not line.required)
    return mount


def mount(session: Session, sheet: SheetRow, planned: mounts.MountPlan, _who: str, _world: Devices) -> Outcome:
    """An entry in a host's mount table."""
    volume = find_volume(session, planned.line.volume)
    write_mount(session, planned.line, volume, sheet.id)
    return Outcome(volume.pool_id)


def take_out_mount(session: Session, host: str, at: str, sheet_id: int | None) -> None:
    """The entry goes; then the folder is opened again."""
    row = _one(session, Mount, host_id=_one(session, Host, name=host).id, at=at)
    session.delete(row)
    session.flush()
    if not at.endswith(":"):
        send(session, "open-folder", on_host(host), sheet_id, host=host, at=at)


def unmount(session: Session, sheet: SheetRow, planned: mounts.MountPlan, _who: str, _world: Devices) -> Outcome:
    """An entry out of a host's mount table."""
    volume = find_volume(session, planned.line.volume)
    take_out_mount(session, planned.line.host, planned.line.at, sheet.id)
    return Outcome(volume.pool_id)


# -- people and shares -----------------------------------------------------------------------------


def add_party(session: Session, _sheet: SheetRow, planned: shares.PartyPlan, _who: str, _world: Devices) -> Outcome:
    """A person or a group."""
    row = Party(name=planned.name, kind="person" if planned.members is None else "group")
    session.add(row)
    session.flush()
    _write_members(session, row, planned.members or ())
    return Outcome()


def set_members(session: Session, _sheet: SheetRow, planned: shares.PartyPlan, _who: str, _world: Devices) -> Outcome:
    """Who is in a group; those who lose a right by it are cut off."""
    row = _one(session, Party, name=planned.name)
    session.connection().execute(delete(PartyMember).where(col(PartyMember.group_id) == row.id))
    _write_members(session, row, planned.members or ())
    for share in session.exec(select(Share)):
        cut_off(session, share)
    return Outcome()


def _write_members(session: Session, group: Party, members: tuple[str, ...]) -> None:
    for person in session.exec(select(Party).where(col(Party.name).in_(members))):
        session.add(PartyMember(group_id=group.id or 0, person_id=person.id or 0))
    session.flush()


def make_share(session: Session, sheet: SheetRow, planned: shares.SharePlan, _who: str, _world: Devices) -> Outcome:
    """A folder offered."""
    volume = find_volume(session, planned.share.volume)
    row = Share(
        volume_id=volume.id or 0, name=planned.share.name, folder=planned.share.folder,
        purpose=sheet.request["purpose"].strip(),
    )  # fmt: skip
    session.add(row)
    _write_share(session, row, planned)
    return Outcome(volume.pool_id)


def change_share(session: Session, _sheet: SheetRow, planned: shares.SharePlan, _who: str, _world: Devices) -> Outcome:
    """Other rights and limits; who has no right any more is cut off."""
    row = _one(session, Share, name=planned.share.name)
    session.connection().execute(delete(ShareRight).where(col(ShareRight.share_id) == row.id))
    _write_share(session, row, planned)
    cut_off(session, row)
    return Outcome(find_volume(session, planned.share.volume).pool_id)


def _write_share(session: Session, row: Share, planned: shares.SharePlan) -> None:
    share = planned.share
    row.quota, row.bin_days, row.encrypted = share.quota, share.bin_days, share.encrypted
    session.flush()
    rights = dict(share.rights)
    for party in session.exec(select(Party).where(col(Party.name).in_(rights))):
        session.add(ShareRight(share_id=row.id or 0, party_id=party.id or 0, may=rights[party.name]))
    session.flush()


def rights_of(session: Session, share_id: int | None) -> dict[int, str]:
    """Each person's right on a share, by their own or their groups', the widest."""
    found: dict[int, str] = {}
    own = select(ShareRight.party_id, ShareRight.may).where(ShareRight.share_id == share_id)
    groups = (
        select(PartyMember.person_id, ShareRight.may).join(ShareRight, col(ShareRight.party_id) == PartyMember.group_id)
        .where(ShareRight.share_id == share_id)
    )  # fmt: skip
    for person, may in [*session.exec(own), *session.exec(groups)]:
        if found.get(person) != "write":
            found[person] = may
    return found


def cut_off(session: Session, share: Share) -> None:
    """Whoever is connected without a right is connected no longer."""
    allowed = rights_of(session, share.id)
    gone = delete(ShareVisit).where(col(ShareVisit.share_id) == share.id, col(ShareVisit.person_id).not_in(allowed))
    session.connection().execute(gone)


def end_share(session: Session, _sheet: SheetRow, planned: shares.SharePlan, _who: str, _world: Devices) -> Outcome:
    """No longer offered; files stay."""
    session.delete(_one(session, Share, name=planned.share.name))
    return Outcome(find_volume(session, planned.share.volume).pool_id)


# -- hosts and block targets -----------------------------------------------------------------------


def set_host(session: Session, _sheet: SheetRow, planned: targets.HostPlan, _who: str, _world: Devices) -> Outcome:
    """A host's addresses and names."""
    row = _one(session, Host, name=planned.host.name)
    for name in ("letters", "address", "storage_address", "iqn", "link"):
        setattr(row, name, getattr(planned.host, name))
    return Outcome()


def declare(session: Session, _sheet: SheetRow, planned: targets.InitiatorPlan, _who: str, _world: Devices) -> Outcome:
    """A name that can be let in."""
    host = _one(session, Host, name=planned.host) if planned.host else None
    session.add(Initiator(iqn=planned.iqn, host_id=host.id if host else None))
    return Outcome()


def make_target(session: Session, _sheet: SheetRow, planned: targets.TargetPlan, _who: str, _world: Devices) -> Outcome:
    """A target with its disks and initiators."""
    target = planned.target
    host = _one(session, Host, name=target.host)
    row = Target(iqn=target.iqn, host_id=host.id, shared=target.shared)
    session.add(row)
    session.flush()
    return _write_target(session, row, planned)


def change_target(
    session: Session, _sheet: SheetRow, planned: targets.TargetPlan, _who: str, _world: Devices
) -> Outcome:
    """Other disks or initiators; who stays let in keeps the CHAP secret."""
    return _write_target(session, _one(session, Target, iqn=planned.target.iqn), planned)


def _write_target(session: Session, row: Target, planned: targets.TargetPlan) -> Outcome:
    target = planned.target
    pool_id = None
    there = {(lun.lun, lun.volume_id) for lun in session.exec(select(TargetLun).where(TargetLun.target_id == row.id))}
    for number, ref in target.luns:
        volume = find_volume(session, ref)
        pool_id = volume.pool_id
        if (number, volume.id) not in there:
            session.add(TargetLun(target_id=row.id or 0, lun=number, volume_id=volume.id or 0))
    names = [n for n, _ in target.initiators]
    wanted = {i.id: i for i in session.exec(select(Initiator).where(col(Initiator.iqn).in_(names)))}
    let_in = session.exec(select(TargetRight).where(TargetRight.target_id == row.id)).all()
    for right in let_in:
        if right.initiator_id not in wanted:
            session.delete(right)
    for initiator in set(wanted) - {r.initiator_id for r in let_in}:
        session.add(TargetRight(target_id=row.id or 0, initiator_id=initiator or 0))
    session.flush()
    return Outcome(pool_id)


def end_target(session: Session, _sheet: SheetRow, planned: targets.TargetPlan, _who: str, _world: Devices) -> Outcome:
    """No longer served; its volumes stay."""
    session.delete(_one(session, Target, iqn=planned.target.iqn))
    return Outcome()
