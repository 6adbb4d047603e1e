"""What every kind of change refuses, with where and what to do, as plain text: ``python -m tests.core.refusals`` writes it anew.

The texts stand in ``refusals.txt`` beside this, read by people: they are what somebody is told who may not go on. Beside
them stand those that just go.
"""

from __future__ import annotations

import datetime as dt
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from pairshelf.core.changes.kinds import KINDS, request_of
from pairshelf.core.disposal.facts import Command, Identity
from pairshelf.core.domain.drives import Drive, Kind
from pairshelf.core.domain.estate import (
    Entry,
    Estate,
    EstateDrain,
    EstateMount,
    EstateShare,
    EstateVolume,
    FormerPool,
)
from pairshelf.core.domain.partitions import WantedPartition, lay_out
from pairshelf.core.domain.units import GIB, MIB, TB
from pairshelf.core.errors import PairShelfError
from pairshelf.core.layouts import build_layout
from pairshelf.core.layouts.grown import with_sets
from pairshelf.core.layouts.protections import parse_protection
from pairshelf.core.layouts.spread import StripedVolume, spread_of
from pairshelf.core.policies.beside import Under
from tests.core.estates import IQN, divided, estate, free, more_drives, spread, with_pool, with_volume
from tests.core.sheets import (
    UID,
    found_too_little,
    found_whole,
    four,
    on_its_way,
    pool_of,
    to_wipe,
)

KEPT = Path(__file__).with_name("refusals.txt")

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
    ("make-target", {"iqn": IQN + "u", "host": "elm", "volume": "p/disk", "for_hosts": ("win",)}, house(targets=()), "for_hosts", "no-initiator"),
    ("make-target", {"iqn": IQN + "u", "host": "elm", "volume": "p/disk", "for_hosts": ("nobody",)}, house(targets=()), "for_hosts", "not-found"),
    ("make-target", {"iqn": IQN + "u", "host": "elm", "volume": "new", "size": "1 GiB"}, house(), "volume", "bad-input"),
    ("make-target", {"iqn": IQN + "u", "host": "elm", "volume": "p/a", "size": "1 GiB"}, house(), "volume", "name-taken"),
    ("make-target", {"iqn": IQN + "u", "host": "elm", "volume": "p/new", "size": "900 TB"}, house(), "size", None),
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


def _pool(one: Estate, **facts: Any) -> Estate:
    """The last pool with other facts."""
    return replace(one, pools=(*one.pools[:-1], replace(one.pools[-1], **facts)))


def with_pool_too(one: Estate, **facts: Any) -> Estate:
    """The first pool with other facts, the others as they are."""
    return replace(one, pools=(replace(one.pools[0], **facts), *one.pools[1:]))


def with_gap(one: Estate, first: int) -> Estate:
    """The last pool, whose volumes reach to there."""
    return _pool(one, gaps=((first, one.pools[-1].capacity - first),))


def with_first_free(one: Estate, *, encrypted: bool = False) -> Estate:
    """A span on whose first drive nothing stands, and something on the others."""
    return _pool(one, gaps=((0, 5587),), encrypted=encrypted)


def _tight(one: Estate, spare: int, *, apart: bool = False) -> Estate:
    """A stepped pool of four that holds just what it would have with one drive less, less so much; or it lies apart."""
    room = one.pools[-1].capacity * 2 // 3
    gaps = (
        ((0, one.pools[-1].capacity - room),)
        if apart
        else ((room + 1 - spare, one.pools[-1].capacity - room - 1 + spare),)
    )
    return _pool(one, gaps=gaps)


def full_on_its_way(one: Estate, *, wider: bool = False) -> Estate:
    """A pool that is being restriped, with nothing left; a volume in it."""
    found = on_its_way(one, wider=True)
    volume = EstateVolume(50, "d", "v", 100 * GIB, False, "ext4", None, GIB, "uuid-v", placed=100)
    return _pool(replace(found, volumes=(*found.volumes, volume)), gaps=())


def more_named(one: Estate, pool: str, name: str) -> Estate:
    """A volume of that name in another pool."""
    found = spread(one)
    return replace(
        found,
        volumes=(*found.volumes, EstateVolume(51, pool, name, GIB, False, "xfs", None, 0, "u", protection="copies-2")),
    )


def _found(**facts: Any) -> Estate:
    (pool,) = found_whole(estate()).found
    return replace(estate(), found=(replace(pool, **facts),))


# -- more houses ----------------------------------------------------------------------------------------------


