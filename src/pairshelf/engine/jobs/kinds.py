"""Every kind of job by its id: one module each, and a line here."""

from __future__ import annotations

from pairshelf.engine.jobs import (
    check,
    check_files,
    copy_member,
    drain,
    even_out,
    fill,
    first_sync,
    move_application,
    move_together,
    move_volume,
    read_files,
    rebuild,
    restripe,
    scan,
    self_repair,
    undo_move,
    wipe,
)
from pairshelf.engine.jobs.kind import JobKind

JOBS: dict[str, JobKind] = {
    kind.id: kind
    for kind in (
        first_sync.KIND,
        rebuild.KIND,
        self_repair.KIND,
        copy_member.KIND,
        drain.KIND,
        even_out.KIND,
        restripe.KIND,
        check.KIND,
        scan.KIND,
        fill.KIND,
        read_files.KIND,
        check_files.KIND,
        move_together.KIND,
        move_volume.KIND,
        move_application.KIND,
        undo_move.KIND,
        wipe.KIND,
    )
}
