"""Errands: what a change does to drives and hosts.

They are written down in the transaction that decides them, done when it has been committed, and done again
after a kill: so what the books say and what the hosts show can differ for a moment, and never for good. Every
errand can be repeated. Errands of one drive or host are done in the order they were written down.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict
from typing import Any

import structlog
from sqlalchemy.exc import DBAPIError
from sqlmodel import Session, col, select

from pairshelf.core.changes.sheet import ChangeSheet
from pairshelf.core.domain.device import DeviceError, Devices
from pairshelf.core.domain.partitions import Part, table_of_parts
from pairshelf.core.errors import Locked, NotPossible, PairShelfError
from pairshelf.engine.io.files import content_of
from pairshelf.engine.log import SYSTEM, log
from pairshelf.engine.pools import devices, journal_of, open_pool
from pairshelf.engine.records import forget_records, key_at_large
from pairshelf.formats.partition_image import disk_id_of, image_chunks, read_table
from pairshelf.store.database import Lock, afterwards, lock_until_commit, transaction
from pairshelf.store.tables import (
    DriveRow,
    ErrandRow,
    Host,
    Mount,
    PoolPlace,
    PoolRow,
    SheetRow,
    Target,
    TargetLun,
    VolumeRow,
    now,
)

_logger = structlog.get_logger()
#: Errands done in one transaction.
_AT_ONCE = 200


def on_host(host: str) -> str:
    """The subject of errands on a host."""
    return f"host {host}"


def on_drive(serial: str) -> str:
    """The subject of errands on a drive."""
    return f"drive {serial}"


def on_journal(uid: str) -> str:
    """The subject of errands on the journal of a pool."""
    return f"journal {uid}"


def send(session: Session, what: str, subject: str, sheet_id: int | None = None, **facts: Any) -> None:
    """Write an errand down; it is done once the caller's transaction has been committed."""
    assert what in _DO, what
    session.add(errand := ErrandRow(what=what, subject=subject, sheet_id=sheet_id, facts=facts))
    session.flush()
    session.info.setdefault("errands", set()).add(errand.id)
    afterwards(session, do_errands)


def require_none(session: Session, subjects: set[str]) -> None:
    """NotPossible while something is being done on one of these drives or hosts: the picture a plan is made on
    would be of before. What cannot be done stands in nobody's way; what comes later is done after it."""
    # Those of the same transaction come before in any case.
    query = select(ErrandRow.subject).where(
        col(ErrandRow.done_at).is_(None), col(ErrandRow.why).is_(None), col(ErrandRow.subject).in_(subjects),
        col(ErrandRow.id).not_in(session.info.get("errands", ())),
    )  # fmt: skip
    if found := session.exec(query).first():
        raise NotPossible(
            f"What was approved before is still being done on {found}; try again in a moment.", code="busy"
        )


def do_errands(world: Devices | None = None) -> int:
    """Do all errands that are written down; how many could be done. What cannot be done now is kept, with why."""
    world = world or devices()
    done = 0
    with transaction() as session:
        lock_until_commit(session, Lock.ERRANDS)
        query = select(ErrandRow).where(col(ErrandRow.done_at).is_(None)).order_by(col(ErrandRow.id)).limit(_AT_ONCE)
        waiting: set[str] = set()
        for errand in session.exec(query).all():
            if errand.subject in waiting:
                errand.why = errand.why or "it waits for what comes before it"
                continue
            try:
                with session.begin_nested():
                    _DO[errand.what](session, world, errand.facts)
                errand.done_at, errand.why = now(), None
                done += 1
            except DBAPIError:
                raise  # Nothing is wrong with the errand.
            except Exception as error:  # One that cannot be done keeps no other waiting.
                waiting.add(errand.subject)
                why = error.message if isinstance(error, PairShelfError) else str(error)
                if errand.why != why:
                    errand.why = why
                    _logger.warning("errand", what=errand.what, subject=errand.subject, why=why)
    return done


