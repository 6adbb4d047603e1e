"""Histories: what was recorded of pools, volumes and drives, as points and as a list; and thresholds."""

from __future__ import annotations

import csv
import datetime as dt
import io
from typing import Any

from flask import Response
from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field

from pairshelf.api.guard import needs, signed_in
from pairshelf.api.queries import Query
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.names import file_name
from pairshelf.core.errors import BadInput
from pairshelf.core.watching.series import SERIES, series_named
from pairshelf.core.watching.thresholds import Thresholds
from pairshelf.services import watching
from pairshelf.services.watching import LONGEST_HOURS, History, history_of
from pairshelf.store.database import transaction

api = APIBlueprint("histories", __name__, url_prefix="/api")


class HistoryQuery(Query):
    series: str = Field(max_length=64)
    #: The number of the pool, volume or drive.
    of: int = Field(ge=1, lt=2**31)
    hours: float = Field(default=24, gt=0, le=LONGEST_HOURS)
    #: The end; now, if left out.
    until: dt.datetime | None = None


class PointOut(BaseModel):
    at: dt.datetime
    low: float
    high: float
    mean: float
    #: Rounds that it is made of.
    count: int


class HistoryOut(BaseModel):
    series: str
    label: str
    about: str
    unit: str
    #: What it is of, in words.
    of: str
    #: round, minute, hour or day: what a point stands for; and how many seconds that is.
    grain: str
    seconds: int
    begin: dt.datetime
    end: dt.datetime
    points: list[PointOut]
    #: What would be full, in the unit, where that makes sense.
    full_at: float | None


class SeriesOut(BaseModel):
    id: str
    subject: str
    label: str
    unit: str
    about: str


class AllSeriesOut(BaseModel):
    series: list[SeriesOut]
    #: Bytes that all histories take after ten years, with as much to watch as now.
    bytes_in_ten_years: int
    bytes_now: int


class ThresholdsBody(BaseModel):
    tell: float = Field(allow_inf_nan=False)
    urgent: float = Field(allow_inf_nan=False)


class ThresholdsOut(BaseModel):
    tell: float
    urgent: float


class WatchedPool(BaseModel):
    pool_id: int


class WatchedVolume(BaseModel):
    volume_id: int


def _asked(query: HistoryQuery) -> History:
    series = series_named(query.series)
    if query.until is not None and query.until.tzinfo is None:
        raise BadInput("Say the time zone of the end, as in 2026-11-27T12:00:00Z.", field="until")
    try:
        span = dt.timedelta(hours=query.hours)
        with transaction() as session:
            return history_of(session, series, query.of, span, query.until)
    except OverflowError:
        raise BadInput("There is no such time.", field="until") from None


@api.get("/history", responses={200: HistoryOut})
@needs(Act.LOOK)
def history(query: HistoryQuery) -> Any:
    """What was recorded of a pool, a volume or a drive, in as many points as a chart shows."""
    found = _asked(query)
    series = found.series
    return HistoryOut(
        series=series.id, label=series.label, about=series.about, unit=series.unit, of=found.of, grain=found.grain.id,
        seconds=found.grain.seconds, begin=found.begin, end=found.end, full_at=found.full_at,
        points=[
            PointOut(at=p.at, low=p.low * series.worth, high=p.high * series.worth, mean=p.mean * series.worth, count=p.count)
            for p in found.points
        ],
    )  # fmt: skip


@api.get("/history.csv", responses={200: None})
@needs(Act.LOOK)
def history_csv(query: HistoryQuery) -> Any:
    """The same as a list for a spreadsheet (RFC 4180)."""
    found = _asked(query)
    series, text = found.series, io.StringIO()
    lines = csv.writer(text, lineterminator="\r\n")
    lines.writerow(
        ["begins at (UTC)", "seconds", *(f"{w} ({series.unit})" for w in ("mean", "lowest", "highest")), "rounds"]
    )
    for p in found.points:
        at = p.at.astimezone(dt.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
        lines.writerow(
            [
                at,
                found.grain.seconds,
                f"{p.mean * series.worth:.0f}",
                p.low * series.worth,
                p.high * series.worth,
                p.count,
            ]
        )
    name = f"{series.id}-of-{file_name(found.of)}.csv"
    return Response(
        text.getvalue(), content_type="text/csv; charset=utf-8",
        headers={"Content-Disposition": f'attachment; filename="{name}"'},
    )  # fmt: skip


@api.get("/series", responses={200: AllSeriesOut})
@needs(Act.LOOK)
def series() -> Any:
    """All that is recorded, and how much room that takes."""
    with transaction() as session:
        now, later = watching.room_of_histories(session)
    return AllSeriesOut(
        series=[SeriesOut(id=s.id, subject=s.subject.value, label=s.label, unit=s.unit, about=s.about) for s in SERIES],
        bytes_in_ten_years=later, bytes_now=now,
    )  # fmt: skip


def _set(body: ThresholdsBody, **of: int) -> ThresholdsOut:
    with transaction() as session:
        kept = watching.set_thresholds(session, signed_in().name, Thresholds(body.tell, body.urgent), **of)
    return ThresholdsOut(tell=kept.tell, urgent=kept.urgent)


@api.put("/pools/<int:pool_id>/thresholds", responses={200: ThresholdsOut})
@needs(Act.PREPARE)
def pool_thresholds(path: WatchedPool, body: ThresholdsBody) -> Any:
    """Say at which share of what is written under thin volumes a person is told of a pool."""
    return _set(body, pool_id=path.pool_id)


@api.put("/volumes/<int:volume_id>/thresholds", responses={200: ThresholdsOut})
@needs(Act.PREPARE)
def volume_thresholds(path: WatchedVolume, body: ThresholdsBody) -> Any:
    """Say at which share of what files take a person is told of a volume."""
    return _set(body, volume_id=path.volume_id)
