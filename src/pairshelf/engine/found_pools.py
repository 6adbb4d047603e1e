"""Pools that drives say they belong to and that are not in the books: read from the drives."""

from __future__ import annotations

import base64
import datetime as dt
import re
from collections.abc import Collection, Iterable, Mapping
from contextlib import suppress
from typing import Any

import numpy as np
from sqlmodel import Session, col, select

from pairshelf.core.domain.device import DeviceError, Devices
from pairshelf.core.domain.drives import extents_of
from pairshelf.core.domain.estate import EstateDrive
from pairshelf.core.domain.found import FoundMember, FoundPool, FoundVolume, Hanging, Standing
from pairshelf.core.domain.records import Head, ReadDrive, Record, RecordedMember
from pairshelf.core.errors import PairShelfError
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.regions import ANYWHERE, rows_missed
from pairshelf.core.layouts.registry import scheme_of
from pairshelf.core.layouts.restriping import Restriping
from pairshelf.core.layouts.spread import StripedVolume, base_of
from pairshelf.core.policies.bringing_in import left_over, newest, standings
from pairshelf.engine.records import head_on, house_of, marked_on, record_on, why_unreadable
from pairshelf.formats.pool_record import DamagedError
from pairshelf.store.database import pick
from pairshelf.store.repositories.drives_and_pools import load_drives, stripes_from
from pairshelf.store.repositories.layouts import designed_layout
from pairshelf.store.tables import DriveRow, FormerPoolRow, PoolPlace, PoolRow, Service, now

#: Of a drive whose pool may be brought in.
_IDLE = (Service.NEW, Service.FREE)


def bears(world: Devices, serial: str, size: int) -> dict[str, str] | None:
    """The pool that a drive says it belongs to: by its label, or, where that cannot be read, by its record. None for
    none, and for a drive that does not answer."""
    with suppress(DeviceError, OSError, ValueError):
        if any(world.open(serial, size).read_sectors(0, 1024)):
            return None  # It is divided: its table says what is on it.
        label = world.open(serial, size).read_label() or {}
        uid, name = label.get("uid"), label.get("pool")
        if isinstance(uid, str) and re.fullmatch("[0-9a-f]{32}", uid):
            plain = isinstance(name, str) and name.isprintable() and len(name) <= 60
            return {"pool": uid, "name": str(name) if plain else ""}
        head, _ = head_on(world, serial, size)
        if head is not None and head.serial == serial:
            return {"pool": head.pool, "name": head.name}
    return None


def look_again(session: Session, world: Devices) -> int:
    """Read on every drive that belongs to nothing what it says it belongs to; of how many pools."""
    rows = session.exec(select(DriveRow).where(col(DriveRow.service).in_(_IDLE)))
    for row in rows:
        if row.condition in ("good", "failing"):
            row.bears = bears(world, row.serial, row.size)
    session.flush()
    return len(found_uids(session))


def found_uids(session: Session) -> list[str]:
    """Pools that are not in the books, and that drives here say they belong to."""
    pool = DriveRow.bears["pool"].as_string()  # type: ignore[index]
    query = pick(pool).where(col(DriveRow.service).in_(_IDLE), col(DriveRow.bears).is_not(None)).distinct()
    here = set(session.exec(select(PoolRow.uid)))
    return sorted(uid for (uid,) in session.connection().execute(query) if uid not in here)


def drives_of(session: Session, uid: str) -> list[int]:
    """Drives here that say they belong to a pool, whether they can be taken or not."""
    query = select(DriveRow.id).where(DriveRow.bears["pool"].as_string() == uid).order_by(col(DriveRow.id))  # type: ignore[index]
    return [i for i in session.exec(query) if i is not None]


def found_pools(session: Session, world: Devices) -> list[FoundPool]:
    """All of them, as far as they are not to be put together again."""
    found = (found_pool(session, uid, world) for uid in found_uids(session))
    return [f for f in found if f is not None and f.former is None]


