"""When a drive counts as failing, or gives warning, by its readings."""

from __future__ import annotations

import datetime as dt
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from pairshelf.core.domain.drives import Kind
from pairshelf.core.errors import BadInput
from pairshelf.core.policies.scanning import judge_recovery, why_no_scan
from pairshelf.core.watching.failing import (
    LOOKED_BACK_AT,
    RULE,
    RULES,
    Health,
    Judged,
    Limits,
    RuleFacts,
    judge,
    scanned_since,
)
from pairshelf.core.watching.readings import READING, READINGS, readings_of
from pairshelf.core.watching.series import SERIES

#: A drive of each kind of which nothing is to be said.
WELL = {
    Kind.HDD: {"verdict": 0, "reassigned": 2, "pending": 0, "uncorrectable": 0, "link-errors": 4, "temperature": 31,
               "hours": 9000, "written": 700},
    Kind.SSD: {"verdict": 0, "reassigned": 0, "pending": 0, "uncorrectable": 0, "link-errors": 0, "temperature": 35,
               "hours": 9000, "written": 700, "wear": 20, "spare": 100, "spare-threshold": 10},
    Kind.NVME: {"verdict": 0, "media-errors": 3, "temperature": 41, "hours": 9000, "written": 700, "wear": 20, "spare": 98,
                "spare-threshold": 10},
}  # fmt: skip


def judged(
    kind: Kind, told: dict[str, int], *, ago: dict[str, int] | None = None, most: float | None = 60, scanned: bool = False,
    limits: Limits | None = None,
) -> Judged:  # fmt: skip
    """One drive, as if many were judged."""
    before = {"reassigned": 2, "media-errors": 3, "link-errors": 4} if ago is None else ago

    def column(value: float | None) -> np.ndarray:
        return np.array([np.nan if value is None else value], np.float64)

    facts = RuleFacts(
        {r.id: column(told.get(r.id)) for r in readings_of(kind)},
        {(reading, days): column(before.get(reading)) for reading, days in LOOKED_BACK_AT},
        column(most), np.array([scanned]),
    )  # fmt: skip
    (found,) = judge(kind, facts, limits or Limits())
    return found


@pytest.mark.parametrize("kind", Kind)
def test_a_drive_that_is_well(kind: Kind) -> None:
    assert judged(kind, WELL[kind]) == Judged(Health.WELL)


@pytest.mark.parametrize(
    ("kind", "told", "nearly", "more", "rule", "level", "says"),
    [
        (Kind.HDD, {"verdict": 1}, {}, {}, "verdict", Health.FAILING, "it says itself"),
        (Kind.HDD, {"pending": 1}, {}, {}, "unscanned", Health.WARNS, "1 sector cannot be read; a surface scan tells"),
        (Kind.SSD, {"uncorrectable": 2}, {}, {}, "unscanned", Health.WARNS, "2 sectors cannot be read; a surface scan tells"),
        (Kind.HDD, {"pending": 2, "uncorrectable": 3}, {}, {"scanned": True}, "unreadable", Health.FAILING,
         "3 sectors cannot be read, and a surface scan has not changed that"),
        (Kind.HDD, {"reassigned": 51}, {"reassigned": 50}, {"ago": {"reassigned": 50}}, "reassigned", Health.FAILING,
         "51 sectors reassigned, more than 50"),
        (Kind.HDD, {"reassigned": 8}, {"reassigned": 7}, {}, "reassigned-week", Health.FAILING,
         "6 sectors reassigned within a week, more than 5"),
        (Kind.SSD, {"spare": 10}, {"spare": 11}, {}, "spare", Health.FAILING, "at the least that its maker allows"),
        (Kind.NVME, {"spare": 4}, {"spare": 11}, {}, "spare", Health.FAILING, "below the least that its maker allows"),
        (Kind.NVME, {"wear": 95}, {"wear": 94}, {}, "wear", Health.FAILING, "95 % of its rated writing is used"),
        (Kind.NVME, {"media-errors": 4}, {}, {}, "media-errors-week", Health.FAILING, "1 media error within a week"),
        (Kind.HDD, {"link-errors": 15}, {"link-errors": 14}, {}, "link-errors-day", Health.WARNS,
         "11 interface errors within a day, more than 10: look at its cable"),
        (Kind.HDD, {"temperature": 56}, {"temperature": 55}, {}, "temperature", Health.WARNS, "it is 4 °C below its maker's limit"),
        (Kind.SSD, {"temperature": 60}, {"temperature": 55}, {}, "temperature", Health.WARNS, "it is at its maker's limit"),
        (Kind.NVME, {"temperature": 63}, {"temperature": 55}, {}, "temperature", Health.WARNS, "it is 3 °C above its maker's limit"),
    ],
)  # fmt: skip
def test_each_rule_just_beyond_its_limit_and_just_not(
    kind: Kind, told: dict[str, int], nearly: dict[str, int], more: dict[str, Any], rule: str, level: Health, says: str
) -> None:
    found = judged(kind, WELL[kind] | told, **more)
    assert [r.rule for r in found.reasons] == [rule]
    assert found.level is level and says in found.sentence
    assert judged(kind, WELL[kind] | nearly, **more).level is Health.WELL
    # Switched off, it finds nothing.
    assert judged(kind, WELL[kind] | told, limits=Limits({(kind, rule): None}), **more).level is Health.WELL


