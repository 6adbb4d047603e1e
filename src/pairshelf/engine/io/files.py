"""Files that simulated hosts keep on volumes: written where there is room, kept by rule, read back."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise

import numpy as np
import numpy.typing as npt
from sqlalchemy import delete, func, text
from sqlmodel import Session, col, select

from pairshelf.core.domain.units import EXTENT
from pairshelf.core.domain.volume_spec import rule_limit
from pairshelf.engine.io.volume_io import Room, VolumeIO, give_back
from pairshelf.engine.log import SYSTEM, log
from pairshelf.engine.pools import OpenPool, open_pool
from pairshelf.store.database import among, transaction
from pairshelf.store.tables import Application, KeepRule, SampleFile, VolumeRow, now

#: Files that hosts write are at most so many extents long.
LONGEST = 64


def length_of(volume_id: int, index: int) -> int:
    """Extents of the file of that number."""
    return 1 + hashlib.sha256(f"{volume_id}/{index}".encode()).digest()[0] % LONGEST


@lru_cache(maxsize=1)
def _noise() -> npt.NDArray[np.uint64]:
    return np.random.Generator(np.random.SFC64(1)).integers(0, 2**64 - 1, 4 * _STRETCH, np.uint64, endpoint=True)


#: Words of content that are worked out at once.
_STRETCH = 32768


def content_of(volume_id: int, index: int, size: int) -> bytes:
    """Bytes of the file of that number: the same whenever a killed worker does it again.

    Noise from a place, and with a mask, of each file's own: dice for every file took longer than to store them.
    """
    words = np.empty(-(-size // 8), np.uint64)
    noise = _noise()
    for at in range(0, len(words), _STRETCH):
        part = words[at : at + _STRETCH]
        seed = hashlib.blake2b(f"{volume_id}/{index}/{at}".encode(), digest_size=16).digest()
        start = int.from_bytes(seed[:8]) % (len(noise) - _STRETCH)
        np.bitwise_xor(noise[start : start + len(part)], np.uint64(int.from_bytes(seed[8:])), out=part)
    return words.tobytes()[:size]


def checksum_of(content: bytes | memoryview) -> str:
    """The checksum that a host keeps of a file, after the name of its algorithm (BLAKE2b, RFC 7693)."""
    return "blake2b:" + hashlib.blake2b(content, digest_size=32).hexdigest()


def agrees(content: bytes | memoryview, checksum: str) -> bool:
    """Whether these are the bytes of that checksum; older files have theirs by SHA-256."""
    if checksum.startswith("sha256:"):
        return checksum == "sha256:" + hashlib.sha256(content).hexdigest()
    return checksum == checksum_of(content)


def overlapping(files: Sequence[SampleFile]) -> list[str]:
    """Files that claim extents another file has too."""
    ordered = sorted(files, key=lambda f: f.first)
    return [b.name for a, b in pairwise(ordered) if b.first < a.first + a.extents]


@dataclass(frozen=True, slots=True)
class FilePlace:
    """Where a file goes, and who writes it."""

    folder: str
    name: str
    via: str
    writer: str

    @property
    def path(self) -> str:
        """Its path on the volume."""
        return "/".join(p for p in (self.folder, self.name) if p)


_COLUMNS = ("name", "first", "extents", "checksum", "via", "folder", "writer")
#: All in one statement, whose text is the same for any number: what a change of the books makes due is worked out for each
#: statement, and a list of values would be read anew for each number of them.
_INTO_BOOKS = text("""
insert into sample_file (volume_id, written_at, name, first, extents, checksum, via, folder, writer)
select :volume, :at, * from unnest(cast(:name as text[]), cast(:first as bigint[]), cast(:extents as bigint[]),
    cast(:checksum as text[]), cast(:via as text[]), cast(:folder as text[]), cast(:writer as text[]))
