"""What simulated people and applications are given to work with: applications on hosts, and the secrets that initiators prove themselves by."""

from __future__ import annotations

from argon2 import PasswordHasher
from sqlalchemy import delete
from sqlmodel import Session, col, select

from pairshelf.core.changes.kind import NETWORK
from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.file_systems import APPLICATION_KINDS
from pairshelf.core.domain.folders import settings_text
from pairshelf.core.domain.names import check_mount_point, check_name
from pairshelf.core.domain.units import EXTENT, format_size, parse_size
from pairshelf.core.errors import BadInput, NotFound, NotPossible
from pairshelf.core.watching.readings import READING, readings_of
from pairshelf.engine.errands import on_host, send
from pairshelf.engine.log import log
from pairshelf.engine.pools import open_pool
from pairshelf.standin.ageing import STEERED
from pairshelf.standin.world import World
from pairshelf.store.database import Lock, among, lock_until_commit, tell
from pairshelf.store.tables import (
    Application,
    DriveRow,
    Host,
    HostWrites,
    Initiator,
    SampleFile,
    Shelf,
    Target,
    TargetRight,
    VolumeRow,
    now,
)

secret_hasher = PasswordHasher()


#: Shortest CHAP secret in characters: 96 bits at 8 a character (RFC 7143, 9.2.1).
LEAST_SECRET = 12


