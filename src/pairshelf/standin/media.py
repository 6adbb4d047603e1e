"""Media with real bytes, at a scale: 4 KiB stand for one extent of 1 GiB (1 : 262,144).

A sparse file a drive: 1 KiB for the 256 MiB held back (the label lives there), then the extents. Beside it, when
the drive has a partition table, the table's sectors at their true addresses; and, while its pool is restriped, the
copy of what is being moved: on a drive slice after slice of it goes through the room held back, here it is one piece.
And the record of its pool in two copies: on a drive, beside the label in what is held back, at its true size.
"""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Mapping, Sequence
from pathlib import Path

from pairshelf.core.domain.device import RECORD_MARK, RECORD_MOST
from pairshelf.core.domain.drives import HELD_BACK, extents_of
from pairshelf.core.domain.units import EXTENT

#: Bytes of media that carry one extent.
BLOCK = 4096
SCALE = EXTENT // BLOCK
LABEL_BYTES = HELD_BACK // SCALE
#: Of a label in two copies, half the room each; and of the older sort, in one.
_MAGIC, _ONE_COPY = b"PSHELF2 ", b"PSHELF1 "
_HALF = LABEL_BYTES // 2


class Media:
    """The bytes of one drive. Opening creates it; what it held before it was known is noise."""

    def __init__(self, path: Path, size: int, *, old_data: str | None = None) -> None:
        self.path = path
        self.extents = extents_of(size)
        fresh = not path.exists()
        self._fd = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        if fresh:
            os.ftruncate(self._fd, size // SCALE)
            if old_data:
                self._scatter(old_data)

    def close(self) -> None:
        """Give the file back."""
        if self._fd >= 0:
            os.close(self._fd)
            self._fd = -1

    def __del__(self) -> None:
        self.close()

    def _scatter(self, seed: str) -> None:
        """Somebody's old data in the first extents, different for every drive."""
        noise = hashlib.shake_256(seed.encode()).digest(min(self.extents, 64) * BLOCK)
        os.pwrite(self._fd, noise, LABEL_BYTES)

    def _offset(self, start: int, count: int) -> int:
        if start < 0 or start + count > self.extents:
            raise ValueError(f"extents {start}..{start + count} are outside the drive's {self.extents}")
        return LABEL_BYTES + start * BLOCK

    def read(self, start: int, count: int) -> bytes:
        """``count`` extents; media never written read as zeros."""
        data = bytearray(count * BLOCK)
        self.read_into(start, memoryview(data))
        return bytes(data)

    def read_into(self, start: int, into: memoryview) -> None:
        """The same, into bytes that are there already."""
        view = into.cast("B")
        offset = self._offset(start, len(view) // BLOCK)
        while view:
            got = os.preadv(self._fd, [view], offset)
            if not got:  # past the end of the file
                view[:] = bytes(len(view))
                return
            view, offset = view[got:], offset + got

    def write(self, start: int, data: bytes | memoryview) -> None:
        """Whole extents, all of them or an OSError."""
        view = memoryview(data).cast("B")
        offset = self._offset(start, len(view) // BLOCK)
        while view:
            written = os.pwrite(self._fd, view, offset)
            view, offset = view[written:], offset + written

    def flush(self) -> None:
        """To stable storage."""
        os.fdatasync(self._fd)

    def read_label(self) -> Mapping[str, object] | None:
        """The label, or None when there is none or every copy of it is damaged."""
        raw = os.pread(self._fd, LABEL_BYTES, 0)
        return _label(raw[:_HALF], _MAGIC) or _label(raw[_HALF:], _MAGIC) or _label(raw, _ONE_COPY)

    def write_label(self, label: Mapping[str, object]) -> None:
        """Two copies, one after the other: a kill leaves one of them whole. ValueError where it does not fit."""
        body = json.dumps(label, separators=(",", ":"), ensure_ascii=False).encode()
        raw = _MAGIC + body + b"\n" + hashlib.sha256(body).hexdigest().encode()
        if len(raw) > _HALF:
            raise ValueError("the label is longer than the room held back for it")
        for at in (0, _HALF):
            os.pwrite(self._fd, raw.ljust(_HALF, b"\0"), at)

    def clear_held_back(self) -> None:
        """Nothing is left outside the extents: label, rest of the last whole extent, table, what was kept aside."""
        end = LABEL_BYTES + self.extents * BLOCK
        whole = os.fstat(self._fd).st_size
        os.pwrite(self._fd, bytes(LABEL_BYTES), 0)
        if whole > end:
            os.pwrite(self._fd, bytes(whole - end), end)
        os.fdatasync(self._fd)
        for path in (self._aside, self._sectors, *(self._record(n) for n in range(RECORD_MARK + 1))):
            path.unlink(missing_ok=True)
        self.path.with_suffix(".aside-draft").unlink(missing_ok=True)

    def held_back(self) -> bytes:
        """All that stands outside the extents."""
        end = LABEL_BYTES + self.extents * BLOCK
        whole = os.fstat(self._fd).st_size
        table = self._sectors.read_bytes() if self._sectors.exists() else b""
        records = b"".join(self.record(n) for n in range(RECORD_MARK + 1))
        return (
            os.pread(self._fd, LABEL_BYTES, 0)
            + os.pread(self._fd, max(0, whole - end), end)
            + table
            + self.aside()
            + records
        )

    @property
    def _aside(self) -> Path:
        return self.path.with_suffix(".aside")

    def keep_aside(self, data: bytes) -> None:
        """In the place of what was kept before: a reader finds all of it or what was there."""
        draft = self.path.with_suffix(".aside-draft")
        with open(draft, "wb") as file:
            file.write(data)
            file.flush()
            os.fdatasync(file.fileno())
        draft.replace(self._aside)

    def aside(self) -> bytes:
        """What was last kept."""
        try:
            return self._aside.read_bytes()
        except FileNotFoundError:
            return b""

    def _record(self, copy: int) -> Path:
        return self.path.with_suffix(f".record-{copy}")

    def keep_record(self, copy: int, data: bytes, *, flush: bool = True) -> None:
        """Written over what stood there, as on a drive: a kill leaves this copy torn, and the other one as it was."""
        if not 0 <= copy <= RECORD_MARK or len(data) > RECORD_MOST:
            raise ValueError("the record does not fit into the room held back for it")
        descriptor = os.open(self._record(copy), os.O_WRONLY | os.O_CREAT | os.O_CLOEXEC, 0o600)
        with os.fdopen(descriptor, "wb") as file:
            file.write(data)
            file.truncate()
            file.flush()
            if flush:
                os.fdatasync(file.fileno())

    def record(self, copy: int) -> bytes:
        """What was last kept in that place."""
        try:
            return self._record(copy).read_bytes()
        except FileNotFoundError:
            return b""

    # -- sectors at their true addresses: a partition table has no use at a scale ----------------------

    @property
    def _sectors(self) -> Path:
        return self.path.with_suffix(".sectors")

    def read_sectors(self, at: int, count: int) -> bytes:
        """Bytes at a true address; zeros where no table stands."""
        out = bytearray(count)
        try:
            chunks = json.loads(self._sectors.read_bytes())
        except (FileNotFoundError, ValueError):
            return bytes(out)
        for start, content in chunks:
            raw = bytes.fromhex(content)
            first, end = max(at, start), min(at + count, start + len(raw))
            if first < end:
                out[first - at : end - at] = raw[first - start : end - start]
        return bytes(out)

    def write_sectors(self, chunks: Sequence[tuple[int, bytes]]) -> None:
        """The table, in the place of the one before: a reader sees all of it or nothing."""
        draft = self.path.with_suffix(".sectors-draft")
        with open(draft, "w") as file:
            json.dump([[at, content.hex()] for at, content in chunks], file)
            file.flush()
            os.fsync(file.fileno())
        draft.replace(self._sectors)


def _label(raw: bytes, magic: bytes) -> Mapping[str, object] | None:
    if not raw.startswith(magic):
        return None
    body, _, digest = raw[len(magic) :].rstrip(b"\0").rpartition(b"\n")
    if hashlib.sha256(body).hexdigest().encode() != digest:
        return None
    label: Mapping[str, object] = json.loads(body)
    return label
