"""An application's way onto a volume, and back: phases that a killed worker can do again.

Until the old folder is set aside nothing of the host's is touched, so whatever goes wrong before ends
with the application started where it was.
"""

from __future__ import annotations

from sqlmodel import Session, select

from pairshelf.core.device import Devices
from pairshelf.core.errors import NotPossible
from pairshelf.core.folders import folder_in, with_folder
from pairshelf.core.mounting import MountLine, aside_name, inside
from pairshelf.engine.files import FilePlace, FileWriter, agrees, content_of, remove_file
from pairshelf.engine.jobs import Writer, require_serving, start_fill
from pairshelf.engine.log import log
from pairshelf.engine.mount_table import take_out_mount, write_mount
from pairshelf.engine.pools import OpenPool, open_pool
from pairshelf.engine.steps import STEPS, Held, Work
from pairshelf.engine.volumes import files_on
from pairshelf.store.tables import Application, Host, JobRow, Mount, VolumeRow


def _application(work: Work) -> Application:
    app = work.session.get(Application, work.job.report["application"])
    if app is None:
        raise NotPossible("The application is not there any more.", code="gone")
    return app


def _note(work: Work, **facts: object) -> None:
    work.job.report = {**work.job.report, **facts}


def _whole(content: bytes, block: int) -> bytes:
    return content.ljust(-(-max(1, len(content)) // block) * block, b"\0")


def _step_move(work: Work) -> float:
    job, report = work.job, work.job.report
    if not work.pool.serves():
        raise Held(f"pool {work.pool.row.name} is {work.pool.row.state}; the application waits, stopped")
    before = job.cursor
    {"stop": _stop, "copy": _copy, "compare": _compare, "place": _place, "start": _start}[report["phase"]](work)
    return (job.cursor - before) / job.total * job.seconds


def _stop(work: Work) -> None:
    _application(work).running = False
    _note(work, phase="copy", at=0)
    work.job.cursor = 1


def _path_on_volume(work: Work, name: str) -> str:
    return name if work.job.report["way"] == "mount" else f"{work.job.report['name']}/{name}"


def _copy(work: Work) -> None:
    report, hosts, volume = work.job.report, work.world.hosts, work.volume()
    names = list(hosts.files(report["host"], report["from"]))
    writer = FileWriter(work.session, work.volumes, volume)
    done, at = 0, report["at"]
    while at < len(names) and done < work.most:
        name = names[at]
        content = _whole(hosts.read(report["host"], f"{report['from']}/{name}"), work.world.block)
        folder, _, own = _path_on_volume(work, name).rpartition("/")
        place = FilePlace(folder, own, "mount", report["name"])
        done += writer.write(place, content, whole=True)
        at += 1
    writer.flush()
    work.job.cursor = min(work.job.total - 3, work.job.cursor + done)
    _note(work, at=at if at < len(names) else 0, phase="copy" if at < len(names) else "compare", files=len(names))


def _compare(work: Work) -> None:
    report, hosts, volume = work.job.report, work.world.hosts, work.volume()
    names = list(hosts.files(report["host"], report["from"]))
    by_name = {f.name: f for f in files_on(work.session, volume.id or 0)}
    done, at = 0, report["at"]
    while at < len(names) and done < work.most:
        file = by_name.get(_path_on_volume(work, names[at]))
        there = _whole(hosts.read(report["host"], f"{report['from']}/{names[at]}"), work.world.block)
        here = work.volumes.read(volume, file.first, file.extents) if file else b""
        if here != there:
            raise NotPossible(
                f"{names[at]} differs after copying. The application is started where it was.", code="differs"
            )
        done += len(here) // work.world.block
        at += 1
    work.job.cursor = min(work.job.total - 2, work.job.cursor + done)
    _note(work, at=at, phase="compare" if at < len(names) else "place", compared=at)


def _place(work: Work) -> None:
    report, hosts, volume = work.job.report, work.world.hosts, work.volume()
    app = _application(work)
    hosts.move(report["host"], report["from"], aside_name(report["from"]))
    if report["way"] == "mount":
        write_mount(
            work.session,
            MountLine(report["host"], "", report["to"], volume.file_system, volume.uuid),
            volume,
            work.job.sheet_id,
        )
    else:
        text = hosts.read(report["host"], app.settings).decode()
        hosts.write(report["host"], app.settings, with_folder(text, report["to"]).encode())
    app.folder, app.volume_id = report["to"], volume.id
    app.moved = {"from": report["from"], "way": report["way"]}
    _note(work, phase="start")
    work.job.cursor = work.job.total - 1


def _start(work: Work) -> None:
    """Settings looked at, started, and one file written: the room taken must grow on the volume."""
    report, volume = work.job.report, work.volume()
    app = _application(work)
    named = folder_in(work.world.hosts.read(report["host"], app.settings).decode())
    if named != app.folder:
        raise NotPossible(f"{app.settings} names {named}, and the data are in {app.folder}.", code="settings-differ")
    files = files_on(work.session, volume.id or 0)
    before = sum(f.extents for f in files)
    index = max((f.id or 0 for f in files), default=0) + 1
    place = FilePlace(_path_on_volume(work, "x").rpartition("/")[0], f"after-move-{index}.dat", "mount", app.name)
    content = content_of(volume.id or 0, index, work.world.block)
    writer = FileWriter(work.session, work.volumes, volume)
    writer.write(place, content)
    writer.flush()
    work.session.flush()
    grown = sum(f.extents for f in files_on(work.session, volume.id or 0)) - before
    app.running = True
    work.job.cursor = work.job.total
    _note(work, said=f"{app.name} runs with its data in {app.folder} on {volume.name}: {report.get('files', 0)} files copied "
          f"and compared, 0 differing; the volume grew by {grown} GiB when it wrote. The old folder is kept as "
          f"{aside_name(report['from'])}.")  # fmt: skip


def _step_undo(work: Work) -> float:
    """Stop, copy back what is new, unmount or re-point, the old folder back to its name, start."""
    report, hosts, volume = work.job.report, work.world.hosts, work.volume()
    if not work.pool.serves():
        raise Held(f"pool {work.pool.row.name} is {work.pool.row.state}; the application waits, stopped")
    app = _application(work)
    app.running = False
    target, old = report["to"], aside_name(report["to"])
    prefix = "" if report["way"] == "mount" else f"{app.name}/"
    # A worker killed after the last move finds the old folder in its place already.
    moved_back = hosts.entries(report["host"], old) is None
    there = set() if moved_back else set(hosts.files(report["host"], old))
    new = [
        f
        for f in files_on(work.session, volume.id or 0)
        if not moved_back and f.writer == app.name and f.name.startswith(prefix)
        and f.name.removeprefix(prefix) not in there
    ]  # fmt: skip
    for file in new[: max(1, work.most // 8)]:
        content = work.volumes.read(volume, file.first, file.extents)
        if not agrees(content, file.checksum):
            raise NotPossible(f"{file.name} does not read back as it was written.", code="differs")
        hosts.write(report["host"], f"{old}/{file.name.removeprefix(prefix)}", content)
    copied = int(report.get("copied", 0)) + min(len(new), max(1, work.most // 8))
    _note(work, copied=copied)
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
    _note(
        work, said=f"{app.name} runs in {target} on its host's own disk again; {copied} newer files were copied back."
    )
    return 0.0


STEPS["move-application"] = _step_move
STEPS["undo-move"] = _step_undo


def abandon_move(session: Session, job: JobRow, world: Devices) -> None:
    """A move that ended unfinished: what was copied goes, and the application runs where it was."""
    app = session.get(Application, job.report.get("application"))
    if app is None:
        return
    if job.kind == "move-application" and job.report["phase"] in ("stop", "copy", "compare"):
        volume = session.get(VolumeRow, job.volume_id)
        if volume is not None:
            pool = open_pool(session, volume.pool_id)
            for file in files_on(session, volume.id or 0):
                if file.writer == app.name and file.via == "mount":
                    remove_file(session, pool, volume, file)
    app.running = True


def volume_behind(session: Session, host_id: int, path: str) -> tuple[VolumeRow, Mount] | None:
    """The volume that a path on a host lies on, by the innermost mount above it, or None."""
    mounts = session.exec(select(Mount).where(Mount.host_id == host_id)).all()
    above = [m for m in mounts if m.at == path or inside(path, m.at)]
    if not above:
        return None
    mount = max(above, key=lambda m: len(m.at))
    volume = session.get(VolumeRow, mount.volume_id)
    assert volume is not None
    return volume, mount


def write_as(session: Session, app: Application, extents: int, who: str, world: Devices) -> JobRow | None:
    """The application writes to its folder: onto the volume mounted there, or else onto its host's own disk.

    A job for a volume, None for the own disk. NotPossible while it is stopped, or where the folder is closed
    because its volume is away.
    """
    host = session.get(Host, app.host_id)
    assert host is not None
    if not app.running:
        raise NotPossible(f"{app.name} is stopped.", code="stopped")
    behind = volume_behind(session, app.host_id, app.folder)
    if behind is None:
        names = (
            list(world.hosts.files(host.name, app.folder))
            if world.hosts.entries(host.name, app.folder) is not None
            else []
        )
        for i in range(min(extents, 200)):
            number = len(names) + i + 1
            content = content_of(0, number, world.block)
            world.hosts.write(host.name, f"{app.folder}/{app.name}-{number:05d}.dat", content)
        log(session, who, "application-wrote", app.name, f"{app.name} wrote {extents} GiB to {host.name}'s own disk.")
        return None
    volume, mount = behind
    if mount.read_only:
        raise NotPossible(f"{mount.at} is mounted for reading only.", code="read-only")
    pool: OpenPool = open_pool(session, volume.pool_id)
    require_serving(pool)
    relative = app.folder[len(mount.at) :].strip("/")
    writer = Writer("mount", app.name, relative, app.folder_scheme, app.files_per_folder, extents)
    return start_fill(session, pool, volume, 1.0, who, writer)
