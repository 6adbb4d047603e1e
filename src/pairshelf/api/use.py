"""Simulated users at work: people at shares, hosts at block targets, applications in their folders."""

from __future__ import annotations

import datetime as dt
from typing import Any

from argon2.exceptions import VerificationError
from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field
from sqlmodel import Session, col, select

from pairshelf.api.guard import needs, signed_in
from pairshelf.api.jobs import JobsOut, jobs_out
from pairshelf.api.queries import Query
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.block_targets import LogIn, log_in
from pairshelf.core.domain.names import check_mount_point, check_name
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.errors import BadInput, NotFound, NotPossible
from pairshelf.engine.applications import write_as
from pairshelf.engine.apply.access.people_rows import rights_of
from pairshelf.engine.io.files import remove_files
from pairshelf.engine.jobs.fill import Writer, start_fill
from pairshelf.engine.log import log
from pairshelf.engine.pools import devices, open_pool
from pairshelf.services.simulated_use import extents_of_text, install_application, keep_chap, secret_hasher
from pairshelf.store.database import transaction
from pairshelf.store.repositories.books import in_folder, load_books, taken_by
from pairshelf.store.tables import (
    Application,
    Host,
    Initiator,
    JobRow,
    Mount,
    Party,
    SampleFile,
    Share,
    ShareVisit,
    Target,
    TargetLun,
    TargetRight,
    VolumeRow,
    now,
)

api = APIBlueprint("use", __name__, url_prefix="/api")


class SharePath(BaseModel):
    share_id: int


class ApplicationPath(BaseModel):
    application_id: int


class TargetPath(BaseModel):
    target_id: int


class HostPath(BaseModel):
    host_id: int


class VisitBody(BaseModel):
    person: str
    #: The computer they sit at.
    client: str = "desk"


class WriteBody(BaseModel):
    person: str = ""
    size: str = "5 GiB"


class SaidOut(BaseModel):
    sentence: str


class FilesQuery(Query):
    after: int = 0
    limit: int = Field(default=50, ge=1, le=200)


class FileOut(BaseModel):
    id: int
    name: str
    size: int
    via: str
    writer: str
    written_at: dt.datetime
    #: When it went to the bin.
    deleted_at: dt.datetime | None


class FilesOut(BaseModel):
    files: list[FileOut]
    more: bool


class FileBody(BaseModel):
    file_id: int
    person: str


class ChapBody(BaseModel):
    initiator: str
    #: Empty: the initiator no longer has to prove itself.
    name: str = ""
    secret: str = ""


class LogInBody(BaseModel):
    host: str
    target: str
    chap_name: str = ""
    chap_secret: str = ""


class LogInOut(BaseModel):
    let_in: bool
    sentence: str
    code: str
    instead: str | None


class BlockWriteBody(LogInBody):
    lun: int = 0
    size: str = "5 GiB"


class InstallBody(BaseModel):
    host: str
    name: str
    kind: str
    owner: str
    folder: str
    #: Data it has already.
    size: str = "8 GiB"


class FolderQuery(Query):
    path: str


class FolderEntryOut(BaseModel):
    name: str
    size: int
    folder: bool


class FolderOut(BaseModel):
    there: bool
    closed: bool
    entries: list[FolderEntryOut]
    #: The volume that lies over it.
    volume: str | None


def _share(session: Session, share_id: int) -> Share:
    row = session.get(Share, share_id)
    if row is None:
        raise NotFound("share")
    return row


def _person(session: Session, name: str) -> Party:
    row = session.exec(select(Party).where(Party.name == name.strip(), Party.kind == "person")).first()
    if row is None:
        raise BadInput(f"There is no person {name or 'without a name'}.", field="person")
    return row


def _allowed(session: Session, share: Share, person: Party, *, writing: bool = False) -> None:
    may = rights_of(session, share.id).get(person.number)
    if may is None:
        raise NotPossible(f"{person.name} has no right on share {share.name}.", code="no-right", field="person")
    if writing and may != "write":
        raise NotPossible(
            f"{person.name} may read share {share.name}, not write to it.", code="no-right", field="person"
        )


def _job(session: Session, job: JobRow) -> JobsOut:
    session.flush()
    return JobsOut(jobs=jobs_out(session, select(JobRow).where(JobRow.id == job.id)))


# -- shares ----------------------------------------------------------------------------------------
@api.post("/shares/<int:share_id>/visit", responses={200: SaidOut})
@needs(Act.WORK_STAND_INS)
def visit(path: SharePath, body: VisitBody) -> Any:
    """A simulated person connects to a share."""
    with transaction() as session:
        share, person = _share(session, path.share_id), _person(session, body.person)
        client = check_name(body.client, "computer", field="client")
        _allowed(session, share, person)
        there = select(ShareVisit).where(
            ShareVisit.share_id == share.id, ShareVisit.person_id == person.id, ShareVisit.client == client
        )
        if session.exec(there).first() is None:
            session.add(ShareVisit(share_id=share.number, person_id=person.number, client=client))
        return SaidOut(sentence=f"{person.name} is connected to {share.name}.")


