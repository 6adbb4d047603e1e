"""The controls of the simulated devices: put in, pull, fail, warn, flip bits; and their clock."""

from __future__ import annotations

import datetime as dt
import secrets
import tempfile
from typing import Any

from flask import send_file
from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field
from sqlmodel import Session, col, select

from pairshelf.api.guard import needs, signed_in
from pairshelf.api.paths import DrivePath
from pairshelf.api.queries import Upload
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.drives import Kind, extents_of
from pairshelf.core.domain.inventory import DriveRecord, checked
from pairshelf.core.domain.names import file_name
from pairshelf.core.domain.units import parse_size
from pairshelf.core.errors import BadInput, NotFound, NotPossible
from pairshelf.engine import passing
from pairshelf.engine.carry import simulated_speed
from pairshelf.engine.log import log
from pairshelf.engine.pools import devices
from pairshelf.services import boxes, simulated_use
from pairshelf.standin.faults import FAULTS
from pairshelf.store import clock
from pairshelf.store.database import tell, transaction
from pairshelf.store.repositories.drives_and_pools import load_drives, record_of
from pairshelf.store.tables import DriveRow, Host, Service, Setting, Shelf, Site

api = APIBlueprint("stand-ins", __name__, url_prefix="/api/stand-in")

#: The speeds of simulated time that can be chosen: seconds a second; 0 is at once.
SPEEDS = (1, 60, 3600, 0)


class PutInBody(BaseModel):
    shelf_id: int
    bay: int
    size: str = "6 TB"
    kind: Kind = Kind.HDD
    maker: str | None = "Osmund"
    model: str | None = None
    serial: str | None = None
    holds: str | None = None


class PutInOut(BaseModel):
    serial: str


class FaultBody(BaseModel):
    #: One of those listed at ``GET /api/kinds``.
    what: str
    count: int = Field(default=3, ge=1, le=1000)


class DoneOut(BaseModel):
    done: bool = True


class ShelfBody(BaseModel):
    shelf_id: int


class BesideBody(BaseModel):
    shelf_id: int
    #: Which of those that lie beside the shelves; none: all of them.
    serials: list[str] = Field(default_factory=list, max_length=1000)


class BesideDriveOut(BaseModel):
    serial: str
    size: int
    kind: str
    maker: str | None
    model: str | None


class BesideOut(BaseModel):
    drives: list[BesideDriveOut]


class PutInAllOut(BaseModel):
    serials: list[str]


class BoxForm(BaseModel):
    file: Upload


class TimeBody(BaseModel):
    #: A year at most.
    hours: int = Field(ge=1, le=8784)


class TimeOut(BaseModel):
    #: What the house's clock says, and how far it is ahead of the machine's, seconds.
    now: dt.datetime
    ahead: float
    #: Until when days pass; null: they do not.
    until: dt.datetime | None


class WritesBody(BaseModel):
    volume_id: int
    #: What simulated hosts write to it a day, as in 20 GB; empty: nothing.
    a_day: str = Field(default="", max_length=40)


class WritesOut(BaseModel):
    a_day: int | None


class DeleteBody(BaseModel):
    volume_id: int
    #: Share of its files, the oldest first.
    share: float = Field(default=0.5, gt=0, le=1)


class DeletedOut(BaseModel):
    sentence: str


class SwitchBody(BaseModel):
    #: shelf or host
    what: str
    id: int
    on: bool


class SwitchOut(BaseModel):
    sentence: str


class UnpluggedOut(BaseModel):
    #: Numbers of shelves without their cable, and of hosts without power.
    shelves: list[int]
    hosts: list[int]


class SpeedBody(BaseModel):
    factor: int


class SpeedOut(BaseModel):
    factor: int
    choices: list[int]