def stocked(one: Estate, protection: str, stripes: int) -> Estate:
    """The spread pool with a volume of so many stripes, placed as it would be."""
    found = spread(one)
    pool = found.pools[-1]
    own = parse_protection(protection)
    layout = spread_of(pool.layout)
    layout = layout.with_volume(StripedVolume(9, own, np.asarray(layout.more(own, stripes), np.int32)))
    return replace(found, pools=(*found.pools[:-1], replace(pool, layout=layout)))


def with_places(one: Estate, *states: str, draining: int = 0) -> Estate:
    """The spread pool with its first places in other states."""
    pool = one.pools[-1]
    each = [*states, *["active"] * (len(pool.places) - len(states))]
    places = tuple(
        replace(p, state=s, draining=i < draining) for i, (p, s) in enumerate(zip(pool.places, each, strict=True))
    )
    return replace(one, pools=(*one.pools[:-1], replace(pool, places=places)))


def chained(one: Estate) -> Estate:
    """The divided drive with an older table: one primary partition and two logical ones."""
    found = divided(one)
    wanted = [WantedPartition("1 GiB"), *(WantedPartition("10 GiB", kind="logical") for _ in range(2))]
    table = lay_out(2 * TB, 512, "mbr", wanted)
    volumes = tuple(
        EstateVolume(40 + p.number, "F12", f"part-{p.number}", p.sectors * 512, False, "ext4", None, MIB, f"u-{p.number}",
                     partition=p.number)
        for p in table.parts if p.kind != "extended"
    )  # fmt: skip
    pools = tuple(replace(p, table=table) if p.table else p for p in found.pools)
    return replace(found, pools=pools, volumes=(*one.volumes, *volumes))


def with_set_added(one: Estate, *, reaches: int, encrypted: bool = False, behind: int = 0) -> Estate:
    """Pool d, whose second set was added later; its volumes reach to there, and ``behind`` extents stand at its end."""
    layout = with_sets(
        build_layout([Drive(str(i), 6 * TB) for i in range(4)], "parity-1"),
        [Drive(str(i), 6 * TB) for i in range(4, 8)],
    )
    found = pool_of(one, "parity-1", 8, 2)
    pool = found.pools[-1]
    places = tuple(replace(p, designed=layout.members[i]) for i, p in enumerate(pool.places))
    gaps = ((reaches, layout.data_extents - reaches - behind),)
    return replace(
        found, pools=(*found.pools[:-1], replace(pool, layout=layout, places=places, gaps=gaps, encrypted=encrypted))
    )


def with_room_for(one: Estate, extents: int) -> Estate:
    """As if the pool had so many extents left."""
    return with_pool(one, gaps=((4000, extents),))


def silent(one: Estate) -> Estate:
    """A free drive that does not answer."""
    return replace(more_drives(one, free(11)), silent=((11, "it does not answer"),))


def former(one: Estate, **facts: Any) -> Estate:
    """A pool that was taken apart."""
    usual: dict[str, Any] = {"id": 3, "name": "barn", "drives": 4, "volumes": 2, "encrypted": False, "survives": 1, "over": False,
                             "back": False}  # fmt: skip
    return replace(one, former=(FormerPool(**usual | facts),))


def thin_elsewhere(one: Estate) -> Estate:
    """A thin volume of which 800 extents are written, and a small pool with room for so many."""
    found = with_volume(pool_of(one, "copies-2", 2), "b", thin=True, placed=800, written=800)
    pool = found.pools[-1]
    return replace(found, pools=(*found.pools[:-1], replace(pool, gaps=((0, 800),))))


FREE = more_drives(estate(), free(11), free(12))
FLASH = more_drives(estate(), *(free(i, kind=Kind.SSD) for i in (16, 17)))
MANY = replace(
    more_drives(estate(), *(free(i) for i in range(100, 301))),
    identities=tuple((i, Identity(frozenset({Command.WRITE_ZEROES}))) for i in range(100, 301)),
)
LET_GO = more_drives(
    estate(),
    free(11),
    free(12, service="in-use", pool="q"),
)
NO_MOUNTS = house(mounts=(), shares=(), applications=(), targets=())
HELD = pool_of(estate(), "copies-2", 2)

