"""Every kind of change by its id: one module each, and a line here."""

from __future__ import annotations

from typing import Any

from pairshelf.core.changes.access import (
    add_disk,
    add_party,
    change_lun,
    change_share,
    declare_initiator,
    end_share,
    end_target,
    let_in,
    make_share,
    make_target,
    set_host,
    set_members,
    shut_out,
    take_disk,
)
from pairshelf.core.changes.applications import (
    end_keep_rule,
    move_application,
    set_folders,
    set_keep_rule,
    undo_move,
)
from pairshelf.core.changes.drives import (
    drain,
    hand_out,
    hold_back,
    leave_copy,
    leave_drain,
    replace_drive,
    wipe,
    write_partitions,
)
from pairshelf.core.changes.kind import ChangeKind
from pairshelf.core.changes.pools import (
    add_drive,
    add_set,
    add_spares,
    bring_in,
    build_pool,
    change_scheme,
    even_out,
    larger_drives,
    leave_path,
    move_together,
    put_together,
    reclaim,
    take_apart,
    take_out,
    turn_restripe,
    use_room,
)
from pairshelf.core.changes.volumes import (
    check_files,
    delete_volume,
    extend_volumes,
    leave_move,
    make_volumes,
    mount_volume,
    move_volume,
    reformat_volume,
    rename_volume,
    resize_volume,
    unmount_volume,
)
from pairshelf.core.errors import BadInput, NotFound

#: In the order they are listed.
KINDS: dict[str, ChangeKind] = {
    kind.id: kind
    for kind in (
        build_pool.KIND,
        add_drive.KIND,
        add_set.KIND,
        add_spares.KIND,
        change_scheme.KIND,
        larger_drives.KIND,
        leave_path.KIND,
        use_room.KIND,
        take_out.KIND,
        move_together.KIND,
        reclaim.KIND,
        even_out.KIND,
        take_apart.KIND,
        put_together.KIND,
        put_together.LET_GO,
        bring_in.KIND,
        turn_restripe.KIND,
        replace_drive.KIND,
        leave_copy.KIND,
        drain.KIND,
        leave_drain.KIND,
        hold_back.KIND,
        wipe.KIND,
        hand_out.KIND,
        make_volumes.KIND,
        rename_volume.KIND,
        resize_volume.KIND,
        extend_volumes.KIND,
        reformat_volume.KIND,
        check_files.KIND,
        delete_volume.KIND,
        move_volume.KIND,
        leave_move.KIND,
        mount_volume.KIND,
        unmount_volume.KIND,
        add_party.KIND,
        set_members.KIND,
        make_share.KIND,
        change_share.KIND,
        end_share.KIND,
        set_host.KIND,
        declare_initiator.KIND,
        make_target.KIND,
        add_disk.KIND,
        change_lun.KIND,
        take_disk.KIND,
        let_in.KIND,
        shut_out.KIND,
        end_target.KIND,
        move_application.KIND,
        undo_move.KIND,
        set_folders.KIND,
        set_keep_rule.KIND,
        end_keep_rule.KIND,
        write_partitions.KIND,
    )
}


def kind_of(name: str) -> ChangeKind:
    """The kind of that name; BadInput otherwise."""
    try:
        return KINDS[name]
    except KeyError:
        raise NotFound("kind of change", name, field="kind") from None


def request_of(kind: str, raw: dict[str, Any]) -> Any:
    """The request that a sheet was drawn up for, from plain data. BadInput for what no text or number of ours is."""
    for field, value in raw.items():
        for one in value if isinstance(value, list | tuple) else (value,):
            if isinstance(one, str) and "\0" in one:
                raise BadInput("There is a character in it that is none; type it anew.", field=field)
            if isinstance(one, int | float) and not abs(one) < 2**31:
                raise BadInput("This number is far too large.", field=field)
    return kind_of(kind).request(**{k: tuple(v) if isinstance(v, list) else v for k, v in raw.items()})