def found_pool(session: Session, uid: str, world: Devices) -> FoundPool | None:
    """One of them, with what stands on its drives read now; None where no drive here speaks of it."""
    here = session.exec(select(PoolRow.name).where(PoolRow.uid == uid)).first()
    drives = load_drives(session, drives_of(session, uid))
    if not drives:
        return None if here is None else FoundPool(uid, here, here=here)
    reads = [_read(world, d, uid) for d in drives]
    head = newest(reads)
    if head is not None:
        # Those that say nothing any more, and that the others name.
        silent = {m.serial for m in head.members} - {r.serial for r in reads}
        query = select(DriveRow.id).where(col(DriveRow.serial).in_(silent), col(DriveRow.service).in_(_IDLE))
        more = load_drives(session, [i for i in session.exec(query) if i is not None])
        reads += [_read(world, d, uid) for d in more if d.condition not in ("missing", "failed")]
        drives = [*drives, *more]
    named = {d.id: d for d in drives}
    if head is None:
        name = next((str((session.get_one(DriveRow, d.id).bears or {}).get("name") or "") for d in drives), "")
        return FoundPool(uid, name, tuple((d.serial, d.place) for d in drives), _why(world, drives), here=here)
    record = read_newest(world, head, reads, named)
    if record is None:
        return FoundPool(uid, head.name, (), _why(world, drives), here=here)
    try:
        return _told(session, record, reads, named, here)
    except DamagedError as error:
        return FoundPool(uid, head.name, tuple((d.serial, d.place) for d in drives), str(error), here=here)


def _why(world: Devices, drives: Iterable[EstateDrive]) -> str:
    """Why none of these drives says what the pool is."""
    for drive in drives:
        with suppress(DeviceError, OSError):
            if why := why_unreadable(world, drive.serial, drive.size):
                return why
    return "none of them has a record that is whole"


def read_newest(
    world: Devices, head: Head, reads: Iterable[ReadDrive], drives: Mapping[int, EstateDrive]
) -> Record | None:
    """The newest record with all it says, from the first drive on which it can be read."""
    for read in reads:
        if read.head is not None and read.head.generation == head.generation:
            with suppress(DeviceError, OSError):
                record = record_on(world, read.serial, drives[read.id].size)
                if record is not None and record.head.generation == head.generation:
                    return record
    return None


def _read(world: Devices, drive: EstateDrive, uid: str) -> ReadDrive:
    head, marked = None, 0
    with suppress(DeviceError, OSError):
        head, _ = head_on(world, drive.serial, drive.size)
        marked = marked_on(world, drive.serial, drive.size, uid)
    if head is not None and head.pool != uid:
        head = None
    return ReadDrive(drive.serial, drive.id, drive.place, head, marked)


def _told(
    session: Session, record: Record, reads: list[ReadDrive], drives: Mapping[int, EstateDrive], here: str | None
) -> FoundPool:
    head, body = record.head, record.body
    facts = {p["serial"]: p for p in body["places"] if p["serial"] is not None}
    away = {serial for serial, place in facts.items() if place["state"] in ("missing", "failed")}
    standing = standings(head, [r for r in reads if drives[r.id].condition not in ("missing", "failed")], away)
    pool, layout = laid_out(record)
    by_serial = {r.serial: drives[r.id] for r in reads}
    ours = house_of(session) == head.house
    return FoundPool(
        head.pool, head.name, tuple((r.serial, r.place) for r in left_over(head, reads)), None, layout,
        _scheme(layout), head.generation, head.written_at, ours,
        pool.key is not None,
        tuple(_member(m, standing[m.serial], facts[m.serial], layout, by_serial.get(m.serial)) for m in head.members),
        tuple(
            FoundVolume(v["name"], v["size"], v["file_system"], sum(1 for f in v["files"] if f["deleted_at"] is None))
            for v in body["volumes"]
        ),
        tuple(_hanging(body["volumes"])),
        pool.synced_to >= layout.stripes or layout.own_protection, pool.walk is not None, here,
        _former(session, head.pool) if ours else None,
        sum(layout.used_extents) if layout.own_protection
        else sum(count for v in body["volumes"] for _, _, count in v["pieces"]),
    )  # fmt: skip


def _scheme(layout: Layout) -> str:
    """Its scheme with the trade's name, and its sets."""
    trade = f" ({layout.scheme.trade_name})" if layout.scheme.trade_name else ""
    return f"{layout.scheme.id}{trade}, {layout.describe()}"


