"""Boxes: simulated drives packed into a file with all their bytes, to be carried to another installation's room.

A ZIP archive: ``drives.json`` says which drives it has, and every file of a drive's media stands under the drive's
number in that list. Nothing of a path in it is believed.
"""

from __future__ import annotations

import json
import re
import shutil
import tempfile
import time
import zipfile
import zlib
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from typing import IO, Any

from pairshelf.core.domain.device import RECORD_MOST, Presence
from pairshelf.core.domain.inventory import DriveRecord
from pairshelf.core.errors import BadInput, PairShelfError
from pairshelf.standin.media import SCALE
from pairshelf.standin.sidecars import require_sound
from pairshelf.standin.world import World, facts_of, record_from

#: Most drives and most bytes that a box may unpack to.
MOST_DRIVES, MOST_BYTES = 500, 8 * 2**30
_LIST = "drives.json"
_PIECE = 1024 * 1024
#: Where a box is read before anything is touched, in the folder of the drives.
_UNPACKING = "unpacking-"
#: Seconds after which such a folder is one that a kill has left.
_LEFT_AFTER = 3600.0
#: What a drive's media may have beside them.
_SUFFIX = re.compile(r"\.[a-z][a-z0-9-]{0,20}")


def pack(world: World, drives: Sequence[DriveRecord], into: IO[bytes]) -> None:
    """Take drives out of their bays and put them into a box."""
    listed = []
    with zipfile.ZipFile(into, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as box:
        for number, drive in enumerate(drives):
            world.open(drive.serial, drive.size)
            listed.append({**facts_of(drive), "presence": world.presence_in_bay(drive.serial).value})
            world.pull(drive.serial)
            media = world.media_path(drive.serial)
            for file in sorted(media.parent.glob(f"{media.stem}.*")):
                box.write(file, f"{number}/{file.suffix}")
        box.writestr(_LIST, json.dumps(listed))


def unpack(world: World, box: IO[bytes]) -> list[DriveRecord]:
    """Lay the drives of a box beside the shelves. BadInput, with nothing done, for what is no box, or holds a drive
    that is in a bay here."""
    try:
        with zipfile.ZipFile(box) as archive:
            listed = _listed(archive)
            names = _names(archive, len(listed))
            records = [_record(facts) for facts in listed]
            for record in records:
                if world.media_path(record.serial).exists() and world.presence(record.serial) is not Presence.ABSENT:
                    raise BadInput(f"Drive {record.serial} is in this room already.", code="serial-taken", field="box")
            if len({r.serial for r in records}) < len(records):
                raise ValueError("it names a drive twice")
            presences = [Presence(facts.get("presence", Presence.ANSWERS)) for facts in listed]
            for record, files in zip(records, names, strict=True):
                _require_fits(record, files)
            # Everything is read, to its checksum, before anything that is here is touched.
            _clear_leftovers(world.folder)
            with tempfile.TemporaryDirectory(dir=world.folder, prefix=_UNPACKING) as folder:
                staged = [
                    _stage(archive, Path(folder) / str(number), record, files)
                    for number, (record, files) in enumerate(zip(records, names, strict=True))
                ]
                for record, ready, presence in zip(records, staged, presences, strict=True):
                    _lay_out(world, record, ready)
                    world.lay_beside(record, presence)
            return records
    except PairShelfError as error:
        error.field = "box"
        raise
    except (
        zipfile.BadZipFile, zlib.error, OSError, EOFError, KeyError, TypeError, ValueError, ArithmeticError, NotImplementedError,
        RecursionError, RuntimeError,
    ) as error:  # fmt: skip
        raise BadInput(f"This is no box of drives that can be unpacked: {error}", code="no-box", field="box") from error


def _listed(archive: zipfile.ZipFile) -> list[dict[str, Any]]:
    if archive.getinfo(_LIST).file_size > _PIECE:
        raise ValueError("its list is too long")
    listed = json.loads(archive.read(_LIST))
    if not isinstance(listed, list) or not 1 <= len(listed) <= MOST_DRIVES:
        raise ValueError("its list names no drives, or too many")
    return listed


def _names(archive: zipfile.ZipFile, drives: int) -> list[list[zipfile.ZipInfo]]:
    """The files of each drive."""
    found: list[list[zipfile.ZipInfo]] = [[] for _ in range(drives)]
    if sum(one.file_size for one in archive.infolist()) > MOST_BYTES:
        raise ValueError("it unpacks to too much")
    for one in archive.infolist():
        if one.filename == _LIST:
            continue
        number, _, suffix = one.filename.partition("/")
        if not number.isdecimal() or int(number) >= drives or not _SUFFIX.fullmatch(suffix):
            raise ValueError(f"it holds {one.filename[:40]}")
        found[int(number)].append(one)
    return found


def _clear_leftovers(folder: Path) -> None:
    """Remove what an unpacking that was killed has left: it may be gigabytes."""
    for left in folder.glob(f"{_UNPACKING}*"):
        with suppress(FileNotFoundError):
            if time.time() - left.stat().st_mtime > _LEFT_AFTER:
                shutil.rmtree(left, ignore_errors=True)


def _record(facts: dict[str, Any]) -> DriveRecord:
    return record_from({k: v for k, v in facts.items() if k != "presence"})


def _require_fits(record: DriveRecord, files: Sequence[zipfile.ZipInfo]) -> None:
    if not any(one.filename.endswith("/.img") for one in files):
        raise ValueError(f"drive {record.serial} has no media")
    for one in files:
        suffix = one.filename.partition("/")[2]
        if suffix == ".img" and one.file_size != record.size // SCALE:
            raise ValueError(f"drive {record.serial} has other media than its size says")
        elif suffix != ".img" and one.file_size > RECORD_MOST:
            raise ValueError(f"what is kept beside the media of drive {record.serial} is too long")


def _stage(archive: zipfile.ZipFile, folder: Path, record: DriveRecord, files: Sequence[zipfile.ZipInfo]) -> list[Path]:
    """The files of one drive, read and found sound, in a folder of their own."""
    folder.mkdir()
    ready = []
    for one in files:
        suffix = one.filename.partition("/")[2]
        if suffix.endswith("-draft"):
            continue  # What a kill left unfinished says nothing.
        path = folder / f"drive{suffix}"
        if path.exists():
            raise ValueError(f"it holds {one.filename} twice")
        with archive.open(one) as packed:
            _sparse(packed, path, one.file_size)
        if suffix != ".img":
            require_sound(suffix, path.read_bytes(), record)
        ready.append(path)
    return ready


def _lay_out(world: World, record: DriveRecord, ready: Sequence[Path]) -> None:
    media = world.media_path(record.serial)
    for old in media.parent.glob(f"{media.stem}.*"):
        old.unlink()
    for path in ready:
        path.rename(media.with_suffix(path.suffix))


def _sparse(packed: IO[bytes], path: Path, size: int) -> None:
    """Where nothing was ever written nothing is written."""
    with open(path, "wb") as file:
        while piece := packed.read(_PIECE):
            if any(piece):
                file.write(piece)
            else:
                file.seek(len(piece), 1)
        file.truncate(size)
