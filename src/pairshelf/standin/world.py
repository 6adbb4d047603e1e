"""The simulated room: drives in bays, and the controls that put in, pull, fail and damage them.

It knows nothing of pools. Pair Shelf finds out what happened here the way it would with real
devices: by asking which drives answer, and by reading and writing them.
"""

from __future__ import annotations

import contextlib
import datetime as dt
import hashlib
import json
import os
import random
import re
import uuid
from collections import OrderedDict
from collections.abc import Mapping, Sequence
from dataclasses import asdict, replace
from decimal import Decimal
from functools import lru_cache
from pathlib import Path
from threading import Lock
from typing import Any
from urllib.parse import unquote

from pairshelf.core.disposal.facts import Command, Identity
from pairshelf.core.domain.device import (
    Area,
    Arrival,
    Device,
    DeviceError,
    Hosts,
    Presence,
    Questioned,
    Recovery,
    Stalled,
    Unreadable,
)
from pairshelf.core.domain.drives import Kind, extents_of
from pairshelf.core.domain.inventory import DriveRecord, checked
from pairshelf.core.errors import PairShelfError
from pairshelf.standin.ageing import Ageing, moment, told, where_it_goes
from pairshelf.standin.hidden import Hidden, Nature, nature_kept
from pairshelf.standin.hosts import Machines
from pairshelf.standin.media import BLOCK, LABEL_BYTES, Media

_OPEN_FILES = 200
#: Extents written to a drive that are counted in memory at most: a kill loses the count of them, not them. They are
#: added to what is kept when the drive is flushed, and seldom before: each time costs a file that is opened and grows.
_UNCOUNTED = 4096