def _member(
    member: RecordedMember, standing: Standing, facts: Mapping[str, Any], layout: Layout, drive: EstateDrive | None
) -> FoundMember:
    state = str(facts["state"])
    there = standing is not Standing.AWAY and drive is not None
    missed = None
    if there and standing is Standing.BEHIND and state == "missing" and not facts["incomplete"]:
        regions = frozenset(facts["missed"] or ())
        if ANYWHERE not in regions and member.slot is not None:
            missed = rows_missed(layout, member.slot, regions)
    return FoundMember(
        member.serial, member.slot, member.size, standing, state, drive.id if there and drive else None,
        drive.place if there and drive else "", _why_not(drive) if there and drive else None, missed,
        bool(there and drive and drive.service == "free" and drive.condition == "good"),
    )  # fmt: skip


def _why_not(drive: EstateDrive) -> str | None:
    """Why a drive that says it belongs to the pool cannot be taken for it."""
    return None if drive.service == "new" and not drive.starts_host else drive.why_not_offered()


def _hanging(volumes: Iterable[Mapping[str, Any]]) -> Iterable[Hanging]:
    for volume in volumes:
        name = volume["name"]
        for mount in volume["mounts"]:
            yield Hanging(
                "mount", name, f"the mount of {name} at {mount['at']} on {mount['host']}", mount["host"], mount["at"]
            )
        for share in volume["shares"]:
            who = tuple(f"{party}:{may}" for party, may in share["rights"])
            yield Hanging("share", name, f"the share {share['name']} of {name}", "", share["name"], who)
        if disk := volume["disk"]:
            who = tuple(iqn for iqn, secret in disk["initiators"] if not secret)
            yield Hanging(
                "disk", name, f"disk {disk['lun']} of target {disk['target']}", disk["host"], disk["target"], who
            )


def _former(session: Session, uid: str) -> str | None:
    """The pool that was taken apart here, where it can still be put together again."""
    query = select(FormerPoolRow.name).where(
        FormerPoolRow.until > now(), col(FormerPoolRow.put_together_at).is_(None),
        FormerPoolRow.rows["pool"]["uid"].as_string() == uid,  # type: ignore[index]
    )  # fmt: skip
    return session.exec(query).first()


# -- a record as rows ---------------------------------------------------------------------------

_POOL = (
    "scheme", "sets", "capacity", "bands", "walk", "front", "turned", "moves", "synced_to", "domain", "key",
    "passphrase_kept", "promised", "measured", "acts_early",
)  # fmt: skip
_PLACE = (
    "slot", "to_slot", "size", "rate", "kind", "shelf", "link", "host", "site", "scope", "state", "absence", "incomplete",
)  # fmt: skip


def picked(facts: Mapping[str, Any], names: Collection[str]) -> dict[str, Any]:
    """What a record says of these; what an older one does not say is as it usually is."""
    return {n: facts[n] for n in names if n in facts}


def rows_of(record: Record) -> tuple[PoolRow, list[PoolPlace], list[StripedVolume]]:
    """The pool, its places and its stripes, in no database yet. Volumes have the numbers of where they were made."""
    facts = record.body["pool"]
    pool = PoolRow(
        name=record.head.name, uid=record.head.pool, created_at=moment(facts["created_at"]), **picked(facts, _POOL)
    )
    places = [PoolPlace(pool_id=0, **picked(p, _PLACE)) for p in record.body["places"]]
    stripes = []
    if scheme_of(pool.scheme).own_protection:
        stripes = [found for v in record.body["volumes"] if (found := stripes_of(v, v["number"])) is not None]
    return pool, places, stripes


def laid_out(record: Record) -> tuple[PoolRow, Layout]:
    """The pool and its layout. DamagedError where they do not go together: a record is sound by itself (``sound_record``),
    and says of which drives and addresses things are."""
    try:
        pool, places, stripes = rows_of(record)
        _require_bands(record)
        layout = designed_layout(pool, places, stripes)
        _require_places(record, layout)
    except DamagedError:
        raise
    except (
        PairShelfError,
        ValueError,
        TypeError,
        KeyError,
        IndexError,
        ArithmeticError,
        AssertionError,
        RecursionError,
    ) as error:
        raise DamagedError(f"it describes no layout that there can be ({type(error).__name__})") from None
    return pool, layout


