"""A pool comes into the books from what its drives say of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import asdict
from typing import Any

from sqlalchemy import text
from sqlmodel import Session, SQLModel, select

from pairshelf.core.changes.access.add_disk import AddDisk
from pairshelf.core.changes.access.make_share import MakeShare
from pairshelf.core.changes.access.make_target import MakeTarget
from pairshelf.core.changes.pools.bring_in import BringInPlan
from pairshelf.core.changes.pools.build_pool import promised
from pairshelf.core.changes.volumes.mount_volume import MountVolume
from pairshelf.core.domain.device import RECORD_COPIES, DeviceError, Devices
from pairshelf.core.domain.found import FoundMember, FoundPool, Hanging, Standing
from pairshelf.core.domain.records import Record
from pairshelf.core.errors import NotPossible
from pairshelf.core.figures.durations import restripe
from pairshelf.core.layouts.restriping import Restriping
from pairshelf.core.layouts.spread import base_of
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.apply.pools.build_pool import new_tint
from pairshelf.engine.errands import send
from pairshelf.engine.found_pools import laid_out, missed_by_serial, moment, picked, rows_of, stripes_of
from pairshelf.engine.jobs.first_sync import start_first_sync, start_volume_sync
from pairshelf.engine.jobs.restripe import start_restripe
from pairshelf.engine.log import log
from pairshelf.engine.observe import bring_back_the_stale, bring_in_spares
from pairshelf.engine.pools import OpenPool, into_service, journal_of, open_pool, refresh_state
from pairshelf.engine.records import afterwards_written, copies_on, record_on
from pairshelf.engine.relayout import label, stands_where
from pairshelf.store.repositories.drives_and_pools import store_stripes
from pairshelf.store.tables import (
    BackupRow,
    Condition,
    DriveRow,
    KeepRule,
    MemberState,
    MissedWrite,
    PoolPlace,
    PoolRecord,
    PoolRow,
    SampleFile,
    Service,
    SheetRow,
    VolumePiece,
    VolumeRow,
)

_VOLUME = (
    "name", "size", "extents", "thin", "purpose", "protection", "file_system", "reserved_share", "overhead", "uuid",
    "sealed_as",
)  # fmt: skip
#: Numbers of volumes up to this one are taken over from a record.
_MOST_NUMBER = 2**24
_DRIVE = ("size", "kind", "maker", "model", "bus", "sector_size", "rpm", "rate", "held_share", "sealed_by")


def apply(session: Session, sheet: SheetRow, planned: BringInPlan, who: str, world: Devices) -> Outcome:
    """The pool as its newest record says; what is not as that says is filled, or waited for."""
    found = planned.found
    record, turn = _newest(session, found, world)
    pool, places, _ = rows_of(record)
    layout = laid_out(record)[1]
    if not layout.own_protection:
        # What an older record does not say is as it would be promised now.
        pool.promised = promised(layout) | pool.promised
    pool.name, pool.tint = planned.name, new_tint(session)
    session.add(pool)
    session.flush()
    members = {m.serial: m for m in found.members}
    for place, facts in zip(places, record.body["places"], strict=True):
        place.pool_id = pool.number
        _take(session, pool, place, facts, members.get(facts["serial"] or ""))
    numbers = _volumes(session, pool, record)
    to_sync = [numbers[v["number"]] for v in record.body["volumes"] if v.get("to_sync")]
    session.add(PoolRecord(
        pool_id=pool.number, generation=found.generation, turn=turn, written_at=record.head.written_at, size=0,
        reached={m.serial: m.generation for m in record.head.members}, brought={"generation": found.generation, "missed": missed_by_serial(record)},
    ))  # fmt: skip
    session.flush()
    opened = open_pool(session, pool.number)
    label(session, pool, [p for p in opened.places if p.slot is not None and _there(session, p)], sheet.id)
    refresh_state(session, opened)
    # One that lacks something is filled from others that come back as they were.
    for _ in range(2):
        bring_back_the_stale(session, opened, world)
        refresh_state(session, opened)
    session.flush()
    bring_in_spares(session, opened)
    _go_on(session, opened, to_sync, who, sheet.id)
    if opened.layout.scheme.survives or opened.layout.own_protection:
        send(session, "compare", f"check of {pool.name}", sheet.id, pool=pool.name, pool_id=pool.number, who=who,
             cut_off=not journal_of(pool.uid).exists())  # fmt: skip
    for one in planned.made_again:
        for kind, request in _requests(one, record, planned.name):
            send(session, "make-again", f"{planned.name}/{one.volume}", sheet.id, kind=kind, request=request, who=who,
                 sheet=sheet.id, named=one.named, pool=planned.name)  # fmt: skip
    afterwards_written(session, pool.number, world)
    here = [m.serial for m in found.members if m.standing is not Standing.AWAY]
    log(session, who, "pool-brought-in", pool.name,
        f"Pool {pool.name} was brought in from {len(here)} drives, with {len(numbers)} volumes, as of "
        f"{record.head.written_at:%d %B %Y %H:%M} UTC.", drives=here, generation=found.generation)  # fmt: skip
    return Outcome(pool.id)


def _newest(session: Session, found: FoundPool, world: Devices) -> tuple[Record, int]:
    """What the sheet was drawn up from, read once more; and the place that the next record goes to.

    Where all have the newest, that is kept. Where a kill came before all had it, nothing was written under it, and the
    one before, which every one of them has, is kept.
    """
    record: Record | None = None
    copies: set[int | None] = set()
    for member in found.members:
        if member.standing is Standing.CURRENT and member.drive_id is not None:
            with suppress(DeviceError):
                at = copies_on(world, member.serial, session.get_one(DriveRow, member.drive_id).size).get(
                    found.generation
                )
                copies.add(at)
                record = record or (record_on(world, member.serial, member.size) if at is not None else None)
    if record is None or record.head.generation != found.generation:
        raise NotPossible(f"The record of pool {found.name} cannot be read any more.", code="changed-since")
    newest = next(c for c in copies if c is not None)
    return record, newest if None in copies else (newest + 1) % RECORD_COPIES


def _there(session: Session, place: PoolPlace) -> bool:
    drive = session.get_one(DriveRow, place.drive_id) if place.drive_id is not None else None
    return drive is not None and drive.condition != Condition.MISSING


def _take(
    session: Session, pool: PoolRow, place: PoolPlace, facts: Mapping[str, Any], member: FoundMember | None
) -> None:
    """A place with its drive: taken as it is, to be filled, or waited for."""
    if member is not None and _has_another_duty(session, member):
        member = None
    if member is not None:
        drive = _drive(session, facts, member)
        place.drive_id = drive.id
        into_service(drive, pool)
        drive.sealed_by = facts["drive"].get("sealed_by")
        # Of a pool that keeps shelves, hosts or sites apart a place belongs to the one that it was made in.
        if member.standing is not Standing.AWAY and pool.domain in (None, "drive"):
            stands_where(session, place, drive)
    elif place.slot is None:
        return
    session.add(place)
    session.flush()
    if place.slot is None or place.state == MemberState.EMPTIED:
        return
    if member is None or (place.state == MemberState.FAILED and member.standing is Standing.AWAY):
        place.state = MemberState.FAILED
    elif member.standing is Standing.AWAY:
        if place.state != MemberState.MISSING:
            place.incomplete = place.state != MemberState.ACTIVE
            place.state, place.absence = MemberState.MISSING, place.absence + 1
        else:
            _missed(session, place, facts)
    elif not member.whole or place.state == MemberState.MISSING:
        place.incomplete = member.missed is None
        place.state = MemberState.MISSING
        if not place.incomplete:
            _missed(session, place, facts)


def _has_another_duty(session: Session, member: FoundMember) -> bool:
    """Whether a member that is not here is, by the books, in use for something else, being wiped, or gone for good."""
    known = session.exec(select(DriveRow.service).where(DriveRow.serial == member.serial)).first()
    return member.drive_id is None and known not in (None, Service.NEW, Service.FREE)


def _missed(session: Session, place: PoolPlace, facts: Mapping[str, Any]) -> None:
    session.add_all(
        MissedWrite(place_id=place.number, absence=place.absence, region=region) for region in facts["missed"] or ()
    )


def _drive(session: Session, facts: Mapping[str, Any], member: FoundMember) -> DriveRow:
    """The drive's row; one that is not here is written down as missing, so that it is known when it comes."""
    known = session.exec(select(DriveRow).where(DriveRow.serial == member.serial)).first()
    if known is not None:
        session.refresh(known, with_for_update=True)
        if member.drive_id is not None and known.service not in (Service.NEW, Service.FREE):
            raise NotPossible(f"Drive {member.serial} has another duty by now.", code="changed-since")
        return known
    drive = DriveRow(serial=member.serial, condition=Condition.MISSING, **picked(facts["drive"], _DRIVE))
    session.add(drive)
    session.flush()
    return drive


