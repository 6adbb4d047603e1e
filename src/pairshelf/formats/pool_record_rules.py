"""What a pool's record may say, section by section (docs/formats/pool-record.md): bytes from outside, read with every rule that
the books have before anything is shown of them. What a later version says besides is passed over."""

from __future__ import annotations

import base64
import datetime as dt
import re
from collections.abc import Callable, Iterable, Mapping
from typing import Annotated, Any

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, TypeAdapter, ValidationError, model_validator

from pairshelf.core.domain.drives import DOMAINS, LARGEST, Kind, extents_of
from pairshelf.core.domain.file_systems import FILE_SYSTEMS
from pairshelf.core.domain.inventory import LONGEST
from pairshelf.core.domain.names import check_folder, check_iqn, check_mount_point, check_name
from pairshelf.core.domain.records import Head, Record
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.errors import PairShelfError
from pairshelf.core.layouts.model import Code
from pairshelf.core.layouts.protections import parse_protection
from pairshelf.core.layouts.registry import scheme_of
from pairshelf.formats.pool_record import DamagedError

#: Most members, volumes, files of a volume, and regions that one member missed.
_MEMBERS, _VOLUMES, _FILES, _REGIONS = 1000, 2000, 200_000, 2_000_000
_LONG, _SIZE = 2**62, 1000 * LARGEST


def _all_of(*rules: Callable[[str], object]) -> Any:
    def hold(value: str) -> str:
        for rule in rules:
            rule(value)
        return value

    return AfterValidator(hold)


def _require(holds: bool, what: str) -> None:
    if not holds:
        raise ValueError(what)


def _kept_as(check: Callable[..., str], *more: str) -> Callable[[str], None]:
    """A rule that the books have for what is typed: here it stands as they would write it."""

    def rule(value: str) -> None:
        try:
            _require(check(value, *more, field="record") == value, "it is not written as a name is")
        except PairShelfError as error:
            raise ValueError(error.message) from None

    return rule


def _one_of(names: Iterable[str]) -> Any:
    known = frozenset(names)
    return _all_of(lambda value: _require(value in known, "it is none that is known"))


def _line(least: int, most: int) -> Any:
    return _all_of(
        lambda value: _require(least <= len(value) <= most and value.isprintable(), f"it is no text of {least} to {most} characters")
    )  # fmt: skip


def _known_scheme(value: str) -> None:
    try:
        scheme_of(value)
    except PairShelfError as error:
        raise ValueError(error.message) from None


def _known_protection(value: str) -> None:
    try:
        parse_protection(value)
    except PairShelfError as error:
        raise ValueError(error.message) from None


def _is_moment(value: str) -> None:
    moment = dt.datetime.fromisoformat(value)
    _require(moment.tzinfo is not None and 1990 <= moment.year < 2200, "it is no moment")


def _whole(low: int, high: int = _LONG) -> Any:
    return Field(strict=True, ge=low, le=high)


_Flag = Annotated[bool, Field(strict=True)]
_Uid = Annotated[str, Field(pattern=r"^[0-9a-f]{32}$")]
_Serial = Annotated[str, _line(1, 64)]
_Word = Annotated[str, _line(1, LONGEST)]
_Line = Annotated[str, _line(0, 200)]
_Moment = Annotated[str, Field(max_length=40), _all_of(_is_moment)]
_Slot = Annotated[int, _whole(0, _MEMBERS)]
_Bytes = Annotated[int, _whole(1, _SIZE)]
_Number = Annotated[float, Field(strict=False, allow_inf_nan=False)]
_PoolName = Annotated[str, _all_of(_kept_as(check_name, "pool"))]
_VolumeName = Annotated[str, _all_of(_kept_as(check_name, "volume"))]
_ShareName = Annotated[str, _all_of(_kept_as(check_name, "share"))]
_Folder = Annotated[str, _all_of(_kept_as(check_folder))]
_Iqn = Annotated[str, _all_of(_kept_as(check_iqn))]
_Base64 = Annotated[str, Field(max_length=200)]


