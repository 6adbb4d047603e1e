"""A volume's extents: given and taken back, and its bytes through pieces, stripes and the pool's key."""

from __future__ import annotations

import uuid
from collections.abc import Sequence

import numpy as np
from sqlalchemy import delete, func, text
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Session, col, select

from pairshelf.core.domain.device import Devices
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.domain.volume_spec import Spec
from pairshelf.core.errors import Locked, NoRoom
from pairshelf.core.layouts.allocation import Piece, allocate, gaps, moved, spans, unplaced, without
from pairshelf.core.layouts.protections import parse_protection
from pairshelf.core.layouts.spread import StripedVolume, base_of, spread_of, volume_at
from pairshelf.engine import keys
from pairshelf.engine.io.pool_io import PoolIO
from pairshelf.engine.io.restripe_io import RestripeIO
from pairshelf.engine.io.spread_io import SpreadIO, Stretch
from pairshelf.engine.pools import OpenPool, open_io
from pairshelf.engine.records import say_first
from pairshelf.store.database import among
from pairshelf.store.repositories.drives_and_pools import store_stripes
from pairshelf.store.tables import ChangedRegion, SampleFile, VolumePiece, VolumeRow, VolumeStripes

#: Extents of a volume that is being moved that are copied again together, when one of them is written.
CHANGED_TOGETHER = 64


def pieces_of(session: Session, volume_id: int) -> list[Piece]:
    """Where a volume's extents lie."""
    rows = session.exec(select(VolumePiece).where(VolumePiece.volume_id == volume_id).order_by(col(VolumePiece.at)))
    return [Piece(r.at, r.first, r.count) for r in rows]


def make_volume(session: Session, pool: OpenPool, spec: Spec) -> VolumeRow:
    """A volume; a thick one has its extents from now on."""
    volume = add_volume(session, pool.row.number, spec)
    if not spec.thin:
        place(session, pool, volume, 0, spec.extents)
    return volume


def add_volume(session: Session, pool_id: int, spec: Spec, *, partition: int | None = None) -> VolumeRow:
    """A volume without extents yet."""
    volume = VolumeRow(
        pool_id=pool_id, name=spec.name, size=spec.size, extents=spec.extents, thin=spec.thin,
        purpose=spec.purpose, protection=spec.protection.name if spec.protection else None,
        file_system=spec.file_system, reserved_share=spec.reserved_share, overhead=spec.overhead, uuid=str(uuid.uuid4()),
        partition=partition,
    )  # fmt: skip
    session.add(volume)
    session.flush()
    return volume


def place(session: Session, pool: OpenPool, volume: VolumeRow, at: int, count: int) -> list[Stretch]:
    """Give a stretch of a volume its extents; returns new stripes (spread pools) that are not in step yet."""
    volume_id, pool_id = volume.number, pool.row.number
    fresh: list[Stretch] = []
    if pool.layout.own_protection:
        free, fresh = _room_in_stripes(session, pool, volume, count)
    else:
        taken = session.exec(select(VolumePiece.first, VolumePiece.count).where(VolumePiece.pool_id == pool_id)).all()
        free = gaps(pool.row.capacity, taken)
    for piece in allocate(free, at, count):
        session.add(
            VolumePiece(pool_id=pool_id, volume_id=volume_id, at=piece.at, first=piece.first, count=piece.count)
        )
    session.flush()
    return fresh


