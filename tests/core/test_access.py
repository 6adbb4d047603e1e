"""Mounting, shares, block targets, applications, and who would notice: the rules, and where each is refused."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pairshelf.core.changes.access.sharing import who_may
from pairshelf.core.changes.kinds import KINDS, request_of
from pairshelf.core.domain.block_targets import log_in, why_no_path
from pairshelf.core.domain.depends import pull, stands_on
from pairshelf.core.domain.drives import Drive, Kind
from pairshelf.core.domain.estate import (
    Entry,
    Estate,
    EstateDrive,
    EstateHost,
    EstateMount,
    EstatePlace,
    EstatePool,
    EstateShare,
    EstateTarget,
    EstateVolume,
)
from pairshelf.core.domain.folders import folder_for, folder_in, settings_text, with_folder
from pairshelf.core.domain.mounting import MountLine, in_order
from pairshelf.core.domain.names import check_iqn, near_misses
from pairshelf.core.domain.partitions import WantedPartition
from pairshelf.core.domain.patterns import expand
from pairshelf.core.domain.units import GIB, TB
from pairshelf.core.errors import BadInput, NotPossible, PairShelfError
from pairshelf.core.layouts import build_layout
from pairshelf.core.layouts.allocation import Piece, allocate, beyond, gaps, moved, next_move, spans, unplaced, without
from pairshelf.core.policies.beside import Under
from tests.core.estates import IQN, divided, estate, free, more_drives, spread, with_pool, with_volume

LONG, RTL = "x" * 300, "נפח"
REFUSED: list[tuple[str, dict[str, Any], str]] = [
    *[("make-volumes", {"pool": "p", "name": n}, "name") for n in ("", LONG, "a/b", RTL, "📁", "a", "A", "{1..", "{4..1}", "v-{1..500}")],
    ("make-volumes", {"pool": "q", "name": "v"}, "pool"),
    *[("make-volumes", {"pool": "p", "name": "v", "size": s}, "size") for s in ("0", "99 PB", "4T", "-1 GB", "5 apples", "1 MB")],
    ("make-volumes", {"pool": "p", "name": "v", "size": "1 TB", "count": 0}, "count"),
    ("make-volumes", {"pool": "p", "name": "v", "size": "1 TB", "protection": "copies-2"}, "protection"),
    ("make-volumes", {"pool": "p", "name": "v", "size": "1 TB", "file_system": "fat"}, "file_system"),
    *[
        ("make-volumes", {"pool": "p", "name": "v", "size": "1 TB", "host": "elm", "mount_point": m}, "mount_point")
        for m in ("srv", "/srv/../etc", "/", "/srv/a", "/etc", "/a b", "S:", "/srv")
    ],
    ("make-volumes", {"pool": "p", "name": "v", "size": "1 TB", "mount_point": "/srv/v"}, "host"),
    ("make-volumes", {"pool": "p", "name": "v-{1..2}", "size": "1 TB", "host": "elm", "mount_point": "/srv/v"}, "mount_point"),
    ("rename-volume", {"volume": "p/a", "name": "b"}, "name"),
    ("rename-volume", {"volume": "p/zzz", "name": "c"}, "volume"),
    ("resize-volume", {"volume": "p/b", "size": "100 GiB"}, "size"),
    ("resize-volume", {"volume": "p/a", "size": "100 GiB"}, "size"),
    ("resize-volume", {"volume": "p/a", "size": "90 PB"}, "size"),
    ("delete-volume", {"volume": "p/a"}, "volume"),
    ("reformat-volume", {"volume": "p/disk", "file_system": "xfs"}, "volume"),
    ("mount-volume", {"volume": "p/b", "host": "elm", "mount_point": "/full"}, "mount_point"),
    ("mount-volume", {"volume": "p/a", "host": "elm", "mount_point": "/srv/a/again"}, "mount_point"),
    ("mount-volume", {"volume": "p/a", "host": "fir", "mount_point": "/srv/a"}, "host"),
    ("mount-volume", {"volume": "p/b", "host": "win", "mount_point": "/srv/b"}, "mount_point"),
    ("mount-volume", {"volume": "p/b", "host": "win", "mount_point": "S:"}, "mount_point"),
    ("mount-volume", {"volume": "p/b", "host": "win", "mount_point": "C:/b"}, "mount_point"),
    ("mount-volume", {"volume": "p/n", "host": "win", "mount_point": "C:\\"}, "mount_point"),
    ("mount-volume", {"volume": "p/n", "host": "win", "mount_point": "C:/a/../b"}, "mount_point"),
    ("mount-volume", {"volume": "p/n", "host": "elm", "mount_point": "C:/n"}, "mount_point"),
    ("unmount-volume", {"host": "elm", "mount_point": "/srv/rec"}, "mount_point"),
    ("unmount-volume", {"host": "elm", "mount_point": "/nowhere"}, "mount_point"),
    ("make-share", {"volume": "p/a", "name": "files"}, "name"),
    ("make-share", {"volume": "p/b", "name": "s"}, "volume"),
    ("make-share", {"volume": "p/a", "name": "s", "quota": "900 GiB"}, "quota"),
    ("make-share", {"volume": "p/a", "name": "s", "quota": "0"}, "quota"),
    ("make-share", {"volume": "p/a", "name": "s", "rights": ("ghost:read",)}, "rights"),
    ("make-share", {"volume": "p/a", "name": "s", "rights": ("ash:own",)}, "rights"),
    ("make-share", {"volume": "p/a", "name": "s", "folder": "../up"}, "folder"),
    ("make-share", {"volume": "p/a", "name": "s", "bin_days": 9999}, "bin_days"),
    ("add-party", {"name": "Office"}, "name"),
    ("add-party", {"name": "g", "members": ("ghost",)}, "members"),
    *[
        ("declare-initiator", {"iqn": n}, "iqn")
        for n in ("", "iqn.2026-13.example.a:b", "iqn.26-01.example.a", IQN + "Elm", IQN + "a_b", "iqn.2001-04.com.example:x",
                  "eui.12", IQN + "x" * 230, IQN + "firr", "naa.123", "iqn.2026-01.nodots:x")
    ],
    ("make-target", {"iqn": IQN + "u", "host": "elm", "volume": "p/a"}, "volume"),
    ("make-target", {"iqn": IQN + "u", "host": "elm", "volume": "p/disk"}, "volume"),
    ("let-in", {"target": IQN + "t", "initiator": IQN + "nobody"}, "initiators"),
    ("let-in", {"target": IQN + "tt", "initiator": IQN + "fir"}, "target"),
    ("set-host", {"host": "fir", "gateway": "10.0.0.254"}, "gateway"),
    ("set-host", {"host": "fir", "storage_address": "10.0.0.2"}, "storage_address"),
    ("set-host", {"host": "fir", "storage_address": "10.0.0.1/24"}, "storage_address"),
    ("set-host", {"host": "fir", "storage_address": "10.0.0.0/24"}, "storage_address"),
    ("set-host", {"host": "fir", "address": "10.0.0.9", "storage_address": "10.0.0.2/24"}, "storage_address"),
    ("set-host", {"host": "fir", "iqn": IQN + "elm"}, "iqn"),
    ("move-application", {"application": "elm/cam", "volume": "p/b"}, "application"),
    ("move-application", {"application": "ghost", "volume": "p/b"}, "application"),
    ("set-folders", {"application": "cam", "folder_scheme": "by-moon"}, "folder_scheme"),
    ("set-folders", {"application": "cam", "folder_scheme": "by-date", "files_per_folder": 0}, "files_per_folder"),
    ("set-keep-rule", {"volume": "p/a", "above": 120}, "above"),
    ("set-keep-rule", {"volume": "p/a", "application": "cam"}, "application"),
    ("end-keep-rule", {"volume": "p/a"}, "volume"),
]  # fmt: skip


BARE, SCANS = with_volume(estate(), "b", file_system="none"), {"volume": "p/b", "host": "elm", "mount_point": "/srv/b"}
own = replace(estate().applications[0], volume=None, folder="/var/cam", moved_from=None)


def house(**facts: Any) -> Estate:
    return replace(estate(), **facts)


def roomy(**facts: Any) -> Estate:
    """The recorder's data lie on its host's own disk."""
    return house(**{"applications": (own,), "folders": ((("elm", "/var/cam"), (Entry("x", GIB),)),)} | facts)


two_disks = house(targets=(replace(estate().targets[0], luns=((0, "p/disk"), (3, "p/n"))),))

#: The same where the estate is another than usual: kind, request, estate, field, code.
REFUSED_IN: list[tuple[str, dict[str, Any], Estate, str | None, str]] = [
    ("mount-volume", SCANS, with_pool(estate(), locked=True), None, "locked"),
    ("mount-volume", SCANS, BARE, None, "bare"),
    ("mount-volume", {"volume": "p/disk", "host": "elm", "mount_point": "/srv/b"}, with_volume(estate(), "disk", file_system="xfs"), None, "in-use"),
    ("mount-volume", {**SCANS, "move_aside": True, "mount_point": "/full"}, house(folders=(*estate().folders, (("elm", "/full.aside"), (Entry("x", 1),)))), "mount_point", "aside-taken"),
    ("mount-volume", {**SCANS, "mount_point": "/srv"}, estate(), "mount_point", "would-hide"),
    ("unmount-volume", {"host": "elm", "mount_point": "/srv/a"}, house(mounts=(*estate().mounts, EstateMount(4, "elm", "p/b", "/srv/a/in"))), "mount_point", "in-use"),
    ("unmount-volume", {"host": "fir", "mount_point": "/srv/a"}, estate(), "mount_point", "bad-input"),
    ("resize-volume", {"volume": "p/a", "size": "800 GiB"}, estate(), "size", "bad-input"),
    ("resize-volume", {"volume": "p/a", "size": "0.5 GiB"}, house(mounts=(), shares=()), "size", "bad-input"),
    ("resize-volume", {"volume": "p/a", "size": "500 GiB"}, estate(), "size", "mounted"),
    ("resize-volume", {"volume": "p/b", "size": "500 GiB"}, estate(), "size", "never-shrinks"),
    ("resize-volume", {"volume": "p/disk", "size": "500 GiB"}, estate(), "size", "in-use"),
    ("resize-volume", {"volume": "p/a", "size": "500 GiB"}, with_volume(house(mounts=(), shares=()), "a", files_end=600 * GIB), "size", "bad-input"),
    ("resize-volume", {"volume": "p/a", "size": "500 GiB"}, with_volume(house(mounts=(), shares=()), "a", files_bytes=480 * GIB), "size", "bad-input"),
    ("resize-volume", {"volume": "p/a", "size": "100 GiB"}, house(mounts=()), "size", "bad-input"),
    ("resize-volume", {"volume": "p/a", "size": "900 GiB"}, with_pool(estate(), state="lost"), None, "not-serving"),
    ("reformat-volume", {"volume": "p/a", "file_system": "xfs"}, house(shares=(), applications=()), "volume", "in-use"),
    ("reformat-volume", {"volume": "p/a", "file_system": "xfs"}, house(mounts=(), applications=()), "volume", "in-use"),
    ("delete-volume", {"volume": "p/rec"}, house(mounts=()), "volume", "in-use"),
    ("delete-volume", {"volume": "p/disk"}, house(mounts=()), "volume", "in-use"),
    ("check-files", {"volume": "p/disk"}, estate(), None, "no-file-system"),
    ("make-volumes", {"pool": "p", "name": "v", "thin": True}, with_pool(estate(), gaps=()), "size", "bad-input"),
    ("make-volumes", {"pool": "p", "name": "v-{1..60}", "count": 2, "size": "1 GiB"}, estate(), "count", "bad-input"),
    ("make-volumes", {"pool": "p", "name": "{x,x}", "size": "1 GiB"}, estate(), "name", "bad-input"),
    ("make-volumes", {"pool": "p", "name": "v", "count": 101, "size": "1 GiB"}, estate(), "count", "bad-input"),
    ("make-volumes", {"pool": "p", "name": "v", "count": 3, "size": "5 TiB"}, estate(), "size", "bad-input"),
    ("make-volumes", {"pool": "p", "name": "v", "size": "1 GiB", "file_system": "none", "host": "elm", "mount_point": "/srv/v"}, estate(), "mount_point", "bad-input"),
    ("make-share", {"volume": "p/a", "name": "s", "rights": ("ash:write",)}, house(mounts=(replace(estate().mounts[0], read_only=True),)), "rights", "bad-input"),
    ("make-share", {"volume": "p/a", "name": "s", "rights": ("ash:write", "ash:read")}, estate(), "rights", "bad-input"),
    ("make-share", {"volume": "p/a", "name": "s", "quota": "800 GiB"}, estate(), "quota", "bad-input"),
    ("change-share", {"share": "nobody"}, estate(), "share", "not-found"),
    ("end-share", {"share": ""}, estate(), "share", "not-found"),
    ("set-members", {"group": "ash"}, estate(), "group", "not-found"),
    ("set-members", {"group": "office", "members": ("office",)}, estate(), "members", "not-found"),
    ("end-target", {"target": IQN + "t"}, house(applications=(replace(own, volume="p/disk"),)), "target", "in-use"),
    ("let-in", {"target": IQN + "t", "initiator": IQN + "firr"}, estate(), "initiator", "bad-input"),
    ("let-in", {"target": IQN + "t", "initiator": IQN + "fir", "instead_of": IQN + "x"}, estate(), "instead_of", "bad-input"),
    ("shut-out", {"target": IQN + "t", "initiator": IQN + "fir"}, estate(), "initiator", "bad-input"),
    ("make-target", {"iqn": IQN + "t", "host": "elm", "volume": "p/disk"}, house(), "iqn", "name-taken"),
    ("make-target", {"iqn": IQN + "fir", "host": "elm", "volume": "p/disk"}, house(), "iqn", "name-taken"),
    *[("make-target", {"iqn": IQN + "u", "host": "elm", "volume": "p/disk", "lun": lun}, house(targets=()), "lun", "bad-input") for lun in (-2, 16384)],
    ("add-disk", {"target": IQN + "t", "volume": "p/b", "lun": 0}, BARE, "lun", "taken"),
    ("set-host", {"host": "elm", "letters": True}, estate(), "letters", "bad-input"),
    *[("change-lun", {"target": IQN + "t", "volume": "p/disk", "lun": lun}, estate(), "lun", "bad-input") for lun in (0, -1, 16384)],
    ("change-lun", {"target": IQN + "t", "volume": "p/disk", "lun": 3}, two_disks, "lun", "taken"),
    ("change-lun", {"target": IQN + "t", "volume": "p/b", "lun": 3}, estate(), "volume", "bad-input"),
    ("take-disk", {"target": IQN + "t", "volume": "p/disk"}, estate(), "volume", "only-disk"),
    ("take-disk", {"target": IQN + "t", "volume": "p/b"}, two_disks, "volume", "bad-input"),
    ("take-disk", {"target": IQN + "t", "volume": "p/disk"}, replace(two_disks, applications=(replace(own, volume="p/disk"),)), "volume", "in-use"),
    ("move-application", {"application": "cam", "volume": "p/b", "way": "sideways"}, roomy(), "way", "bad-input"),
    ("move-application", {"application": "cam", "volume": "p/b"}, replace(roomy(), pools=with_pool(estate(), locked=True).pools), "volume", "not-serving"),
    ("move-application", {"application": "cam", "volume": "p/b"}, replace(roomy(), pools=with_pool(estate(), state="lost").pools), "volume", "not-serving"),
    ("move-application", {"application": "cam", "volume": "p/disk"}, roomy(), "volume", "bad-input"),
    ("move-application", {"application": "cam", "volume": "p/b"}, roomy(mounts=(EstateMount(1, "fir", "p/b", "/srv/b"),)), "volume", "mounted-elsewhere"),
    ("move-application", {"application": "cam", "volume": "p/b"}, roomy(folders=()), "application", "no-folder"),
    ("move-application", {"application": "cam", "volume": "p/b"}, with_volume(roomy(), "b", files_bytes=799 * GIB), "volume", "bad-input"),
    ("move-application", {"application": "cam", "volume": "p/rec"}, roomy(), "way", "in-use"),
    ("move-application", {"application": "cam", "volume": "p/b", "way": "point"}, roomy(), "volume", "not-mounted"),
    ("move-application", {"application": "cam", "volume": "p/a", "way": "point"}, roomy(mounts=(replace(estate().mounts[0], read_only=True),)), "volume", "not-mounted"),
    ("move-application", {"application": "cam", "volume": "p/b"}, roomy(applications=(own, replace(own, host="fir"))), "application", "bad-input"),
    ("undo-move", {"application": "cam"}, estate(), "application", "no-folder"),
    ("undo-move", {"application": "cam"}, roomy(), "application", "not-moved"),
    ("undo-move", {"application": "cam"}, house(applications=(replace(own, volume="p/rec"),)), "application", "not-moved"),
    *[("set-keep-rule", {"volume": "p/rec", "above": above}, estate(), "above", "bad-input") for above in (9, 100)],
    ("build-pool", {"name": "P", "scheme": "parity-1", "drives": (11,)}, more_drives(estate(), free(11)), "name", "name-taken"),
    ("build-pool", {"name": "c", "scheme": "copies-2", "drives": (11, 12), "protection": "copies-2"}, more_drives(estate(), free(11), free(12)), "protection", "bad-input"),
    ("build-pool", {"name": "c", "scheme": "copies-2", "drives": (11, 11)}, more_drives(estate(), free(11)), "drives", "bad-input"),
    ("build-pool", {"name": "c", "scheme": "copies-2", "drives": (11, 99)}, more_drives(estate(), free(11)), "drives", "drive-gone"),
    ("build-pool", {"name": "c", "scheme": "copies-2", "drives": (11, 12), "mount_point": "/srv/x", "host": "elm"}, more_drives(estate(), free(11), free(12)), "volume", "bad-input"),
    ("build-pool", {"name": "c", "scheme": "copies-2", "drives": (11, 12), "mount_point": "/srv/x"}, more_drives(estate(), free(11), free(12)), "host", "bad-input"),
    ("build-pool", {"name": "c", "scheme": "copies-2", "drives": (11, 12), "spares_for": "me"}, more_drives(estate(), free(11), free(12)), "spares_for", "bad-input"),
    ("build-pool", {"name": "c", "scheme": "copies-2", "drives": (11, 12), "volume": "v", "file_system": "none", "host": "elm", "mount_point": "/srv/x"}, more_drives(estate(), free(11), free(12)), "mount_point", "bad-input"),
    ("build-pool", {"name": "c", "scheme": "spread", "drives": (11, 12, 13), "spares": 1, "domain": "drive"}, more_drives(estate(), free(11), free(12), free(13)), "spares", "bad-input"),
    ("replace-drive", {"pool_id": 7, "slot": 0, "drive_id": 11}, estate(), "pool_id", "bad-input"),
    ("replace-drive", {"pool_id": 1, "slot": 4, "drive_id": 11}, estate(), "slot", "bad-input"),
    ("replace-drive", {"pool_id": 1, "slot": 0, "drive_id": 11}, more_drives(with_pool(estate(), states=("rebuilding",)), free(11)), None, "nothing-to-replace"),
    ("replace-drive", {"pool_id": 1, "slot": 0, "drive_id": 11}, more_drives(with_pool(estate(), under_way=(Under("copy", slot=0),)), free(11)), None, "busy"),
    ("replace-drive", {"pool_id": 1, "slot": 0, "drive_id": 11}, more_drives(with_pool(estate(), under_way=(Under("restripe"),)), free(11)), None, "restriping"),
    ("replace-drive", {"pool_id": 1, "slot": 0, "drive_id": 11}, more_drives(with_pool(estate(), state="lost"), free(11)), None, "not-serving"),
    ("replace-drive", {"pool_id": 1, "slot": 0, "drive_id": 11}, more_drives(with_pool(estate(), away=1, copies=((0, free(12)),)), free(11)), None, "busy"),
    ("leave-copy", {"pool_id": 7, "slot": 0}, estate(), "pool_id", "bad-input"),
    ("leave-copy", {"pool_id": 1, "slot": 0}, estate(), "slot", "nothing-to-leave"),
    ("add-drives", {"pool": "p", "drives": (11,)}, more_drives(with_pool(estate(), away=1), free(11)), None, "degraded"),
    ("add-drives", {"pool": "p", "drives": (11,)}, more_drives(with_pool(estate(), locked=True), free(11)), None, "locked"),
    ("add-drives", {"pool": "p", "drives": (11,)}, more_drives(with_pool(estate(), state="unreachable"), free(11)), None, "not-serving"),
    ("add-drives", {"pool": "p", "drives": (11,)}, more_drives(with_pool(estate(), under_way=(Under("first-sync"),)), free(11)), None, "not-synced"),
    ("add-drives", {"pool": "F12", "drives": (11,)}, more_drives(divided(estate()), free(11)), None, "divided"),
    ("add-sets", {"pool": "p", "drives": (11, 12, 13, 14)}, more_drives(with_pool(estate(), under_way=(Under("check"),)), *(free(i) for i in range(11, 15))), None, "busy"),
    ("add-sets", {"pool": "s", "drives": (11,)}, more_drives(spread(estate()), free(11)), "pool", "closed"),
    ("convert-pool", {"pool": "s", "scheme": "parity-2"}, spread(estate()), "pool", "closed"),
    ("convert-pool", {"pool": "p", "scheme": "copies-2", "free": (1,)}, estate(), "free", "bad-input"),
    ("turn-restripe", {"pool": "p"}, estate(), "pool", "no-front"),
    ("reclaim", {"pool": "p"}, estate(), "pool", "nothing-to-reclaim"),
    ("reclaim", {"pool": "p"}, with_pool(estate(), locked=True), None, "locked"),
    ("reclaim", {"pool": "p"}, with_pool(estate(), state="unreachable"), None, "not-serving"),
    ("move-together", {"pool": "p"}, estate(), "pool", "together"),
    ("move-together", {"pool": "s"}, spread(estate()), "pool", "together"),
    ("move-together", {"pool": "p"}, with_pool(estate(), locked=True), None, "locked"),
    ("move-together", {"pool": "p"}, with_pool(estate(), state="lost"), None, "not-serving"),
    ("move-together", {"pool": "p"}, with_pool(estate(), gaps=((0, 9),), under_way=(Under("restripe"),)), None, "restriping"),
    ("move-together", {"pool": "p"}, with_pool(estate(), gaps=((0, 9),), under_way=(Under("move-together"),)), None, "already-running"),
    ("add-sets", {"pool": "p", "drives": (11, 12, 13, 14)}, more_drives(with_pool(estate(), under_way=(Under("move-together"),)), *(free(i) for i in range(11, 15))), None, "busy"),
    ("replace-larger", {"pool": "p", "drives": (11,)}, more_drives(estate(), free(11)), "drives", "bad-input"),
    ("replace-larger", {"pool": "p", "drives": ()}, estate(), "drives", "bad-input"),
    ("replace-larger", {"pool": "p", "drives": (11,)}, more_drives(with_pool(estate(), path=((0, 11, False),)), free(11, 8 * TB)), "pool", "on-a-path"),
    ("replace-drive", {"pool_id": 1, "slot": 2, "drive_id": 11}, more_drives(with_pool(estate(), path=((0, 11, False), (1, 12, False))), free(11)), "slot", "out-of-order"),
    ("replace-drive", {"pool_id": 1, "slot": 1, "drive_id": 12}, more_drives(with_pool(estate(), path=((0, 11, False), (1, 12, False))), free(12)), "drive_id", "out-of-order"),
    ("leave-path", {"pool": "p"}, estate(), "pool", "no-path"),
    ("use-room", {"pool": "p"}, estate(), "pool", "no-more-room"),
    ("add-spares", {"pool": "p", "drives": ()}, estate(), "drives", "bad-input"),
    ("add-spares", {"pool": "p", "drives": (11,), "spares_for": "me"}, more_drives(estate(), free(11)), "spares_for", "bad-input"),
    ("add-spares", {"pool": "p", "drives": (1,)}, estate(), "drives", "drive-not-free"),
    ("add-spares", {"pool": "p", "drives": (11,)}, more_drives(estate(), free(11, 2 * TB)), "drives", "too-small"),
    ("add-spares", {"pool": "s", "drives": (11,)}, more_drives(spread(estate()), free(11)), "pool", "closed"),
    ("replace-drive", {"pool_id": 2, "slot": 1, "drive_id": 11, "stands_by": True}, more_drives(spread(estate()), free(11, 8 * TB)), "stands_by", "bad-input"),
    *(("take-apart", {"pool": "p"}, with_pool(estate(), state=state), "all_the_same", "not-in-panic") for state in ("degraded", "unprotected", "unreachable")),
    ("take-out", {"pool": "p", "drives": ()}, estate(), "drives", "bad-input"),
    ("take-out", {"pool": "p", "drives": (11,)}, more_drives(estate(), free(11)), "drives", "bad-input"),
    ("take-out", {"pool": "p", "drives": (1,)}, estate(), "drives", "bad-input"),
    ("take-out", {"pool": "p", "drives": (1, 2, 3, 4)}, estate(), "drives", "needed"),
    ("take-out", {"pool": "p", "drives": (1,)}, with_pool(estate(), synced=False), "drives", "not-synced"),
    ("take-out", {"pool": "s", "drives": (20,)}, spread(estate()), "drives", "not-empty"),
    ("extend-volumes", {"pool": "s"}, spread(estate()), "pool", "one-by-one"),
    ("extend-volumes", {"pool": "p", "volumes": ("zz",)}, estate(), "volumes", "not-found"),
    ("extend-volumes", {"pool": "p"}, with_pool(estate(), gaps=()), "pool", "pool-full"),
    ("extend-volumes", {"pool": "p"}, with_pool(estate(), locked=True), None, "locked"),
    ("hold-back", {"drives": (11,), "share": 0.1}, more_drives(estate(), free(11)), "drives", "not-flash"),
    ("hold-back", {"drives": (11,), "share": 0.6}, more_drives(estate(), free(11)), "share", "bad-input"),
    ("hold-back", {"drives": (), "share": 0.1}, estate(), "drives", "bad-input"),
    ("hold-back", {"drives": (11,), "share": 0.0}, more_drives(estate(), free(11, kind=Kind.SSD)), "share", "bad-input"),
    ("replace-drive", {"pool_id": 1, "slot": 0, "drive_id": 11}, more_drives(with_pool(estate(), lost=2), free(11)), None, "data-lost"),
    ("replace-drive", {"pool_id": 1, "slot": 0, "drive_id": 11}, more_drives(with_pool(estate(), lost=1, away=1), free(11)), None, "unreachable"),
    ("replace-drive", {"pool_id": 1, "slot": 0, "drive_id": 11}, with_pool(estate(), lost=1), "drive_id", "drive-gone"),
    *[("replace-drive", {"pool_id": 1, "slot": 0, "drive_id": 11}, more_drives(with_pool(estate(), lost=1), drive), "drive_id", "drive-not-free")
      for drive in (free(11, 4 * TB), free(11, service="new"), free(11, condition="failed"), free(11, condition="missing"),
                    free(11, service="in-use"), free(11, starts_host=True))],
    ("write-partitions", {"drive_id": 99}, estate(), "drive_id", "not-found"),
    ("write-partitions", {"drive_id": 11}, more_drives(estate(), free(11)), None, "nothing-pending"),
    ("write-partitions", {"drive_id": 1}, estate(), "drive_id", "drive-not-free"),
    ("write-partitions", {"drive_id": 12}, divided(estate()), None, "nothing-pending"),
    ("write-partitions", {"drive_id": 12}, divided(estate(), ()), None, "nothing-pending"),
    ("write-partitions", {"drive_id": 12}, divided(estate(), (WantedPartition("501 GB"),)), "parts.0.size", "bad-input"),
    ("write-partitions", {"drive_id": 12}, divided(estate(), (WantedPartition("1 GiB", kind="logical"),)), "parts.0.kind", "bad-input"),
    ("write-partitions", {"drive_id": 12}, divided(estate(), (WantedPartition("1 GiB"), WantedPartition("1 GiB")), "mbr"), "parts.1.size", "bad-input"),
    ("write-partitions", {"drive_id": 12}, divided(estate(), (WantedPartition("1 MiB", file_system="ext4"),)), "parts.0.size", "bad-input"),
    ("write-partitions", {"drive_id": 12}, divided(estate(), (WantedPartition("1 GiB", "start", file_system="ext4"),)), "parts.0.file_system", "bad-input"),
    ("reformat-volume", {"volume": "F12/part-2", "file_system": "ntfs"}, divided(estate()), "file_system", "wrong-type"),
    ("reformat-volume", {"volume": "F12/part-1", "file_system": "ext4"}, divided(estate()), "file_system", "wrong-type"),
    ("make-volumes", {"pool": "F12", "name": "x", "size": "1 GiB"}, divided(estate()), "pool", "partitioned"),
    ("resize-volume", {"volume": "F12/part-2", "size": "900 GB"}, divided(estate()), "size", "bad-input"),
    ("resize-volume", {"volume": "F12/part-4", "size": "1.9 TB"}, divided(estate()), "size", "bad-input"),
]  # fmt: skip


@pytest.mark.parametrize(("kind", "request_", "one", "field", "code"), REFUSED_IN)
def test_what_cannot_be_done_now_is_refused_with_its_reason(
    kind: str, request_: dict[str, Any], one: Estate, field: str | None, code: str
) -> None:
    with pytest.raises(PairShelfError) as caught:
        KINDS[kind].plan(one, request_of(kind, request_))
    assert (caught.value.field, caught.value.code) == (field, code), caught.value.message
    assert caught.value.message.endswith((".", "?"))


@pytest.mark.parametrize(
    "wrong", [{"name": "a\0b"}, {"drives": (1, 2**31)}, {"sets": -(2**31)}, {"reserved_share": float("inf")}]
)
def test_no_request_is_made_of_what_no_text_or_number_is(wrong: dict[str, Any]) -> None:
    with pytest.raises(BadInput) as caught:
        request_of("build-pool", {"name": "c", "scheme": "copies-2", "drives": (1, 2)} | wrong)
    assert caught.value.field == next(iter(wrong))


@pytest.mark.parametrize(("kind", "request_", "field"), REFUSED)
def test_what_will_not_do_is_refused_at_its_field(kind: str, request_: dict[str, Any], field: str) -> None:
    with pytest.raises(PairShelfError) as caught:
        KINDS[kind].plan(estate(), request_of(kind, request_))
    assert caught.value.field == field, caught.value.message
    assert caught.value.message.endswith((".", "?"))


def plan(kind: str, **request: Any) -> Any:
    return KINDS[kind].plan(estate(), request_of(kind, request))


def test_a_mount_line_names_the_file_system_by_its_uuid() -> None:
    line = plan("mount-volume", volume="p/b", host="elm", mount_point="/full", move_aside=True).line
    assert line.text() == "UUID=uuid-b /full xfs noatime,nofail 0 0"
    assert [e.name for e in line.aside] == ["old.dat"]
    lettered = plan("mount-volume", volume="p/n", host="win", mount_point="s:").line
    assert (lettered.at, "uuid-n" in lettered.text()) == ("S:", True)


def test_outer_folders_are_mounted_first() -> None:
    lines = [MountLine("h", "v", at, "xfs") for at in ("/srv/a/b", "/srv", "/srv/a", "/data")]
    assert [m.at for m in in_order(lines)] == ["/data", "/srv", "/srv/a", "/srv/a/b"]
    inner = plan("mount-volume", volume="p/b", host="elm", mount_point="/srv/a/b")
    assert any("mounted before it" in f.sentence for f in inner.sheet.findings)


def test_a_mistyped_initiator_is_found_and_the_right_one_named() -> None:
    one = estate()
    fir, elm = one.machines[1], one.machines[0]
    found = log_in(fir, IQN + "t", one.targets, elm)
    assert (found.let_in, found.code, found.instead) == (False, "near-miss", IQN + "fir")
    assert "place" in found.sentence
    right = replace(one.targets[0], initiators=((IQN + "fir", False),))
    assert log_in(fir, IQN + "t", [right], elm).let_in
    chap = replace(right, initiators=((IQN + "fir", True),))
    assert log_in(fir, IQN + "t", [chap], elm).code == "chap-missing"
    assert log_in(fir, IQN + "t", [chap], elm, lambda: False, chap_given=True).code == "chap-wrong"
    assert log_in(fir, IQN + "t", [chap], elm, lambda: True, chap_given=True).let_in
    assert log_in(fir, IQN + "tt", one.targets, elm).instead == IQN + "t"
    assert log_in(replace(fir, iqn=None), IQN + "t", one.targets, elm).code == "no-initiator-name"
    assert log_in(replace(fir, storage_address="10.1.0.2/24"), IQN + "t", [right], elm).code == "no-path"
    assert why_no_path(fir, elm) is None


def test_a_near_miss_is_pointed_out_when_it_is_declared_and_a_distinct_name_is_not() -> None:
    sheet = plan("declare-initiator", iqn=IQN + "el").sheet
    assert any("almost" in f.sentence and "elm" in f.sentence for f in sheet.findings)
    assert near_misses("iqn.2020-05.example.other:far-away", [IQN + "elm"]) == []
    assert check_iqn("naa.52004567ba64678d", field="x")


def test_a_slip_is_two_characters_however_long_the_part_that_names_share() -> None:
    known = [IQN + "elm", IQN + "birch", IQN + "elm"]
    for slip in ("el", "elmm", "eml", "alm", "elmxy"):
        assert near_misses(IQN + slip, known) == [IQN + "elm"], slip
    for other in ("w", "fir", "elmxyz", "ash", "oak"):
        assert near_misses(IQN + other, known) == [], other
    assert near_misses(IQN + "elm", known) == []


def test_a_host_that_gets_another_name_is_not_warned_of_the_one_it_has() -> None:
    told = plan("set-host", host="fir", iqn=IQN + "fir2").sheet.findings
    assert not any("which fir has" in f.sentence for f in told)
    told = plan("set-host", host="elm", iqn=IQN + "fir2").sheet.findings
    nearest = next(f.sentence for f in told if "almost" in f.sentence)
    assert nearest.startswith(f"{IQN}fir2 is almost {IQN}fir, which fir has.")


def test_whoever_leaves_a_group_is_told_to_lose_what_it_gives_and_others_are_not() -> None:
    assert plan("set-members", group="office", members=("ash", "bay", "reed")).sheet.cautions == ()
    (lost,) = plan("set-members", group="office", members=("ash",)).sheet.cautions
    assert lost == "bay no longer has the rights of office on files."


def test_luns_are_distinct_by_default() -> None:
    free = replace(estate(), targets=(replace(estate().targets[0], luns=((0, "p/x"),)),))
    made = KINDS["make-target"].plan(
        free, request_of("make-target", {"iqn": IQN + "u", "host": "elm", "volume": "p/disk"})
    )
    assert made.target.luns == ((1, "p/disk"),)  # type: ignore[attr-defined]


def test_the_widest_right_counts() -> None:
    share = replace(estate().shares[0], rights=(("office", "read"), ("ash", "write")))
    assert who_may(estate(), share) == {"ash": "write", "bay": "read"}


def test_pull_this_and_who_notices() -> None:
    one = estate()
    drive = pull(one, "drive", "S0", one.drives[:1])
    assert drive.sentence.startswith("Nobody notices yet: p is unprotected")
    assert all(s.serves for s in drive.stands)
    two = pull(one, "shelf", "Oak", one.drives[:2])
    assert two.people == ("ash", "bay", "reed")
    assert "cam on elm" in two.sentence
    assert two.hits[0].after == "unreachable"
    assert "bay 1, 2" in two.below[0] and "host elm" in two.below[0]
    assert pull(one, "host", "fir", ()).sentence.startswith("Nobody notices")
    assert "p/disk" in pull(one, "host", "elm", ()).sentence
    (line,) = stands_on(one, "reed").lines
    assert [line[0], line[2]] == ["share files (read)", "volume p/a"]
    with pytest.raises(BadInput):
        stands_on(one, "ghost")


def test_folder_schemes_keep_to_their_limit_and_settings_follow() -> None:
    import datetime as dt

    day = dt.date(2026, 11, 25)
    for scheme in ("by-date", "by-source", "by-number"):
        counts: dict[str, int] = {}
        for index in range(1000):
            folder = folder_for(scheme, index, 7, day)
            counts[folder] = counts.get(folder, 0) + 1
        assert max(counts.values()) == 7
    text = settings_text("cam", "cam", "/var/cam")
    assert folder_in(with_folder(text, "/srv/x")) == "/srv/x"
    assert folder_in("nothing here") is None


def test_patterns() -> None:
    assert expand("a-{08..10}", field="n") == ["a-08", "a-09", "a-10"]
    assert expand("{x,y}-{1..2}", field="n") == ["x-1", "x-2", "y-1", "y-2"]


TAKEN = st.lists(st.tuples(st.integers(0, 90), st.integers(1, 10)), max_size=8)


@given(
    taken=TAKEN, at=st.integers(0, 50), count=st.integers(1, 60), cut=st.tuples(st.integers(0, 60), st.integers(1, 30))
)
def test_what_is_given_lies_in_the_gaps_and_comes_back(
    taken: list[tuple[int, int]], at: int, count: int, cut: tuple[int, int]
) -> None:
    free = gaps(100, taken)
    used = {x for f, n in taken for x in range(f, f + n)}
    room = {x for f, n in free for x in range(f, f + n)}
    assert room == set(range(100)) - used
    try:
        pieces = allocate(free, at, count)
    except NotPossible:
        assert count > len(room)
        return
    placed = {p.at + i: p.first + i for p in pieces for i in range(p.count)}
    assert sorted(placed) == list(range(at, at + count))
    assert set(placed.values()) <= room and len(set(placed.values())) == count
    left = without(pieces, *cut)
    kept = {p.at + i: p.first + i for p in left for i in range(p.count)}
    assert kept == {a: f for a, f in placed.items() if not cut[0] <= a < cut[0] + cut[1]}
    assert sum(n for _, _, n in spans(left, at, count)) + sum(n for _, n in unplaced(left, at, count)) == count


@given(
    st.lists(st.tuples(st.integers(0, 9), st.integers(1, 9), st.integers(0, 2)), min_size=1, max_size=8),
    st.integers(1, 5),
)
def test_what_stands_apart_is_moved_together_and_nothing_twice(drawn: list[tuple[int, int, int]], most: int) -> None:
    """Pieces of three volumes with gaps between them; after every move each extent still has one place of its own."""
    pieces: dict[int, list[Piece]] = {0: [], 1: [], 2: []}
    at = 0
    for gap, count, volume in drawn:
        at += gap
        pieces[volume].append(Piece(sum(p.count for p in pieces[volume]), at, count))
        at += count
    whole = sum(count for _, count, _ in drawn)

    def taken() -> list[tuple[int, int]]:
        return [(p.first, p.count) for own in pieces.values() for p in own]

    to_move, done = beyond(taken()), 0
    while move := next_move(taken()):
        source, to, count = move[0], move[1], min(move[2], most)
        there = {a for first, n in taken() for a in range(first, first + n)}
        assert to + count <= whole <= source
        assert set(range(source, source + count)) <= there and not set(range(to, to + count)) & there
        volume = next(v for v, own in pieces.items() if any(p.first <= source < p.first + p.count for p in own))
        before = {p.at + i: p.first + i for p in pieces[volume] for i in range(p.count)}
        pieces[volume] = moved(pieces[volume], source, to, count)
        after = {p.at + i: p.first + i for p in pieces[volume] for i in range(p.count)}
        assert after == {a: to + f - source if source <= f < source + count else f for a, f in before.items()}
        done += count
    # No more was moved than had to be, and all of it lies without a gap.
    assert done == to_move and beyond(taken()) == 0
    assert gaps(whole, taken()) == []


@st.composite
def grown(draw: st.DrawFn) -> Estate:
    """Two pools over shelves of three hosts, volumes mounted, shared and served by any of them."""
    hosts = [EstateHost(n, draw(st.sampled_from(["Here", "There"]))) for n in ("elm", "fir", "oak")]
    drives, pools, volumes, mounts, shares, targets = [], [], [], [], [], []
    for number, (name, scheme, count) in enumerate((("p", "parity-1", 3), ("q", "copies-2", 2)), start=1):
        own = [
            EstateDrive(10 * number + i, f"{name}{i}", f"shelf {draw(st.integers(1, 3))}", i + 1, 6 * TB, Kind.HDD, None, "in-use",
                        "good", pool=name, host=draw(st.sampled_from(["elm", "fir", None])))
            for i in range(count)
        ]  # fmt: skip
        layout = build_layout([Drive(str(i), 6 * TB) for i in range(count)], scheme)
        states = [draw(st.sampled_from(["active", "active", "active", "failed", "missing"])) for _ in own]
        places = tuple(EstatePlace(i, states[i], layout.members[i], d) for i, d in enumerate(own))
        drives += own
        pools.append(EstatePool(number, name, "healthy", layout, places, (), True, scheme))
        for use in ("mounted", "served", "idle"):
            ref, host = f"{name}/{use}", draw(st.sampled_from(["elm", "fir", "oak"]))
            volumes.append(
                EstateVolume(
                    len(volumes) + 1, name, use, GIB, False, "xfs" if use == "mounted" else "none", None, 0, ref
                )
            )
            if use == "mounted":
                mounts.append(EstateMount(len(mounts) + 1, host, ref, f"/srv/{name}"))
                shares.append(
                    EstateShare(
                        f"s{name}", ref, "", None, None, True, ((draw(st.sampled_from(["ash", "office"])), "write"),)
                    )
                )
            elif use == "served":
                targets.append(EstateTarget(IQN + name, host, False, ((0, ref),), ()))
    return Estate(drives=tuple(drives), pools=tuple(pools), volumes=tuple(volumes), mounts=tuple(mounts), shares=tuple(shares),
                  targets=tuple(targets), machines=tuple(hosts), parties=(("ash", None), ("bay", None), ("office", ("ash", "bay"))))  # fmt: skip


@given(grown(), st.data())
def test_who_notices_agrees_with_a_walk_over_the_graph(one: Estate, data: st.DataObject) -> None:
    kind = data.draw(st.sampled_from(["drive", "shelf", "host", "site", "volume", "pool"]))
    site_of = {h.name: h.site for h in one.machines}
    names: dict[str, list[str]] = {
        "drive": [d.serial for d in one.drives], "shelf": [d.shelf or "" for d in one.drives], "host": [h.name for h in one.machines],
        "site": ["Here", "There"], "volume": [v.ref for v in one.volumes], "pool": [p.name for p in one.pools],
    }  # fmt: skip
    name = data.draw(st.sampled_from(names[kind]))
    stand_in = {
        "drive": lambda d: d.serial == name, "shelf": lambda d: d.shelf == name, "host": lambda d: d.host == name,
        "site": lambda d: d.host is not None and site_of[d.host] == name,
    }.get(kind, lambda d: False)  # fmt: skip
    gone = [d for d in one.drives if stand_in(d)]
    found = pull(one, kind, name, gone)

    dark_hosts = {name} if kind == "host" else {h for h, s in site_of.items() if s == name} if kind == "site" else set()
    dark = set()
    for pool in one.pools:
        bad = sum(p.state != "active" or p.drive in gone for p in pool.places)
        hit = any(p.drive in gone for p in pool.places)
        if (kind == "pool" and pool.name == name) or (hit and bad > 1):
            dark |= {v.ref for v in one.volumes if v.pool == pool.name}
    dark |= {name} if kind == "volume" else set()
    dark |= {m.volume for m in one.mounts if m.host in dark_hosts}
    dark |= {v for t in one.targets if t.host in dark_hosts for _, v in t.luns}
    assert {s.volume for s in found.stands if not s.serves} == dark
    people = {p for s in one.shares if s.volume in dark for who, _ in s.rights for p in one.groups.get(who, (who,))}
    assert set(found.people) == people
    assert found.sentence.startswith("Nobody notices") == (not dark)
    for person in people:
        assert person in found.sentence