@api.post("/drives", responses={200: PutInOut})
@needs(Act.WORK_STAND_INS)
def put_in(body: PutInBody) -> Any:
    """Put a drive into an empty bay of a simulated shelf; it is found there by itself."""
    size = parse_size(body.size, field="size")
    if extents_of(size) < 1:
        raise BadInput("A drive needs at least 1.25 GiB.", field="size")
    serial = (body.serial or "").strip() or f"OS-{secrets.token_hex(4).upper()}"
    with transaction() as session:
        shelf = session.get(Shelf, body.shelf_id)
        if shelf is None:
            raise NotFound("shelf", field="shelf_id")
        if not 0 <= body.bay <= shelf.bays:
            raise BadInput(f"{shelf.name} has bays 1 to {shelf.bays}.", field="bay")
        site = session.get_one(Site, shelf.site_id)
        if body.bay in boxes.bays_taken(session, devices(), shelf, site.name):
            raise NotPossible(f"{shelf.name} bay {body.bay} is not empty.", code="bay-taken", field="bay")
        if any(a.record is not None and a.record.serial == serial for a in devices().arrivals()):
            raise NotPossible(f"Drive {serial} is just being put in.", code="serial-taken", field="serial")
        known = session.exec(select(DriveRow).where(DriveRow.serial == serial)).first()
        # One of a shelf that is offline can be taken out of it.
        elsewhere = known is not None and known.shelf_id is not None and serial not in devices().disconnected()
        if known is not None and (elsewhere or known.service == Service.RETIRED):
            (there,) = load_drives(session, [known.number])
            where = there.why_it_stays() if known.service == Service.RETIRED else f"It is in {there.place}."
            raise NotPossible(f"There is a drive {serial} already. {where}", code="serial-taken", field="serial")
        host = session.get(Host, shelf.host_id) if shelf.host_id else None
        if known is not None:
            # The same drive, put in again, here or elsewhere: it is what it was.
            devices().put_in(record_of(known, shelf, site.name, host.name if host else None, body.bay))
            return PutInOut(serial=serial)
        lying = next((r for r in devices().beside() if r.serial == serial), None)
        if lying is not None:
            boxes.put_in_one(session, devices(), lying, shelf, site.name, host.name if host else None, body.bay)
            return PutInOut(serial=serial)
        model = body.model or ("Keel" if body.kind is Kind.HDD else "Ember")
        record = checked(DriveRecord(
            shelf=shelf.name, bay=body.bay, serial=serial, size=size, kind=body.kind, site=site.name,
            host=host.name if host else None, maker=body.maker or None, model=model, holds=body.holds or None,
            bus={"hdd": "SATA", "ssd": "SATA", "nvme": "PCIe"}[body.kind.value],
        ))  # fmt: skip
        devices().put_in(record)
    return PutInOut(serial=serial)


@api.post("/box", responses={200: None})
@needs(Act.WORK_STAND_INS, heavy=True)
def pack_box(body: ShelfBody) -> Any:
    """Take all simulated drives of a shelf out of their bays and put them into a box, a file: with all their bytes, for
    the shelves of another installation."""
    box = tempfile.TemporaryFile()  # noqa: SIM115 - whoever sends it closes it
    with transaction() as session:
        name = boxes.pack_shelf(session, devices(), body.shelf_id, box, signed_in().name)
    box.seek(0)
    return send_file(
        box, mimetype="application/zip", as_attachment=True, download_name=f"drives-of-{file_name(name)}.zip"
    )


@api.post("/unpack", responses={200: BesideOut})
@needs(Act.WORK_STAND_INS, heavy=True)
def unpack_box(form: BoxForm) -> Any:
    """Unpack a box of simulated drives: they lie beside the shelves until they are put into bays."""
    with transaction() as session:
        boxes.unpack_box(session, devices(), form.file.stream, signed_in().name)
    return beside()


@api.get("/beside", responses={200: BesideOut})
@needs(Act.LOOK)
def beside() -> Any:
    """Simulated drives that lie beside the shelves."""
    return BesideOut(drives=[
        BesideDriveOut(serial=r.serial, size=r.size, kind=r.kind.value, maker=r.maker, model=r.model) for r in devices().beside()
    ])  # fmt: skip


@api.post("/beside", responses={200: PutInAllOut})
@needs(Act.WORK_STAND_INS)
def put_in_all(body: BesideBody) -> Any:
    """Put drives that lie beside the shelves into free bays of one, in no order."""
    with transaction() as session:
        return PutInAllOut(
            serials=boxes.into_free_bays(session, devices(), body.shelf_id, body.serials, signed_in().name)
        )