class _Model(BaseModel):
    model_config = ConfigDict(extra="ignore")


class _Member(_Model):
    serial: _Serial
    slot: _Slot | None
    size: Annotated[int, _whole(1, LARGEST)]
    kind: Annotated[str, _one_of(k.value for k in Kind)]
    generation: Annotated[int, _whole(0)]
    before: Annotated[int, _whole(0)]


class _Head(_Model):
    pool: _Uid
    name: _PoolName
    generation: Annotated[int, _whole(1)]
    house: Annotated[str, _line(1, 64)]
    serial: _Serial
    members: Annotated[list[_Member], Field(min_length=1, max_length=_MEMBERS)]

    @model_validator(mode="after")
    def _each_once(self) -> _Head:
        _once([m.serial for m in self.members], "a drive")
        _once([m.slot for m in self.members if m.slot is not None], "a slot")
        return self


def _once(values: Iterable[object], what: str) -> None:
    found = list(values)
    _require(len(set(found)) == len(found), f"it names {what} twice")


_Bands = Annotated[
    list[tuple[Annotated[int, _whole(0, 2**40)], Annotated[int, _whole(1, 2**40)], Annotated[
        list[tuple[Annotated[list[_Slot], Field(min_length=1, max_length=_MEMBERS)], Annotated[str, _one_of(c.value for c in Code)], Annotated[int, _whole(0, 3)]]],
        Field(min_length=1, max_length=_MEMBERS),
    ]]],
    Field(max_length=10_000),
]  # fmt: skip


class _Goal(_Model):
    scheme: Annotated[str, _all_of(_known_scheme)]
    sets: Annotated[int, _whole(1, _MEMBERS)]
    bands: _Bands | None
    members: Annotated[int, _whole(1, _MEMBERS)]
    upwards: _Flag


class _Key(_Model):
    salt: _Base64
    wrapped: _Base64

    @model_validator(mode="after")
    def _decodes(self) -> _Key:
        for part in (self.salt, self.wrapped):
            base64.b64decode(part, validate=True)
        return self


class _Pool(_Model):
    scheme: Annotated[str, _all_of(_known_scheme)]
    sets: Annotated[int, _whole(1, _MEMBERS)]
    capacity: Annotated[int, _whole(0, 2**50)]
    bands: _Bands | None = None
    walk: _Goal | None = None
    front: Annotated[int, _whole(0)] | None = None
    turned: _Flag = False
    moves: Annotated[int, _whole(0)] = 0
    synced_to: Annotated[int, _whole(0)] = 0
    domain: Annotated[str, _one_of(DOMAINS)] | None = None
    key: _Key | None = None
    acts_early: _Flag = False
    passphrase_kept: _Flag = True
    promised: Annotated[dict[Annotated[str, _line(1, 60)], _Number], Field(max_length=100)] = {}
    measured: Annotated[dict[Annotated[str, _line(1, 60)], _Number], Field(max_length=100)] = {}
    created_at: _Moment

    @model_validator(mode="after")
    def _agrees(self) -> _Pool:
        _require(
            (self.walk is None) == (self.front is None) and (self.walk is not None or not self.turned), "its front"
        )
        _require(scheme_of(self.scheme).own_protection == (self.domain is not None), "its failure domain")
        return self


class _Drive(_Model):
    size: Annotated[int, _whole(1, LARGEST)]
    kind: Annotated[str, _one_of(k.value for k in Kind)]
    maker: _Word | None = None
    model: _Word | None = None
    bus: _Word | None = None
    sector_size: Annotated[int, _whole(1, 2**20)] | None = None
    rpm: Annotated[int, _whole(1, 10**6)] | None = None
    rate: Annotated[int, _whole(1, 10**13)] | None = None
    held_share: Annotated[float, Field(ge=0, le=0.5, allow_inf_nan=False)] = 0.0
    sealed_by: _Uid | None = None