# -- volumes -------------------------------------------------------------------------------------


def _volumes(session: Session, pool: PoolRow, record: Record) -> dict[int, int]:
    """The volumes with what lies on them; the numbers they had, and the ones they have."""
    numbers: dict[int, int] = {}
    for facts in record.body["volumes"]:
        volume = VolumeRow(pool_id=pool.number, created_at=moment(facts["created_at"]), **picked(facts, _VOLUME))
        # It keeps its number where that is free, so that a journal still knows it; none that would use numbers up.
        if facts["number"] <= _MOST_NUMBER and session.get(VolumeRow, facts["number"]) is None:
            volume.id = facts["number"]
        session.add(volume)
        session.flush()
        number = numbers[facts["number"]] = volume.number
        stripes = stripes_of(facts, number)
        if stripes is not None:
            if number != facts["number"] and volume.sealed_as is None:
                volume.sealed_as = facts["number"]
            store_stripes(session, pool.number, stripes)
        shift = base_of(number) - base_of(facts["number"]) if stripes is not None else 0
        session.add_all(
            VolumePiece(pool_id=pool.number, volume_id=number, at=at, first=first + shift, count=count)
            for at, first, count in facts["pieces"]
        )
        session.add_all(SampleFile(volume_id=number, **_moments(f)) for f in facts["files"])
        if facts["keep_above"] is not None:
            session.add(KeepRule(volume_id=number, above=facts["keep_above"]))
    _past(session, VolumeRow)
    for facts in record.body["backups"]:
        session.add(BackupRow(pool_id=pool.number, **_moments(facts) | {"volume_id": numbers.get(facts["volume"])}))
    session.flush()
    return numbers


