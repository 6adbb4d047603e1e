"""When something will be full: a least-squares line over recorded use, with its interval (rules: thin volumes)."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from statistics import NormalDist

import numpy as np

#: Days that have to be recorded before a date is given.
LEAST_DAYS = 7
#: Days looked back at: what grew last year says little of next month.
LOOK_BACK = 90
#: A date further away than this is not given.
HORIZON = dt.timedelta(days=3653)
#: How sure the interval is.
SURE = 0.95


@dataclass(frozen=True, slots=True)
class Outlook:
    """When something will be full, or why that is not said."""

    #: Units a day; None before there are enough days.
    growth: float | None = None
    at: dt.datetime | None = None
    #: The interval, 95 %; the later end is None where it may never be full.
    earliest: dt.datetime | None = None
    latest: dt.datetime | None = None
    #: Days recorded.
    days: int = 0
    why_none: str | None = None


def student(dof: int, sure: float = SURE) -> float:
    """Student's t, two-sided, from the normal quantile (Abramowitz and Stegun, 26.7.5); within 0.2 % from 5 degrees
    of freedom on."""
    z: float = NormalDist().inv_cdf((1 + sure) / 2)
    powers: list[float] = [z**n for n in range(10)]
    terms = (
        (powers[3] + z) / 4,
        (5 * powers[5] + 16 * powers[3] + 3 * z) / 96,
        (3 * powers[7] + 19 * powers[5] + 17 * powers[3] - 15 * z) / 384,
        (79 * powers[9] + 776 * powers[7] + 1482 * powers[5] - 1920 * powers[3] - 945 * z) / 92160,
    )
    return z + sum((term / dof ** (n + 1) for n, term in enumerate(terms)), 0.0)


def outlook(points: Sequence[tuple[dt.datetime, float]], full_at: float, now: dt.datetime) -> Outlook:
    """When use reaches ``full_at``, in the same unit, from a point a day: (day, use).

    The line is the least-squares one; the interval is where a further day's use may lie, by Student's t. Never on
    fewer than a week of days; none where use does not grow, where it is full already, or further off than ten years.
    """
    since = now - dt.timedelta(days=LOOK_BACK)
    recent = sorted({p[0].date(): p for p in points if p[0] > since}.values())
    days = len(recent)
    if days < LEAST_DAYS:
        return Outlook(days=days, why_none=f"said from {LEAST_DAYS} recorded days on, {days} so far")
    x = np.array([(at - now).total_seconds() / 86400 for at, _ in recent])
    y = np.array([use for _, use in recent])
    middle, spread = float(x.mean()), float(((x - x.mean()) ** 2).sum())
    slope = float(((x - middle) * (y - y.mean())).sum()) / spread
    level = float(y.mean()) - slope * middle
    if y[-1] >= full_at:
        return Outlook(slope, days=days, why_none="it is full")
    if slope * LOOK_BACK < full_at * 1e-6:
        return Outlook(slope, days=days, why_none="it does not grow")
    error = math.sqrt(float(((y - level - slope * x) ** 2).sum()) / (days - 2))
    reach = (full_at - level) / slope
    if reach > HORIZON.days:
        return Outlook(slope, days=days, why_none="not within ten years")
    wide = student(days - 2) * error

    def may_be(x: float, side: int) -> float:
        return level + slope * x + side * wide * math.sqrt(1 + 1 / days + (x - middle) ** 2 / spread)

    def day(x: float) -> dt.datetime:
        return now + dt.timedelta(days=max(0.0, x))

    early = _crossing(lambda x: may_be(x, 1) - full_at, 0.0, max(0.0, reach))
    late = _crossing(lambda x: may_be(x, -1) - full_at, max(0.0, reach), float(HORIZON.days))
    return Outlook(
        slope, day(reach), day(early or 0.0) if early is not None else day(reach),
        None if late is None else day(late), days,
    )  # fmt: skip


def _crossing(above: Callable[[float], float], low: float, high: float) -> float | None:
    """Where a function first comes to 0 or above, to an hour; None where it does not by ``high``."""
    if above(low) >= 0:
        return low
    if above(high) < 0:
        return None
    while high - low > 1 / 24:
        middle = (low + high) / 2
        low, high = (low, middle) if above(middle) >= 0 else (middle, high)
    return high