REFUSED_IN += [
    ("drain", {"drives": (99,)}, estate(), "drives", "bad-input"),
    ("drain", {"drives": ()}, estate(), "drives", "bad-input"),
    ("drain", {"shelves": ("Nowhere",)}, estate(), "shelves", "bad-input"),
    ("drain", {"shelves": ("",)}, estate(), "shelves", "bad-input"),
    ("drain", {"hosts": ("nobody",)}, estate(), "hosts", "bad-input"),
    ("drain", {"hosts": ("win",)}, more_drives(estate(), replace(free(11), host="win", shelf=None, bay=None)), "hosts", "bad-input"),
    ("drain", {"drives": (11,)}, FREE, "drives", "empty"),
    ("drain", {"drives": (1,), "onto": (1,)}, FREE, "onto", "bad-input"),
    ("drain", {"drives": (1,), "onto": (99,)}, FREE, "onto", "bad-input"),
    ("drain", {"drives": (1,), "onto": (2,)}, FREE, "onto", "drive-not-free"),
    ("drain", {"drives": (1,), "onto": (11,)}, silent(estate()), "onto", "drive-silent"),
    ("drain", {"drives": (1,)}, FREE, "drives", "no-room"),
    ("drain", {"drives": (1, 2, 40), "onto": (11,)}, more_drives(pool_of(estate(), "copies-2", 2), free(11, 4 * TB)), "drives", "no-room"),
    ("drain", {"drives": (12,), "onto": (13,)}, more_drives(divided(estate()), free(13, 2 * TB - 512)), "drives", "no-room"),
    ("drain", {"drives": (12,), "onto": (13,)}, more_drives(divided(estate()), free(13, 2 * TB, sector_size=4096)), "drives", "no-room"),
    ("drain", {"drives": (1,)}, house(drives=tuple(replace(d, draining="shelf Oak") for d in estate().drives)), None, "busy"),
    *[("drain", {"drives": (1,)}, house(drives=(replace(estate().drives[0], starts_host=True, host=host), *estate().drives[1:])), "drives", "starts-host")
      for host in ("elm", None)],
    ("drain", {"drives": (1, 11)}, more_drives(estate(), free(11, service="wiping")), "drives", "busy"),
    ("drain", {"drives": (1,)}, with_pool(estate(), copies=((2, replace(estate().drives[0])),)), None, "busy"),
    ("drain", {"drives": (1,)}, with_pool(estate(), state="lost"), None, "not-serving"),
    ("drain", {"drives": (1,)}, with_pool(estate(), under_way=(Under("restripe"),)), None, "restriping"),
    ("drain", {"drives": (1,)}, with_pool(estate(), lost=1), "drives", "degraded"),
    ("drain", {"drives": (20,)}, with_places(stocked(estate(), "copies-2", 100), "failed"), "drives", "degraded"),
    ("drain", {"drives": tuple(range(20, 26))}, stocked(estate(), "copies-2", 100), "drives", "needed"),
    ("drain", {"drives": (20, 21)}, stocked(estate(), "parity-2:5", 100), "drives", "no-room"),
    ("drain", {"drives": (21, 22)}, with_places(stocked(estate(), "parity-2:5", 100), "failed"), "drives", "no-room"),
    ("drain", {"drives": (20,)}, stocked(estate(), "copies-2", 5000), "drives", "no-room"),
    ("drain", {"drives": (1, 20)}, stocked(estate(), "copies-2", 5000), "drives", "no-room"),
    ("drain", {"drives": (20,)}, stocked(estate(), "parity-2:5", 2200), "drives", "no-room"),
    ("leave-drain", {"drain": 9}, estate(), "drain", "not-found"),
    ("leave-drain", {"drain": 4}, house(drains=(EstateDrain(4, "shelf Oak", (1,), False),)), "drain", "ended"),
    ("hand-out", {"drives": (11,), "how": "burnt", "to": "the foundry"}, FREE, "how", "bad-input"),
    *[("hand-out", {"drives": (11,), "how": "sold", "to": to}, FREE, "to", "bad-input") for to in ("", "  ", "x" * 121, "a\u200bb")],
    ("hand-out", {"drives": (11,), "how": "sold", "to": "me", "on": "tomorrow"}, FREE, "on", "bad-input"),
    ("hand-out", {"drives": (), "how": "sold", "to": "me"}, FREE, "drives", "bad-input"),
    ("hand-out", {"drives": (11, 11), "how": "sold", "to": "me"}, FREE, "drives", "bad-input"),
    ("hand-out", {"drives": (11, 99), "how": "sold", "to": "me"}, FREE, "drives", "drive-gone"),
    ("hand-out", {"drives": (1, 2, 11), "how": "sold", "to": "me"}, FREE, "drives", "drive-needed"),
    ("hand-out", {"drives": tuple(range(100, 301)), "how": "sold", "to": "me"}, MANY, "drives", "bad-input"),
    ("wipe", {"drives": (11,)}, replace(FREE, wanted_back=((11, ("barn", dt.datetime(2026, 11, 30, 9, 5, tzinfo=dt.UTC))),)), "drives", "drive-needed"),
    ("wipe", {"drives": (11,), "category": "scrub"}, to_wipe(estate()), "category", "bad-input"),
    ("wipe", {"drives": (11,), "category": "destroy"}, to_wipe(estate()), "category", "bad-input"),
    ("wipe", {"drives": (11,), "verify": "none"}, to_wipe(estate()), "verify", "bad-input"),
    ("wipe", {"drives": (11,), "verify": "sample"}, to_wipe(estate()), "sample", "bad-input"),
    *[("wipe", {"drives": (11,), "verify": "sample", "sample": n}, to_wipe(estate()), "sample", "bad-input") for n in (0, 10**6)],
    *[("wipe", {"drives": (11, 12), "categories": named}, to_wipe(estate()), "categories", "bad-input")
      for named in (("16=clear",), ("clear",), ("x=clear",), ("11=clear", "11=purge"), ("11=destroy",), ("11=scrub",))],
    *[("wipe", {"drives": (11, 12), "methods": named}, to_wipe(estate()), "methods", "bad-input")
      for named in (("16=overwrite",), ("x=overwrite",), ("overwrite", "overwrite"), ("11=overwrite", "11=overwrite"))],
    ("wipe", {"drives": (11, 12, 16), "methods": ("block-erase",)}, to_wipe(estate()), "drives", "does-not-reach"),
    ("wipe", {"drives": (11, 12)}, FREE, "drives", "does-not-reach"),
    ("hold-back", {"drives": (16, 40), "share": 0.1}, replace(FLASH, drives=(*FLASH.drives, *(replace(d, kind=Kind.SSD) for d in HELD.drives[4:])), pools=HELD.pools), "drives", "bad-input"),
    ("hold-back", {"drives": (16,), "share": 0.1}, more_drives(estate(), free(16, kind=Kind.SSD, condition="failed")), "drives", "drive-not-free"),
    ("hold-back", {"drives": (40,), "share": 0.1}, replace(HELD, drives=(*HELD.drives[:4], *(replace(d, kind=Kind.SSD) for d in HELD.drives[4:]))), "share", "in-use"),
    ("hold-back", {"drives": (16, 16), "share": 0.1}, FLASH, "drives", "bad-input"),
    ("replace-drive", {"pool_id": 1, "slot": 0, "drive_id": 11, "stands_by": True}, more_drives(with_pool(estate(), lost=1), free(11)), "stands_by", "bad-input"),
    ("replace-drive", {"pool_id": 1, "slot": 0, "drive_id": 11, "stands_by": True},
     more_drives(with_pool_too(estate(), places=tuple(replace(p, drive=replace(p.drive, condition="failing")) for p in estate().pools[0].places if p.drive)), free(11)), "stands_by", "bad-input"),
    ("replace-drive", {"pool_id": 3, "slot": 0, "drive_id": 11, "stands_by": True}, more_drives(divided(estate()), free(11)), "stands_by", "bad-input"),
    ("convert-pool", {"pool": "p", "scheme": "parity-1", "drives": (11,)}, FREE, "scheme", "bad-input"),
    ("convert-pool", {"pool": "p", "scheme": "copies-3"}, FREE, "scheme", "closed"),
    ("convert-pool", {"pool": "p", "scheme": "parity-9"}, FREE, "scheme", "bad-input"),
    ("convert-pool", {"pool": "p", "scheme": "parity-2"}, FREE, "drives", "bad-input"),
    ("convert-pool", {"pool": "p", "scheme": "parity-2", "drives": (11, 12)}, FREE, "drives", "bad-input"),
    ("convert-pool", {"pool": "p", "scheme": "parity-2", "drives": (11,), "free": (1,)}, FREE, "free", "bad-input"),
    ("convert-pool", {"pool": "d", "scheme": "copies-3", "drives": (11,)}, four(pool_of(estate(), "copies-2", 4, 2)), "drives", "bad-input"),
    ("convert-pool", {"pool": "d", "scheme": "copies-3", "drives": (11, 12, 13)}, four(pool_of(estate(), "copies-2", 4, 2)), "drives", "bad-input"),
    ("convert-pool", {"pool": "d", "scheme": "parity-1", "drives": (11,)}, four(pool_of(estate(), "parity-2", 5)), "drives", "bad-input"),
    ("convert-pool", {"pool": "d", "scheme": "parity-1", "drives": ()}, pool_of(estate(), "copies-2", 2), "drives", "bad-input"),
    ("convert-pool", {"pool": "d", "scheme": "parity-1", "drives": ()}, pool_of(estate(), "copies-2", 4, 2), "scheme", "closed"),
    ("convert-pool", {"pool": "d", "scheme": "parity-1", "free": (1,)}, pool_of(estate(), "parity-2", 5), "free", "bad-input"),
    ("convert-pool", {"pool": "d", "scheme": "parity-1", "free": (40, 41)}, pool_of(estate(), "parity-2", 5), "free", "bad-input"),
    ("convert-pool", {"pool": "d", "scheme": "parity-1", "free": (40, 40)}, pool_of(estate(), "parity-2", 5), "free", "bad-input"),
    ("convert-pool", {"pool": "d", "scheme": "parity-1", "free": (40, 41)}, pool_of(estate(), "parity-2", 10, 2), "free", "bad-input"),
    ("convert-pool", {"pool": "d", "scheme": "parity-1", "free": (40, 41, 45)}, pool_of(estate(), "parity-3", 12, 2), "free", "bad-input"),
    ("convert-pool", {"pool": "d", "scheme": "stepped-2"}, _tight(pool_of(estate(), "stepped-1", 4), 0), "scheme", "does-not-fit"),
    ("convert-pool", {"pool": "d", "scheme": "stepped-2"}, _tight(pool_of(estate(), "stepped-1", 4), 1, apart=True), "scheme", "stands-apart"),
    ("add-drives", {"pool": "p", "drives": (11,)}, more_drives(with_pool(estate(), away=2), free(11)), None, "degraded"),
    ("add-drives", {"pool": "p", "drives": (11,), "into": 2}, FREE, "into", "bad-input"),
    ("add-spares", {"pool": "F12", "drives": (11,)}, more_drives(divided(estate()), free(11)), "pool", "divided"),
    ("turn-restripe", {"pool": "s"}, spread(estate()), "pool", "no-front"),
    ("even-out", {"pool": "p"}, estate(), "pool", "not-spread"),
    ("even-out", {"pool": "s"}, spread(estate()), "pool", "even"),
    ("even-out", {"pool": "s"}, replace(spread(estate()), pools=tuple(replace(p, under_way=(Under("even-out"),)) for p in spread(estate()).pools)), None, "busy"),
    ("put-together", {"former": 9}, former(estate()), "former", "not-found"),
    ("put-together", {"former": 3}, former(estate(), back=True), "former", "already-back"),
    ("put-together", {"former": 3}, former(estate(), over=True), "former", "too-late"),
    ("put-together", {"former": 3}, former(estate(), name="P"), "former", "name-taken"),
    ("put-together", {"former": 3}, former(estate(), spoilt=("B1", "B2")), "former", "written-since"),
    ("put-together", {"former": 3}, former(estate(), away=("B1", "B2")), "former", "too-few"),
    ("put-together", {"former": 3}, former(estate(), survives=0, away=("B1",)), "former", "too-few"),
    ("let-go", {"former": 3}, former(estate(), over=True), "former", "too-late"),
    ("take-apart", {"pool": "F12"}, divided(estate()), "pool", "divided"),
    *[("take-apart", {"pool": "p"}, with_pool(estate(), under_way=(Under(kind),)), None, "busy") for kind in ("move-volume", "move-in")],
    *[("take-apart", {"pool": "p", "keep_days": days}, estate(), "keep_days", "bad-input") for days in (-1, 91)],
    ("take-out", {"pool": "d", "drives": (40, 41, 42)}, pool_of(estate(), "span", 3), "drives", "needed"),
    ("take-out", {"pool": "d", "drives": (42,)}, with_gap(pool_of(estate(), "span", 3), 5587 * 2 + 1), "drives", "not-empty"),
    ("take-out", {"pool": "d", "drives": (40,)}, pool_of(estate(), "span", 3), "drives", "not-empty"),
    ("take-out", {"pool": "d", "drives": (40, 41, 42, 43)}, pool_of(estate(), "parity-1", 8, 2), "drives", "not-empty"),
    ("take-out", {"pool": "d", "drives": (44, 45, 46)}, with_set_added(estate(), reaches=1000), "drives", "bad-input"),
    ("take-out", {"pool": "d", "drives": (44, 45, 46, 47)}, with_set_added(estate(), reaches=1000, behind=1), "drives", "not-empty"),
    ("take-out", {"pool": "d", "drives": (44, 45, 46, 47)}, with_set_added(estate(), reaches=16762), "drives", "not-empty"),
    ("take-out", {"pool": "d", "drives": (40,)}, with_first_free(pool_of(estate(), "span", 3), encrypted=True), "drives", "not-last"),
    ("delete-volume", {"volume": "F12/part-5"}, chained(estate()), "volume", "not-the-last"),
    ("delete-volume", {"volume": "p/n"}, with_pool(estate(), state="lost"), None, "not-serving"),
    ("extend-volumes", {"pool": "p"}, house(volumes=()), "volumes", "bad-input"),
    ("extend-volumes", {"pool": "p", "after_restripe": True}, estate(), "after_restripe", "bad-input"),
    ("extend-volumes", {"pool": "d"}, full_on_its_way(estate()), "pool", "pool-full"),
    ("extend-volumes", {"pool": "d", "after_restripe": True}, full_on_its_way(estate(), wider=True), "pool", "pool-full"),
    ("extend-volumes", {"pool": "F12"}, divided(estate()), "pool", "one-by-one"),
    ("extend-volumes", {"pool": "p", "volumes": ("n",)}, with_room_for(estate(), 256 * 1024 - 800 + 1), "volumes", "bad-input"),
    ("resize-volume", {"volume": "p/n", "size": f"{256 * 1024 * GIB + 1} B"}, with_room_for(estate(), 300 * 1024), "size", "bad-input"),
    ("resize-volume", {"volume": "p/a", "size": "14.6 TB"}, estate(), "size", "bad-input"),
    ("resize-volume", {"volume": "p/a", "size": f"{500 * GIB} B"}, with_volume(NO_MOUNTS, "a", files_end=500 * GIB + 1), "size", "bad-input"),
    ("resize-volume", {"volume": "p/disk", "size": f"{GIB - 1} B"}, NO_MOUNTS, "size", "bad-input"),
    ("make-volumes", {"pool": "s", "name": "v", "size": "1 TiB"}, spread(estate()), "protection", "bad-input"),
    ("make-volumes", {"pool": "s", "name": "v", "thin": True}, spread(estate()), "protection", "bad-input"),
    ("make-volumes", {"pool": "s", "name": "v", "size": "8 TiB", "count": 2, "protection": "copies-2"}, spread(estate()), "size", "bad-input"),
    ("move-volume", {"volume": "p/a", "pool": "p"}, estate(), "pool", "bad-input"),
    ("move-volume", {"volume": "p/a", "pool": "F12"}, divided(estate()), "pool", "divided"),
    ("move-volume", {"volume": "F12/part-2", "pool": "p"}, divided(estate()), "keep", "bad-input"),
    ("move-volume", {"volume": "p/a", "pool": "s", "protection": "copies-2", "provision": "wide"}, spread(estate()), "provision", "bad-input"),
    ("move-volume", {"volume": "p/disk", "pool": "s", "protection": "copies-2", "provision": "thin"}, spread(estate()), "provision", "bare"),
    ("move-volume", {"volume": "p/disk", "pool": "s", "protection": "copies-2", "file_system": "xfs"}, spread(estate()), "file_system", "bare"),
    ("move-volume", {"volume": "p/b", "pool": "s", "protection": "copies-2", "file_system": "none"}, spread(estate()), "file_system", "bad-input"),
    ("move-volume", {"volume": "p/n", "pool": "s", "protection": "copies-2", "file_system": "xfs"},
     spread(house(mounts=(EstateMount(1, "win", "p/n", "S:"),))), "file_system", "bad-input"),
    ("move-volume", {"volume": "p/a", "pool": "s", "protection": "copies-2", "file_system": "ntfs"}, spread(estate()), "file_system", "bad-input"),
    ("move-volume", {"volume": "p/a", "pool": "s", "protection": "copies-2", "file_system": "btrfs"},
     with_volume(spread(estate()), "a", files_bytes=800 * GIB), "file_system", "bad-input"),
    ("move-volume", {"volume": "p/b", "pool": "d"}, with_volume(thin_elsewhere(estate()), "b", placed=801, written=801), "pool", "bad-input"),
    ("move-volume", {"volume": "p/a", "pool": "d"}, with_gap(pool_of(estate(), "copies-2", 2), 5587 - 799), "pool", "bad-input"),
    ("move-volume", {"volume": "p/a", "pool": "s", "protection": "copies-2"}, with_pool_too(spread(estate()), under_way=(Under("move-volume", 1),)), None, "already-running"),
    *[("leave-move", {"volume": "p/a"}, with_pool(estate(), under_way=(Under(kind, number),)), "volume", "nothing-to-leave")
      for kind, number in (("move-volume", 2), ("fill", 1))],
    ("rename-volume", {"volume": "p/a", "name": "a"}, estate(), "name", "bad-input"),
    ("set-keep-rule", {"volume": "p/a", "application": "cam"}, roomy(), "application", "bad-input"),
    ("make-share", {"volume": "p/n", "name": "s", "quota": "1 GiB"}, house(mounts=(EstateMount(1, "elm", "p/n", "/srv/n"),)), "quota", "bad-input"),
    ("make-share", {"volume": "p/a", "name": "s", "quota": f"{799 * GIB + 1} B"}, estate(), "quota", "bad-input"),
    ("end-target", {"target": ""}, estate(), "target", "not-found"),
    ("let-in", {"target": IQN + "t", "initiator": IQN + "fie"}, estate(), "initiators", "not-declared"),
    ("bring-in", {"pool": "x"}, found_whole(estate()), "pool", "not-found"),
    ("bring-in", {"pool": ""}, found_whole(estate()), "pool", "not-found"),
    ("bring-in", {"pool": UID}, found_too_little(estate()), "pool", "too-few"),
    ("bring-in", {"pool": UID}, _found(here="p"), "pool", "already-here"),
    ("bring-in", {"pool": UID}, _found(former="barn"), "pool", "put-together"),
    ("bring-in", {"pool": UID, "name": "P"}, found_whole(estate()), "name", "name-taken"),
    ("bring-in", {"pool": UID}, _found(layout=None, unreadable="no record on them can be read"), "pool", "too-few"),
    ("bring-in", {"pool": UID}, _found(members=tuple(replace(m, why_not="It is being wiped.") for m in found_whole(estate()).found[0].members)), "pool", "drive-taken"),
    ("use-room", {"pool": "s"}, spread(estate()), "pool", "no-more-room"),
    ("reclaim", {"pool": "p", "bins": True}, estate(), "pool", "nothing-to-reclaim"),
    ("move-together", {"pool": "F12"}, divided(estate()), "pool", "together"),
]  # fmt: skip

