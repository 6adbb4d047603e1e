"""What a question assumes of the drives and of the people around them, beside what is known of each drive.

An assumption given here goes before a drive's own figure, and that before the default of its kind;
``basis`` says which of them each figure stands on.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from pairshelf.core.domain.drives import DEFAULTS, Drive, Kind
from pairshelf.core.domain.units import parse_rate
from pairshelf.core.errors import BadInput

#: Hours until somebody has put a new drive in, where there is no spare.
USUAL_REPLACE_HOURS = 24.0
#: Hours; a century.
OLDEST_BACKUP = 876_600
#: Hours in a year of 365.25 days.
YEAR = 8766.0


@dataclass(frozen=True, slots=True)
class Backup:
    """Where the copy is, how old it gets (hours), and the link to restore over (bytes per second)."""

    where: str
    age_hours: float
    link: int


def backup_asked(where: str, age_hours: float, link: str) -> Backup | None:
    """A backup as it was typed; it counts only with the link to restore over. BadInput at the field that makes no
    sense."""
    if not link.strip():
        return None
    if not 0 <= age_hours <= OLDEST_BACKUP:
        raise BadInput("How old the backup gets: hours, zero or more.", field="backup_age_hours")
    place = " ".join(where.split())
    if len(place) > 200:
        raise BadInput("Where the backup is takes at most 200 characters.", field="backup_where")
    return Backup(place or "a backup", age_hours, parse_rate(link, field="backup_link"))


@dataclass(frozen=True, slots=True)
class Assumptions:
    """``afr``, ``uber``, ``rate``, ``ops`` and ``price`` hold for every drive alike where they are given."""

    afr: float | None = None
    uber: float | None = None
    rate: int | None = None
    ops: int | None = None
    price: float | None = None
    #: Hours until a new drive is in, without a spare.
    replace_hours: float = USUAL_REPLACE_HOURS
    #: Share of every drive that users take, 0 to below 1; None: nothing is said of it.
    user_share: float | None = None
    #: Small writes a second that users make on the pool; given instead of a share of the drives.
    user_writes: float | None = None
    #: Share of those writes that move whole stripes, instead of being read, changed and written back.
    whole_stripes: float = 0.0
    #: Price of a kilowatt-hour, for the yearly cost of power.
    tariff: float | None = None
    #: The network's link, bytes per second.
    network: int | None = None
    backup: Backup | None = None

    def checked(self) -> Assumptions:
        """Itself, or BadInput naming the field that makes no sense."""
        _within("afr", self.afr, 0, 1, "The yearly failure rate is a share from 0 to below 1, such as 0.015.")
        _within("uber", self.uber, 0, 1e-6, "The UBER is a rate per bit from 0 to 1e-6, such as 1e-15.")
        _within("replace_hours", self.replace_hours, 0, 87_660, "Hours until a new drive is in: 0 to ten years.")
        _within(
            "user_share", self.user_share, 0, 1, "The users' share of the drives is from 0 to below 1, such as 0.3."
        )
        if not 0 <= self.whole_stripes <= 1:
            raise BadInput("The share of whole stripes is from 0 to 1.", field="whole_stripes")
        _within("user_writes", self.user_writes, 0, 1e9, "The users' small writes a second are zero or more.")
        _within("price", self.price, 0, 1e7, "The price of a drive is zero or more.")
        _within("tariff", self.tariff, 0, 1e4, "The price of a kilowatt-hour is zero or more.")
        for name in ("rate", "ops", "network"):
            value = getattr(self, name)
            if value is not None and value <= 0:
                raise BadInput(f"{name}: give more than zero.", field=name)
        return self


def _within(name: str, value: float | None, low: float, below: float, sentence: str) -> None:
    if value is not None and not low <= value < below:
        raise BadInput(sentence, field=name)


def assume(drives: Sequence[Drive], given: Assumptions) -> tuple[Drive, ...]:
    """The drives with what is assumed of all alike in place of their own figures."""
    names = ("afr", "uber", "rate", "ops", "price")
    changes = {name: value for name in names if (value := getattr(given, name)) is not None}
    return tuple(replace(d, **changes) for d in drives) if changes else tuple(drives)


@dataclass(frozen=True, slots=True)
class Basis:
    """A figure that the odds and the speed stand on, with where it comes from."""

    name: str
    value: float
    source: str


def basis(drives: Sequence[Drive], given: Assumptions) -> tuple[Basis, ...]:
    """What the figures of these (unchanged) drives stand on: the mean AFR, the worst UBER, the slowest rate."""
    found = []
    figures = (
        ("afr", "afr", [d.yearly_failure for d in drives], _mean),
        ("uber", "uber", [d.bit_errors for d in drives], max),
        ("rate", "rate", [d.mean_rate for d in drives], min),
        ("ops", "ops", [d.operations for d in drives], min),
    )
    for name, field, values, pick in figures:
        asked = getattr(given, field)
        if asked is not None:
            found.append(Basis(name, float(asked), "given in this question, for all drives alike"))
            continue
        own = sum(getattr(d, field) is not None for d in drives)
        kinds = sorted({d.kind.value for d in drives if getattr(d, field) is None})
        usual = " and ".join(f"{k} {getattr(DEFAULTS[_kind(drives, k)], field):g}" for k in kinds)
        source = (
            "the drives' or their models' own figures" if own == len(drives)
            else f"the default of their kind ({usual})" if not own
            else f"{own} of {len(drives)} drives' or their models' own figures, for the others the default of their kind ({usual})"
        )  # fmt: skip
        found.append(Basis(name, float(pick(values)), source))
    return tuple(found)


def _mean(values: Sequence[float]) -> float:
    return sum(values) / len(values)


def _kind(drives: Sequence[Drive], value: str) -> Kind:
    return next(d.kind for d in drives if d.kind.value == value)
