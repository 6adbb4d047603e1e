"""File systems: what each can do, and what its structures take of a volume.

The overheads are estimates from each file system's published on-disk layout as its own formatter
lays it down by default; the tests hold them to within 1 % of what those formatters leave free.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from pairshelf.core.domain.units import GIB, KIB, MIB, TIB
from pairshelf.core.errors import BadInput


@dataclass(frozen=True, slots=True)
class FileSystem:
    """A file-system type and the facts a choice turns on."""

    id: str
    about: str
    #: Share of the volume kept for the system's administrator unless chosen otherwise.
    reserved_share: float
    #: Bytes its structures take of a volume of so many bytes, the reserved share left out.
    structures: Callable[[int], int]
    #: Read-only pictures of itself as it was.
    snapshots: bool
    #: What it can limit: "folders and people", "people", or "" for nothing.
    quotas: str
    #: What it finds damage in: "data", "structures", or "" for nothing.
    checksums: str
    #: How it becomes smaller: "mounted", "unmounted", or "" for never.
    shrinks: str
    #: How it grows: "mounted" or "unmounted".
    grows: str
    #: Bytes of the largest volume and the largest file.
    largest: int
    largest_file: int
    suits: str
    #: What is to be known before it is made smaller.
    on_shrinking: str
    #: Kinds of application that ask for it (keys of APPLICATION_KINDS).
    asked_for_by: tuple[str, ...] = ()


def _ext4(size: int) -> int:
    """Inode tables (256 bytes an inode), bitmaps, superblock copies with room to grow, journal.

    The inode density follows the formatter's size classes: one inode for 16 KiB, from 4 TiB for
    32 KiB, from 16 TiB for 64 KiB.
    """
    blocks = size // (4 * KIB)
    ratio = 16 * KIB if size < 4 * TIB else 32 * KIB if size < 16 * TIB else 64 * KIB
    groups = -(-blocks // 32768)
    inodes = size // ratio * 256
    descriptors = -(-groups * 64 // (4 * KIB))
    copies = _sparse_copies(groups)
    reserved_growth = min(1024, -(-groups * 1024 // 64) - descriptors)
    tables = copies * (1 + descriptors + reserved_growth) * 4 * KIB
    return inodes + groups * 2 * 4 * KIB + tables + _ext4_journal(blocks)


def _ext4_journal(blocks: int) -> int:
    """Bytes of the journal: 16 MiB to 1 GiB, by the volume's size in 4 KiB blocks."""
    classes = ((256, 16), (512, 32), (4096, 64), (8192, 128), (16384, 256), (32768, 512))
    return next((size for below, size in classes if blocks < below * KIB), 1024) * MIB


def _sparse_copies(groups: int) -> int:
    """How many block groups carry a copy of the superblock: 0, 1 and the powers of 3, 5 and 7."""
    copies = min(groups, 2)
    for base in (3, 5, 7):
        power = base
        while power < groups:
            copies += 1
            power *= base
    return copies


def _xfs(size: int) -> int:
    """The internal log (1/2048 of the volume, 64 MiB to 2 GiB) and each allocation group's headers."""
    log = min(2 * GIB, max(64 * MIB, size // 2048))
    groups = 4 if size < 4 * TIB else -(-size // TIB)
    return log + groups * 11 * 4 * KIB


def _btrfs(size: int) -> int:
    """Metadata and system chunks, each kept twice, and the superblock copies."""
    metadata = 256 * MIB if size < 50 * GIB else GIB
    return 2 * min(metadata, size // 20) + 2 * 8 * MIB + 6 * MIB


def _ntfs(size: int) -> int:
    """The journal (1/200, at most 64 MiB), the cluster bitmap (a bit a cluster), the first file records."""
    cluster = 4 * KIB
    while size // cluster > 2**32 - 1:
        cluster *= 2
    return min(64 * MIB, size // 200) + size // cluster // 8 + MIB // 2


#: Kinds of application, and what they ask of a file system.
APPLICATION_KINDS: dict[str, str] = {
    "recorder": "writes large files for years; asks for many files and steady writing",
    "database": "makes small writes that must be on the drives; asks for a file system that writes in place",
    "office": "has many people's small files; asks for quotas, and snapshots help",
    "catalogue": "keeps millions of small files; asks for room for file entries",
}

FILE_SYSTEMS: dict[str, FileSystem] = {
    fs.id: fs
    for fs in (
        FileSystem("ext4", "Proven, for anything. Grows while mounted; shrinks unmounted after a check. "
                   "Keeps 5 % back for the system's administrator.", 0.05, _ext4, False, "folders and people",
                   "structures", "unmounted", "mounted", 1024**6, 16 * TIB,
                   "anything ordinary, and what may have to shrink",
                   "ext4 shrinks unmounted, after a check, if the files fit.", ("database", "catalogue")),
        FileSystem("xfs", "Large files and many writers. Grows while mounted; never shrinks.", 0.0, _xfs, False,
                   "folders and people", "structures", "", "mounted", 8 * 1024**6, 8 * 1024**6,
                   "large files, many writers at once",
                   "xfs never shrinks. Copy the data away, build anew, copy back.", ("recorder", "database")),
        FileSystem("btrfs", "Checksums and snapshots of its own. Grows and shrinks while mounted.", 0.0, _btrfs, True,
                   "folders", "data", "mounted", "mounted", 16 * 1024**6, 16 * 1024**6,
                   "files kept for long, where going back in time helps",
                   "btrfs shrinks while mounted, if the files fit.", ("office",)),
        FileSystem("ntfs", "For hosts that use drive letters.", 0.0, _ntfs, True, "people", "", "mounted", "mounted",
                   256 * TIB, 256 * TIB, "hosts that use drive letters",
                   "ntfs shrinks while mounted, as far as files that cannot be moved allow.", ("office",)),
        FileSystem("none", "No file system: the bare volume, for block targets and databases.", 0.0, lambda _: 0,
                   False, "", "", "unmounted", "mounted", 1024**6, 0, "block targets: another host makes its own",
                   "Without a file system nothing says what may be cut off; only while nobody uses it."),
    )
}  # fmt: skip

#: What is assumed where nothing is chosen.
DEFAULT_FILE_SYSTEM = "ext4"


def file_system_of(name: str) -> FileSystem:
    """The file-system type of that name; BadInput with the known ones otherwise."""
    try:
        return FILE_SYSTEMS[name]
    except KeyError:
        raise BadInput(
            f"“{name}” is not a known file system; choose one of {', '.join(FILE_SYSTEMS)}.",
            field="file_system",
        ) from None


def overhead(name: str, size: int, reserved_share: float | None = None) -> int:
    """Bytes of a volume of ``size`` bytes that are not left for files, never more than the volume.

    ``reserved_share`` (0 to 0.5) is the share kept back; None takes the type's own default.
    """
    system = file_system_of(name)
    share = system.reserved_share if reserved_share is None else reserved_share
    if not 0 <= share <= 0.5:
        raise BadInput("The reserved share must be between 0 and 50 %.", field="reserved_share")
    if name == "none":
        return 0
    return min(size, system.structures(size) + int(size * share))