""")


class FileWriter:
    """Writes files one after the other; what lies side by side goes to the drives in one piece."""

    def __init__(self, session: Session, io: VolumeIO, volume: VolumeRow) -> None:
        self._session, self._io, self._volume = session, io, volume
        self._room = Room(session, volume)
        self._first = 0
        #: When they are written: to ask the clock for each would cost more than the books.
        self._at = now()
        #: Extents that wait to be written.
        self.waiting = 0
        self._waiting: list[bytes | memoryview] = []
        #: Name, where, how much, checksum, way, folder and writer of those that are not in the books yet.
        self._rows: list[tuple[str, int, int, str, str, str, str]] = []

    def write(self, place: FilePlace, content: bytes | memoryview, checksum: str = "", *, whole: bool = False) -> int:
        """A file where there is room for it in one stretch; as much of it as that holds, unless it has to be
        ``whole``; the extents it got. It stands on the drives, and in the books, after ``flush``."""
        first, extents = self._room.take(len(content) // self._io.block, whole=whole)
        if len(content) > extents * self._io.block:
            content, checksum = content[: extents * self._io.block], ""
        if self._waiting and self._first + self.waiting != first:
            self._to_the_drives()
        if not self._waiting:
            self._first = first
        self._waiting.append(content)
        self.waiting += extents
        self._rows.append((
            place.path, first, extents, checksum or checksum_of(content), place.via, place.folder, place.writer,
        ))  # fmt: skip
        return extents

    def flush(self) -> None:
        """Everything to the drives, and into the books."""
        self._to_the_drives()
        if self._rows:
            asked = dict(zip(_COLUMNS, map(list, zip(*self._rows, strict=True)), strict=True))
            self._session.connection().execute(_INTO_BOOKS, {**asked, "volume": self._volume.id, "at": self._at})
            self._rows = []

    def _to_the_drives(self) -> None:
        if self._waiting:
            # Room of no file: the books name these extents only when all of it is done.
            self._io.write(self._volume, self._first, b"".join(self._waiting), fresh=True)
            self._waiting, self.waiting = [], 0


#: Files looked at in one go for what may be deleted.
_AT_A_TIME = 200


class Keeper:
    """A volume's keep rule: what is taken, and what goes before more comes. Looks at the files only when some must go."""

    def __init__(self, session: Session, pool: OpenPool, volume: VolumeRow, rule: KeepRule) -> None:
        self._session, self._pool, self._volume = session, pool, volume
        #: Extents that may be taken.
        self._limit = rule_limit(volume.size - volume.overhead, rule.above) // EXTENT
        writer = session.get(Application, rule.application_id) if rule.application_id else None
        self._writer = writer.name if writer else None
        total = select(func.coalesce(func.sum(SampleFile.extents), 0)).where(SampleFile.volume_id == volume.id)
        #: Extents that files take.
        self.used = int(session.exec(total).one())

    def over(self, coming: int) -> bool:
        """Whether something must go before so many extents come."""
        return self.used + coming > self._limit

    def make_room(self, coming: int = 0) -> int:
        """Delete the oldest until so many extents may come; how many recordings went."""
        gone: list[SampleFile] = []
        for file in self._oldest_first():
            if not self.over(coming):
                break
            gone.append(file)
            self.used -= file.extents
        remove_files(self._session, self._pool, self._volume, gone)
        return len(gone)

    def _oldest_first(self) -> Iterator[SampleFile]:
        query = select(SampleFile).where(SampleFile.volume_id == self._volume.id)
        if self._writer is not None:
            query = query.where(SampleFile.writer == self._writer)
        query = query.order_by(col(SampleFile.written_at), col(SampleFile.id)).limit(_AT_A_TIME)
        found, looked = list(self._session.exec(query)), 0
        while found:
            yield from found
            looked += len(found)
            found = list(self._session.exec(query.offset(looked)))


def keeper_of(session: Session, pool: OpenPool, volume: VolumeRow) -> Keeper | None:
    """The volume's keep rule at work, None where it has none."""
    rule = session.get(KeepRule, volume.id)
    return None if rule is None else Keeper(session, pool, volume, rule)


def remove_files(session: Session, pool: OpenPool, volume: VolumeRow, files: Sequence[SampleFile]) -> None:
    """Files gone for good; a thin volume gives their extents back."""
    if not files:
        return
    if volume.thin:
        give_back(session, pool, volume, [(f.first, f.extents) for f in files])
    session.connection().execute(delete(SampleFile).where(among(SampleFile.id, [f.id for f in files])))
    for file in files:
        session.expunge(file)


_OVERDUE = text("""
select f.id, v.pool_id from sample_file f join volume v on v.id = f.volume_id
where f.deleted_at is not null and not exists (
    select 1 from share s where s.volume_id = f.volume_id and s.bin_days is not null
    and (s.folder = '' or f.folder = s.folder or starts_with(f.folder, s.folder || '/'))
    and f.deleted_at > :now - make_interval(days => s.bin_days))
order by f.id limit 200
""")


def empty_bins() -> int:
    """Delete for good what has lain in a bin for its days, or whose bin is no more; how many files."""
    with transaction() as session:
        overdue = session.connection().execute(_OVERDUE, {"now": now()}).all()
    emptied = 0
    for file_id, pool_id in overdue:
        with transaction() as session:
            pool = open_pool(session, pool_id)
            file = session.get(SampleFile, file_id)
            volume = session.get(VolumeRow, file.volume_id) if file else None
            if file is not None and volume is not None and file.deleted_at is not None:
                remove_files(session, pool, volume, [file])
                log(session, SYSTEM, "bin-emptied", volume.name, f"{file.name} left the bin for good.")
                emptied += 1
    return emptied


def files_of(session: Session, pool_id: int) -> list[SampleFile]:
    """All files on a pool's volumes, in the order they were written."""
    return list(
        session.exec(
            select(SampleFile).join(VolumeRow, col(VolumeRow.id) == SampleFile.volume_id)
            .where(VolumeRow.pool_id == pool_id).order_by(col(SampleFile.id))
        )
    )  # fmt: skip