class SimDrive:
    """A simulated drive: media behind a fault that may be set at any time."""

    def __init__(self, world: World, serial: str, media: Media) -> None:
        self._world, self._serial, self._media = world, serial, media
        self._hidden = Hidden(media.path, serial, media.extents, BLOCK)
        self._opened = 0

    @property
    def serial(self) -> str:
        """Its serial number."""
        return self._serial

    def _answer(self) -> Media:
        presence = self._world.presence(self._serial)
        if not presence.works:
            raise DeviceError(self._serial, presence)
        return self._media

    def _settled(self) -> Nature | None:
        """What it is beyond what it shows, where that has been asked or told; it may not answer for now."""
        nature = self._world.nature_of(self._serial)
        if nature is not None and nature.stalls:
            raise Stalled(self._serial)
        return nature

    def read(self, start: int, count: int) -> bytes:
        """See Device."""
        data = bytearray(count * BLOCK)
        self.read_into(start, memoryview(data))
        return bytes(data)

    def read_into(self, start: int, into: memoryview) -> None:
        """See Device."""
        media = self._answer()
        count = into.nbytes // BLOCK
        self._readable(start, count)
        behind = min(count, max(0, start + count - media.extents)) if self._opened else 0
        if behind:
            view = into.cast("B")
            at = max(0, start - media.extents)
            view[(count - behind) * BLOCK :] = self._hidden.read(at, behind)
            into = view[: (count - behind) * BLOCK]
        if into.nbytes:
            media.read_into(start, into)

    def read_pieces(self, pieces: Sequence[tuple[int, memoryview]]) -> None:
        """See Device."""
        media = self._answer()
        for start, into in pieces:
            media.read_into(start, into)
        lost = self._world.lost_extents(self._serial)
        asked = [e for e in lost if any(start <= e < start + into.nbytes // BLOCK for start, into in pieces)]
        if asked:
            self._world.note_tried(self._serial, asked)
            raise Unreadable(self._serial)

    def _readable(self, start: int, count: int) -> None:
        asked = [e for e in self._world.lost_extents(self._serial) if start <= e < start + count]
        if asked:
            self._world.note_tried(self._serial, asked)
            raise Unreadable(self._serial)

    def write(self, start: int, data: bytes | memoryview) -> None:
        """See Device. What could not be read can be read again once it has been written: another sector stands in."""
        media, nature = self._answer(), self._settled()
        view = memoryview(data).cast("B")
        written = range(start, start + view.nbytes // BLOCK)
        self._world.count_written(self._serial, len(written))
        if nature is not None:
            self._wear(media, nature, written)
        lost = self._world.lost_extents(self._serial)
        for extent in (e for e in lost if e in written):
            self._hidden.reassign(extent, media.read(extent, 1))
        shown = max(0, min(written.stop, media.extents) - start)
        if self._opened and shown < len(written):
            self._hidden.write(max(0, start - media.extents), view[shown * BLOCK :])
            view = view[: shown * BLOCK]
        if view.nbytes:
            media.write(start, view)
        if lost:
            self._world.lose_extents(self._serial, [e for e in lost if e not in written])

    def _wear(self, media: Media, nature: Nature, written: range) -> None:
        """It may die of a write; flash keeps something of what stood there."""
        if nature.dies_after is not None:
            if nature.dies_after <= 0:
                self._world.fail(self._serial)
                raise DeviceError(self._serial, Presence.FAILED)
            self._hidden.change(dies_after=nature.dies_after - 1)
        if nature.spare and written.start < media.extents:
            old = media.read(written.start, 1)
            if any(old):
                self._hidden.keep_an_old_copy(nature, written.start, old)

    def flush(self) -> None:
        """See Device."""
        self._answer().flush()
        self._world.keep_written(self._serial)
        if self._opened:
            self._hidden.flush()

    # -- wiping --------------------------------------------------------------------------------

    def identify(self, kind: Kind = Kind.HDD) -> Identity:
        """See Device."""
        self._answer()
        nature = self._settled()
        if nature is None:
            nature = self._hidden.settle(self._world.kind_of(self._serial) or kind)
        return nature.identity()

    @property
    def slowness(self) -> float:
        """See Device."""
        nature = self._settled()
        return nature.slowness if nature is not None else 1.0

    def recovery(self, kind: Kind = Kind.HDD, known: float | None = None) -> Recovery:
        """See Device."""
        self.identify(kind)
        nature = self._settled()
        assert nature is not None
        if nature.recovery is not None and nature.recovery < 0:
            # What the books say of it is so, if nobody set it otherwise.
            self._hidden.change(recovery=known)
            return Recovery(known, nature.recovery_settable)
        return Recovery(nature.recovery, nature.recovery_settable)

    def set_recovery(self, kind: Kind, limit: float | None) -> None:
        """See Device."""
        if not self.recovery(kind).settable:
            raise NotImplementedError("error-recovery limit")
        self._hidden.change(recovery=limit)

    @property
    def cells(self) -> int:
        """See Device."""
        nature = self._settled()
        return self._media.extents + (Hidden.count(nature) if nature is not None else 0)

    def open_protected(self) -> int:
        """See Device."""
        self._opened = self.identify().protected
        return self._opened

    def clear_held_back(self) -> None:
        """See Device."""
        self._answer().clear_held_back()

    def _told(self, command: Command) -> Nature:
        if command not in self.identify().commands:
            raise NotImplementedError(command)
        nature = self._settled()
        assert nature is not None
        return nature

    def overwrite_cells(self, first: int, count: int, pattern: bytes) -> None:
        """See Device."""
        self._told(Command.SANITIZE_OVERWRITE)
        self._over(first, count, pattern)

    def _over(self, first: int, count: int, pattern: bytes) -> None:
        media = self._answer()
        self._world.count_written(self._serial, count)
        self._world.keep_written(self._serial)
        shown = max(0, min(first + count, media.extents) - first)
        if shown:
            media.write(first, pattern * shown)
        if shown < count:
            self._hidden.write(max(0, first - media.extents), pattern * (count - shown))
            self._hidden.flush()
        media.flush()
        self._world.lose_extents(
            self._serial, [e for e in self._world.lost_extents(self._serial) if not first <= e < first + count]
        )

    def erase_all(self, command: Command) -> None:
        """See Device."""
        self._told(command)
        # Under another key, what stood there is noise.
        noise = command is Command.CRYPTO_ERASE
        whole = self.cells if command in (Command.BLOCK_ERASE, Command.CRYPTO_ERASE) else self._media.extents
        for first in range(0, whole, 1024):
            self._over(first, min(1024, whole - first), os.urandom(BLOCK) if noise else bytes(BLOCK))

    def read_label(self) -> Mapping[str, object] | None:
        """See Device."""
        return self._answer().read_label()

    def write_label(self, label: Mapping[str, object]) -> None:
        """See Device."""
        self._answer().write_label(label)

    def keep_aside(self, data: bytes) -> None:
        """See Device."""
        self._answer().keep_aside(data)

    def aside(self) -> bytes:
        """See Device."""
        return self._answer().aside()

    def keep_record(self, copy: int, data: bytes, *, flush: bool = True) -> None:
        """See Device."""
        self._answer().keep_record(copy, data, flush=flush)

    def record(self, copy: int) -> bytes:
        """See Device."""
        return self._answer().record(copy)

    def read_sectors(self, at: int, count: int) -> bytes:
        """See Device."""
        return self._answer().read_sectors(at, count)

    def write_sectors(self, chunks: Sequence[tuple[int, bytes]]) -> None:
        """See Device."""
        self._answer().write_sectors(chunks)

    def identify_anew(self, **facts: Any) -> None:
        """Become a drive of which these facts hold."""
        self._hidden.settle(self._world.kind_of(self._serial) or Kind.HDD)
        before = self._hidden.nature()
        self._hidden.change(**facts)
        after = self._hidden.nature()
        if Hidden.count(before) != Hidden.count(after):
            self._hidden.write(
                0, hashlib.shake_256(f"hidden {self._serial}".encode()).digest(Hidden.count(after) * BLOCK)
            )

    def areas(self) -> Sequence[Area]:
        """Everything that is in it, read past what it shows."""
        media, hidden = self._media, self._hidden
        nature = self._world.nature_of(self._serial)
        found = [
            Area("held back", 1, lambda _first, _count: media.held_back()),
            Area("shown", media.extents, media.read),
        ]
        for name, at, count in hidden.areas(nature) if nature is not None else []:
            found.append(Area(name, count, lambda first, n, at=at: hidden.read(at + first, n)))  # type: ignore[misc]
        return found


class World:
    """All simulated drives, kept in one folder: media, faults and arrivals as files."""

    block = BLOCK

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._natures: dict[str, tuple[int, Nature]] = {}
        self._ageings: dict[str, tuple[int, Ageing]] = {}
        self._written: dict[str, int] = {}
        self._told: dict[str, tuple[Any, Mapping[str, int]]] = {}
        for name in ("media", "faults", "arrivals", "lost"):
            (folder / name).mkdir(parents=True, exist_ok=True)
        self._media: OrderedDict[str, Media] = OrderedDict()
        self._lock = Lock()
        self._faults = str(folder / "faults")
        self._lost = str(folder / "lost")
        self._stem = f"{folder / 'media'}/"
        _new_names(folder)
        self.hosts: Hosts = Machines(folder)

    # -- what Pair Shelf sees ------------------------------------------------------------------

    def open(self, serial: str, size: int) -> Device:
        """The drive of that serial; its media come to be when first opened."""
        with self._lock:
            media = self._media.get(serial)
            if media is None or not media.path.exists():
                media = Media(self.media_path(serial), size, old_data=serial)
                self._media[serial] = media
                if len(self._media) > _OPEN_FILES:
                    self._media.popitem(last=False)
            self._media.move_to_end(serial)
            return SimDrive(self, serial, media)

    def light(self, serial: str, *, on: bool) -> None:
        """See Devices."""
        lamp = self.folder / "lamps" / file_of(serial)
        if on:
            lamp.parent.mkdir(exist_ok=True)
            lamp.write_text(serial)
        else:
            lamp.unlink(missing_ok=True)

    def lit(self) -> frozenset[str]:
        """See Devices."""
        with contextlib.suppress(FileNotFoundError):
            return frozenset(Path(entry.path).read_text() for entry in os.scandir(self.folder / "lamps"))
        return frozenset()

    def nature_of(self, serial: str) -> Nature | None:
        """What a drive is beyond what it shows; None where nobody has asked or told."""
        # Asked before every write.
        path = f"{self._stem}{file_of(serial)}.nature"
        try:
            changed = os.stat(path).st_mtime_ns
        except FileNotFoundError:
            return None
        known = self._natures.get(serial)
        if known is None or known[0] != changed:
            known = changed, nature_kept(Path(path))
            self._natures[serial] = known
        return known[1]

    # -- readings --------------------------------------------------------------------------------

    def readings(self, asked: Sequence[Questioned], at: dt.datetime) -> Mapping[str, Mapping[str, int]]:
        """See Devices. Of 10,000 drives it is asked every ten seconds: a drive with nothing beside it costs nothing."""
        stem = self._stem
        beside = {name for name in os.listdir(stem) if not name.endswith(".img")}
        faults, lost = frozenset(os.listdir(self._faults)), frozenset(os.listdir(self._lost))
        found = {}
        # A drive brings its figures up to date once a minute, and when something happens to it.
        (hours, warmth), minute = moment(at), int(at.timestamp()) // 60
        for drive in asked:
            file = file_of(drive.serial)
            presence = self.presence(drive.serial) if file in faults else Presence.ANSWERS
            if not presence.works:
                continue
            nature = self.nature_of(drive.serial) if f"{file}.nature" in beside else None
            if nature is not None and nature.stalls:
                continue
            ageing = self._ageing_at(drive.serial, f"{stem}{file}.ageing") if f"{file}.ageing" in beside else None
            if ageing is not None:
                self._lose_with_age(drive, ageing, at)
            gone = self.lost_extents(drive.serial) if file in lost or ageing is not None else []
            tried = len(set(self.tried(drive.serial)).intersection(gone)) if gone else 0
            written = _length(f"{stem}{file}.written") if f"{file}.written" in beside else 0
            reassigned = len(nature.reassigned) if nature is not None else 0
            key = (minute, drive, ageing, reassigned, len(gone), tried, written, presence)
            if (known := self._told.get(drive.serial)) is None or known[0] != key:
                known = key, told(
                    drive, at, hours, warmth, ageing, reassigned=reassigned, pending=len(gone), uncorrectable=tried,
                    written=written, warns=presence is Presence.WARNS,
                )  # fmt: skip
                self._told[drive.serial] = known
            found[drive.serial] = known[1]
        return found

    def _lose_with_age(self, drive: Questioned, ageing: Ageing, at: dt.datetime) -> None:
        """Sectors that go bad as time passes really go: which ones is drawn from the serial, so that two that ask at
        once lose the same."""
        due = int(ageing.added("pending", at))
        if due <= ageing.lost:
            return
        extents = extents_of(drive.size)
        new = [where_it_goes(drive.serial, number, extents) for number in range(ageing.lost, due)]
        self.lose_extents(drive.serial, sorted({*self.lost_extents(drive.serial), *new}))
        self._keep_ageing(drive.serial, replace(ageing, lost=due))

    def ageing(self, serial: str) -> Ageing:
        """How somebody has said that a drive ages."""
        return self._ageing_at(serial, str(self.media_path(serial).with_suffix(".ageing"))) or Ageing()

    def _ageing_at(self, serial: str, path: str) -> Ageing | None:
        try:
            changed = os.stat(path).st_mtime_ns
        except FileNotFoundError:
            return None
        known = self._ageings.get(serial)
        if known is None or known[0] != changed:
            known = changed, Ageing.read(Path(path).read_bytes())
            self._ageings[serial] = known
        return known[1]

    def _keep_ageing(self, serial: str, ageing: Ageing) -> None:
        self._place(self.media_path(serial).with_suffix(".ageing"), ageing.kept())

    def let_age(self, serial: str, reading: str, more: float, a_day: float, at: dt.datetime) -> None:
        """From a moment on a reading is by so much more than by itself, and grows by so much a day."""
        self._keep_ageing(serial, self.ageing(serial).steered(reading, more, a_day, at))

    def count_written(self, serial: str, extents: int) -> None:
        """So many extents have been written to a drive."""
        if serial not in self._written:
            self._written[serial] = 0
        self._written[serial] += extents
        if self._written[serial] >= _UNCOUNTED:
            self.keep_written(serial)

    def keep_written(self, serial: str) -> None:
        """Add what was counted to what is kept: the length of a file, that any number of writers can add to."""
        extents = self._written.pop(serial, 0)
        if extents:
            path = f"{self._stem}{file_of(serial)}.written"
            descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_CLOEXEC, 0o600)
            try:
                os.write(descriptor, bytes(extents))
            finally:
                os.close(descriptor)

    def tried(self, serial: str) -> list[int]:
        """Extents that were asked for and could not be read."""
        with contextlib.suppress(FileNotFoundError, ValueError):
            return [int(e) for e in json.loads(self.media_path(serial).with_suffix(".tried").read_bytes())]
        return []

    def note_tried(self, serial: str, extents: Sequence[int]) -> None:
        """These were asked for in vain."""
        before = set(self.tried(serial)).intersection(self.lost_extents(serial))
        if not before.issuperset(extents):
            self._place(self.media_path(serial).with_suffix(".tried"), json.dumps(sorted(before.union(extents))))

    def kind_of(self, serial: str) -> Kind | None:
        """What a drive stores on, where that has been told."""
        with contextlib.suppress(FileNotFoundError, ValueError):
            return Kind(Path(self.media_path(serial)).with_suffix(".kind").read_text())
        return None

    def be(self, serial: str, size: int, kind: Kind | None = None, **facts: Any) -> None:
        """Say what a drive is: which commands it knows, what it hides, whether it dies or stalls."""
        media = self.open(serial, size)
        if kind is not None:
            self.media_path(serial).with_suffix(".kind").write_text(kind.value)
        assert isinstance(media, SimDrive)
        media.identify_anew(**facts)

    def laboratory(self, serial: str, size: int) -> Sequence[Area]:
        """See Devices."""
        drive = self.open(serial, size)
        assert isinstance(drive, SimDrive)
        return drive.areas()

    def media_path(self, serial: str) -> Path:
        """The file of a drive's media. Its name says nothing: a serial may be anything."""
        return self.folder / "media" / (file_of(serial) + ".img")

    def presence(self, serial: str) -> Presence:
        """Whether one drive answers."""
        path = f"{self._faults}/{file_of(serial)}"
        # Asked before every read and write, and almost always there is no fault.
        if not os.path.exists(path):
            return Presence.ANSWERS
        return _fault(Path(path))[1]

    def lost_extents(self, serial: str) -> list[int]:
        """Extents of a drive that cannot be read until they are written anew."""
        path = f"{self._lost}/{file_of(serial)}"
        if not os.path.exists(path):
            return []
        with contextlib.suppress(FileNotFoundError, ValueError):
            return [int(e) for e in json.loads(Path(path).read_bytes())]
        return []

    def troubled(self) -> dict[str, Presence]:
        """Drives with which something is wrong."""
        found = dict(_fault(Path(e.path)) for e in os.scandir(self._faults) if not e.name.startswith("."))
        return {s: presence for s, presence in found.items() if s and presence is not Presence.ANSWERS}

    def arrivals(self) -> Sequence[Arrival]:
        """Drives put in and not yet acknowledged, oldest first."""
        names = sorted(e.name for e in os.scandir(self.folder / "arrivals") if e.name.endswith(".json"))
        found = []
        for name in names:
            try:
                found.append(Arrival(name, record_from(json.loads((self.folder / "arrivals" / name).read_bytes()))))
            except FileNotFoundError:  # acknowledged meanwhile
                continue
            except (PairShelfError, ValueError, TypeError, KeyError, ArithmeticError, RecursionError, OSError) as error:
                found.append(Arrival(name, None, f"{type(error).__name__}: {error}"[:300]))
        return found

    def bay_is_taken(self, arrival: Arrival) -> None:
        """Another drive is in that bay: this one lies beside the shelves, as it was."""
        if arrival.record is not None:
            self.lay_beside(arrival.record, self.presence_in_bay(arrival.record.serial))
        self.acknowledge(arrival)

    def set_aside(self, arrival: Arrival) -> None:
        """The arrival cannot be recorded; it is kept where nobody stumbles over it again."""
        (self.folder / "arrivals" / "set-aside").mkdir(exist_ok=True)
        with contextlib.suppress(FileNotFoundError):
            (self.folder / "arrivals" / arrival.key).rename(self.folder / "arrivals" / "set-aside" / arrival.key)

    def acknowledge(self, arrival: Arrival) -> None:
        """The arrival is known now."""
        (self.folder / "arrivals" / arrival.key).unlink(missing_ok=True)

    # -- the controls a person has -------------------------------------------------------------

    def put_in(self, record: DriveRecord) -> None:
        """Put a drive into a bay. BadInput for one that no drive can be."""
        checked(record)
        self.take_from_the_dark(record.serial)
        self.put_back(record.serial)
        self.media_path(record.serial).with_suffix(".kind").write_text(record.kind.value)
        stamp = dt.datetime.now(dt.UTC).strftime("%Y%m%dT%H%M%S%f")
        self._place(self.folder / "arrivals" / f"{stamp}-{uuid.uuid4().hex[:8]}.json", json.dumps(facts_of(record)))
        self._beside(record.serial).unlink(missing_ok=True)

    def _beside(self, serial: str) -> Path:
        return self.folder / "beside" / f"{file_of(serial)}.json"

    def lay_beside(self, record: DriveRecord, presence: Presence = Presence.ANSWERS) -> None:
        """A drive from elsewhere lies beside the shelves, in no bay; ``presence``: how it is once it is in one."""
        (self.folder / "beside").mkdir(exist_ok=True)
        self._set_fault(record.serial, Presence.ABSENT, presence)
        self._place(self._beside(record.serial), json.dumps(facts_of(record)))

    def beside(self) -> list[DriveRecord]:
        """Drives that lie beside the shelves."""
        found = []
        for path in sorted((self.folder / "beside").glob("[0-9a-f]*.json")):
            with contextlib.suppress(PairShelfError, ValueError, TypeError, KeyError, FileNotFoundError):
                found.append(record_from(json.loads(path.read_bytes())))
        return sorted(found, key=lambda r: r.serial)

    def presence_in_bay(self, serial: str) -> Presence:
        """How a drive is, or would be if it were put back."""
        presence = self.presence(serial)
        if presence is not Presence.ABSENT:
            return presence
        before = _told(Path(self._faults) / file_of(serial)).get("before")
        return Presence(before) if before in (Presence.FAILED, Presence.WARNS) else Presence.ANSWERS

    def pull(self, serial: str) -> None:
        """Take a drive out of its bay; its bytes stay as they are."""
        before = self.presence(serial)
        if before is not Presence.ABSENT:
            self._set_fault(serial, Presence.ABSENT, before)

    def put_back(self, serial: str) -> None:
        """Put a pulled drive back, as it was: one that had failed has failed still."""
        if self.presence(serial) is not Presence.ABSENT:
            return
        before = self.presence_in_bay(serial)
        if before is Presence.ANSWERS:
            self._clear(serial)
        else:
            self._set_fault(serial, before)

    def unplug(self, what: str, serials: Sequence[str]) -> list[str]:
        """As one act, drives that hang on something lose it: a shelf its cable, a host its power. Those that went by it."""
        going = [s for s in serials if self.presence(s) is not Presence.ABSENT]
        (self.folder / "unplugged").mkdir(exist_ok=True)
        # Who comes back is written down first: a kill in between leaves nobody behind.
        self._place(self._cable(what), json.dumps({"what": what, "serials": [*self._hanging_on(what), *going]}))
        for serial in going:
            self.pull(serial)
        return going

    def plug_in(self, what: str) -> list[str]:
        """The same drives are back as they were; not those that were taken out by hand before."""
        serials = self._hanging_on(what)
        for serial in serials:
            self.put_back(serial)
        self._cable(what).unlink(missing_ok=True)
        return serials

    def unplugged(self) -> frozenset[str]:
        """What is without its cable or its power."""
        found = []
        for path in (self.folder / "unplugged").glob("[0-9a-f]*"):
            with contextlib.suppress(OSError, ValueError, KeyError):
                found.append(str(json.loads(path.read_bytes())["what"]))
        return frozenset(found)

    def disconnected(self) -> frozenset[str]:
        """Serials of drives that are in their bays and out of reach: their shelf has no cable, or their host no power."""
        return frozenset(s for what in self.unplugged() for s in self._hanging_on(what))

    def take_from_the_dark(self, serial: str) -> bool:
        """Take a drive out of a shelf that is offline; whether it was in one. It comes back by hand only."""
        found = False
        for what in self.unplugged():
            left = self._hanging_on(what)
            if serial in left:
                found = True
                self._place(self._cable(what), json.dumps({"what": what, "serials": [s for s in left if s != serial]}))
        return found

    def _cable(self, what: str) -> Path:
        return self.folder / "unplugged" / file_of(what)

    def _hanging_on(self, what: str) -> list[str]:
        with contextlib.suppress(OSError, ValueError, KeyError):
            return [str(s) for s in json.loads(self._cable(what).read_bytes())["serials"]]
        return []

    def warn(self, serial: str) -> None:
        """Its readings begin to warn; it goes on working."""
        self._set_fault(serial, Presence.WARNS)

    def lose_extents(self, serial: str, extents: Sequence[int]) -> None:
        """These extents, and no others, cannot be read until they are written anew."""
        if extents:
            self._place(Path(self._lost) / file_of(serial), json.dumps(sorted(extents)))
        else:
            (Path(self._lost) / file_of(serial)).unlink(missing_ok=True)

    def fail(self, serial: str) -> None:
        """The drive stops working for good."""
        self._set_fault(serial, Presence.FAILED)

    def flip_bits(self, serial: str, size: int, *, extents: Sequence[int], seed: int = 0) -> None:
        """Change one byte in each of the given extents, silently, as rotting media do."""
        self.open(serial, size)
        dice = random.Random(seed)  # noqa: S311 - chance, not secrecy
        with open(self.media_path(serial), "r+b") as media:
            for extent in extents:
                at = LABEL_BYTES + extent * BLOCK + dice.randrange(BLOCK)
                media.seek(at)
                old = media.read(1) or b"\0"
                media.seek(at)
                media.write(bytes([old[0] ^ (1 << dice.randrange(8))]))

    def _set_fault(self, serial: str, presence: Presence, before: Presence = Presence.ANSWERS) -> None:
        said = {"serial": serial, "presence": presence.value, "before": before.value}
        self._place(Path(self._faults) / file_of(serial), json.dumps(said))

    def _clear(self, serial: str) -> None:
        (self.folder / "faults" / file_of(serial)).unlink(missing_ok=True)

    def _place(self, path: Path, content: str) -> None:
        """Write a file so that a reader sees all of it or nothing."""
        draft = path.with_name(f".{path.name}.{uuid.uuid4().hex}")
        draft.write_text(content)
        draft.replace(path)


@lru_cache(maxsize=32768)
def file_of(serial: str) -> str:
    """The name of what is kept of a drive. It says nothing: a serial may be anything."""
    return hashlib.sha256(serial.encode("utf-8", "surrogatepass")).hexdigest()[:40]


def _length(path: str) -> int:
    """How long a file is; nothing where there is none."""
    try:
        return os.stat(path).st_size
    except FileNotFoundError:
        return 0


def _fault(path: Path) -> tuple[str, Presence]:
    """Whose fault a file tells of, and which; nobody's when it cannot be read."""
    said = _told(path)
    try:
        return str(said["serial"]), Presence(said["presence"])
    except (ValueError, KeyError):
        return "", Presence.ANSWERS


def _told(path: Path) -> dict[str, Any]:
    """What a file of a fault says; nothing when it cannot be read."""
    try:
        said = json.loads(path.read_bytes())
    except (OSError, ValueError, RecursionError):
        return {}
    return said if isinstance(said, dict) else {}


def _new_names(folder: Path) -> None:
    """Files that an older version named by serials get the names they have now."""
    mark = folder / "names-without-serials"
    if mark.exists():
        return
    for old in [*(folder / "media").glob("*.img"), *(folder / "faults").iterdir()]:
        stem = old.name.removesuffix(".img")
        if re.fullmatch("[0-9a-f]{40}", stem) or old.name.startswith("."):
            continue
        serial = unquote(stem)
        with contextlib.suppress(FileNotFoundError):  # another process does the same
            if old.suffix == ".img":
                old.rename(old.with_name(file_of(serial) + ".img"))
            else:
                said = json.dumps({"serial": serial, "presence": old.read_text()})
                old.with_name(file_of(serial)).write_text(said)
                old.unlink()
    mark.touch()


def facts_of(record: DriveRecord) -> dict[str, Any]:
    """What a drive says of itself, as JSON can keep it."""
    return {k: str(v) if isinstance(v, dt.date | Decimal) else v for k, v in asdict(record).items()}


def record_from(facts: dict[str, Any]) -> DriveRecord:
    """The same back; PairShelfError, ValueError, TypeError, KeyError or ArithmeticError for what no drive can be."""
    facts["kind"] = Kind(facts["kind"])
    if facts.get("in_service"):
        facts["in_service"] = dt.date.fromisoformat(facts["in_service"])
    if facts.get("price"):
        facts["price"] = Decimal(facts["price"])
    return checked(DriveRecord(**facts))