@pytest.mark.parametrize("kind", Kind)
def test_what_was_never_taken_is_unknown_and_never_good(kind: Kind) -> None:
    assert judged(kind, {}, ago={}, most=None) == Judged(Health.UNKNOWN)
    # No limit of temperature, nothing of a week ago: nothing is found, and nothing is made up.
    hot = {**WELL[kind], "temperature": 90, "reassigned": 40, "media-errors": 40, "link-errors": 400}
    assert judged(kind, {k: v for k, v in hot.items() if k in WELL[kind]}, ago={}, most=None).level is Health.WELL


@given(
    st.sampled_from(list(Kind)),
    st.dictionaries(st.sampled_from([r.id for r in READINGS]), st.integers(0, 200)),
    st.dictionaries(st.sampled_from(["reassigned", "media-errors", "link-errors"]), st.integers(0, 200)),
    st.booleans(), st.integers(20, 90),
)  # fmt: skip
def test_many_side_by_side_are_judged_as_each_by_itself(
    kind: Kind, told: dict[str, int], ago: dict[str, int], scanned: bool, most: int
) -> None:
    told = {k: v for k, v in told.items() if kind in READING[k].kinds}
    one = judged(kind, told, ago=ago, scanned=scanned, most=most)
    other = judged(kind, WELL[kind])
    names = readings_of(kind)
    both = RuleFacts(
        {r.id: np.array([told.get(r.id, np.nan), WELL[kind].get(r.id, np.nan)], np.float64) for r in names},
        {(r, d): np.array([ago.get(r, np.nan), {"reassigned": 2, "media-errors": 3, "link-errors": 4}[r]]) for r, d in LOOKED_BACK_AT},
        np.array([most, 60.0]), np.array([scanned, False]),
    )  # fmt: skip
    assert list(judge(kind, both, Limits())) == [one, other]
    assert one.level == max((r.level for r in one.reasons), default=Health.WELL if told else Health.UNKNOWN)
    # The gravest reason is said first.
    assert [r.level for r in one.reasons] == sorted((r.level for r in one.reasons), reverse=True)