@api.post("/drives/<int:drive_id>", responses={200: DoneOut})
@needs(Act.WORK_STAND_INS)
def fault(path: DrivePath, body: FaultBody) -> Any:
    """Do something to a simulated drive. Pair Shelf is not told; it finds out."""
    if (found := FAULTS.get(body.what)) is None:
        raise BadInput(f"“{body.what}” is nothing that can be done to a drive; use {', '.join(FAULTS)}.", field="what")
    world = devices()
    with transaction() as session:
        row = session.exec(select(DriveRow).where(col(DriveRow.id) == path.drive_id)).first()
        if row is None:
            raise NotFound("drive")
        if why := found.needs.get(world.presence(row.serial)):
            raise NotPossible(why, code="not-now", field="what")
        if row.serial in world.disconnected():
            raise NotPossible(
                "Its shelf or host is offline; reconnect that, or put it into another bay.",
                code="offline",
                field="what",
            )
        if found.id == "put-back" and (taken := _in_the_bay_of(session, row)):
            raise NotPossible(
                f"Drive {taken} is in its bay now; put it into an empty one.", code="bay-taken", field="what"
            )
        said = found.said.format(count=body.count)
        found.do(world, row.serial, row.size, body.count)
        log(session, signed_in().name, f"stand-in-{found.id}", row.serial, f"Simulated drive {row.serial}: {said}.")
    return DoneOut()


def _in_the_bay_of(session: Session, drive: DriveRow) -> str | None:
    """The drive that is where this one was."""
    there = select(DriveRow.serial).where(DriveRow.shelf_id == drive.left_shelf_id, DriveRow.bay == drive.left_bay)
    return session.exec(there).first() if drive.left_shelf_id is not None else None


@api.get("/unplugged", responses={200: UnpluggedOut})
@needs(Act.LOOK)
def unplugged() -> Any:
    """Which simulated shelves are unplugged, and which hosts switched off."""
    off = [key.split() for key in devices().unplugged()]

    def of(what: str) -> list[int]:
        return sorted(int(number) for kind, number in off if kind == what)

    return UnpluggedOut(shelves=of("shelf"), hosts=of("host"))


@api.post("/switch", responses={200: SwitchOut})
@needs(Act.WORK_STAND_INS)
def switch(body: SwitchBody) -> Any:
    """Unplug a simulated shelf, or switch a host off, as one act; or give it back. Pair Shelf is not told."""
    with transaction() as session:
        said = simulated_use.switch(session, body.what, body.id, signed_in().name, devices(), on=body.on)
    return SwitchOut(sentence=said)


@api.get("/speed", responses={200: SpeedOut})
@needs(Act.LOOK)
def speed() -> Any:
    """How fast simulated time passes."""
    with transaction() as session:
        return SpeedOut(factor=simulated_speed(session), choices=list(SPEEDS))


@api.put("/speed", responses={200: SpeedOut})
@needs(Act.WORK_STAND_INS)
def set_speed(body: SpeedBody) -> Any:
    """Choose how fast simulated time passes."""
    if body.factor not in SPEEDS:
        raise BadInput(f"Choose one of {', '.join(map(str, SPEEDS))}.", field="factor")
    with transaction() as session:
        session.merge(Setting(key="speed", value={"factor": body.factor}))
        tell(session, "setting")
    return SpeedOut(factor=body.factor, choices=list(SPEEDS))


@api.get("/time", responses={200: TimeOut})
@needs(Act.LOOK)
def house_time() -> Any:
    """What time it is for the simulated house."""
    with transaction() as session:
        return _time_out(passing.until(session))


def _time_out(until: dt.datetime | None) -> TimeOut:
    return TimeOut(now=clock.now(), ahead=clock.ahead().total_seconds(), until=until)


@api.post("/time", responses={200: TimeOut})
@needs(Act.WORK_STAND_INS)
def let_time_pass(body: TimeBody) -> Any:
    """Let time pass for the simulated house: its hosts write, what is recorded is recorded. It is not turned back."""
    with transaction() as session:
        return _time_out(passing.begin(session, signed_in().name, dt.timedelta(hours=body.hours)))


@api.post("/time/stop", responses={200: TimeOut})
@needs(Act.WORK_STAND_INS)
def stop_time() -> Any:
    """Let no more time pass than has."""
    with transaction() as session:
        passing.stop(session)
    return _time_out(None)


@api.put("/writes", responses={200: WritesOut})
@needs(Act.WORK_STAND_INS)
def set_writes(body: WritesBody) -> Any:
    """Say what simulated hosts write to a volume while days pass."""
    with transaction() as session:
        return WritesOut(a_day=simulated_use.keep_writes(session, body.volume_id, body.a_day, signed_in().name))


@api.post("/delete-files", responses={200: DeletedOut})
@needs(Act.WORK_STAND_INS)
def delete_files(body: DeleteBody) -> Any:
    """A simulated host deletes its oldest files in its own file system; the pool is not told."""
    with transaction() as session:
        said = simulated_use.delete_samples(session, body.volume_id, body.share, signed_in().name)
    return DeletedOut(sentence=said)
