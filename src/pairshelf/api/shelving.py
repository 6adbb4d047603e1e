"""Shelves and drives by hand: written down, put right, taken out of the books."""

from __future__ import annotations

from typing import Any

from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field

from pairshelf.api.guard import needs, signed_in
from pairshelf.api.paths import DrivePath
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.by_hand import CORRECTABLE
from pairshelf.core.domain.inventory import LONGEST
from pairshelf.services import shelving
from pairshelf.store.database import transaction

api = APIBlueprint("shelving", __name__, url_prefix="/api")

_Text = Field(max_length=LONGEST)


class ShelfPath(BaseModel):
    shelf_id: int


class NewShelfBody(BaseModel):
    name: str = _Text
    bays: int
    #: The main site, if left out.
    site: str = Field(default="", max_length=LONGEST)
    host: str = Field(default="", max_length=LONGEST)
    #: Drives to write into its first bays, such as 8x4TB hdd.
    drives: str = Field(default="", max_length=20_000)


class ShelfChangeBody(BaseModel):
    """All that a shelf is, as it is to be."""

    name: str = _Text
    bays: int
    site: str = Field(default="", max_length=LONGEST)
    #: Empty: it hangs on no host.
    host: str = Field(default="", max_length=LONGEST)


class TypedDrivesBody(BaseModel):
    drives: str = Field(max_length=20_000)


class ShelfMadeOut(BaseModel):
    shelf_id: int
    drive_ids: list[int]


class FactsBody(BaseModel):
    """Facts by their names, as an inventory's cells; an empty one takes a fact away."""

    facts: dict[str, str] = Field(min_length=1, max_length=len(CORRECTABLE))


class RetireBody(BaseModel):
    ids: list[int] = Field(min_length=1, max_length=1000)
    #: Where they go: sold, returned, destroyed, and to whom.
    to: str = _Text


class NamedBody(BaseModel):
    name: str = _Text


class NewHostBody(BaseModel):
    name: str = _Text
    site: str = Field(default="", max_length=LONGEST)


class CountOut(BaseModel):
    count: int


@api.post("/shelves", responses={200: ShelfMadeOut})
@needs(Act.MANAGE_DRIVES)
def make_shelf(body: NewShelfBody) -> Any:
    """Write a shelf into the books, with drives in its first bays if some are typed: all of it, or nothing."""
    who = signed_in().name
    with transaction() as session:
        shelf = shelving.make_shelf(session, who, name=body.name, bays=body.bays, site=body.site, host=body.host)
        rows = shelving.add_drives(session, who, shelf.number, body.drives) if body.drives.strip() else []
        return ShelfMadeOut(shelf_id=shelf.number, drive_ids=[r.number for r in rows])


@api.post("/shelves/<int:shelf_id>/drives", responses={200: ShelfMadeOut})
@needs(Act.MANAGE_DRIVES)
def add_drives(path: ShelfPath, body: TypedDrivesBody) -> Any:
    """Write drives into the first empty bays of a shelf."""
    with transaction() as session:
        rows = shelving.add_drives(session, signed_in().name, path.shelf_id, body.drives)
        return ShelfMadeOut(shelf_id=path.shelf_id, drive_ids=[r.number for r in rows])


@api.put("/shelves/<int:shelf_id>", responses={200: CountOut})
@needs(Act.MANAGE_DRIVES)
def change_shelf(path: ShelfPath, body: ShelfChangeBody) -> Any:
    """Another name, number of bays, site or host for a shelf; its drives stay in their bays."""
    with transaction() as session:
        shelving.change_shelf(
            session, signed_in().name, path.shelf_id, name=body.name, bays=body.bays, site=body.site, host=body.host
        )
    return CountOut(count=1)


@api.delete("/shelves/<int:shelf_id>", responses={200: CountOut})
@needs(Act.MANAGE_DRIVES)
def remove_shelf(path: ShelfPath) -> Any:
    """Take an empty shelf out of the books."""
    with transaction() as session:
        shelving.remove_shelf(session, signed_in().name, path.shelf_id)
    return CountOut(count=1)


@api.post("/hosts", responses={200: CountOut})
@needs(Act.MANAGE_DRIVES)
def make_host(body: NewHostBody) -> Any:
    """Add a host. NameTaken where there is one of that name."""
    with transaction() as session:
        shelving.add_host(session, signed_in().name, name=body.name, site=body.site)
    return CountOut(count=1)


@api.post("/hosts/remove", responses={200: CountOut})
@needs(Act.MANAGE_DRIVES)
def remove_host(body: NamedBody) -> Any:
    """Take a host on which nothing stands out of the books."""
    with transaction() as session:
        shelving.remove_host(session, signed_in().name, body.name)
    return CountOut(count=1)


@api.post("/sites/remove", responses={200: CountOut})
@needs(Act.MANAGE_DRIVES)
def remove_site(body: NamedBody) -> Any:
    """Take a site where nothing is out of the books."""
    with transaction() as session:
        shelving.remove_site(session, signed_in().name, body.name)
    return CountOut(count=1)


@api.patch("/drives/<int:drive_id>", responses={200: CountOut})
@needs(Act.MANAGE_DRIVES)
def correct_drive(path: DrivePath, body: FactsBody) -> Any:
    """Put facts of a drive right."""
    with transaction() as session:
        shelving.correct_drive(session, signed_in().name, path.drive_id, body.facts)
    return CountOut(count=1)


@api.post("/drives/retire", responses={200: CountOut})
@needs(Act.MANAGE_DRIVES)
def retire(body: RetireBody) -> Any:
    """Drives leave the house for good; the books keep them. All of them, or none."""
    with transaction() as session:
        return CountOut(count=shelving.retire(session, signed_in().name, body.ids, body.to))
