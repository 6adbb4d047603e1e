"""What a pool is, kept on its own drives: so that they are enough to bring it back where the books are lost.

A record is written after what it tells of has been committed. Where bytes lie is on the drives before another byte
is written (``bring_up_to_date``, when a pool is opened for reading and writing); what is only told of the pool, its
volumes and files, a moment later by the worker. So an older record never says of data that stand somewhere that they
stand elsewhere, and a drive that was away is known by its older record.
"""

from __future__ import annotations

import json
import time
import uuid
from collections.abc import Mapping, Sequence
from contextlib import contextmanager, suppress
from typing import Any

import structlog
from sqlalchemy import Connection, text
from sqlmodel import Session, select

from pairshelf.core.domain.device import RECORD_COPIES, RECORD_MARK, DeviceError, Devices
from pairshelf.core.domain.records import Head, Record, RecordedMember
from pairshelf.engine.io.side_by_side import each
from pairshelf.engine.log import SYSTEM, log
from pairshelf.formats.pool_record import DamagedError, pack, pack_mark, packed_body, read_head, read_mark, read_record
from pairshelf.formats.pool_record_rules import sound_head, sound_record
from pairshelf.store.database import Lock, afterwards, engine
from pairshelf.store.tables import DriveRow, now

_logger = structlog.get_logger()

#: A pool's record is written again after so many times what writing it took, where nothing is waiting for it.
_REST = 20.0

