"""What approved sheets do, in the transaction of their approval: the mirror of ``core.changes``, and a line each."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from sqlmodel import Session

from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.access import (
    add_party,
    change_share,
    change_target,
    declare_initiator,
    end_share,
    end_target,
    make_share,
    make_target,
    set_host,
    set_members,
)
from pairshelf.engine.apply.applications import end_keep_rule, move_application, set_folders, set_keep_rule
from pairshelf.engine.apply.drives import drain, hand_out, hold_back, replace_drive, wipe, write_partitions
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.apply.pools import (
    add_spares,
    bring_in,
    build_pool,
    even_out,
    larger_drives,
    move_together,
    put_together,
    reclaim,
    relayout,
    take_apart,
    take_out,
)
from pairshelf.engine.apply.volumes import (
    check_files,
    delete_volume,
    extend_volumes,
    make_volumes,
    mount_volume,
    move_volume,
    reformat_volume,
    rename_volume,
    resize_volume,
    unmount_volume,
)
from pairshelf.store.tables import SheetRow

#: Session, sheet, its plan drawn up anew, who approves it, the devices.
Applying = Callable[[Session, SheetRow, Any, str, Devices], Outcome]

APPLY: dict[str, Applying] = {
    "build-pool": build_pool.apply,
    "add-drives": relayout.apply,
    "add-sets": relayout.apply,
    "add-spares": add_spares.apply,
    "convert-pool": relayout.apply,
    "replace-larger": larger_drives.apply,
    "leave-path": larger_drives.leave,
    "use-room": relayout.apply,
    "take-out": take_out.apply,
    "move-together": move_together.apply,
    "reclaim": reclaim.apply,
    "even-out": even_out.apply,
    "take-apart": take_apart.apply,
    "put-together": put_together.apply,
    "let-go": put_together.let_go,
    "bring-in": bring_in.apply,
    "turn-restripe": relayout.turn,
    "replace-drive": replace_drive.apply,
    "leave-copy": replace_drive.leave,
    "drain": drain.apply,
    "leave-drain": drain.leave,
    "hold-back": hold_back.apply,
    "wipe": wipe.apply,
    "hand-out": hand_out.apply,
    "make-volumes": make_volumes.apply,
    "rename-volume": rename_volume.apply,
    "resize-volume": resize_volume.apply,
    "extend-volumes": extend_volumes.apply,
    "reformat-volume": reformat_volume.apply,
    "check-files": check_files.apply,
    "delete-volume": delete_volume.apply,
    "move-volume": move_volume.apply,
    "leave-move": move_volume.leave,
    "mount-volume": mount_volume.apply,
    "unmount-volume": unmount_volume.apply,
    "add-party": add_party.apply,
    "set-members": set_members.apply,
    "make-share": make_share.apply,
    "change-share": change_share.apply,
    "end-share": end_share.apply,
    "set-host": set_host.apply,
    "declare-initiator": declare_initiator.apply,
    "make-target": make_target.apply,
    "add-disk": change_target.apply,
    "change-lun": change_target.apply,
    "take-disk": change_target.apply,
    "let-in": change_target.apply,
    "shut-out": change_target.apply,
    "end-target": end_target.apply,
    "move-application": move_application.apply,
    "undo-move": move_application.apply,
    "set-folders": set_folders.apply,
    "set-keep-rule": set_keep_rule.apply,
    "end-keep-rule": end_keep_rule.apply,
    "write-partitions": write_partitions.apply,
}
