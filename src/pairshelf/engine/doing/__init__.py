"""What approved sheets do, kind by kind, in the transaction of their approval."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from sqlmodel import Session

from pairshelf.core.device import Devices
from pairshelf.engine.doing import access, applications, building, volumes
from pairshelf.engine.doing.outcome import Outcome
from pairshelf.store.tables import SheetRow

Doing = Callable[[Session, SheetRow, Any, str, Devices], Outcome]

DO: dict[str, Doing] = {
    "build-pool": building.build,
    "replace-drive": building.replace,
    "make-volumes": volumes.make,
    "rename-volume": volumes.rename,
    "resize-volume": volumes.resize,
    "reformat-volume": volumes.reformat,
    "check-files": volumes.check_files,
    "delete-volume": volumes.delete,
    "mount-volume": access.mount,
    "unmount-volume": access.unmount,
    "add-party": access.add_party,
    "set-members": access.set_members,
    "make-share": access.make_share,
    "change-share": access.change_share,
    "end-share": access.end_share,
    "set-host": access.set_host,
    "declare-initiator": access.declare,
    "make-target": access.make_target,
    "add-disk": access.change_target,
    "let-in": access.change_target,
    "shut-out": access.change_target,
    "end-target": access.end_target,
    "move-application": applications.move,
    "undo-move": applications.move,
    "set-folders": applications.set_folders,
    "set-keep-rule": applications.set_keep_rule,
    "end-keep-rule": applications.end_keep_rule,
    "write-partitions": building.write_partitions,
}
