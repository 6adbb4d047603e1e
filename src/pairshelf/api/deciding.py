"""Deciding beyond one comparison: spread pools, what to buy from the price list, splitting by use."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field

from pairshelf.api.asking import CompareBody, DrivesAsked, drives_asked
from pairshelf.api.figures_out import ExplanationOut, FiguresOut, LayoutOut, Space, SurveyOut
from pairshelf.api.guard import needs, signed_in
from pairshelf.api.queries import Upload
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.drives import MOST_DRIVES
from pairshelf.core.domain.units import parse_size
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.figures.assumptions import assume
from pairshelf.core.figures.report import shopping_json, split_json, spread_json
from pairshelf.core.figures.spread_explained import spread_explanations
from pairshelf.core.figures.spread_pools import spread_account, spread_figures
from pairshelf.core.layouts.placing import WantedVolume, spread_pool
from pairshelf.core.layouts.protections import parse_protection
from pairshelf.core.search.buy import shopping
from pairshelf.core.search.candidates import Question
from pairshelf.core.search.split import Use, split
from pairshelf.engine.log import log
from pairshelf.formats.price_list_csv import read_price_list
from pairshelf.formats.tables import MOST_BYTES
from pairshelf.store.database import Lock, lock_until_commit, transaction
from pairshelf.store.repositories.drives_and_pools import load_models, store_models

api = APIBlueprint("deciding", __name__, url_prefix="/api")

#: Stripes that are placed while somebody waits; the console command takes more.
_MOST_STRIPES = 40_000


# -- spread pools -------------------------------------------------------------------------------------


class VolumeAsked(BaseModel):
    name: str = Field(default="", max_length=60)
    #: A typed size, such as 10TiB.
    size: str
    #: copies-2, copies-3, parity-1:WIDTH or parity-2:WIDTH.
    protection: str


class SpreadBody(DrivesAsked):
    #: drive, shelf, host or site; empty: the widest that the drives stand in.
    domain: str = ""
    volumes: list[VolumeAsked] = Field(max_length=20)


class SpreadSurvives(SurveyOut):
    domain: str
    domains_guaranteed: int
    domains_best_case: int
    domains_curve: list[float]


class SpreadVolumeOut(BaseModel):
    name: str
    size: int
    protection: str
    width: int
    stripes: int
    pool_use: int
    survives: SpreadSurvives
    rebuild_hours: float
    yearly_loss: float
    yearly_damage: float
    mttdl_hours: float | None
    explanations: list[ExplanationOut]


class SpreadDomain(BaseModel):
    name: str
    extents: int


class SpreadOut(BaseModel):
    domain: str
    domains: list[SpreadDomain]
    drives: list[str]
    volumes: list[SpreadVolumeOut]
    survives: SurveyOut
    #: Most stripes of each protection named, in the empty pool.
    stripes_max: dict[str, int]
    used: int
    free: int
    rebuild_hours: float
    self_repair: bool
    self_repair_fails_without: list[str]
    #: Of each protection named, whether the loss of a whole failure domain can be repaired at all.
    repairs_a_domain: dict[str, bool]
    #: In how many stripes each two drives stand together.
    partners: list[list[int]]
    #: The account if all of the pool were protected like this.
    space: dict[str, Space]
    labels: dict[str, str]


@api.post("/compare/spread", responses={200: SpreadOut})
@needs(Act.LOOK, heavy=True)
def spread(body: SpreadBody) -> Any:
    """A spread pool: each volume's stripes placed, what each bears, and whether the pool repairs itself."""
    asked = drives_asked(body)
    given = body.assumptions()
    if not body.volumes:
        raise BadInput("Name at least one volume.", field="volumes")
    wanted = [_wanted(v, i) for i, v in enumerate(body.volumes)]
    if sum(v.stripes for v in wanted) > _MOST_STRIPES:
        raise BadInput(
            f"These volumes have more than {_MOST_STRIPES:,} stripes, too many to place while you wait; "
            "make them smaller, or ask the console command: pairshelf spread.",
            field="volumes",
        )
    width = max(v.protection.width for v in wanted)
    pool = spread_pool(assume(asked.drives, given), body.domain, width)
    found = spread_figures(pool, wanted, given)
    accounts = {v.protection.name: spread_account(pool, v.protection, file_system="none").as_dict() for v in wanted}
    repairs = {v.protection.name: pool.repairs_a_domain(v.protection) for v in wanted}
    report = spread_json(found) | {"space": accounts, "repairs_a_domain": repairs, "labels": asked.labels}
    for volume, told in zip(report["volumes"], spread_explanations(found, given), strict=True):
        volume["explanations"] = [asdict(e) for e in told]
    return SpreadOut.model_validate(report)


def _wanted(asked: VolumeAsked, index: int) -> WantedVolume:
    size = parse_size(asked.size, field=f"volumes.{index}.size")
    if size == 0:
        raise BadInput("A volume has more than zero bytes.", field=f"volumes.{index}.size")
    return WantedVolume(size, parse_protection(asked.protection, field=f"volumes.{index}.protection"), asked.name)


