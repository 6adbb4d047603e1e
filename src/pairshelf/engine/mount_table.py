"""Entries in the mount tables of hosts: written with what is done on the host after, and taken out."""

from __future__ import annotations

from typing import Any

from sqlmodel import Session, SQLModel, col, select

from pairshelf.core.domain.mounting import MountLine, aside_name
from pairshelf.core.errors import Gone
from pairshelf.engine.errands import on_host, send
from pairshelf.store.tables import Host, Mount, PoolRow, VolumeRow


def find_volume(session: Session, ref: str) -> VolumeRow:
    """The volume named pool/volume."""
    pool, _, name = ref.rpartition("/")
    query = select(VolumeRow).join(PoolRow, col(PoolRow.id) == VolumeRow.pool_id)
    found = session.exec(query.where(PoolRow.name == pool, VolumeRow.name == name)).first()
    if found is None:
        raise Gone("volume", ref)
    return found


def the_row(session: Session, table: type[SQLModel], **facts: Any) -> Any:
    row = session.exec(select(table).filter_by(**facts)).first()
    if row is None:
        raise Gone(table.__name__.lower(), next(iter(facts.values()), None))
    return row


def write_mount(session: Session, line: MountLine, volume: VolumeRow, sheet_id: int | None) -> Mount:
    """The entry written; then the folder is made or emptied, and closed."""
    host = the_row(session, Host, name=line.host)
    session.add(apply := Mount(
        host_id=host.id, volume_id=volume.number, at=line.at, read_only=line.read_only,
        access_times=line.access_times, required=line.required,
    ))  # fmt: skip
    session.flush()
    if not line.letter:
        where = {"host": line.host, "at": line.at}
        if line.aside:
            send(session, "move-aside", on_host(line.host), sheet_id, **where, to=aside_name(line.at))
        send(session, "mount-folder", on_host(line.host), sheet_id, **where, closed=not line.required)
    return apply


def take_out_mount(session: Session, host: str, at: str, sheet_id: int | None) -> None:
    """The entry goes; then the folder is opened again."""
    row = the_row(session, Mount, host_id=the_row(session, Host, name=host).id, at=at)
    session.delete(row)
    session.flush()
    if not at.endswith(":"):
        send(session, "open-folder", on_host(host), sheet_id, host=host, at=at)
