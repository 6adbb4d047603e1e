"""An application's way onto a volume: phases that a killed worker can do again.

Until the old folder is set aside nothing of the host's is touched, so whatever goes wrong before ends
with the application started where it was.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlmodel import Session

from pairshelf.core.domain.device import Devices
from pairshelf.core.domain.folders import folder_in, with_folder
from pairshelf.core.domain.mounting import MountLine, aside_name
from pairshelf.core.errors import Gone, NotPossible
from pairshelf.engine.io.files import FilePlace, FileWriter, content_of, remove_files
from pairshelf.engine.io.volume_io import files_on
from pairshelf.engine.jobs.kind import JobKind
from pairshelf.engine.jobs.work import Held, Work
from pairshelf.engine.mount_table import write_mount
from pairshelf.engine.pools import open_pool
from pairshelf.store.tables import Application, JobRow, VolumeRow


def application_of_job(work: Work) -> Application:
    app = work.session.get(Application, work.job.report["application"])
    if app is None:
        raise Gone("application")
    return app


def note(work: Work, **facts: object) -> None:
    work.job.report = {**work.job.report, **facts}


def _whole(content: bytes, block: int) -> bytes:
    return content.ljust(-(-max(1, len(content)) // block) * block, b"\0")


def step(work: Work) -> float:
    job, report = work.job, work.job.report
    if not work.pool.serves():
        raise Held(f"pool {work.pool.row.name} is {work.pool.row.state}; the application waits, stopped")
    before = job.cursor
    {"stop": _stop, "copy": _copy, "compare": _compare, "place": _place, "start": _start}[report["phase"]](work)
    return (job.cursor - before) / job.total * job.seconds


def _stop(work: Work) -> None:
    application_of_job(work).running = False
    note(work, phase="copy", at=0)
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
    note(work, at=at if at < len(names) else 0, phase="copy" if at < len(names) else "compare", files=len(names))


def _compare(work: Work) -> None:
    report, hosts, volume = work.job.report, work.world.hosts, work.volume()
    names = list(hosts.files(report["host"], report["from"]))
    by_name = {f.name: f for f in files_on(work.session, volume.number)}
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
    note(work, at=at, phase="compare" if at < len(names) else "place", compared=at)


def _place(work: Work) -> None:
    report, hosts, volume = work.job.report, work.world.hosts, work.volume()
    app = application_of_job(work)
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
    note(work, phase="start")
    work.job.cursor = work.job.total - 1


def _start(work: Work) -> None:
    """Settings looked at, started, and one file written: the room taken must grow on the volume."""
    report, volume = work.job.report, work.volume()
    app = application_of_job(work)
    named = folder_in(work.world.hosts.read(report["host"], app.settings).decode())
    if named != app.folder:
        raise NotPossible(f"{app.settings} names {named}, and the data are in {app.folder}.", code="settings-differ")
    files = files_on(work.session, volume.number)
    before = sum(f.extents for f in files)
    index = max((f.number for f in files), default=0) + 1
    place = FilePlace(_path_on_volume(work, "x").rpartition("/")[0], f"after-move-{index}.dat", "mount", app.name)
    content = content_of(volume.number, index, work.world.block)
    writer = FileWriter(work.session, work.volumes, volume)
    writer.write(place, content)
    writer.flush()
    work.session.flush()
    grown = sum(f.extents for f in files_on(work.session, volume.number)) - before
    app.running = True
    work.job.cursor = work.job.total
    note(work, said=f"{app.name} runs with its data in {app.folder} on {volume.name}: {report.get('files', 0)} files copied "
          f"and compared, 0 differing; the volume grew by {grown} GiB when it wrote. The old folder is kept as "
          f"{aside_name(report['from'])}.")  # fmt: skip


def abandon_move(session: Session, job: JobRow, world: Devices) -> None:
    """A move that ended unfinished: what was copied goes, and the application runs where it was."""
    volume = session.get(VolumeRow, job.volume_id)
    if volume is not None and job.report["phase"] in ("stop", "copy", "compare"):
        copied = [f for f in files_on(session, volume.number) if f.writer == job.report["name"] and f.via == "mount"]
        remove_files(session, open_pool(session, volume.pool_id), volume, copied)
    run_again(session, job, world)


def run_again(session: Session, job: JobRow, _world: Devices) -> None:
    """The application runs, wherever it is."""
    app = session.get(Application, job.report["application"])
    if app is not None:
        app.running = True


def _outcome(report: Mapping[str, Any], _pool: str) -> str:
    return str(report["said"])


KIND = JobKind(
    "move-application", "Moving an application", "The application is stopped until it ends.", step, _outcome, users_work=True,
    give_up=abandon_move,
)  # fmt: skip
