"""Pools that are not in the books, and that drives here say they belong to."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence

from flask_openapi3 import APIBlueprint
from pydantic import BaseModel

from pairshelf.api.guard import needs, signed_in
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.units import EXTENT
from pairshelf.engine.pools import devices
from pairshelf.services import bringing_in
from pairshelf.store.database import transaction

api = APIBlueprint("found", __name__, url_prefix="/api")


class FoundMemberOut(BaseModel):
    serial: str
    #: Null: a spare.
    slot: int | None
    size: int
    #: "current", "behind", "older", "damaged", "away".
    standing: str
    #: All its data are on it.
    whole: bool
    #: How its place was when the newest record was written.
    state: str
    #: Null where it is not here.
    drive_id: int | None
    place: str
    #: Bytes that it lacks, at most, where that is known.
    missed: int | None


class FoundVolumeOut(BaseModel):
    name: str
    size: int
    file_system: str
    files: int


class LeftOverOut(BaseModel):
    serial: str
    place: str


class FoundPoolOut(BaseModel):
    #: What the pool is known by, wherever it is.
    uid: str
    name: str
    #: What is here of it, and what it would need.
    said: str
    may: bool
    #: Another pool here has its name: it gets one of its own.
    name_taken: bool
    scheme: str
    capacity: int | None
    written_at: dt.datetime | None
    #: Whether this installation wrote what stands on it.
    ours: bool
    encrypted: bool
    members: list[FoundMemberOut]
    volumes: list[FoundVolumeOut]
    #: Mounts, shares and disks that hung on its volumes.
    hanging: list[str]
    #: Drives that were members once, and are none any more.
    left_over: list[LeftOverOut]


class FoundPoolsOut(BaseModel):
    pools: list[FoundPoolOut]


@api.get("/found-pools", responses={200: FoundPoolsOut})
@needs(Act.LOOK, heavy=True)
def found_pools() -> FoundPoolsOut:
    """Pools that drives here say they belong to and that are not in the books, read from the drives just now."""
    with transaction() as session:
        return _out(bringing_in.spoken_of(session, devices()))


@api.post("/found-pools", responses={200: FoundPoolsOut})
@needs(Act.MANAGE_DRIVES, heavy=True)
def look() -> FoundPoolsOut:
    """Read every drive that belongs to nothing for what it says it belongs to. Drives that are put in are read by
    themselves; those that came by a list are not."""
    with transaction() as session:
        return _out(bringing_in.look(session, devices(), signed_in().name))


def _out(spoken: Sequence[bringing_in.Spoken]) -> FoundPoolsOut:
    return FoundPoolsOut(pools=[_one(s) for s in spoken])


def _one(spoken: bringing_in.Spoken) -> FoundPoolOut:
    f = spoken.found
    return FoundPoolOut(
        uid=f.uid, name=f.name, said=spoken.said, may=spoken.may, name_taken=spoken.name_taken, scheme=f.scheme,
        capacity=f.layout.stock * EXTENT if f.layout is not None else None, written_at=f.written_at, ours=f.ours,
        encrypted=f.encrypted,
        members=[
            FoundMemberOut(
                serial=m.serial, slot=m.slot, size=m.size, standing=m.standing.value, whole=m.whole, state=m.state, drive_id=m.drive_id,
                place=m.place, missed=None if m.missed is None else m.missed * EXTENT,
            )
            for m in f.in_order
        ],
        volumes=[FoundVolumeOut(name=v.name, size=v.size, file_system=v.file_system, files=v.files) for v in f.volumes],
        hanging=[h.named for h in f.hanging],
        left_over=[LeftOverOut(serial=s, place=p) for s, p in f.left_over],
    )  # fmt: skip