#: What just goes: a byte, a drive or a day more would be refused, or something of it looks like what is refused.
JUST_GOES: list[tuple[str, dict[str, Any], Estate]] = [
    ("hand-out", {"drives": tuple(range(100, 300)), "how": "sold", "to": "x" * 120, "on": "  "}, MANY),
    ("hand-out", {"drives": (100,), "how": "sold", "to": "x"}, MANY),
    ("wipe", {"drives": tuple(range(100, 300)), "category": "clear"}, MANY),
    ("wipe", {"drives": (11,)}, more_drives(to_wipe(estate()), free(50, sealed_by="gone"))),
    ("drain", {"drives": (12,), "onto": (13,)}, more_drives(divided(estate()), free(13, 2 * TB))),
    ("drain", {"drives": (12,), "onto": (13,)}, more_drives(divided(estate()), free(13, 2 * TB, sector_size=512))),
    ("drain", {"shelves": ("Oak",), "onto": (11, 12, 13, 14)}, more_drives(four(estate()), replace(free(60), service="wiping", shelf="Oak", bay=9))),
    ("drain", {"drives": (20,)}, with_places(stocked(estate(), "copies-2", 100), "emptied")),
    ("drain", {"drives": (20,)}, stocked(estate(), "parity-2:5", 100)),
    ("drain", {"drives": (20,)}, stocked(estate(), "copies-2", 4655)),
    ("drain", {"drives": (20, 21, 22, 23)}, stocked(estate(), "copies-2", 100)),
    *[("take-apart", {"pool": "p", "keep_days": days}, estate()) for days in (0, 90)],
    ("delete-volume", {"volume": "F12/part-6"}, chained(estate())),
    ("delete-volume", {"volume": "F12/part-1"}, chained(estate())),
    ("delete-volume", {"volume": "F12/part-2"}, replace(divided(estate()), pools=tuple(replace(p, state="lost") for p in divided(estate()).pools))),
    ("extend-volumes", {"pool": "p", "volumes": ("n",)}, with_room_for(estate(), 256 * 1024 - 800)),
    ("resize-volume", {"volume": "p/n", "size": "256 TiB"}, with_room_for(estate(), 300 * 1024)),
    ("resize-volume", {"volume": "p/disk", "size": "1 GiB"}, NO_MOUNTS),
    ("resize-volume", {"volume": "p/a", "size": "500 GiB"}, with_volume(NO_MOUNTS, "a", files_end=500 * GIB)),
    ("resize-volume", {"volume": "p/a", "size": "500 GiB"}, with_volume(NO_MOUNTS, "a", files_bytes=500_452_032_512)),
    ("resize-volume", {"volume": "p/a", "size": "500 GiB"}, replace(NO_MOUNTS, shares=(
        EstateShare("x", "p/a", "x", 500_452_032_512, None, True, ()), EstateShare("y", "p/a", "y", None, None, True, ())))),
    ("make-volumes", {"pool": "p", "name": "v", "count": 100, "size": "1 GiB"}, estate()),
    ("make-volumes", {"pool": "p", "name": "v-{1..50}", "count": 2, "size": "1 GiB"}, estate()),
    ("make-volumes", {"pool": "p", "name": "x", "size": "1 GiB"}, more_named(estate(), "s", "x")),
    ("move-volume", {"volume": "p/b", "pool": "d"}, thin_elsewhere(estate())),
    ("move-volume", {"volume": "p/a", "pool": "d"}, with_gap(pool_of(estate(), "copies-2", 2), 5587 - 800)),
    ("move-volume", {"volume": "p/n", "pool": "s", "protection": "copies-2"}, spread(house(mounts=(EstateMount(1, "win", "p/n", "S:"),)))),
    ("move-volume", {"volume": "p/b", "pool": "s", "protection": "copies-2", "file_system": "ntfs"}, spread(estate())),
    ("move-volume", {"volume": "p/a", "pool": "s", "protection": "copies-2", "file_system": "btrfs"},
     with_volume(spread(estate()), "a", files_bytes=856_822_906_880)),
    ("move-volume", {"volume": "F12/part-2", "pool": "p", "keep": True}, divided(estate())),
    ("move-volume", {"volume": "p/n", "pool": "s", "protection": "copies-2"}, spread(house(shares=(replace(estate().shares[0], volume="p/n"),)))),
    ("make-share", {"volume": "p/a", "name": "s", "quota": "799 GiB", "bin_days": 3650}, estate()),
    ("set-keep-rule", {"volume": "p/rec", "above": 10}, estate()),
    ("set-keep-rule", {"volume": "p/rec", "above": 99}, estate()),
    ("change-lun", {"target": IQN + "t", "volume": "p/disk", "lun": 0}, house(targets=(replace(estate().targets[0], luns=((3, "p/disk"),)),))),
    ("change-lun", {"target": IQN + "t", "volume": "p/disk", "lun": 16383}, estate()),
    ("let-in", {"target": IQN + "t", "initiator": IQN + "fir", "instead_of": IQN + "firr"}, estate()),
    ("move-application", {"application": "cam", "volume": "p/b"}, with_volume(roomy(), "b", files_bytes=798 * GIB)),
    ("take-out", {"pool": "d", "drives": (44, 45, 46, 47)}, with_set_added(estate(), reaches=16761, encrypted=True)),
    ("take-out", {"pool": "d", "drives": (42,)}, with_gap(pool_of(estate(), "span", 3), 5587 * 2)),
    ("take-out", {"pool": "d", "drives": (40,)}, with_first_free(pool_of(estate(), "span", 3))),
    ("convert-pool", {"pool": "d", "scheme": "stepped-2"}, _tight(pool_of(estate(), "stepped-1", 4), 1)),
    ("put-together", {"former": 3}, former(estate(), away=("B1",))),
    ("rename-volume", {"volume": "p/a", "name": "A"}, estate()),
]  # fmt: skip


def refusal(kind: str, request: dict[str, Any], one: Estate) -> PairShelfError | None:
    """What is said, or None where a sheet is drawn up."""
    try:
        KINDS[kind].plan(one, request_of(kind, request))
    except PairShelfError as error:
        return error
    return None


ALL: list[tuple[str, dict[str, Any], Estate, str | None, str | None]] = [
    *((kind, request, estate(), field, None) for kind, request, field in REFUSED),
    *REFUSED_IN,
]


def said(kind: str, request: dict[str, Any], error: PairShelfError | None) -> str:
    """A refusal in a line."""
    asked = ", ".join(f"{name} {value!r}" for name, value in request.items())
    if error is None:
        return f"{kind}, {asked[:90]}: drawn up"
    at = f" at {error.field}" if error.field else ""
    return f"{kind}, {asked[:90]}: [{error.code}{at}] {error.message}"


def lines() -> list[str]:
    """All of them, drawn up now."""
    return [said(kind, request, refusal(kind, request, one)) for kind, request, one, *_ in ALL]


if __name__ == "__main__":
    KEPT.write_text("What is refused.\n\n" + "\n".join(lines()) + "\n")