@api.post("/shares/<int:share_id>/leave", responses={200: SaidOut})
@needs(Act.WORK_STAND_INS)
def leave(path: SharePath, body: VisitBody) -> Any:
    """A simulated person disconnects."""
    with transaction() as session:
        share, person = _share(session, path.share_id), _person(session, body.person)
        for row in session.exec(
            select(ShareVisit).where(ShareVisit.share_id == share.id, ShareVisit.person_id == person.id)
        ):
            session.delete(row)
        return SaidOut(sentence=f"{person.name} has left {share.name}.")


@api.post("/shares/<int:share_id>/write", responses={200: JobsOut})
@needs(Act.WORK_STAND_INS)
def write_to_share(path: SharePath, body: WriteBody) -> Any:
    """A simulated person writes files to a share; rights and quota hold."""
    who = signed_in().name
    with transaction() as session:
        share, person = _share(session, path.share_id), _person(session, body.person)
        _allowed(session, share, person, writing=True)
        volume = session.get(VolumeRow, share.volume_id)
        assert volume is not None
        if not session.exec(select(Mount).where(Mount.volume_id == volume.id, col(Mount.read_only).is_(False))).first():
            raise NotPossible("No host mounts its volume for writing; the share cannot be reached.", code="not-mounted")
        pool = open_pool(session, volume.pool_id)
        most = None if share.quota is None else share.quota // EXTENT - taken_by(session, [share])[share.id][0]
        writer = Writer("share", person.name, share.folder, extents=extents_of_text(body.size), most=most)
        job = start_fill(session, pool, volume, 1.0, who, writer)
        log(session, who, "share-written", share.name, f"{person.name} writes to share {share.name}.", job=job.id)
        return _job(session, job)


@api.get("/shares/<int:share_id>/files", responses={200: FilesOut})
@needs(Act.LOOK)
def share_files(path: SharePath, query: FilesQuery) -> Any:
    """Files of a share, those in its bin too."""
    with transaction() as session:
        share = _share(session, path.share_id)
        statement = (
            select(SampleFile).join(Share, in_folder())
            .where(Share.id == share.id, col(SampleFile.id) > query.after)
        )  # fmt: skip
        rows = session.exec(statement.order_by(col(SampleFile.id)).limit(query.limit + 1)).all()
    return FilesOut(
        files=[
            FileOut(id=f.number, name=f.name, size=f.extents * EXTENT, via=f.via, writer=f.writer,
                    written_at=f.written_at, deleted_at=f.deleted_at)
            for f in rows[: query.limit]
        ],
        more=len(rows) > query.limit,
    )  # fmt: skip


def _file(session: Session, share: Share, file_id: int) -> SampleFile:
    row = session.get(SampleFile, file_id, with_for_update=True)
    if row is None or row.volume_id != share.volume_id or not (
        not share.folder or row.folder == share.folder or row.folder.startswith(share.folder + "/")
    ):  # fmt: skip
        raise NotFound("file on this share")
    return row


@api.post("/shares/<int:share_id>/delete-file", responses={200: SaidOut})
@needs(Act.WORK_STAND_INS)
def delete_file(path: SharePath, body: FileBody) -> Any:
    """A simulated person deletes a file: into the bin where the share has one, otherwise for good."""
    with transaction() as session:
        share, person = _share(session, path.share_id), _person(session, body.person)
        _allowed(session, share, person, writing=True)
        volume = session.get(VolumeRow, share.volume_id)
        assert volume is not None
        pool = open_pool(session, volume.pool_id)
        file = _file(session, share, body.file_id)
        if share.bin_days and file.deleted_at is None:
            file.deleted_at = now()
            said = f"{file.name} is in the bin of {share.name} for {share.bin_days} days."
        else:
            said = f"{file.name} is deleted for good."
            remove_files(session, pool, volume, [file])
        log(session, signed_in().name, "file-deleted", share.name, f"{person.name}: {said}")
        return SaidOut(sentence=said)


@api.post("/shares/<int:share_id>/restore-file", responses={200: SaidOut})
@needs(Act.WORK_STAND_INS)
def restore_file(path: SharePath, body: FileBody) -> Any:
    """A simulated person takes a file back out of the bin."""
    with transaction() as session:
        share, person = _share(session, path.share_id), _person(session, body.person)
        _allowed(session, share, person, writing=True)
        file = _file(session, share, body.file_id)
        file.deleted_at = None
        log(session, signed_in().name, "file-restored", share.name, f"{person.name} takes {file.name} out of the bin.")
        return SaidOut(sentence=f"{file.name} is back.")