_SNAPSHOT = text("""
select p.uid, p.name, r.generation, coalesce(r.turn, 0) as turn, coalesce(r.reached, '{}') as reached,
    (select value ->> 'id' from setting where key = 'installation') as house,
    (select jsonb_agg(d.id) from record_due d where d.pool_id = p.id) as due,
    json_build_object(
        'scheme', p.scheme, 'sets', p.sets, 'capacity', p.capacity, 'bands', p.bands, 'walk', p.walk, 'front', p.front,
        'turned', p.turned, 'moves', p.moves, 'synced_to', p.synced_to, 'domain', p.domain, 'key', p.key,
        'acts_early', p.acts_early, 'passphrase_kept', p.passphrase_kept, 'promised', p.promised, 'measured', p.measured, 'created_at', p.created_at
    ) as pool,
    (select coalesce(json_agg(json_build_object(
        'serial', d.serial, 'slot', l.slot, 'to_slot', l.to_slot, 'size', l.size, 'rate', l.rate, 'kind', l.kind,
        'shelf', l.shelf, 'link', l.link, 'host', l.host, 'site', l.site, 'scope', l.scope, 'state', l.state,
        'absence', l.absence, 'incomplete', l.incomplete,
        'missed', (select json_agg(m.region) from missed_write m where m.place_id = l.id and m.absence = l.absence),
        'drive', case when d.id is not null then json_build_object(
            'size', d.size, 'kind', d.kind, 'maker', d.maker, 'model', d.model, 'bus', d.bus, 'sector_size', d.sector_size,
            'rpm', d.rpm, 'rate', d.rate, 'held_share', d.held_share, 'condition', d.condition, 'sealed_by', d.sealed_by) end
    ) order by l.slot nulls last, l.id), '[]') from pool_place l left join drive d on d.id = l.drive_id
     where l.pool_id = p.id and l.beside is null) as places,
    (select coalesce(json_agg(json_build_object(
        'number', v.id, 'name', v.name, 'size', v.size, 'extents', v.extents, 'thin', v.thin, 'purpose', v.purpose,
        'protection', v.protection, 'file_system', v.file_system, 'reserved_share', v.reserved_share,
        'overhead', v.overhead, 'uuid', v.uuid, 'created_at', v.created_at, 'sealed_as', v.sealed_as,
        'to_sync', exists (select 1 from job j where j.volume_id = v.id and j.kind = 'first-sync' and j.finished_at is null),
        'keep_above', (select k.above from keep_rule k where k.volume_id = v.id),
        'pieces', (select coalesce(json_agg(json_build_array(e.at, e.first, e.count) order by e.at), '[]')
                   from volume_piece e where e.volume_id = v.id),
        'stripes', (select encode(s.placed, 'base64') from volume_stripes s where s.volume_id = v.id),
        'files', (select coalesce(json_agg(json_build_object(
            'name', f.name, 'first', f.first, 'extents', f.extents, 'checksum', f.checksum, 'via', f.via,
            'folder', f.folder, 'writer', f.writer, 'written_at', f.written_at, 'deleted_at', f.deleted_at) order by f.id), '[]')
            from sample_file f where f.volume_id = v.id),
        'mounts', (select coalesce(json_agg(json_build_object(
            'host', h.name, 'at', m.at, 'read_only', m.read_only, 'access_times', m.access_times,
            'required', m.required) order by m.id), '[]')
            from mount m join host h on h.id = m.host_id where m.volume_id = v.id),
        'shares', (select coalesce(json_agg(json_build_object(
            'name', s.name, 'folder', s.folder, 'quota', s.quota, 'bin_days', s.bin_days, 'encrypted', s.encrypted,
            'purpose', s.purpose, 'rights', (select coalesce(json_agg(json_build_array(a.name, t.may) order by a.name), '[]')
                from share_right t join party a on a.id = t.party_id where t.share_id = s.id)) order by s.id), '[]')
            from share s where s.volume_id = v.id),
        'disk', (select json_build_object(
            'target', t.iqn, 'lun', n.lun, 'host', h.name, 'shared', t.shared,
            'initiators', (select coalesce(json_agg(json_build_array(i.iqn, g.chap_name is not null) order by i.iqn), '[]')
                from target_right g join initiator i on i.id = g.initiator_id where g.target_id = t.id))
            from target_lun n join target t on t.id = n.target_id join host h on h.id = t.host_id
            where n.volume_id = v.id)
    ) order by v.id), '[]') from volume v where v.pool_id = p.id and v.moving_from is null) as volumes,
    (select coalesce(json_agg(json_build_object(
        'volume', b.volume_id, 'place', b.place, 'age_hours', b.age_hours, 'link', b.link,
        'recorded_by', b.recorded_by, 'recorded_at', b.recorded_at) order by b.id), '[]')
     from backup b where b.pool_id = p.id) as backups
from pool p left join pool_record r on r.pool_id = p.id
where p.id = :p and not exists (select 1 from partition_plan t where t.pool_id = p.id)
""")
_KEEP = text("""
insert into pool_record (pool_id, generation, turn, written_at, size, reached)
values (:p, :generation, :turn, :at, :size, cast(:reached as jsonb))
on conflict (pool_id) do update set generation = :generation, turn = :turn, written_at = :at, size = :size,
    reached = cast(:reached as jsonb)
""")
_DONE = text("delete from record_due where id = any(:ids)")
_WAITS = text("select 1 from record_due where pool_id = :p and before_bytes limit 1")
_GONE = text("delete from record_due d where d.pool_id = :p and not exists (select 1 from pool where id = :p and not "
             "exists (select 1 from partition_plan t where t.pool_id = pool.id))")  # fmt: skip
_HOUSE = text(
    "insert into setting (key, value) values ('installation', cast(:v as jsonb)) on conflict (key) do nothing"
)


def bring_up_to_date(session: Session, pool_id: int, world: Devices) -> None:
    """Before bytes of a pool are touched: its drives say where they lie. What the caller itself has changed follows when
    that has been committed: nothing is written by it before."""
    if session.connection().execute(_WAITS, {"p": pool_id}).first() is not None:
        write_record(pool_id, world)


def say_first(session: Session, pool_id: int) -> None:
    """Data have been put elsewhere, and where they stood may be written over: from the commit on not a byte is written
    before the pool's drives say so."""
    session.flush()
    session.connection().execute(text("select note_record_due(array[cast(:p as integer)], true)"), {"p": pool_id})