def _room_in_stripes(
    session: Session, pool: OpenPool, volume: VolumeRow, count: int
) -> tuple[list[tuple[int, int]], list[Stretch]]:
    """Free addresses in a volume's stripes, with as many more stripes as it takes."""
    layout = spread_of(pool.layout)
    volume_id = volume.number
    protection = parse_protection(volume.protection or "")
    base = base_of(volume_id)
    have = next((v for v in layout.volumes if v.volume == volume_id), None)
    stripes = len(have.spots) if have else 0
    taken = [(p.first - base, p.count) for p in pieces_of(session, volume_id)]
    free = gaps(stripes * protection.data, taken)
    short = count - sum(n for _, n in free)
    fresh = []
    if short > 0:
        more = layout.more(protection, -(-short // protection.data), pool.closed())
        spots = more if have is None else np.concatenate([have.spots, more])
        placed = StripedVolume(volume_id, protection, spots)
        pool.layout = layout.with_volume(placed)
        store_stripes(session, pool.row.number, placed)
        fresh = [Stretch(placed, stripes, len(more))]
        free = gaps(len(spots) * protection.data, taken)
    return [(base + first, n) for first, n in free], fresh


def give_back(session: Session, pool: OpenPool, volume: VolumeRow, stretches: Sequence[tuple[int, int]]) -> None:
    """Take stretches (first extent, extents) of a volume back, touching only the pieces they lie in; in a spread pool
    its last stripes go when nothing stands in them."""
    volume_id = volume.number
    before = kept = pieces_of(session, volume_id)
    for at, count in stretches:
        kept = without(kept, at, count)
    gone = set(before) - set(kept)
    going = delete(VolumePiece).where(
        col(VolumePiece.volume_id) == volume_id, among(VolumePiece.at, [p.at for p in gone])
    )
    session.connection().execute(going)
    session.add_all(
        VolumePiece(pool_id=pool.row.number, volume_id=volume_id, at=p.at, first=p.first, count=p.count)
        for p in set(kept) - set(before)
    )  # fmt: skip
    session.flush()
    layout = pool.layout
    if have := layout.striped(volume_id):
        end = max((p.first + p.count - base_of(volume_id) for p in kept), default=0)
        placed = StripedVolume(volume_id, have.protection, have.spots[: -(-end // have.protection.data)])
        pool.layout = spread_of(layout).with_volume(placed)
        store_stripes(session, pool.row.number, placed)


def delete_volume(session: Session, pool: OpenPool, volume: VolumeRow) -> None:
    """The volume with its files; its extents are free again."""
    volume_id = volume.number
    for table in (SampleFile, VolumePiece, VolumeStripes, ChangedRegion):
        session.connection().execute(delete(table).where(col(table.volume_id) == volume_id))
    session.delete(volume)
    session.flush()
    pool.layout = pool.layout.without_volume(volume_id)


class VolumeIO:
    """The bytes of volumes of one pool, as their users see them: in extents from the volume's start."""

    def __init__(
        self, session: Session, pool: OpenPool, world: Devices, io: PoolIO | SpreadIO | RestripeIO | None = None
    ) -> None:
        self._session, self._pool, self._world = session, pool, world
        self._io = io
        self._pieces: dict[int, list[Piece]] = {}
        self._key: bytes | None = None
        self._shifts: dict[int, int] | None = None
        if pool.row.key is not None:
            self._key = keys.key_of(pool.row.number)
            if self._key is None:
                raise Locked(pool.row.name)

    @property
    def io(self) -> PoolIO | SpreadIO | RestripeIO:
        """The pool below."""
        if self._io is None:
            self._io = open_io(self._session, self._pool, self._world)
        return self._io

    @property
    def block(self) -> int:
        """Bytes that carry one extent."""
        return self._world.block

    def _where(self, volume: VolumeRow) -> list[Piece]:
        """Where its extents lie, looked up once."""
        volume_id = volume.number
        if volume_id not in self._pieces:
            self._pieces[volume_id] = pieces_of(self._session, volume_id)
        return self._pieces[volume_id]

    def _sealed_at(self, address: int) -> int:
        """The address that an extent is encrypted by: of a spread pool's volume that was brought in and has another
        number here, the one it had where it was made."""
        if not self._pool.layout.own_protection:
            return address
        if self._shifts is None:
            query = select(VolumeRow).where(
                VolumeRow.pool_id == self._pool.row.id, col(VolumeRow.sealed_as).is_not(None)
            )
            self._shifts = {
                v.number: base_of(v.sealed_as) - base_of(v.number)
                for v in self._session.exec(query) if v.sealed_as is not None
            }  # fmt: skip
        return address + self._shifts.get(volume_at(address), 0)

    def forget_places(self) -> None:
        """Extents have been given or taken back."""
        self._pieces.clear()

    def read(self, volume: VolumeRow, at: int, count: int) -> memoryview:
        """``count`` extents; those without a place yet read as zeros."""
        found = spans(self._where(volume), at, count)
        if len(found) == 1 and found[0][2] == count and not self._key:
            return self.io.read(found[0][1], count)
        out = bytearray(count * self.block)
        for extent, address, n in found:
            data: bytes | memoryview = self.io.read(address, n)
            if self._key:
                data = keys.decrypt(self._key, self._sealed_at(address), data, self.block)
            start = (extent - at) * self.block
            out[start : start + len(data)] = data
        return memoryview(out)

    def write(self, volume: VolumeRow, at: int, data: bytes | memoryview, *, fresh: bool = False) -> None:
        """Whole extents; a thin volume gets its places now. NotPossible when the pool is full.

        ``fresh``: nothing refers to these extents before the write is over.
        """
        count = len(data) // self.block
        if at + count > volume.extents:
            raise NoRoom("The volume is full.", code="volume-full", needed=count, left=volume.extents - at, field=None)
        if volume.moving_to is not None:
            self._note_changed(volume, at, count)
        pieces = self._where(volume)
        if missing := unplaced(pieces, at, count):
            more: list[Stretch] = []
            for start, n in missing:
                more += place(self._session, self._pool, volume, start, n)
            self.forget_places()
            pieces = self._where(volume)
            self.io.take_up(self._pool.layout, more)
        for extent, address, n in spans(pieces, at, count):
            self.write_to(address, data[(extent - at) * self.block : (extent - at + n) * self.block], fresh=fresh)

    def _note_changed(self, volume: VolumeRow, at: int, count: int) -> None:
        """What is written to a volume that is being moved has to be copied again."""
        regions = range(at // CHANGED_TOGETHER, (at + count - 1) // CHANGED_TOGETHER + 1)
        rows = [{"volume_id": volume.number, "region": region} for region in regions]
        self._session.connection().execute(insert(ChangedRegion).on_conflict_do_nothing(), rows)

    def write_to(self, address: int, data: bytes | memoryview, *, fresh: bool = True) -> None:
        """Whole extents to a pool address; usually one that nothing refers to yet."""
        if self._key:
            data = keys.encrypt(self._key, self._sealed_at(address), data, self.block)
        self.io.write(address, data, fresh=fresh)


def move_stretch(
    session: Session, io: VolumeIO, pool: OpenPool, volume: VolumeRow, source: int, to: int, count: int
) -> None:
    """Move extents of a volume, which lie side by side from a pool address on, to free addresses: written there
    before anything refers to them."""
    pieces = pieces_of(session, volume.number)
    piece = next(p for p in pieces if p.first <= source < p.first + p.count)
    at = piece.at + source - piece.first
    io.write_to(to, io.read(volume, at, count))
    kept = moved(pieces, source, to, count)
    gone = delete(VolumePiece).where(
        col(VolumePiece.volume_id) == volume.number, among(VolumePiece.at, [p.at for p in set(pieces) - set(kept)])
    )
    session.connection().execute(gone)
    session.add_all(
        VolumePiece(pool_id=pool.row.number, volume_id=volume.number, at=p.at, first=p.first, count=p.count)
        for p in set(kept) - set(pieces)
    )  # fmt: skip
    session.flush()
    say_first(session, pool.row.number)
    io.forget_places()


def file_room(volume: VolumeRow) -> int:
    """Whole extents of a volume that are left for files."""
    return max(0, min(volume.extents, (volume.size - volume.overhead) // EXTENT))


_GAPS = text("""
select ends, coalesce(following, :all) from (
    select first + extents as ends, lead(first) over (order by first) as following from sample_file where volume_id = :v
    union all select 0, min(first) from sample_file where volume_id = :v) t
where coalesce(following, :all) > ends order by ends
""")


class Room:
    """Where on a volume a file can go: after what the file system holds, and no more than its room for files."""

    def __init__(self, session: Session, volume: VolumeRow) -> None:
        self._name = volume.name
        used = select(func.coalesce(func.sum(SampleFile.extents), 0)).where(SampleFile.volume_id == volume.id)
        held = volume.extents - file_room(volume)
        left = file_room(volume) - int(session.exec(used).one())
        self._free: list[list[int]] = []
        for start, end in session.connection().execute(_GAPS, {"v": volume.id, "all": volume.extents}):
            first = max(start, held)
            count = min(end - first, left)
            if count > 0:
                self._free.append([first, count])
                left -= count

    def take(self, extents: int, *, whole: bool) -> tuple[int, int]:
        """(first extent, extents) for a file in one stretch: the first that holds it, otherwise a part of the
        largest, or NotPossible where it has to be ``whole``."""
        fitting = next((g for g in self._free if g[1] >= extents), None)
        gap = fitting or (None if whole else max(self._free, key=lambda g: g[1], default=None))
        if gap is None:
            raise NoRoom(f"Volume {self._name} is full.", code="volume-full", needed=extents, left=0, field=None)
        first, count = gap[0], min(extents, gap[1])
        gap[0], gap[1] = first + count, gap[1] - count
        if not gap[1]:
            self._free.remove(gap)
        return first, count


def files_on(session: Session, volume_id: int) -> list[SampleFile]:
    """All files of a volume, in the order they were written."""
    query = select(SampleFile).where(SampleFile.volume_id == volume_id).order_by(col(SampleFile.id))
    return list(session.exec(query))
