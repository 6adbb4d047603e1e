"""An implementation apart from the engine's: files read back from the raw media, by docs/rules.md alone.

Slow and plain on purpose. It takes from the books only where things are said to lie, opens the media files by
itself, pretends that some members are gone, and computes what stood on them.
"""

from __future__ import annotations

import hashlib
import random
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
from sqlmodel import Session, col, select

from pairshelf.core.layouts.model import Code
from pairshelf.core.layouts.spread import SpreadLayout
from pairshelf.engine import keys
from pairshelf.engine.pools import devices, open_pool
from pairshelf.store.tables import DriveRow, MemberState, SampleFile, VolumePiece, VolumeRow
from tests.core.test_erasure import slow_multiply

BLOCK, HELD_BACK = 4096, 1024
Bytes = npt.NDArray[np.uint8]


TIMES = np.array([[slow_multiply(a, b) for b in range(256)] for a in range(256)], np.uint8)
INVERSE = [0, *(int(np.flatnonzero(TIMES[a] == 1)[0]) for a in range(1, 256))]


def _power(base: int, exponent: int) -> int:
    found = 1
    for _ in range(exponent):
        found = slow_multiply(found, base)
    return found


def coefficients(data: int, parities: int) -> list[list[int]]:
    """A row for each column of a stripe: what of each data extent it is made of."""
    unit = [[int(i == j) for j in range(data)] for i in range(data)]
    return unit + [[_power(2, j * i) for i in range(data)] for j in range(parities)]


def solve(data: int, parities: int, present: dict[int, Bytes]) -> list[Bytes]:
    """The data extents of a stripe from any ``data`` of its columns, by elimination."""
    every = coefficients(data, parities)
    chosen = sorted(present)[:data]
    assert len(chosen) == data, "too many columns are gone"
    rows = [list(every[c]) for c in chosen]
    values = [present[c].copy() for c in chosen]
    for i in range(data):
        pivot = next(r for r in range(i, data) if rows[r][i])
        rows[i], rows[pivot], values[i], values[pivot] = rows[pivot], rows[i], values[pivot], values[i]
        scale = INVERSE[rows[i][i]]
        rows[i] = [int(TIMES[scale][v]) for v in rows[i]]
        values[i] = TIMES[scale][values[i]]
        for r in range(data):
            if r != i and (factor := rows[r][i]):
                rows[r] = [a ^ int(TIMES[factor][b]) for a, b in zip(rows[r], rows[i], strict=True)]
                values[r] = values[r] ^ TIMES[factor][values[i]]
    return values


@dataclass
class Raw:
    """One pool's members, opened past everything."""

    session: Session
    pool_id: int

    def __post_init__(self) -> None:
        self.pool = open_pool(self.session, self.pool_id)
        folder = devices().folder / "media"
        self.media: dict[int, bytes] = {}
        for place in self.pool.members:
            drive = self.session.get(DriveRow, place.drive_id) if place.drive_id else None
            if drive is not None and place.state == MemberState.ACTIVE:
                file = devices().media_path(drive.serial)
                assert file.parent == folder
                self.media[place.slot or 0] = file.read_bytes() if file.exists() else b""

    def extent(self, slot: int, row: int) -> Bytes:
        """One extent of a member; what was never written reads as zeros."""
        at = HELD_BACK + row * BLOCK
        return np.frombuffer(self.media[slot][at : at + BLOCK].ljust(BLOCK, b"\0"), np.uint8)

    def stripes(self) -> Iterator[tuple[int, Code, int, int, list[tuple[int, int]]]]:
        """All stripes: first data address, code, data columns, parity columns, (slot, row) of each column."""
        layout = self.pool.layout
        if isinstance(layout, SpreadLayout):
            for placed in layout.volumes:
                p = placed.protection
                code, parities = (Code.COPIES, 0) if p.copies else (Code.PARITY, p.survives)
                for number, spots in enumerate(placed.spots.tolist()):
                    yield (placed.volume << 32) + number * p.data, code, p.data, parities, [tuple(s) for s in spots]
            return
        address = 0
        for band in layout.bands:
            for row in range(band.start, band.start + band.rows):
                for group in band.groups:
                    n = len(group.members)
                    order = list(group.members)
                    if group.code is Code.PARITY:
                        # Parity moves one member to the left with every row, and runs on to the right of it.
                        checks = [order[(n - 1 - row + j) % n] for j in range(group.parity)]
                        order = [m for m in order if m not in checks] + checks
                    yield address, group.code, group.data, group.parity, [(m, row) for m in order]
                    address += group.data

    def in_step(self) -> list[int]:
        """First addresses of stripes whose redundancy does not agree with their data."""
        wrong = []
        for address, code, data, parities, spots in self.stripes():
            if code is Code.NONE or any(slot not in self.media for slot, _ in spots):
                continue
            blocks = [self.extent(*s) for s in spots]
            if code is Code.COPIES:
                good = all(np.array_equal(blocks[0], b) for b in blocks[1:])
            else:
                rows = coefficients(data, parities)[data:]
                good = True
                for row, kept in zip(rows, blocks[data:], strict=True):
                    made = np.zeros(BLOCK, np.uint8)
                    for factor, block in zip(row, blocks, strict=False):
                        made ^= TIMES[factor][block]
                    good &= bool(np.array_equal(made, kept))
            if not good:
                wrong.append(address)
        return wrong

    def files_differing(self, dice: random.Random, gone: int) -> list[str]:
        """Files that do not read back as written while ``gone`` members of each stripe, drawn at random, are away."""
        lost = set(dice.sample(sorted(self.media), min(gone, len(self.media))))
        data_at: dict[int, Bytes] = {}
        wanted = self._addresses()
        for address, code, data, parities, spots in self.stripes():
            if not any(address + i in wanted for i in range(data)):
                continue
            present = {c: self.extent(*s) for c, s in enumerate(spots) if s[0] in self.media and s[0] not in lost}
            if code is Code.COPIES:
                found = [next(iter(present.values()))]
            elif code is Code.NONE:
                found = [present[0]]
            else:
                found = solve(data, parities, present)
            data_at.update({address + i: f for i, f in enumerate(found)})
        key = keys.key_of(self.pool_id) if self.pool.row.key else None
        differing = []
        for file, places in self._files():
            whole = b"".join(self._plain(key, a, data_at[a].tobytes()) for a in places)
            if file.checksum != "blake2b:" + hashlib.blake2b(whole, digest_size=32).hexdigest():
                differing.append(f"{file.name} with {sorted(lost)} away")
        return differing

    def _plain(self, key: bytes | None, address: int, block: bytes) -> bytes:
        if key is None:
            return block
        return Cipher(algorithms.AES(key), modes.XTS(address.to_bytes(16, "little"))).decryptor().update(block)

    def _files(self) -> Iterator[tuple[SampleFile, list[int]]]:
        volumes = select(VolumeRow.id).where(VolumeRow.pool_id == self.pool_id)
        pieces: dict[int, list[VolumePiece]] = {}
        for piece in self.session.exec(select(VolumePiece).where(VolumePiece.pool_id == self.pool_id)):
            pieces.setdefault(piece.volume_id, []).append(piece)
        for file in self.session.exec(select(SampleFile).where(col(SampleFile.volume_id).in_(volumes))):
            places = []
            for at in range(file.first, file.first + file.extents):
                own = next(p for p in pieces[file.volume_id] if p.at <= at < p.at + p.count)
                places.append(own.first + at - own.at)
            yield file, places

    def _addresses(self) -> set[int]:
        return {a for _, places in self._files() for a in places}