def afterwards_written(session: Session, pool_id: int, world: Devices) -> None:
    """Once the transaction has been committed, its drives say so at once."""

    def write() -> None:
        write_record(pool_id, world)

    afterwards(session, write)


@contextmanager
def _alone(pool_id: int) -> Any:
    with engine().connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        which = {"f": Lock.RECORD.value, "n": pool_id}
        connection.execute(text("select pg_advisory_lock(:f, :n)"), which)
        try:
            yield connection
        finally:
            if not connection.closed and not connection.invalidated:
                connection.execute(text("select pg_advisory_unlock(:f, :n)"), which)


def write_record(pool_id: int, world: Devices) -> int:
    """Write on every drive of a pool that answers what the pool is, as it was last committed; on how many. Waits for
    no lock that anybody holds who changes a pool: whoever does may call it."""
    with _alone(pool_id) as connection:
        return _write(connection, pool_id, world)


def _write(connection: Connection, pool_id: int, world: Devices) -> int:
    # One statement: all of it is of one moment.
    found = connection.execute(_SNAPSHOT, {"p": pool_id}).mappings().first()
    if found is None:
        connection.execute(_GONE, {"p": pool_id})
        return 0
    at = now()
    generation = max((found["generation"] or 0) + 1, int(at.timestamp() * 1000))
    body = packed_body({name: found[name] for name in ("pool", "places", "volumes", "backups")})
    places = [p for p in found["places"] if p["serial"] is not None]
    there = {p["serial"] for p in places if _answers(p)}
    reached: dict[str, int] = found["reached"]
    members = tuple(
        RecordedMember(
            p["serial"], p["slot"], p["drive"]["size"], p["drive"]["kind"],
            generation if p["serial"] in there else reached.get(p["serial"], 0), reached.get(p["serial"], 0),
        )
        for p in places
    )  # fmt: skip
    house = found["house"] or _house(connection)

    def put(member: RecordedMember) -> bool:
        head = Head(found["uid"], found["name"], generation, at, house, member.serial, members)
        try:
            world.open(member.serial, member.size).keep_record(found["turn"] % RECORD_COPIES, pack(head, body))
        except DeviceError:
            return False  # It has gone just now; what it lacks, its older record will say.
        return True

    meant = [m for m in members if m.serial in there]
    done = {m.serial for m, ok in zip(meant, each(put, meant), strict=True) if ok}
    mark = pack_mark(found["uid"], generation)

    def put_mark(member: RecordedMember) -> None:
        with suppress(DeviceError):
            world.open(member.serial, member.size).keep_record(RECORD_MARK, mark, flush=False)

    # One that has just gone without anybody knowing yet lacks nothing so far: whatever it has a part in cannot be written
    # before it is known that it is away, and that is another record.
    if len(done) == len(there):
        each(put_mark, meant)
    kept = {m.serial: generation if m.serial in done else reached.get(m.serial, 0) for m in members}
    connection.execute(_KEEP, {
        "p": pool_id, "generation": generation, "turn": found["turn"] + 1, "at": at, "size": len(body),
        "reached": json.dumps({s: g for s, g in kept.items() if g}),
    })  # fmt: skip
    connection.execute(_DONE, {"ids": found["due"] or []})
    return len(done)


def _answers(place: Mapping[str, Any]) -> bool:
    """Whether what its drive says may be believed: it is there, and is, or becomes, what the pool takes it for."""
    return place["drive"]["condition"] in ("good", "failing") and place["state"] in ("active", "rebuilding")


def _house(connection: Connection) -> str:
    connection.execute(_HOUSE, {"v": json.dumps({"id": uuid.uuid4().hex})})
    return str(connection.execute(text("select value ->> 'id' from setting where key = 'installation'")).scalar_one())


def house_of(session: Session) -> str | None:
    """What this installation is known by in records; None before it has written one."""
    return session.connection().execute(text("select value ->> 'id' from setting where key = 'installation'")).scalar()


