"""What is planned, for any calendar program: iCalendar (RFC 5545)."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any
from zoneinfo import ZoneInfo

from icalendar import Calendar, Event

MEDIA_TYPE = "text/calendar; charset=utf-8"


@dataclass(frozen=True, slots=True)
class Recurring:
    """Something that recurs."""

    #: What it is known by for good.
    uid: str
    title: str
    about: str
    #: Its first time by the clock of its place.
    first: dt.datetime
    zone: str
    #: How it recurs, part by part (RFC 5545, 3.3.10).
    rule: Mapping[str, Any]
    seconds: float
    url: str
    #: When it was set so.
    changed: dt.datetime


def write_calendar(name: str, planned: Sequence[Recurring], at: dt.datetime) -> bytes:
    """The calendar of that name; ``at``: when it is written."""
    calendar = Calendar()
    calendar.add("prodid", "-//Pair Shelf//what is planned//EN")
    calendar.add("version", "2.0")
    calendar.add("method", "PUBLISH")
    calendar.add("x-wr-calname", name)
    calendar.add("refresh-interval", dt.timedelta(hours=6), parameters={"VALUE": "DURATION"})
    for one in planned:
        event = Event()
        event.add("uid", one.uid)
        event.add("dtstamp", at.astimezone(dt.UTC))
        event.add("last-modified", one.changed.astimezone(dt.UTC))
        start = one.first.replace(tzinfo=ZoneInfo(one.zone))
        event.add("dtstart", start)
        event.add("duration", dt.timedelta(minutes=max(15, round(one.seconds / 60))))
        event.add("rrule", dict(one.rule))
        event.add("summary", one.title)
        event.add("description", one.about)
        event.add("url", one.url)
        # It takes nobody's time.
        event.add("transp", "TRANSPARENT")
        calendar.add_component(event)
    calendar.add_missing_timezones()
    return bytes(calendar.to_ical())
