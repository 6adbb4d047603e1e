"""Speed as it is measured: loads played on volumes, beside jobs, and on layouts that are compared."""

from __future__ import annotations

import datetime as dt
from dataclasses import asdict
from typing import Any

from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field

from pairshelf.api.asking import CompareBody, drives_asked
from pairshelf.api.guard import needs, signed_in
from pairshelf.core.domain.acts import Act
from pairshelf.core.layouts.registry import trade_name
from pairshelf.core.loads.mixes import MIXES
from pairshelf.core.search.candidates import all_layouts
from pairshelf.engine.jobs.kinds import JOBS
from pairshelf.engine.pools import devices
from pairshelf.services import loads
from pairshelf.store.database import transaction

api = APIBlueprint("loads", __name__, url_prefix="/api")


class MixPartOut(BaseModel):
    share: float
    writes: bool
    size: int
    along: bool


class MixOut(BaseModel):
    """A mix of requests."""

    id: str
    name: str
    about: str
    at_once: int
    reads: float
    parts: list[MixPartOut]


class MixesOut(BaseModel):
    mixes: list[MixOut]
    #: Kinds of jobs that can be measured beside while none is under way, with their names.
    beside: dict[str, str]


class PlayedRatesOut(BaseModel):
    """Requests and bytes a second; seconds."""

    operations: float
    throughput: float
    median: float | None
    slow: float | None


class EstimateOut(BaseModel):
    operations: float
    throughput: float


class VolumeMeasuredOut(BaseModel):
    volume_id: int
    name: str
    mix: str
    at_once: int
    wanted: float | None
    rates: PlayedRatesOut
    #: If it had the pool for itself.
    estimate: EstimateOut


class DriveMeasuredOut(BaseModel):
    slot: int
    operations: float
    throughput: float
    #: Shares of its time.
    busy: float
    for_job: float


class LinkMeasuredOut(BaseModel):
    shelf: str
    throughput: float
    carries: float


class JobBesideOut(BaseModel):
    kind: str
    name: str
    pace: str
    users_alone: PlayedRatesOut
    users: PlayedRatesOut
    #: Bytes a second that drives moved for the job.
    job_alone: float
    job: float
    costs_users: float
    costs_job: float


class MeasuredOut(BaseModel):
    volumes: list[VolumeMeasuredOut]
    whole: PlayedRatesOut
    estimate: EstimateOut
    drives: list[DriveMeasuredOut]
    links: list[LinkMeasuredOut]
    beside: JobBesideOut | None


class PlayOut(BaseModel):
    volume_id: int
    volume: str
    mix: str
    at_once: int
    wanted: float | None
    since: dt.datetime


class SpeedsOut(BaseModel):
    plays: list[PlayOut]
    at: dt.datetime | None
    found: MeasuredOut | None
    why_none: str | None


class SpeedPath(BaseModel):
    pool_id: int


class PlayBody(BaseModel):
    volume_id: int
    #: Empty: nothing any longer.
    mix: str = Field(max_length=64)
    at_once: int | None = None
    wanted: float | None = Field(default=None, allow_inf_nan=False)


class MeasureBody(BaseModel):
    volume_id: int
    mix: str = Field(max_length=64)
    at_once: int | None = None
    beside: str | None = None
    pace: str = "gentle"


class MeasuredCompareBody(CompareBody):
    #: Keys of the layouts; without any, the first few.
    keys: list[str] = Field(default_factory=list, max_length=loads.MOST_LAYOUTS)
    #: A mix; empty for that of the workload.
    mix: str = Field(default="", max_length=64)


class LayoutMeasuredOut(BaseModel):
    key: str
    name: str
    #: What the layout is, in words.
    description: str
    whole: PlayedRatesOut
    estimate: EstimateOut
    #: The share of its time that the busiest drive worked.
    busiest: float
    degraded: PlayedRatesOut | None
    rebuild_hours: float | None
    rebuild_estimate: float | None
    rebuilding: PlayedRatesOut | None


class MeasuredCompareOut(BaseModel):
    mix: MixOut
    layouts: list[LayoutMeasuredOut]


def _mix_out(name: str) -> MixOut:
    mix = MIXES[name]
    return MixOut(
        id=mix.id, name=mix.name, about=mix.about, at_once=mix.at_once, reads=mix.reads,
        parts=[MixPartOut(**asdict(p)) for p in mix.parts],
    )  # fmt: skip


def _measured_out(found: dict[str, Any]) -> MeasuredOut:
    beside = found["beside"]
    named = {**beside, "name": JOBS[beside["kind"]].name} if beside else None
    return MeasuredOut.model_validate({**found, "beside": named})


@api.get("/mixes", responses={200: MixesOut})
@needs(Act.LOOK)
def mixes() -> Any:
    """The mixes of requests that can be played."""
    return MixesOut(mixes=[_mix_out(name) for name in MIXES], beside={k: JOBS[k].name for k in loads.BESIDE})


@api.get("/pools/<int:pool_id>/speed", responses={200: SpeedsOut})
@needs(Act.LOOK)
def speed(path: SpeedPath) -> Any:
    """What is played on a pool's volumes, and what was measured of it last."""
    with transaction() as session:
        return _speeds_out(loads.speeds_of(session, path.pool_id))


def _speeds_out(found: loads.Speeds) -> SpeedsOut:
    return SpeedsOut(
        plays=[PlayOut(**asdict(p)) for p in found.plays], at=found.at,
        found=_measured_out(found.found) if found.found else None, why_none=found.why_none,
    )  # fmt: skip


@api.post("/pools/<int:pool_id>/measure", responses={200: MeasuredOut})
@needs(Act.PREPARE, heavy=True)
def measure(path: SpeedPath, body: MeasureBody) -> Any:
    """Play a mix on a volume for a moment, and say what drives had to do for it. Nothing that is stored changes."""
    with transaction() as session:
        found = loads.measure_now(
            session, devices(), path.pool_id, body.volume_id, body.mix,
            at_once=body.at_once, beside=body.beside, pace=body.pace,
        )  # fmt: skip
    return _measured_out(found.kept())


@api.put("/stand-in/load", responses={200: SpeedsOut})
@needs(Act.WORK_STAND_INS)
def set_load(body: PlayBody) -> Any:
    """Play a mix on a volume from now on, or nothing any longer; what that makes drives do is recorded."""
    with transaction() as session:
        loads.set_play(session, body.volume_id, body.mix, signed_in().name, at_once=body.at_once, wanted=body.wanted)
        session.flush()
        return _speeds_out(loads.speeds_of(session, loads.pool_of(session, body.volume_id)))


@api.post("/compare/measured", responses={200: MeasuredCompareOut})
@needs(Act.LOOK, heavy=True)
def measured(body: MeasuredCompareBody) -> Any:
    """Run layouts against one another on the very same simulated drives, each whole, with a drive gone, and while that one
    is filled anew."""
    asked = drives_asked(body)
    question = body.question(asked.bays)
    mix, found = loads.measure_layouts(all_layouts(asked.drives, question), question, body.keys, body.mix)
    return MeasuredCompareOut(
        mix=_mix_out(mix.id),
        layouts=[
            LayoutMeasuredOut(
                key=c.candidate.key, name=trade_name(c.candidate.layout.scheme, len(c.candidate.layout.sets)), description=c.candidate.layout.describe(),
                **asdict(c.measured),
            )
            for c in found
        ],
    )  # fmt: skip