_SAID = {
    "move-aside": "Move what lies in {at} on {host} aside, to {to}",
    "mount-folder": "Make the folder {at} on {host}",
    "open-folder": "Open the folder {at} on {host} again",
    "write-file": "Write {path} on {host}",
    "write-data": "Put {extents} GiB into {folder} on {host}",
    "write-label": "Label drive {serial}",
    "write-table": "Write the partition table of drive {serial}",
    "extend-volumes": "Extend the volumes of {pool}",
    "forget-journal": "Erase the journal of pool {pool}",
    "forget-record": "Erase what {serial} keeps of pool {pool}",
    "make-again": "Make {named} again",
    "compare": "Compare all of {pool}, once every place of it holds all its data",
}


def still_to_do(session: Session, sheet_id: int) -> list[str]:
    """What a sheet's change has still to do on drives and hosts, in sentences."""
    query = select(ErrandRow).where(ErrandRow.sheet_id == sheet_id, col(ErrandRow.done_at).is_(None))
    return [
        _SAID[e.what].format(**e.facts) + (f": {e.why}." if e.why else ".")
        for e in session.exec(query.order_by(col(ErrandRow.id)))
    ]


# -- the errands -----------------------------------------------------------------------------------


def _mounted(session: Session, facts: dict[str, Any]) -> bool:
    """Whether the entry is there still: it may have been taken out before its folder could be made."""
    entry = select(Mount.id).join(Host, col(Host.id) == Mount.host_id)
    return session.exec(entry.where(Host.name == facts["host"], Mount.at == facts["at"])).first() is not None


def _move_aside(session: Session, world: Devices, facts: dict[str, Any]) -> None:
    if _mounted(session, facts):
        world.hosts.move(facts["host"], facts["at"], facts["to"])


def _mount_folder(session: Session, world: Devices, facts: dict[str, Any]) -> None:
    if not _mounted(session, facts):
        return
    world.hosts.make_folder(facts["host"], facts["at"])
    world.hosts.close(facts["host"], facts["at"], closed=facts["closed"])


def _open_folder(_session: Session, world: Devices, facts: dict[str, Any]) -> None:
    world.hosts.close(facts["host"], facts["at"], closed=False)


def _write_file(_session: Session, world: Devices, facts: dict[str, Any]) -> None:
    world.hosts.write(facts["host"], facts["path"], facts["text"].encode())


def _write_data(_session: Session, world: Devices, facts: dict[str, Any]) -> None:
    left, number = facts["extents"], 0
    while left:
        number += 1
        count = min(left, 1 + number % 5)
        path = f"{facts['folder']}/{facts['name']}-{number:04d}.dat"
        world.hosts.write(facts["host"], path, content_of(0, number, count * world.block))
        left -= count


def _write_label(session: Session, world: Devices, facts: dict[str, Any]) -> None:
    pool_id = facts["label"].get("pool_id")
    if pool_id is not None:
        # The drive may have been replaced before it could be labelled; then it is another's.
        place = (
            select(PoolPlace.id).join(DriveRow, col(DriveRow.id) == PoolPlace.drive_id)
            .where(PoolPlace.pool_id == pool_id, DriveRow.serial == facts["serial"])
        )  # fmt: skip
        if session.exec(place).first() is None:
            return
    device = world.open(facts["serial"], facts["size"])
    forget_records(world, facts["serial"], facts["size"], but=facts["label"].get("uid"))
    device.write_sectors([])  # a label stands where a table did
    device.write_label(facts["label"])


def _write_table(_session: Session, world: Devices, facts: dict[str, Any]) -> None:
    parts = [Part(**p) for p in facts["parts"]]
    table = table_of_parts(facts["size"], facts["sector"], facts["scheme"], parts)
    device = world.open(facts["serial"], facts["size"])
    forget_records(world, facts["serial"], facts["size"])
    device.write_sectors(image_chunks(table, disk_id_of(facts["serial"])))
    if read_table(device.read_sectors, facts["size"], facts["sector"]) != table:
        raise NotPossible("what was read back is not what was written", code="not-as-written")


def _forget_journal(session: Session, _world: Devices, facts: dict[str, Any]) -> None:
    """A pool is no more; what its journal holds, the last that was written, is data of it."""
    # It may have been put together again meanwhile.
    if session.exec(select(PoolRow.id).where(PoolRow.uid == facts["uid"])).first() is None:
        journal_of(facts["uid"]).unlink(missing_ok=True)