# -- the price list, and what to buy ------------------------------------------------------------------


class ModelOut(BaseModel):
    maker: str | None
    model: str
    size: int
    kind: str
    price: float | None
    currency: str | None
    rate: int | None
    afr: float | None
    uber: float | None
    ops: int | None
    watts: float | None


class PricesOut(BaseModel):
    models: list[ModelOut]


class PriceForm(BaseModel):
    file: Upload


class PriceError(BaseModel):
    row: int
    column: str | None
    reason: str


class PricesReadOut(BaseModel):
    stored: int
    errors: list[PriceError]


class LaterOut(BaseModel):
    need: int
    add: int
    how: str
    usable: int
    cost: float


class PurchaseOut(BaseModel):
    model: str
    count: int
    description: str
    layout: FiguresOut
    cost: float
    currency: str | None
    later: list[LaterOut]
    cost_in_all: float | None
    bays_left: int
    cheapest_now: bool
    cheapest_in_all: bool


class NotBought(BaseModel):
    model: str
    why: str


class ShoppingOut(BaseModel):
    purchases: list[PurchaseOut]
    more: int
    ruled_out: list[NotBought]


class ShoppingBody(CompareBody):
    bays: int = Field(ge=1, le=240)
    #: Typed sizes needed at the next growth steps, at most two.
    then: list[str] = Field(default_factory=list, max_length=2)
    #: Drives that are there already and come into the same pool.
    with_drives: bool = False


@api.get("/prices", responses={200: PricesOut})
@needs(Act.LOOK)
def prices() -> Any:
    """The price list: models of drives with what they cost and the makers' figures."""
    with transaction() as session:
        models = load_models(session)
    return PricesOut(models=[ModelOut(**{n: getattr(m, n) for n in ModelOut.model_fields}) for m in models])


@api.post("/prices", responses={200: PricesReadOut})
@needs(Act.PREPARE, heavy=True)
def bring_in_prices(form: PriceForm) -> Any:
    """Put a price list in the place of the one before: all of it, or, when anything is wrong, nothing."""
    reading = read_price_list(form.file.stream.read(MOST_BYTES + 1))
    errors = [PriceError(row=e.row, column=e.column, reason=e.reason) for e in reading.errors]
    if errors:
        return PricesReadOut(stored=0, errors=errors[:100])
    with transaction() as session:
        lock_until_commit(session, Lock.IMPORT)
        store_models(session, reading.models)
        count = len(reading.models)
        log(session, signed_in().name, "prices-brought-in", form.file.filename or "a list",
            f"Price list of {count} model{'s' if count > 1 else ''} brought in.", models=count)  # fmt: skip
    return PricesReadOut(stored=count, errors=[])


@api.post("/compare/buy", responses={200: ShoppingOut})
@needs(Act.LOOK, heavy=True)
def buy(body: ShoppingBody) -> Any:
    """What to buy from the price list: least cost now, and over the next growth steps."""
    with transaction() as session:
        models = load_models(session)
    if not models:
        raise NotPossible("There is no price list yet; bring one in first.", code="no-prices", field="prices")
    have = drives_asked(body).drives if body.with_drives else ()
    then = [parse_size(t, field="then") for t in body.then if t.strip()]
    return ShoppingOut.model_validate(
        shopping_json(shopping(models, body.bays, body.question(None), have=have, then=then))
    )


# -- splitting by use ---------------------------------------------------------------------------------


class UseAsked(BaseModel):
    name: str = Field(max_length=60)
    workload: str
    #: A typed size; empty for none.
    need: str = ""
    survive: int = Field(default=1, ge=0, le=9)
    #: Ids of the drives picked for it; empty: it gets some of those that are left.
    drives: list[str] = Field(default_factory=list, max_length=MOST_DRIVES)


class SplitBody(DrivesAsked):
    uses: list[UseAsked] = Field(max_length=4)


class ShareOut(BaseModel):
    name: str
    workload: str
    need: int
    survive: int
    drives: list[str]
    layout: LayoutOut | None
    why: str


class SplitOut(BaseModel):
    shares: list[ShareOut]
    meets: bool
    one_pool: LayoutOut | None
    one_pool_short: str | None
    #: Whether one pool for all gives every use at least as much.
    one_pool_better: bool
    compared: list[str]
    labels: dict[str, str]


@api.post("/compare/split", responses={200: SplitOut})
@needs(Act.LOOK, heavy=True)
def splitting(body: SplitBody) -> Any:
    """Divide the drives into pools for different uses, against one pool for all."""
    asked = drives_asked(body)
    uses = [
        Use(
            u.name.strip() or f"use {i + 1}",
            u.workload,
            parse_size(u.need, field=f"uses.{i}.need") if u.need.strip() else 0,
            u.survive,
            tuple(u.drives),
        )
        for i, u in enumerate(body.uses)
    ]
    question = Question(file_system=body.file_system, reserved_share=body.reserved_share, given=body.assumptions())
    return SplitOut.model_validate(split_json(split(asked.drives, uses, question)) | {"labels": asked.labels})