def _require(holds: bool, what: str) -> None:
    if not holds:
        raise DamagedError(what)


def _require_bands(record: Record) -> None:
    """Bands lie on members there are, and no two on the same rows of one."""
    pool, places = record.body["pool"], [p for p in record.body["places"] if p["slot"] is not None]
    _require(bool(places), "it names no members")
    by_slot = sorted(places, key=lambda p: int(p["slot"]))
    walk = pool.get("walk")
    old = by_slot if walk is None else by_slot[: walk["members"]]
    new = sorted((p for p in places if p.get("to_slot") is not None), key=lambda p: int(p["to_slot"]))
    _require(
        walk is None or (len(old) == walk["members"] and bool(new)), "its restripe names members that are not there"
    )
    for members, bands in ((old, pool.get("bands")), (new, walk and walk["bands"])):
        spans: dict[int, list[tuple[int, int]]] = {}
        for start, rows, groups in bands or ():
            for group, _, parity in groups:
                _require(
                    len(set(group)) == len(group) > parity and max(group) < len(members),
                    "a band on members that are not there",
                )
                for member in group:
                    spans.setdefault(member, []).append((start, rows))
        for member, own in spans.items():
            reached = 0
            for start, rows in sorted(own):
                _require(start >= reached, "bands overlap")
                reached = start + rows
            _require(reached <= extents_of(members[member]["size"]), "a band beyond its drive")


def _require_places(record: Record, layout: Layout) -> None:
    """Volumes lie where the pool has capacity, and no two in one place."""
    pool, volumes = record.body["pool"], record.body["volumes"]
    if not layout.own_protection:
        _require(pool["capacity"] == layout.data_extents, "its capacity is not that of its layout")
        _require(pool.get("front") is None or pool["front"] <= 2 * layout.data_extents + 2**40, "its front")
        spans = sorted((first, count) for v in volumes for _, first, count in v["pieces"])
        reached = 0
        for first, count in spans:
            _require(first >= reached, "volumes overlap")
            reached = first + count
        _require(reached <= _addresses(layout), "a volume beyond its pool")
        return
    taken: set[tuple[int, ...]] = set()
    for volume in volumes:
        own = stripes_of(volume, volume["number"])
        have = 0 if own is None else len(own.spots) * own.protection.data
        base = base_of(volume["number"])
        for _, first, count in volume["pieces"]:
            _require(first >= base and first + count <= base + have, "a volume beyond its stripes")
        if own is None or not len(own.spots):
            continue
        slots, rows = own.spots[:, :, 0], own.spots[:, :, 1]
        extents = np.array([d.extents for d in layout.members])
        _require(
            bool(((slots >= 0) & (slots < len(extents))).all() and (rows >= 0).all()),
            "a stripe on drives that are not there",
        )
        _require(bool((rows < extents[slots]).all()), "a stripe beyond its drive")
        _require(all(len(set(row)) == len(row) for row in slots.tolist()), "a stripe twice on one drive")
        spots = set(map(tuple, own.spots.reshape(-1, 2).tolist()))
        _require(len(spots) == own.spots.size // 2 and not spots & taken, "stripes overlap")
        taken |= spots


def _addresses(layout: Layout) -> int:
    """Addresses that data may have: of one that is being restriped, of the larger of both layouts."""
    if isinstance(layout, Restriping):
        return max(layout.both.old.data_extents, layout.both.new.data_extents)
    return layout.data_extents


def stripes_of(volume: Mapping[str, Any], number: int) -> StripedVolume | None:
    """A spread volume's stripes under the number it has here."""
    if not volume["stripes"] or not volume["protection"]:
        return None
    return stripes_from(number, volume["protection"], base64.b64decode(volume["stripes"]))


def missed_by_serial(record: Record) -> dict[str, list[int]]:
    """The regions that each member that was away had missed."""
    return {p["serial"]: sorted(p["missed"]) for p in record.body["places"] if p["serial"] is not None and p["missed"]}


def moment(value: str) -> dt.datetime:
    """A moment as a record has it."""
    return dt.datetime.fromisoformat(value)
