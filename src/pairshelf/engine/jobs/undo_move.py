"""A moved application brought back to its host’s own disk."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlmodel import select

from pairshelf.core.domain.folders import with_folder
from pairshelf.core.domain.mounting import aside_name
from pairshelf.core.errors import NotPossible
from pairshelf.engine.io.files import agrees
from pairshelf.engine.io.volume_io import files_on
from pairshelf.engine.jobs.kind import JobKind
from pairshelf.engine.jobs.move_application import application_of_job, note, run_again
from pairshelf.engine.jobs.work import Held, Work
from pairshelf.engine.mount_table import take_out_mount
from pairshelf.store.tables import Mount


def step(work: Work) -> float:
    """Stop, copy back what is new, unmount or re-point, the old folder back to its name, start."""
    report, hosts, volume = work.job.report, work.world.hosts, work.volume()
    if not work.pool.serves():
        raise Held(f"pool {work.pool.row.name} is {work.pool.row.state}; the application waits, stopped")
    app = application_of_job(work)
    app.running = False
    target, old = report["to"], aside_name(report["to"])
    prefix = "" if report["way"] == "mount" else f"{app.name}/"
    # A worker killed after the last move finds the old folder in its place already.
    moved_back = hosts.entries(report["host"], old) is None
    there = set() if moved_back else set(hosts.files(report["host"], old))
    new = [
        f
        for f in files_on(work.session, volume.number)
        if not moved_back and f.writer == app.name and f.name.startswith(prefix)
        and f.name.removeprefix(prefix) not in there
    ]  # fmt: skip
    for file in new[: max(1, work.most // 8)]:
        content = work.volumes.read(volume, file.first, file.extents)
        if not agrees(content, file.checksum):
            raise NotPossible(f"{file.name} does not read back as it was written.", code="differs")
        hosts.write(report["host"], f"{old}/{file.name.removeprefix(prefix)}", bytes(content))
    copied = int(report.get("copied", 0)) + min(len(new), max(1, work.most // 8))
    note(work, copied=copied)
    if len(new) > max(1, work.most // 8):
        work.job.cursor = min(work.job.total - 1, work.job.cursor + 1)
        return work.job.seconds / work.job.total
    if report["way"] == "mount":
        if work.session.exec(select(Mount).where(Mount.volume_id == volume.id, Mount.at == target)).first():
            take_out_mount(work.session, report["host"], target, work.job.sheet_id)
        if not hosts.entries(report["host"], target):
            hosts.remove_empty(report["host"], target)
    else:
        text = hosts.read(report["host"], app.settings).decode()
        hosts.write(report["host"], app.settings, with_folder(text, target).encode())
    hosts.move(report["host"], old, target)
    app.folder, app.volume_id, app.moved, app.running = target, None, {}, True
    work.job.cursor = work.job.total
    note(work, said=f"{app.name} runs in {target} on its host's own disk again; {copied} newer files were copied back.")
    return 0.0


def _outcome(report: Mapping[str, Any], _pool: str) -> str:
    return str(report["said"])


KIND = JobKind(
    "undo-move", "Bringing an application back", "The application is stopped until it ends.", step, _outcome, users_work=True,
    give_up=run_again,
)  # fmt: skip
