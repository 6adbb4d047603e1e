"""Applications that write: to the volume behind their folder, or to their host’s own disk."""

from __future__ import annotations

from sqlmodel import Session, select

from pairshelf.core.domain.device import Devices
from pairshelf.core.domain.mounting import inside
from pairshelf.core.errors import NotPossible
from pairshelf.engine.io.files import content_of
from pairshelf.engine.jobs.fill import Writer, start_fill
from pairshelf.engine.jobs.starting import require_serving
from pairshelf.engine.log import log
from pairshelf.engine.pools import OpenPool, open_pool
from pairshelf.store.tables import Application, Host, JobRow, Mount, VolumeRow


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
