"""*Find and do*: everything that has a name, and what can be done to it."""

from __future__ import annotations

from typing import Any
from urllib.parse import quote

from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field
from sqlalchemy import case, func
from sqlmodel import Session, col, or_

from pairshelf.api.guard import needs
from pairshelf.api.queries import Query
from pairshelf.core.domain.acts import Act
from pairshelf.core.policies.finding import Thing, acts_on, matches
from pairshelf.engine import keys
from pairshelf.store.database import pick, transaction
from pairshelf.store.tables import (
    Comparison,
    DriveRow,
    Host,
    Initiator,
    Party,
    PoolPlace,
    PoolRow,
    Service,
    Share,
    Shelf,
    Target,
    VolumeRow,
)

api = APIBlueprint("finding", __name__, url_prefix="/api")

#: Of each kind at most so many are looked at, and so many in all are shown.
_MOST_OF_A_KIND = 200
_MOST = 12


class FindQuery(Query):
    words: str = Field(default="", max_length=100)


class FoundOut(BaseModel):
    name: str
    #: act, pool, volume, drive, shelf, host, share, target, initiator, person, group, comparison.
    what: str
    link: str


class FindOut(BaseModel):
    found: list[FoundOut]
    more: int


@api.get("/find", responses={200: FindOut})
@needs(Act.LOOK, shared="with-all")
def find(query: FindQuery) -> Any:
    """What has these words: acts with what they apply to first, then things by name, serial or IQN."""
    typed = query.words.strip()
    if not typed:
        return FindOut(found=[], more=0)
    rest = typed.partition(" ")[2].strip()
    with transaction() as session:
        things = _things(session, typed.split()[0]) + (_things(session, rest.split()[0]) if rest else [])
        everything = [*things, *_pools(session), *_volumes(session)]
    seen = {(t.kind, t.name, t.link): t for t in everything}
    found = [FoundOut(name=says, what="act", link=link) for says, link in acts_on(typed, seen.values())]
    found += [FoundOut(name=t.name, what=t.kind, link=t.link) for t in matches(typed, seen.values())]
    return FindOut(found=found[:_MOST], more=max(0, len(found) - _MOST))


def _pools(session: Session) -> list[Thing]:
    empty = func.sum(case((col(PoolPlace.state).in_(("failed", "missing")), 1), else_=0))
    rows = session.exec(
        pick(PoolRow.id, PoolRow.name, PoolRow.key, empty).join(PoolPlace, col(PoolPlace.pool_id) == PoolRow.id)
        .where(col(PoolPlace.slot).is_not(None)).group_by(col(PoolRow.id)).order_by(PoolRow.name).limit(_MOST_OF_A_KIND)
    )  # fmt: skip
    return [
        Thing("pool", name, f"/pools/{i}", int(gone or 0), None if key is None else not keys.is_open(i))
        for i, name, key, gone in rows
    ]


def _volumes(session: Session) -> list[Thing]:
    rows = session.exec(
        pick(PoolRow.id, PoolRow.name, VolumeRow.name, VolumeRow.file_system)
        .join(VolumeRow, col(VolumeRow.pool_id) == PoolRow.id).where(col(VolumeRow.moving_from).is_(None)).order_by(PoolRow.name, VolumeRow.name).limit(_MOST_OF_A_KIND)
    )  # fmt: skip
    return [Thing("volume", f"{pool}/{name}", f"/pools/{i}", bare=fs == "none") for i, pool, name, fs in rows]


def _things(session: Session, word: str) -> list[Thing]:
    """What has a word in its name, of every other kind."""

    def some(*columns: Any, where: Any) -> Any:
        return session.exec(pick(*columns).where(where.icontains(word, autoescape=True)).limit(_MOST_OF_A_KIND))

    found = [
        Thing("drive", serial, f"/shelves?drive={i}")
        for i, serial, service in some(DriveRow.id, DriveRow.serial, DriveRow.service, where=col(DriveRow.serial))
        if service != Service.RETIRED
    ]  # fmt: skip
    found += [
        Thing("shelf", name, f"/shelves?filter={quote(f'shelf:{chr(34)}{name}{chr(34)}')}")
        for name in some(Shelf.name, where=col(Shelf.name))
    ]
    found += [Thing("host", name, "/access/hosts") for name in some(Host.name, where=col(Host.name))]
    found += [Thing("share", name, "/access/shares") for name in some(Share.name, where=col(Share.name))]
    found += [Thing("target", iqn, "/access/targets") for iqn in some(Target.iqn, where=col(Target.iqn))]
    found += [Thing("initiator", iqn, "/access/targets") for iqn in some(Initiator.iqn, where=col(Initiator.iqn))]
    found += [Thing(kind, name, "/access/people") for name, kind in some(Party.name, Party.kind, where=col(Party.name))]
    found += [
        Thing("comparison", name, f"/comparisons/{i}")
        for i, name in some(Comparison.id, Comparison.name, where=col(Comparison.name))
    ]
    volumes = session.exec(
        pick(PoolRow.id, PoolRow.name, VolumeRow.name, VolumeRow.file_system)
        .join(VolumeRow, col(VolumeRow.pool_id) == PoolRow.id).where(col(VolumeRow.moving_from).is_(None))
        .where(or_(col(VolumeRow.name).icontains(word, autoescape=True), col(PoolRow.name).icontains(word, autoescape=True)))
        .limit(_MOST_OF_A_KIND)
    )  # fmt: skip
    found += [Thing("volume", f"{pool}/{name}", f"/pools/{i}", bare=fs == "none") for i, pool, name, fs in volumes]
    return found