def test_limits_are_kept_for_each_kind_and_refused_where_they_make_no_sense() -> None:
    limits = Limits().with_one(Kind.HDD, "reassigned", 10).with_one(Kind.SSD, "wear", None)
    assert limits.of(Kind.HDD, RULE["reassigned"]) == 10 and limits.of(Kind.SSD, RULE["reassigned"]) == 50
    assert not limits.holds(Kind.SSD, "wear") and limits.holds(Kind.NVME, "wear")
    assert (
        judged(Kind.HDD, {**WELL[Kind.HDD], "reassigned": 11}, ago={"reassigned": 11}, limits=limits).level
        is Health.FAILING
    )
    # Back to the usual one, nothing is kept.
    assert limits.with_one(Kind.HDD, "reassigned", 50).with_one(Kind.SSD, "wear", 95) == Limits()
    for kind, rule, limit, field in (
        (Kind.HDD, "wear", 90.0, "rule"), (Kind.HDD, "colour", 1.0, "rule"), (Kind.SSD, "wear", 101.0, "limit"),
        (Kind.SSD, "wear", -1.0, "limit"), (Kind.HDD, "verdict", 3.0, "limit"), (Kind.HDD, "reassigned", float("nan"), "limit"),
    ):  # fmt: skip
        with pytest.raises(BadInput) as told:
            Limits().with_one(kind, rule, limit)
        assert told.value.field == field


def test_every_rule_is_of_a_reading_that_its_kinds_report_and_every_reading_says_what_it_means() -> None:
    for rule in RULES:
        assert rule.kinds <= READING[rule.reading].kinds and rule.level in (Health.WARNS, Health.FAILING)
    assert [r.id for r in RULES if r.of_link] == ["link-errors-day"]
    for reading in READINGS:
        assert len(reading.means) > 30
        assert all(reading.standard(kind) for kind in reading.kinds)
        if reading.series is not None:
            assert reading.series.worth == reading.worth and reading.series.unit == reading.unit
    of_readings = {s.id.removeprefix("drive-") for s in SERIES if 6 < s.number <= 16}
    assert of_readings == {r.id for r in READINGS if r.series}


@pytest.mark.parametrize(
    ("limit", "in_pool", "bears", "well", "better", "says"),
    [
        (None, True, 1, False, 7.0, "without a limit, and the whole set waits"),
        (120.0, True, 2, False, 7.0, "for up to 120 s"),
        (30.0, True, 1, True, None, "gives up on a bad sector after 30 s; the others"),
        (7.0, True, 0, False, None, "no other drive has what stands there"),
        (None, True, 0, True, None, "as long as it takes"),
    ],
)
def test_an_error_recovery_limit_is_judged_by_what_the_pool_bears(
    limit: float | None, in_pool: bool, bears: int, well: bool, better: float | None, says: str
) -> None:
    found = judge_recovery(limit, rotates=True, in_pool=in_pool, bears=bears)
    assert found is not None
    assert (found.well, found.better) == (well, better) and says in found.sentence
    assert judge_recovery(limit, rotates=False, in_pool=in_pool, bears=bears) is None
    assert judge_recovery(limit, rotates=True, in_pool=False, bears=bears) is None


def test_when_a_surface_is_not_scanned() -> None:
    assert why_no_scan("healthy", synced=True) is None and why_no_scan("degraded", synced=True) is None
    assert [why_no_scan(state, synced=True)[0] for state in ("lost", "unreachable")] == ["not-serving"] * 2  # type: ignore[index]
    assert why_no_scan("healthy", synced=False)[0] == "not-synced"  # type: ignore[index]


def test_a_scan_counts_where_it_began_after_sectors_went_bad_or_found_them_itself() -> None:
    t = [dt.datetime(2026, 3, day, tzinfo=dt.UTC) for day in range(1, 6)]
    assert scanned_since(t[1], t[1], t[2], 0) and scanned_since(t[1], t[2], t[3], 2)
    # Seen only while it was being read, and still there at its end.
    assert scanned_since(t[1], t[0], t[2], 1)
    # Bad only behind what had been read; or after a scan that had found others.
    assert not scanned_since(t[1], t[0], t[2], 0) and not scanned_since(t[3], t[0], t[2], 1)
    assert not scanned_since(None, t[0], t[1], 1) and not scanned_since(t[0], None, None, 0)
