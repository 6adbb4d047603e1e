"""Ways to grow: what would make a pool larger, and what it could become, with the drives there are."""

from __future__ import annotations

from typing import Any

from flask_openapi3 import APIBlueprint
from pydantic import BaseModel

from pairshelf.api.figures_out import Cut
from pairshelf.api.guard import needs
from pairshelf.api.paths import PoolPath
from pairshelf.api.queries import Query
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.errors import BadInput
from pairshelf.core.figures.report import cut_json
from pairshelf.core.search.ways import Way, remark_on, way_round, why_no_conversion, why_not_free
from pairshelf.engine.pools import devices
from pairshelf.services.growing import growth_of
from pairshelf.store.database import transaction

api = APIBlueprint("growing", __name__, url_prefix="/api")


class WaysQuery(Query):
    #: Drives that were picked, by id with commas between; none: each way takes those that suit it best.
    drives: str = ""


class WayStepOut(BaseModel):
    act: str
    gain: int
    hours: float


class WayOut(BaseModel):
    id: str
    name: str
    drives: list[int]
    #: Bytes of capacity it brings, and that there are then.
    gain: int
    capacity: int
    #: Hours until the capacity is there; 0 at once.
    hours: float
    #: Failures survived until then, and afterwards.
    meanwhile: int
    afterwards: int
    price: float | None
    currency: str | None
    cautions: list[str]
    steps: list[WayStepOut]
    #: The kind of change whose sheet is drawn up of ``request``; null where it is not one.
    kind: str | None
    request: dict[str, Any]
    why_not: str | None
    way_round: str | None
    #: The kind of change to draw up first, for the pool alone, or null.
    first: str | None
    #: Why it is the one suggested, or null.
    suggested: str | None
    cut: Cut | None


class PickOut(BaseModel):
    """A drive that could be picked."""

    id: int
    shelf: str | None
    place: str
    serial: str
    size: int
    kind: str
    holds: str | None
    #: It has to be taken in first.
    new: bool
    #: What is to be known of it beforehand, or null.
    remark: str | None


class NotToBeHad(BaseModel):
    """A drive without a duty that cannot be picked."""

    named: str
    size: int
    why_not: str


class WaysOut(BaseModel):
    pool: str
    capacity: int
    free: int
    ways: list[WayOut]
    conversions: list[WayOut]
    #: Why its scheme cannot be changed, or null; and what to do instead.
    why_no_conversion: str | None
    way_round: list[str]
    drives: list[PickOut]
    not_to_be_had: list[NotToBeHad]


def picked_ids(text: str) -> list[int]:
    """Drives as an address names them: numbers with commas between."""
    try:
        return [int(part) for part in text.split(",") if part.strip()]
    except ValueError:
        raise BadInput("Write drives as their numbers, with commas between.", field="drives") from None


def _way(way: Way) -> WayOut:
    facts = {
        name: getattr(way, name) for name in WayOut.model_fields if name not in ("cut", "steps", "drives", "cautions")
    }
    return WayOut(
        **facts, drives=list(way.drives), cautions=list(way.cautions),
        steps=[WayStepOut(act=s.act, gain=s.gain, hours=s.hours) for s in way.steps],
        cut=Cut(**cut_json(way.after)) if way.after is not None else None,
    )  # fmt: skip


@api.get("/pools/<int:pool_id>/ways", responses={200: WaysOut})
@needs(Act.LOOK)
def ways(path: PoolPath, query: WaysQuery) -> Any:
    """The ways to make a pool larger, side by side, and the schemes it could become."""
    with transaction() as session:
        found = growth_of(session, path.pool_id, picked_ids(query.drives), devices())
    pool = found.pool
    return WaysOut(
        pool=pool.name, capacity=pool.capacity * EXTENT, free=pool.free * EXTENT, ways=[_way(w) for w in found.ways],
        conversions=[_way(w) for w in found.conversions], why_no_conversion=why_no_conversion(pool),
        way_round=list(way_round(pool)),
        drives=[
            PickOut(id=d.id, shelf=d.shelf, place=d.place, serial=d.serial, size=d.size, kind=d.kind.value, holds=d.holds,
                    new=d.service == "new", remark=remark_on(pool, d))
            for d in found.drives if why_not_free(d) is None
        ],
        not_to_be_had=[
            NotToBeHad(named=d.named, size=d.size, why_not=why) for d in found.drives if (why := why_not_free(d))
        ],
    )  # fmt: skip