def _moments(facts: Mapping[str, Any]) -> dict[str, Any]:
    return {n: moment(v) if n.endswith("_at") and v is not None else v for n, v in facts.items() if n != "volume"}


def _past(session: Session, table: type[SQLModel]) -> None:
    """The numbers that the database gives go on behind those that were brought along."""
    name = str(table.__tablename__)
    session.connection().execute(text(
        f"select setval(pg_get_serial_sequence('{name}', 'id'), greatest((select max(id) from {name}), "  # noqa: S608
        f"(select last_value from pg_sequences where sequencename = '{name}_id_seq'), 1))"
    ))  # fmt: skip


# -- what goes on --------------------------------------------------------------------------------


def _go_on(session: Session, opened: OpenPool, to_sync: Sequence[int], who: str, sheet_id: int | None) -> None:
    """What was under way goes on."""
    layout = opened.layout
    if layout.own_protection and to_sync:
        for number in to_sync:
            start_volume_sync(session, opened, session.get_one(VolumeRow, number), who, sheet_id)
        return
    if isinstance(layout, Restriping):
        job = start_restripe(session, opened, restripe(layout.both).idle, who, sheet_id)
        job.cursor = max(0, job.total - abs(layout.walk.arrives - layout.front))
        return
    if not layout.own_protection and opened.row.synced_to < layout.stripes:
        done = opened.row.synced_to
        if (sync := start_first_sync(session, opened, who, sheet_id)) is not None:
            sync.cursor, sync.spent = done, sync.seconds * done / sync.total


def _requests(one: Hanging, record: Record, pool: str) -> Sequence[tuple[str, dict[str, Any]]]:
    """The changes that make again what hung on a volume."""
    facts = next(v for v in record.body["volumes"] if v["name"] == one.volume)
    ref = f"{pool}/{one.volume}"
    if one.what == "mount":
        mount = next(m for m in facts["mounts"] if (m["host"], m["at"]) == (one.host, one.name))
        return [("mount-volume", asdict(MountVolume(
            ref, one.host, one.name, mount["read_only"], mount["access_times"], mount["required"], move_aside=False
        )))]  # fmt: skip
    if one.what == "share":
        share = next(s for s in facts["shares"] if s["name"] == one.name)
        return [("make-share", asdict(MakeShare(
            ref, one.name, share["folder"], one.parties, f"{share['quota']} B" if share["quota"] else "",
            share["bin_days"] or 0, share["encrypted"], share["purpose"],
        )))]  # fmt: skip
    disk = facts["disk"]
    return [
        ("make-target", asdict(MakeTarget(one.name, one.host, ref, one.parties, disk["lun"], disk["shared"]))),
        ("add-disk", asdict(AddDisk(one.name, ref, disk["lun"]))),
    ]