class Recorder:
    """Writes what is due, pool after pool; a pool whose record takes long is written less often."""

    def __init__(self, world: Devices) -> None:
        self._world = world
        self._not_before: dict[int, float] = {}

    def write_due(self, *, at_once: bool = False) -> int:
        """Write the records that are due; how many."""
        with engine().connect() as connection:
            pools = list(connection.execute(text("select distinct pool_id from record_due order by 1")).scalars())
        written = 0
        for pool_id in pools:
            began = time.monotonic()
            if at_once or began >= self._not_before.get(pool_id, 0.0):
                write_record(pool_id, self._world)
                self._not_before[pool_id] = time.monotonic() + _REST * (time.monotonic() - began)
                written += 1
        return written


# -- reading -----------------------------------------------------------------------------------


def _copies(world: Devices, serial: str, size: int) -> list[bytes]:
    device = world.open(serial, size)
    return [raw for copy in range(RECORD_COPIES) if (raw := device.record(copy))]


def head_on(world: Devices, serial: str, size: int) -> tuple[Head | None, bool]:
    """The head of the newest whole record on a drive, and whether something stands there that cannot be read.
    DeviceError where the drive does not answer."""
    heads, damaged = [], False
    for raw in _copies(world, serial, size):
        try:
            heads.append(sound_head(read_head(raw)))
        except DamagedError:
            damaged = True
    return max(heads, key=lambda h: h.generation, default=None), damaged


def marked_on(world: Devices, serial: str, size: int, pool: str) -> int:
    """The generation of a pool's record of which a drive is marked that all that were there have it; 0 for none."""
    with suppress(DamagedError):
        of, generation = read_mark(world.open(serial, size).record(RECORD_MARK))
        return generation if of == pool else 0
    return 0


def copies_on(world: Devices, serial: str, size: int) -> dict[int, int]:
    """The whole records on a drive: their generation, and the place that each stands in."""
    found = {}
    for copy in range(RECORD_COPIES):
        with suppress(DamagedError):
            found[sound_head(read_head(world.open(serial, size).record(copy))).generation] = copy
    return found


def record_on(world: Devices, serial: str, size: int) -> Record | None:
    """The newest whole record on a drive."""
    found = []
    for raw in _copies(world, serial, size):
        try:
            found.append(sound_record(read_record(raw)))
        except DamagedError:
            continue
    return max(found, key=lambda r: r.head.generation, default=None)


def why_unreadable(world: Devices, serial: str, size: int) -> str | None:
    """Why the record that stands on a drive cannot be read, or is none that a pool can have; None where none stands
    there, or it can."""
    why = None
    for raw in _copies(world, serial, size):
        try:
            sound_record(read_record(raw))
            return None
        except DamagedError as error:
            why = str(error)
    return why


def forget_records(world: Devices, serial: str, size: int, pool: str | None = None, *, but: str | None = None) -> None:
    """Nothing of records is left on a drive: of one pool, or of all ``but`` one. With an encrypted pool's goes its key,
    that its passphrase would open."""
    device = world.open(serial, size)
    for copy in (*range(RECORD_COPIES), RECORD_MARK):
        raw = device.record(copy)
        if not raw:
            continue
        with suppress(DamagedError):
            of = read_mark(raw)[0] if copy == RECORD_MARK else read_head(raw).pool
            if of == but or (pool is not None and of != pool):
                continue
        device.keep_record(copy, bytes(len(raw)))
        device.keep_record(copy, b"")


def key_at_large(session: Session, pool: str, serials: Sequence[str]) -> None:
    """The key of an encrypted pool stands, wrapped by its passphrase, on drives that cannot be reached: so it is not
    said of the others that nothing can be read on them."""
    for drive in session.exec(select(DriveRow).where(DriveRow.sealed_by == pool)):
        drive.sealed_by = None
    log(session, SYSTEM, "key-at-large", pool,
        f"The key of pool {pool} may still be on {', '.join(serials)}, wrapped by its passphrase: its drives are to be wiped "
        "as others are.")  # fmt: skip