class _Place(_Model):
    serial: _Serial | None
    slot: _Slot | None
    to_slot: _Slot | None = None
    size: Annotated[int, _whole(1, LARGEST)]
    rate: Annotated[int, _whole(1, 10**13)] | None = None
    kind: Annotated[str, _one_of(k.value for k in Kind)]
    shelf: _Word | None = None
    link: Annotated[int, _whole(1, 10**13)] | None = None
    host: _Word | None = None
    site: _Word | None = None
    scope: Annotated[str, _one_of(("pool", "shelf", "all"))] = "pool"
    state: Annotated[str, _one_of(("active", "missing", "failed", "rebuilding", "emptied"))]
    absence: Annotated[int, _whole(0, 10**9)] = 0
    incomplete: _Flag = False
    missed: Annotated[list[Annotated[int, _whole(-1, 2**31 - 2)]], Field(max_length=_REGIONS)] | None = None
    drive: _Drive | None

    @model_validator(mode="after")
    def _agrees(self) -> _Place:
        _require((self.serial is None) == (self.drive is None), "a place without its drive")
        _require(self.slot is not None or self.serial is not None, "a spare that is no drive")
        _require(self.slot is None or extents_of(self.size) >= 1, "a place smaller than any drive")
        _once(self.missed or (), "a region")
        return self


class _File(_Model):
    name: Annotated[str, _line(1, 255)]
    first: Annotated[int, _whole(0, 2**50)]
    extents: Annotated[int, _whole(1, 2**50)]
    checksum: Annotated[str, _line(1, 200)]
    via: Annotated[str, _one_of(("mount", "share", "target"))]
    folder: _Line = ""
    writer: _Line = ""
    written_at: _Moment
    deleted_at: _Moment | None = None


class _Mount(_Model):
    host: _Word
    at: Annotated[str, _all_of(_kept_as(check_mount_point))]
    read_only: _Flag
    access_times: _Flag
    required: _Flag


class _Share(_Model):
    name: _ShareName
    folder: _Folder
    quota: _Bytes | None
    bin_days: Annotated[int, _whole(1, 3650)] | None
    encrypted: _Flag
    purpose: _Line
    rights: Annotated[list[tuple[_Word, Annotated[str, _one_of(("read", "write"))]]], Field(max_length=10_000)]


class _Disk(_Model):
    target: _Iqn
    lun: Annotated[int, _whole(0, 16383)]
    host: _Word
    shared: _Flag
    initiators: Annotated[list[tuple[_Iqn, _Flag]], Field(max_length=10_000)]


