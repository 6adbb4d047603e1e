"""When checks and surface scans are due: recurrences by the calendar of a place, as RFC 5545 has them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache
from types import MappingProxyType
from typing import Any, cast
from zoneinfo import ZoneInfo, available_timezones

from dateutil.rrule import MONTHLY, WEEKLY, rrule, weekday

from pairshelf.core.errors import BadInput

DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
_SHORT = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")
#: What can be done by schedule, and what it is called.
WHAT = MappingProxyType({"check": "Check", "scan": "Surface scan"})
PACES = ("gentle", "fast")
#: Weeks between two times at most.
MOST_WEEKS = 26
_WHICH = {1: "first", 2: "second", 3: "third", 4: "fourth", -1: "last"}


@dataclass(frozen=True, slots=True)
class Recurrence:
    """Every so many weeks on a day, or every month on the first, second, third, fourth or last such day; at a time by the
    clock of a place."""

    #: 0 for Monday to 6 for Sunday.
    day: int
    #: Minutes after midnight.
    minute: int
    zone: str
    #: Weeks between two; or None: by the month.
    weeks: int | None = 1
    #: Of a month: which of its days, 1 to 4, or -1 for the last.
    which: int | None = None

    def __post_init__(self) -> None:
        """BadInput for what no calendar has, naming the field."""
        if not 0 <= self.day <= 6:
            raise BadInput("Days are from 0 for Monday to 6 for Sunday.", field="day")
        if not 0 <= self.minute < 24 * 60:
            raise BadInput("A day has minutes 0 to 1439.", field="minute")
        require_zone(self.zone)
        if (self.weeks is None) == (self.which is None):
            raise BadInput("Say how many weeks, or which such day of a month.", field="weeks")
        if self.weeks is not None and not 1 <= self.weeks <= MOST_WEEKS:
            raise BadInput(f"From 1 to {MOST_WEEKS} weeks.", field="weeks")
        if self.which is not None and self.which not in _WHICH:
            raise BadInput("The first, second, third, fourth (1 to 4) or last (-1) of a month.", field="which")

    @property
    def words(self) -> str:
        """In words: every 2nd week on Sunday at 02:00."""
        at = f"{self.minute // 60:02}:{self.minute % 60:02}"
        day = DAYS[self.day]
        if self.which is not None:
            return f"on the {_WHICH[self.which]} {day} of every month at {at} ({self.zone})"
        often = "every week" if self.weeks == 1 else f"every {self.weeks} weeks"
        return f"{often} on {day} at {at} ({self.zone})"

    def first(self, begun: dt.datetime) -> dt.datetime:
        """The first time at or after it was begun; in local time, without a zone."""
        return cast("dt.datetime", next(iter(self._rule(begun))))

    def _rule(self, begun: dt.datetime) -> rrule:
        """All times from when it was begun on, by the clock on the wall."""
        local = begun.astimezone(ZoneInfo(self.zone)).replace(tzinfo=None)
        start = local.replace(hour=self.minute // 60, minute=self.minute % 60, second=0, microsecond=0)
        if start < local:
            start += dt.timedelta(days=1)
        if self.which is not None:
            return rrule(MONTHLY, dtstart=start, byweekday=weekday(self.day, self.which))
        start += dt.timedelta(days=(self.day - start.weekday()) % 7)
        return rrule(WEEKLY, dtstart=start, interval=self.weeks or 1, byweekday=self.day)

    def next_after(self, moment: dt.datetime, begun: dt.datetime) -> dt.datetime:
        """The next time after a moment (UTC). A time that the clock leaves out in spring is the one an hour later; one that
        comes twice in autumn is the first."""
        zone = ZoneInfo(self.zone)
        # A day back: what the clock on the wall says may lie before what it said an hour ago.
        wall = moment.astimezone(zone).replace(tzinfo=None) - dt.timedelta(days=1)
        rule = self._rule(begun)
        found = cast("dt.datetime | None", rule.after(wall, inc=True))
        while found is not None:
            at = found.replace(tzinfo=zone).astimezone(dt.UTC)
            if at > moment:
                return at
            found = cast("dt.datetime | None", rule.after(found))
        raise BadInput("It never comes.", field="day")

    @property
    def rule(self) -> Mapping[str, Any]:
        """As RFC 5545 writes it, part by part."""
        if self.which is not None:
            return {"freq": "monthly", "byday": f"{self.which}{_SHORT[self.day]}"}
        return {"freq": "weekly", "interval": self.weeks, "byday": _SHORT[self.day]}


@lru_cache
def _zones() -> frozenset[str]:
    return frozenset(available_timezones())


def require_zone(name: str) -> None:
    """BadInput for what is no time zone."""
    if name not in _zones():
        raise BadInput(f"“{name}” is no time zone; write one such as Europe/Paris, or UTC.", field="zone")


def require_known(what: str, pace: str) -> None:
    """BadInput for what is not done by schedule, or a pace there is not."""
    if what not in WHAT:
        raise BadInput(f"By schedule there are {', '.join(WHAT)}.", field="what")
    if pace not in PACES:
        raise BadInput(f"The pace is {' or '.join(PACES)}.", field="pace")
