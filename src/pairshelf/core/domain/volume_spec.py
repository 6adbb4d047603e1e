"""A volume as it is asked for: its size in a pool's room, its file system, what is left for files."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass

from pairshelf.core.domain.file_systems import DEFAULT_FILE_SYSTEM, FILE_SYSTEMS, file_system_of, overhead
from pairshelf.core.domain.names import check_name
from pairshelf.core.domain.units import EIB, EXTENT, format_size, parse_size
from pairshelf.core.errors import BadInput, NameTaken
from pairshelf.core.layouts.protections import Protection, parse_protection


@dataclass(frozen=True, slots=True)
class Spec:
    """A volume that can be made."""

    name: str
    #: Bytes.
    size: int
    thin: bool
    file_system: str
    reserved_share: float | None
    #: Bytes its file system holds.
    overhead: int
    purpose: str = ""
    protection: Protection | None = None
    #: Of a partition: the whole extents of its drive that lie inside it.
    inside: int | None = None

    @property
    def extents(self) -> int:
        """Whole extents that hold it; of a partition those inside it."""
        if self.inside is not None:
            return self.inside
        return -(-self.size // EXTENT)

    @property
    def for_files(self) -> int:
        """Bytes left for files."""
        return self.size - self.overhead

    @property
    def pool_use(self) -> int:
        """Extents of the pool it takes at once: all for a thick one, none for a thin one; in a spread pool
        extents of its drives, redundancy included."""
        if self.thin:
            return 0
        if self.protection is None:
            return self.extents
        return -(-self.extents // self.protection.data) * self.protection.width


def rule_limit(room: int, share: float) -> int:
    """Bytes that files may take, of the room for them, before a keep rule of that share deletes the oldest."""
    return int(room * share)


def check_purpose(text: str) -> str:
    """A line of at most 200 characters."""
    if len(text.strip()) > 200 or not text.strip().isprintable():
        raise BadInput("A purpose is one line of at most 200 characters.", field="purpose")
    return text.strip()


def read_size(text: str, largest: int, count: int = 1, *, data: int = 1, field: str = "size") -> int:
    """Bytes of a typed size; empty or ``all`` is all that is left, shared by ``count``, in whole stripes of ``data``
    extents."""
    if text.strip().lower() in ("", "all"):
        return largest // (data * EXTENT) // count * data * EXTENT
    return parse_size(text, field=field)


def check_size(size: int, room: int, *, thin: bool = False, count: int = 1, data: int = 1, field: str = "size") -> None:
    """BadInput for a size the pool cannot hold, with by how much; each of ``count`` has whole stripes of ``data`` extents."""
    whole = -(-size // (data * EXTENT)) * data * EXTENT * count
    if size == 0:
        raise BadInput(
            "The pool has no room left." if room < EXTENT else "A volume of size zero holds nothing; give it a size.",
            field=field,
        )
    if not thin and whole > room:
        over = whole - room if count > 1 else size - room
        what = f"{count} volumes of {format_size(size)} are" if count > 1 else "the volume is"
        raise BadInput(
            f"The pool has room for {format_size(room)} ({room} bytes); {what} {format_size(over)} ({over} bytes) "
            "too large.",
            field=field,
        )


def plan_volume(
    name: str, size: int, file_system: str, reserved_share: float | None, *, thin: bool = False, purpose: str = "",
    protection: str = "", spread: bool = False, taken: Collection[str] = (), field: str = "name",
) -> Spec:  # fmt: skip
    """The volume, or BadInput at the field that will not do."""
    name = check_name(name, "volume", field=field)
    if name.lower() in {t.lower() for t in taken}:
        raise NameTaken("volume", name, field=field, where="this pool")
    if spread and not protection.strip():
        raise BadInput("Choose how the volume is protected, such as copies-2 or parity-2:8.", field="protection")
    if not spread and protection.strip():
        raise BadInput("In this pool all volumes are protected alike; leave the protection out.", field="protection")
    system = file_system_of(file_system or DEFAULT_FILE_SYSTEM)
    if size > system.largest:
        raise BadInput(f"{system.id} goes up to {format_size(system.largest)}.", field="file_system")
    held = overhead(system.id, size, reserved_share)
    if size < EXTENT or size - held <= 0:
        raise BadInput(f"{format_size(size)} is too small to hold a file system; give it at least 1 GiB.", field="size")
    return Spec(
        name, size, thin, system.id, reserved_share, held, check_purpose(purpose),
        parse_protection(protection, field="protection") if spread else None,
    )  # fmt: skip


def _large(size: int) -> str:
    """A limit of a file system, in EiB where it has so many."""
    return f"{size // EIB} EiB" if size >= EIB else format_size(size, "binary", digits=0)


def facts_of(file_system: str) -> Mapping[str, str]:
    """What a file system brings, in words, for tables and sheets."""
    system = FILE_SYSTEMS[file_system]
    return {
        "snapshots": "yes" if system.snapshots else "no",
        "quotas": system.quotas or "no",
        "finds damage in": {"data": "data and structures", "structures": "its own structures"}.get(
            system.checksums, "nothing"
        ),
        "shrinks": system.shrinks or "never",
        "grows": system.grows,
        "largest volume": _large(system.largest),
        "largest file": _large(system.largest_file) if system.largest_file else "–",
    }