class _Volume(_Model):
    number: Annotated[int, _whole(1, 2**31 - 1)]
    name: _VolumeName
    size: _Bytes
    extents: Annotated[int, _whole(1, 2**50)]
    thin: _Flag
    purpose: _Line
    protection: Annotated[str, _all_of(_known_protection)] | None
    file_system: Annotated[str, _one_of((*FILE_SYSTEMS, "none"))]
    reserved_share: Annotated[float, Field(ge=0, lt=1, allow_inf_nan=False)] | None
    overhead: Annotated[int, _whole(0, _SIZE)]
    uuid: Annotated[str, Field(pattern=r"^[0-9A-Za-z-]{0,64}$")]
    created_at: _Moment
    sealed_as: Annotated[int, _whole(1, 2**31 - 1)] | None = None
    to_sync: _Flag = False
    keep_above: Annotated[float, Field(gt=0, le=1, allow_inf_nan=False)] | None = None
    pieces: Annotated[
        list[tuple[Annotated[int, _whole(0, 2**50)], Annotated[int, _whole(0)], Annotated[int, _whole(1, 2**50)]]],
        Field(max_length=1_000_000),
    ]
    stripes: Annotated[str, Field(max_length=2**28, pattern=r"^[A-Za-z0-9+/=\s]*$")] | None
    files: Annotated[list[_File], Field(max_length=_FILES)]
    mounts: Annotated[list[_Mount], Field(max_length=1000)]
    shares: Annotated[list[_Share], Field(max_length=1000)]
    disk: _Disk | None

    @model_validator(mode="after")
    def _agrees(self) -> _Volume:
        _require(self.extents == -(-self.size // EXTENT), "a volume whose extents are not those of its size")
        _require(self.overhead <= self.size, "a file system larger than its volume")
        _apart([(at, count) for at, _, count in self.pieces], self.extents, "pieces of a volume")
        _require(all(f.first + f.extents <= self.extents for f in self.files), "a file beyond its volume")
        _once([f.name for f in self.files], "a file")
        return self


def _apart(spans: Iterable[tuple[int, int]], end: int, what: str) -> None:
    """Stretches (first, count) that overlap nowhere, and end before ``end``."""
    reached = 0
    for first, count in sorted(spans):
        _require(first >= reached, f"{what} overlap")
        reached = first + count
    _require(reached <= end, f"{what} lie beyond its end")


class _Backup(_Model):
    volume: Annotated[int, _whole(1, 2**31 - 1)] | None
    place: Annotated[str, _line(1, 200)]
    age_hours: Annotated[float, Field(ge=0, le=10**7, allow_inf_nan=False)]
    link: Annotated[int, _whole(1, 10**13)]
    recorded_by: _Line
    recorded_at: _Moment


class _Body(_Model):
    pool: _Pool
    places: Annotated[list[_Place], Field(min_length=1, max_length=_MEMBERS)]
    volumes: Annotated[list[_Volume], Field(max_length=_VOLUMES)]
    backups: Annotated[list[_Backup], Field(max_length=2 * _VOLUMES)]

    @model_validator(mode="after")
    def _agrees(self) -> _Body:
        _once([p.slot for p in self.places if p.slot is not None], "a slot")
        _once([p.to_slot for p in self.places if p.to_slot is not None], "a new slot")
        _once([p.serial for p in self.places if p.serial is not None], "a drive")
        _once([v.number for v in self.volumes], "a volume's number")
        _once([v.name.lower() for v in self.volumes], "a volume")
        _once([b.volume for b in self.backups], "a backup")
        _require(
            {b.volume for b in self.backups} <= {None, *(v.number for v in self.volumes)}, "the backup of no volume"
        )
        own = self.pool.domain is not None
        _require(all((v.protection is not None) == own for v in self.volumes), "a volume's protection")
        return self


_HEAD, _BODY = TypeAdapter(_Head), TypeAdapter(_Body)


def sound_head(head: Head) -> Head:
    """The head itself. DamagedError where it says what no pool can be."""
    facts = {
        "pool": head.pool, "name": head.name, "generation": head.generation, "house": head.house, "serial": head.serial,
        "members": [{n: getattr(m, n) for n in ("serial", "slot", "size", "kind", "generation", "before")} for m in head.members],
    }  # fmt: skip
    _hold(_HEAD, facts, "its head")
    if head.written_at.tzinfo is None or not 1990 <= head.written_at.year < 2200:
        raise DamagedError("its head says that it was written at no moment")
    return head


def sound_record(record: Record) -> Record:
    """The record itself. DamagedError where its head or its body says what no pool can be."""
    sound_head(record.head)
    _hold(_BODY, record.body, "its body")
    placed = {p["serial"]: p["slot"] for p in record.body["places"] if p["serial"] is not None}
    if placed != {m.serial: m.slot for m in record.head.members}:
        raise DamagedError("its head and its body name other drives")
    return record


def _hold(rules: TypeAdapter[Any], said: Mapping[str, Any], where: str) -> None:
    try:
        rules.validate_python(said)
    except ValidationError as error:
        first = error.errors(include_url=False, include_input=False)[0]
        at = ".".join(str(part) for part in first["loc"][:4]) or "it"
        why = re.sub(r"^Value error, ", "", str(first["msg"]))[:120]
        raise DamagedError(f"{where} says what no pool can be ({at}: {why})") from None
    except (RecursionError, ValueError, TypeError, ArithmeticError) as error:
        raise DamagedError(f"{where} cannot be understood ({type(error).__name__})") from None