# -- block targets ---------------------------------------------------------------------------------
@api.put("/targets/<int:target_id>/chap", responses={200: SaidOut})
@needs(Act.GIVE_ACCESS)
def set_chap(path: TargetPath, body: ChapBody) -> Any:
    """Set the CHAP name and secret an initiator proves itself by. The secret is kept as a hash only."""
    with transaction() as session:
        target = session.get(Target, path.target_id)
        if target is None:
            raise NotFound("target")
        said = keep_chap(session, target.iqn, body.initiator, body.name, body.secret, signed_in().name)
    return SaidOut(sentence=said)


def _try(session: Session, body: LogInBody) -> LogIn:
    estate = load_books(session)
    host = estate.host(body.host)
    wanted = next((t for t in estate.targets if t.iqn == body.target.strip()), None)
    serving = next((h for h in estate.machines if wanted and h.name == wanted.host), None)

    def secret_right() -> bool:
        right = session.exec(
            select(TargetRight).join(Initiator, col(Initiator.id) == TargetRight.initiator_id)
            .join(Target, col(Target.id) == TargetRight.target_id)
            .where(Target.iqn == body.target.strip(), Initiator.iqn == host.iqn)
        ).first()  # fmt: skip
        if right is None or right.chap_hash is None or right.chap_name != body.chap_name.strip():
            return False
        try:
            return secret_hasher.verify(right.chap_hash, body.chap_secret)
        except VerificationError:
            return False

    return log_in(host, body.target.strip(), estate.targets, serving, secret_right, chap_given=bool(body.chap_secret))


@api.post("/targets/log-in", responses={200: LogInOut})
@needs(Act.WORK_STAND_INS)
def try_log_in(body: LogInBody) -> Any:
    """A trial log-in of a simulated host to a target: let in, or the reason why not."""
    who = signed_in().name
    with transaction() as session:
        found = _try(session, body)
        log(session, who, "log-in-tried", body.target, found.sentence)
    return LogInOut(let_in=found.let_in, sentence=found.sentence, code=found.code, instead=found.instead)


@api.post("/targets/write", responses={200: JobsOut})
@needs(Act.WORK_STAND_INS)
def write_to_target(body: BlockWriteBody) -> Any:
    """A simulated host logs in and writes to one of a target's disks."""
    who = signed_in().name
    with transaction() as session:
        found = _try(session, body)
        if not found.let_in:
            raise NotPossible(found.sentence, code=found.code, field="target")
        volume = session.exec(
            select(VolumeRow).join(TargetLun, col(TargetLun.volume_id) == VolumeRow.id)
            .join(Target, col(Target.id) == TargetLun.target_id)
            .where(Target.iqn == body.target.strip(), TargetLun.lun == body.lun)
        ).first()  # fmt: skip
        if volume is None:
            raise BadInput(f"The target has no LUN {body.lun}.", field="lun")
        pool = open_pool(session, volume.pool_id)
        writer = Writer("target", body.host.strip(), extents=extents_of_text(body.size))
        job = start_fill(session, pool, volume, 1.0, who, writer)
        log(session, who, "target-written", body.target, f"{body.host} writes to LUN {body.lun}.", job=job.id)
        return _job(session, job)


# -- applications and hosts ------------------------------------------------------------------------
@api.post("/applications", responses={200: SaidOut})
@needs(Act.WORK_STAND_INS)
def install(body: InstallBody) -> Any:
    """Put a simulated application with some data onto a simulated host."""
    with transaction() as session:
        said = install_application(session, signed_in().name, **body.model_dump())
    return SaidOut(sentence=said)


@api.post("/applications/<int:application_id>/write", responses={200: JobsOut})
@needs(Act.WORK_STAND_INS)
def application_writes(path: ApplicationPath, body: WriteBody) -> Any:
    """A simulated application writes to its folder, wherever that lies."""
    who = signed_in().name
    with transaction() as session:
        app = session.get(Application, path.application_id)
        if app is None:
            raise NotFound("application")
        job = write_as(session, app, extents_of_text(body.size), who, devices())
        return _job(session, job) if job else JobsOut(jobs=[])


@api.get("/hosts/<int:host_id>/folder", responses={200: FolderOut})
@needs(Act.LOOK)
def folder(path: HostPath, query: FolderQuery) -> Any:
    """What lies in a folder of a host's own disk, beneath whatever is mounted there."""
    at = check_mount_point(query.path, field="path")
    with transaction() as session:
        host = session.get(Host, path.host_id)
        if host is None:
            raise NotFound("host")
        mount = session.exec(
            select(VolumeRow.name).join(Mount, col(Mount.volume_id) == VolumeRow.id)
            .where(Mount.host_id == host.id, Mount.at == at)
        ).first()  # fmt: skip
    world = devices()
    entries = world.hosts.entries(host.name, at)
    return FolderOut(
        there=entries is not None, closed=world.hosts.is_closed(host.name, at), volume=mount,
        entries=[FolderEntryOut(name=e.name, size=e.size, folder=e.folder) for e in (entries or ())[:200]],
    )  # fmt: skip