def _forget_record(session: Session, world: Devices, facts: dict[str, Any]) -> None:
    """The record of a pool that a drive has left, with the key that a passphrase would open. Where it cannot be erased
    any more, nobody may say of that pool's drives that the key is gone."""
    try:
        forget_records(world, facts["serial"], facts["size"], facts["uid"])
    except DeviceError:
        key_at_large(session, facts["pool"], [facts["serial"]])


def _make_again(session: Session, world: Devices, facts: dict[str, Any]) -> None:
    """What hung on a volume of a pool that was brought in; where it cannot be made again, the logbook says why."""
    if facts["kind"] == "add-disk" and _has_disk(session, facts["request"]):
        return
    if (
        facts["kind"] == "make-target"
        and session.exec(select(Target.id).where(Target.iqn == facts["request"]["iqn"])).first()
    ):
        return  # Its disk is added to it.
    try:
        _change(session, world, facts["kind"], facts["request"], facts["sheet"], facts["who"])
        said = f"Made again: {facts['named']}."
    except Locked:
        raise  # It waits until the pool is unlocked.
    except PairShelfError as error:
        said = f"Not made again: {facts['named']}: {error.message}"
    log(session, SYSTEM, "made-again", facts["pool"], said)


def _compare(session: Session, world: Devices, facts: dict[str, Any]) -> None:
    """Compare all of a pool that was brought in, once every place of it holds all its data."""
    from pairshelf.engine.jobs.check import start_check

    del world
    if session.get(PoolRow, facts["pool_id"]) is None:
        return
    pool = open_pool(session, facts["pool_id"])
    if pool.layout.stripes:
        start_check(session, pool, facts["who"], cut_off=facts["cut_off"])


def _has_disk(session: Session, request: dict[str, Any]) -> bool:
    pool, _, volume = request["volume"].rpartition("/")
    disk = (
        select(TargetLun.lun).join(VolumeRow, col(VolumeRow.id) == TargetLun.volume_id)
        .join(PoolRow, col(PoolRow.id) == VolumeRow.pool_id).where(PoolRow.name == pool, VolumeRow.name == volume)
    )  # fmt: skip
    return session.exec(disk).first() is not None


def _change(
    session: Session, world: Devices, kind: str, request: dict[str, Any], sheet_id: int, who: str
) -> ChangeSheet:
    """Draw a change up and carry it out; all of it or nothing."""
    # What changes do may send errands: they are asked for only now.
    from pairshelf.core.changes.kinds import request_of
    from pairshelf.engine.apply import APPLY
    from pairshelf.engine.planner import plan

    with session.begin_nested():
        asked = request_of(kind, request)
        planned = plan(session, kind, asked, world)
        # As if it had a sheet of its own; what is still to be done for it is told on the one that it is a part of.
        own = SheetRow(
            id=sheet_id, kind=kind, title=planned.sheet.title, request=asdict(asked), fingerprint="", created_by=who
        )
        APPLY[kind](session, own, planned, who, world)
    sheet: ChangeSheet = planned.sheet
    return sheet


def _extend_volumes(session: Session, world: Devices, facts: dict[str, Any]) -> None:
    """What was to wait for the end of a restripe; where it cannot be done any more, the logbook says why."""
    request = {"pool": facts["pool"], "volumes": facts["volumes"]}
    try:
        sheet = _change(session, world, "extend-volumes", request, facts["sheet"], facts["who"])
        said = sheet.title + ": done, as the restripe has ended."
    except PairShelfError as error:
        said = f"The volumes of {facts['pool']} were not extended: {error.message}"
    log(session, SYSTEM, "volumes-extended", facts["pool"], said)


_DO: dict[str, Callable[[Session, Devices, dict[str, Any]], None]] = {
    "move-aside": _move_aside,
    "mount-folder": _mount_folder,
    "open-folder": _open_folder,
    "write-file": _write_file,
    "write-data": _write_data,
    "write-label": _write_label,
    "write-table": _write_table,
    "extend-volumes": _extend_volumes,
    "forget-journal": _forget_journal,
    "forget-record": _forget_record,
    "make-again": _make_again,
    "compare": _compare,
}