def extents_of_text(text: str) -> int:
    return max(1, -(-parse_size(text, field="size") // EXTENT))


def keep_chap(session: Session, target: str, initiator: str, name: str, secret: str, who: str) -> str:
    """Set or take away an initiator's proof; what was done, in a sentence. BadInput at the field that will not do."""
    lock_until_commit(session, Lock.ALONE, NETWORK)
    right = session.exec(
        select(TargetRight).join(Initiator, col(Initiator.id) == TargetRight.initiator_id)
        .join(Target, col(Target.id) == TargetRight.target_id)
        .where(Target.iqn == target.strip(), Initiator.iqn == initiator.strip())
    ).first()  # fmt: skip
    if right is None:
        raise BadInput(f"{initiator} is not let in to this target.", field="initiator")
    if not name.strip() and not secret:
        right.chap_name = right.chap_hash = None
        said = f"{initiator} is let in by its name alone."
    else:
        if len(secret) < LEAST_SECRET:
            raise BadInput(f"A CHAP secret has at least {LEAST_SECRET} characters.", field="secret")
        right.chap_name = check_name(name, "CHAP name", field="name")
        right.chap_hash = secret_hasher.hash(secret)
        said = f"{initiator} has to prove itself by CHAP."
    log(session, who, "chap-set", target, said)
    return said


def install_application(
    session: Session, who: str, *, host: str, name: str, kind: str, owner: str, folder: str, size: str
) -> str:
    """The application with real files on its host's own disk; what was done, in a sentence."""
    machine = session.exec(select(Host).where(Host.name == host.strip())).first()
    if machine is None:
        raise NotFound("host", host, field="host")
    name = check_name(name, "application", field="name")
    if kind not in APPLICATION_KINDS:
        raise BadInput(f"“{kind}” is no kind of application; choose {', '.join(APPLICATION_KINDS)}.", field="kind")
    owner = check_name(owner, "owner", field="owner")
    folder = check_mount_point(folder, field="folder")
    if folder.endswith(":"):
        raise BadInput("An application's folder is a full path, such as /var/lib/recorder.", field="folder")
    if session.exec(select(Application).where(Application.host_id == machine.id, Application.name == name)).first():
        raise NotPossible(f"{machine.name} has an application {name} already.", code="name-taken", field="name")
    extents = extents_of_text(size)
    if extents > 512:
        raise BadInput("A simulated application begins with at most 512 GiB.", field="size")
    settings = f"/etc/{name}/settings.conf"
    session.add(Application(
        host_id=machine.number, name=name, kind=kind, owner=owner, folder=folder, settings=settings,
    ))  # fmt: skip
    session.flush()
    text = settings_text(name, owner, folder)
    send(session, "write-file", on_host(machine.name), host=machine.name, path=settings, text=text)
    send(session, "write-data", on_host(machine.name), host=machine.name, folder=folder, name=name, extents=extents)
    said = f"{name} runs on {machine.name} with {extents} GiB in {folder}."
    log(session, who, "application-installed", name, said)
    return said


def delete_samples(session: Session, volume_id: int, share: float, who: str) -> str:
    """A host deletes the oldest files, so many of all, in its own file system: the pool is not told, and what thin
    volumes were given for them stays given until it is reclaimed. What was done, in a sentence."""
    volume = session.get(VolumeRow, volume_id)
    if volume is None:
        raise NotFound("volume", field="volume_id")
    open_pool(session, volume.pool_id)
    kept = (SampleFile.volume_id == volume_id, col(SampleFile.deleted_at).is_(None))
    files = session.exec(select(SampleFile).where(*kept).order_by(col(SampleFile.written_at), col(SampleFile.id))).all()
    going = files[: max(1, round(share * len(files)))]
    if not going:
        raise NotPossible("There are no files on it.", code="no-files", field="share")
    session.connection().execute(delete(SampleFile).where(among(SampleFile.id, [f.id for f in going])))
    size = sum(f.extents for f in going) * EXTENT
    said = f"{len(going)} file{'s' if len(going) > 1 else ''}, {format_size(size)}, deleted from {volume.name}."
    log(session, who, "files-deleted", volume.name, said)
    return said


#: Most that simulated hosts write to a volume a day, bytes: a day's writing has to be done within a stride.
MOST_A_DAY = 20 * 2**40


def keep_writes(session: Session, volume_id: int, a_day: str, who: str) -> int | None:
    """Say what simulated hosts write to a volume while days pass, bytes a day; None: nothing."""
    volume = session.get(VolumeRow, volume_id)
    if volume is None:
        raise NotFound("volume", field="volume_id")
    size = parse_size(a_day, field="a_day") if a_day.strip() else 0
    if size > MOST_A_DAY:
        raise BadInput("Simulated hosts write at most 20 TiB a day.", field="a_day")
    row = session.get(HostWrites, volume_id, with_for_update=True)
    if not size:
        if row is not None:
            session.delete(row)
        log(session, who, "host-writes", volume.name, f"Simulated hosts write nothing to {volume.name} by themselves.")
        return None
    session.merge(HostWrites(volume_id=volume_id, a_day=size, owed=row.owed if row else 0))
    log(session, who, "host-writes", volume.name, f"Simulated hosts write {format_size(size)} a day to {volume.name}.")
    return size


# -- how drives age ------------------------------------------------------------------------------------


def ageing_of(session: Session, drive_id: int, world: World) -> tuple[list[tuple[str, float, float]], list[str]]:
    """How somebody has said that a simulated drive ages: (reading, more than by itself now, by how much more a day); and
    the readings of which that can be said."""
    drive = session.get(DriveRow, drive_id)
    if drive is None:
        raise NotFound("drive")
    ageing, at = world.ageing(drive.serial), now()
    steered = [(name, round(s.added(at), 2), s.a_day) for name, s in ageing.steers.items() if s.more or s.a_day]
    return steered, [r.id for r in readings_of(Kind(drive.kind)) if r.id in STEERED]


def let_age(session: Session, drive_id: int, reading: str, more: float, a_day: float, who: str, world: World) -> None:
    """From now on a reading of a simulated drive has so much more than by itself, and that grows by so much a day."""
    drive = session.get(DriveRow, drive_id)
    if drive is None:
        raise NotFound("drive")
    known = [r.id for r in readings_of(Kind(drive.kind)) if r.id in STEERED]
    if reading not in known:
        raise BadInput(f"“{reading}” of this drive cannot be said; say one of {', '.join(known)}.", field="reading")
    if reading == "pending" and (more < 0 or a_day < 0):
        raise BadInput("Sectors go bad; they come back only by being written.", field="more")
    world.let_age(drive.serial, reading, more, a_day, now())
    log(session, who, "stand-in-ages", drive.serial,
        f"Simulated drive {drive.serial}: {READING[reading].label} {more:+g} now, {a_day:+g} a day.")  # fmt: skip
    tell(session, "drive_health")


# -- cables and power ----------------------------------------------------------------------------------


def switch(session: Session, what: str, number: int, who: str, world: World, *, on: bool) -> str:
    """Pull a shelf's cable, or a host's power, as one act; or give it back. What happened, in a sentence."""
    if what == "shelf":
        shelf = session.get(Shelf, number)
        if shelf is None:
            raise NotFound("shelf", field="id")
        shelves, name = [number], f"shelf {shelf.name}"
    elif what == "host":
        host = session.get(Host, number)
        if host is None:
            raise NotFound("host", field="id")
        shelves = [n for n in session.exec(select(Shelf.id).where(Shelf.host_id == number)) if n is not None]
        name = f"host {host.name}"
    else:
        raise BadInput("A shelf is unplugged, a host is switched off.", field="what")
    key = f"{what} {number}"
    if on:
        if key not in world.unplugged():
            raise NotPossible(f"{name[0].upper()}{name[1:]} is not {_OFF[what]}.", code="not-off", field="on")
        count = len(world.plug_in(key))
        said = f"Simulated {name} is {_ON[what]} again: {count} drives are back as they were."
    else:
        rows = session.exec(
            select(DriveRow.serial).where(among(DriveRow.shelf_id, shelves), DriveRow.service != "retired")
        )
        serials = list(rows)
        if not serials and key not in world.unplugged():
            raise NotPossible(f"{name[0].upper()}{name[1:]} has no drives.", code="no-drives", field="id")
        going = world.unplug(key, serials)
        said = f"Simulated {name} is {_OFF[what]}: {len(going)} drives are gone with it."
    log(session, who, f"stand-in-{'plugged' if on else 'unplugged'}", name, said)
    tell(session, "shelf")
    return said


_OFF = {"shelf": "unplugged", "host": "switched off"}
_ON = {"shelf": "plugged in", "host": "switched on"}
