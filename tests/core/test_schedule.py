"""When checks and scans are due by the calendar."""

from __future__ import annotations

import datetime as dt
from itertools import pairwise
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pairshelf.core.errors import BadInput
from pairshelf.core.policies.schedule import Recurrence, require_known
from pairshelf.formats.calendar_ics import Recurring, write_calendar

ZONES = (
    "UTC",
    "Europe/Paris",
    "America/New_York",
    "Australia/Lord_Howe",
    "Asia/Kolkata",
    "America/Sao_Paulo",
    "Pacific/Apia",
)
#: From 2020 to 2040.
moments = st.integers(1_577_836_800, 2_208_988_800).map(lambda second: dt.datetime.fromtimestamp(second, dt.UTC))
recurrences = st.builds(
    lambda day, minute, zone, weeks, which: Recurrence(day, minute, zone, None if which else weeks, which),
    st.integers(0, 6), st.integers(0, 1439), st.sampled_from(ZONES), st.integers(1, 26), st.sampled_from([None, 1, 2, 3, 4, -1]),
)  # fmt: skip


def times(one: Recurrence, begun: dt.datetime, count: int) -> list[dt.datetime]:
    found, at = [], begun
    for _ in range(count):
        at = one.next_after(at, begun)
        found.append(at)
    return found


@given(recurrences, moments)
@settings(max_examples=150)
def test_it_comes_again_and_again_on_its_day_at_its_time_by_the_clock_on_the_wall(
    one: Recurrence, begun: dt.datetime
) -> None:
    found = times(one, begun, 12)
    assert found == sorted(set(found)) and found[0] > begun
    zone = ZoneInfo(one.zone)
    local = [at.astimezone(zone) for at in found]
    for at in local:
        wanted = at.replace(hour=one.minute // 60, minute=one.minute % 60)
        # Where the clock leaves that time out, it is later by what was left out; never on another weekday but over midnight.
        jumps = wanted.astimezone(dt.UTC).astimezone(zone).replace(tzinfo=None) != wanted.replace(tzinfo=None)
        assert (
            (at.hour * 60 + at.minute == one.minute and at.weekday() == one.day)
            or jumps
            or at.utcoffset() != (at - dt.timedelta(days=1)).astimezone(zone).utcoffset()
        )
    days = [b.date() - a.date() for a, b in pairwise(local)]
    if one.weeks is not None:
        assert all(abs(d.days - 7 * one.weeks) <= 1 for d in days)
    else:
        assert all(27 <= d.days <= 36 for d in days)
        assert len({(at.year, at.month) for at in local}) >= len(local) - 1


@given(recurrences, moments, st.integers(0, 400 * 86400))
@settings(max_examples=100)
def test_whenever_it_is_asked_the_next_one_is_one_of_its_times(one: Recurrence, begun: dt.datetime, later: int) -> None:
    """Clocks jump and workers sleep: the phase of every other week stays what it was."""
    moment = begun + dt.timedelta(seconds=later)
    at = one.next_after(moment, begun)
    assert at > moment
    before, every = begun, []
    while before < at:
        before = one.next_after(before, begun)
        every.append(before)
    assert at == every[-1] and all(other <= moment for other in every[:-1])


def test_in_spring_a_time_that_is_left_out_comes_an_hour_later_and_in_autumn_it_comes_once() -> None:
    one = Recurrence(6, 150, "Europe/Paris", weeks=1)
    begun = dt.datetime(2026, 3, 23, tzinfo=dt.UTC)
    assert times(one, begun, 2) == [
        dt.datetime(2026, 3, 29, 1, 30, tzinfo=dt.UTC), dt.datetime(2026, 4, 5, 0, 30, tzinfo=dt.UTC),
    ]  # fmt: skip
    begun = dt.datetime(2026, 10, 19, tzinfo=dt.UTC)
    assert times(one, begun, 2) == [
        dt.datetime(2026, 10, 25, 0, 30, tzinfo=dt.UTC), dt.datetime(2026, 11, 1, 1, 30, tzinfo=dt.UTC),
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("given_", "field"),
    [
        ((7, 0, "UTC"), "day"), ((-1, 0, "UTC"), "day"), ((0, 1440, "UTC"), "minute"), ((0, 0, "Moon/Far_Side"), "zone"),
        ((0, 0, "UTC", 0), "weeks"), ((0, 0, "UTC", 27), "weeks"), ((0, 0, "UTC", None, 5), "which"),
        ((0, 0, "UTC", 2, 1), "weeks"), ((0, 0, "UTC", None, None), "weeks"),
    ],
)  # fmt: skip
def test_what_no_calendar_has_is_refused(given_: tuple[object, ...], field: str) -> None:
    with pytest.raises(BadInput) as told:
        Recurrence(*given_)  # type: ignore[arg-type]
    assert told.value.field == field


def test_what_is_not_done_by_schedule_is_refused() -> None:
    for what, pace, field in (("wipe", "gentle", "what"), ("check", "hasty", "pace")):
        with pytest.raises(BadInput) as told:
            require_known(what, pace)
        assert told.value.field == field


@given(recurrences, moments)
@settings(max_examples=40)
def test_a_calendar_program_sees_the_same_times(one: Recurrence, begun: dt.datetime) -> None:
    """Read back by the library's own reader: the rule, the zone and the first time give the times that are kept."""
    from dateutil.rrule import rrulestr
    from icalendar import Calendar

    planned = Recurring(
        "check-1@there", "Check of the archive, gentle; and more", "Line\none, two", one.first(begun), one.zone, one.rule,
        5400.0, "http://there/pools/1", begun,
    )  # fmt: skip
    content = write_calendar("Pair Shelf", [planned], begun)
    assert all(len(line) <= 75 for line in content.split(b"\r\n"))
    calendar = Calendar.from_ical(content)
    (event,) = calendar.walk("VEVENT")
    assert event["summary"] == planned.title and event["description"] == planned.about
    start = event["dtstart"].dt
    rule = rrulestr(event["rrule"].to_ical().decode(), dtstart=start.replace(tzinfo=None))
    seen = [at.replace(tzinfo=ZoneInfo(one.zone)).astimezone(dt.UTC) for at in list(rule[:9])]
    assert [at for at in seen if at > begun][:8] == times(one, begun, 8)
    assert event["duration"].dt == dt.timedelta(minutes=90)
    if one.zone != "UTC":
        assert [z["tzid"] for z in calendar.walk("VTIMEZONE")] == [one.zone]
