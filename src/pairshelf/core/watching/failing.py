"""When a drive counts as failing, or gives warning: rules on its readings that can be seen and changed for each kind
(rules: readings). A reading that was never taken is unknown: no rule finds anything in it, and none finds it good."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from enum import IntEnum
from typing import Any

import numpy as np
from numpy.typing import NDArray

from pairshelf.core.domain.drives import Kind
from pairshelf.core.errors import BadInput
from pairshelf.core.watching.readings import ALL, FLASH

Array = NDArray[np.float64]

WEEK, DAY = 7, 1


class Health(IntEnum):
    """What readings say of a drive."""

    #: None has been taken.
    UNKNOWN = 0
    WELL = 1
    #: Something is to be looked at; the drive itself is not given up.
    WARNS = 2
    #: Replace it while it can be copied.
    FAILING = 3

    @property
    def word(self) -> str:
        """As screens say it."""
        return self.name.lower()


@dataclass(frozen=True, slots=True)
class RuleFacts:
    """What rules look at, of drives of one kind side by side. NaN: not known."""

    #: By reading.
    now: Mapping[str, Array]
    #: By reading and days: what it was so long ago, or, of one that is known for less long, at first.
    then: Mapping[tuple[str, int], Array]
    #: Degrees Celsius that their makers allow.
    most_celsius: Array
    #: Whether the whole surface was read since sectors could first not be.
    scanned: NDArray[np.bool_]

    @property
    def count(self) -> int:
        """Drives."""
        return len(self.scanned)

    def grown(self, reading: str, days: int) -> Array:
        """By how much a reading has grown in so many days."""
        return self.now[reading] - self.then[reading, days]


def unread(facts: RuleFacts) -> Array:
    """Sectors that cannot be read; NaN of drives that do not tell."""
    nothing = np.full(facts.count, np.nan)
    return np.fmax(facts.now.get("pending", nothing), facts.now.get("uncorrectable", nothing))


def _where(facts: RuleFacts, scanned: bool) -> Array:
    return np.where(facts.scanned == scanned, unread(facts), np.nan)


def _sectors(count: float) -> str:
    return f"{count:.0f} sector{'s' if count != 1 else ''}"


@dataclass(frozen=True, slots=True)
class Rule:
    """One rule. ``measure`` is held against the limit; where it is beyond, the drive is on the level."""

    id: str
    label: str
    #: The reading that it is shown with.
    reading: str
    kinds: frozenset[Kind]
    level: Health
    #: The limit unless changed, and what it is in; empty: yes or no, which can only be switched off.
    usual: float
    unit: str
    #: above, at least, at most, below
    beyond: str
    measure: Callable[[RuleFacts], Array]
    said: Callable[[float, float], str]
    #: It tells of the link, not of the drive.
    of_link: bool = False

    def finds(self, facts: RuleFacts, limit: float) -> tuple[NDArray[np.bool_], Array]:
        """Which of the drives are beyond the limit, and what was measured."""
        value = self.measure(facts)
        with np.errstate(invalid="ignore"):
            return _BEYOND[self.beyond](value, limit), value


_BEYOND: dict[str, Callable[[Any, float], Any]] = {
    "above": np.greater, "at least": np.greater_equal, "at most": np.less_equal, "below": np.less,
}  # fmt: skip

_ATA = frozenset({Kind.HDD, Kind.SSD})

RULES = (
    Rule("verdict", "the drive itself says that it is failing", "verdict", ALL, Health.FAILING, 0, "", "above",
         lambda f: f.now["verdict"], lambda _v, _l: "it says itself that it is failing"),
    Rule("unreadable", "sectors that cannot be read, after a surface scan", "pending", _ATA, Health.FAILING, 0, "count", "above",
         lambda f: _where(f, True), lambda v, _: f"{_sectors(v)} cannot be read, and a surface scan has not changed that"),
    Rule("unscanned", "sectors that cannot be read, not scanned since", "pending", _ATA, Health.WARNS, 0, "count", "above",
         lambda f: _where(f, False), lambda v, _: f"{_sectors(v)} cannot be read; a surface scan tells whether that stays"),
    Rule("reassigned", "reassigned sectors", "reassigned", _ATA, Health.FAILING, 50, "count", "above",
         lambda f: f.now["reassigned"], lambda v, n: f"{_sectors(v)} reassigned, more than {n:g}"),
    Rule("reassigned-week", "reassigned sectors, more within a week", "reassigned", _ATA, Health.FAILING, 5, "count", "above",
         lambda f: f.grown("reassigned", WEEK), lambda v, n: f"{_sectors(v)} reassigned within a week, more than {n:g}"),
    Rule("spare", "spare left, above its maker's least", "spare", FLASH, Health.FAILING, 0, "%", "at most",
         lambda f: f.now["spare"] - f.now["spare-threshold"],
         lambda v, _: f"its spare cells are {'at' if v == 0 else 'below' if v < 0 else 'close to'} the least that its maker allows"),
    Rule("wear", "wear", "wear", FLASH, Health.FAILING, 95, "%", "at least",
         lambda f: f.now["wear"], lambda v, n: f"{v:.0f} % of its rated writing is used, {n:g} % or more"),
    Rule("media-errors-week", "media errors, more within a week", "media-errors", frozenset({Kind.NVME}), Health.FAILING, 0, "count",
         "above", lambda f: f.grown("media-errors", WEEK),
         lambda v, _: f"{v:.0f} media error{'s' if v != 1 else ''} within a week"),
    Rule("link-errors-day", "interface errors, more within a day", "link-errors", _ATA, Health.WARNS, 10, "count", "above",
         lambda f: f.grown("link-errors", DAY),
         lambda v, n: f"{v:.0f} interface errors within a day, more than {n:g}: look at its cable and bay, not at the drive",
         of_link=True),
    Rule("temperature", "degrees left below its maker's limit", "temperature", ALL, Health.WARNS, 5, "°C", "below",
         lambda f: f.most_celsius - f.now["temperature"],
         lambda v, _: f"it is {abs(v):.0f} °C {'below' if v >= 0 else 'above'} its maker's limit" if v else "it is at its maker's limit"),
)  # fmt: skip

RULE = {rule.id: rule for rule in RULES}

#: What rules look back at: (reading, days).
LOOKED_BACK_AT = (("reassigned", WEEK), ("media-errors", WEEK), ("link-errors", DAY))


@dataclass(frozen=True, slots=True)
class Reason:
    """What a rule found of a drive."""

    rule: str
    level: Health
    sentence: str

    @property
    def of_link(self) -> bool:
        """Whether it tells of the link."""
        return RULE[self.rule].of_link


@dataclass(frozen=True, slots=True)
class Judged:
    """What all rules found of a drive; the gravest first."""

    level: Health
    reasons: tuple[Reason, ...] = ()

    @property
    def sentence(self) -> str:
        """In words."""
        return "; ".join(r.sentence for r in self.reasons)


@dataclass(frozen=True, slots=True)
class Limits:
    """The limits that are not the usual ones: by kind and rule; None: the rule is switched off."""

    changed: Mapping[tuple[Kind, str], float | None] = field(default_factory=dict)

    def of(self, kind: Kind, rule: Rule) -> float | None:
        """The limit of a rule for drives of a kind; None: it is not looked at."""
        return self.changed.get((kind, rule.id), rule.usual) if kind in rule.kinds else None

    def holds(self, kind: Kind, rule_id: str) -> bool:
        """Whether a rule is looked at."""
        return self.of(kind, RULE[rule_id]) is not None

    def with_one(self, kind: Kind, rule_id: str, limit: float | None) -> Limits:
        """With another limit for a rule; BadInput for one that makes no sense, naming the field."""
        rule = RULE.get(rule_id)
        if rule is None or kind not in rule.kinds:
            there = ", ".join(r.id for r in RULES if kind in r.kinds)
            raise BadInput(f"“{rule_id}” is no rule for drives of kind {kind.value}; there are {there}.", field="rule")
        if limit is not None:
            if not rule.unit and limit != rule.usual:
                raise BadInput(f"The rule “{rule.label}” can only be switched on or off.", field="limit")
            most = 100 if rule.unit in ("%", "°C") else 10**6
            if not 0 <= limit <= most:
                raise BadInput(f"A limit is from 0 to {most:,}.".replace(",", "\u202f"), field="limit")
        left = {k: v for k, v in self.changed.items() if k != (kind, rule_id)}
        return Limits(left if limit == rule.usual else {**left, (kind, rule_id): limit})


def scanned_since(since: dt.datetime | None, began: dt.datetime | None, ended: dt.datetime | None, left: int) -> bool:
    """Whether a surface was read through since sectors could first not be read: the last scan began after that was seen,
    or it ended after that and left so many extents that it could not read itself."""
    if since is None or began is None or ended is None:
        return False
    return began >= since or (left > 0 and ended >= since)


def judge(kind: Kind, facts: RuleFacts, limits: Limits) -> Iterator[Judged]:
    """What the rules find of each of these drives, in their order."""
    found: dict[int, list[Reason]] = {}
    for rule in RULES:
        limit = limits.of(kind, rule)
        if limit is None:
            continue
        beyond, value = rule.finds(facts, limit)
        for index in np.flatnonzero(beyond).tolist():
            found.setdefault(index, []).append(Reason(rule.id, rule.level, rule.said(float(value[index]), limit)))
    known = np.zeros(facts.count, bool)
    for column in facts.now.values():
        known |= ~np.isnan(column)
    for index, any_known in enumerate(known.tolist()):
        reasons = sorted(found.get(index, ()), key=lambda r: -r.level)
        if reasons:
            yield Judged(reasons[0].level, tuple(reasons))
        else:
            yield _WELL if any_known else _UNKNOWN


_WELL, _UNKNOWN = Judged(Health.WELL), Judged(Health.UNKNOWN)
