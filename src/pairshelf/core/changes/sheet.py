"""The change sheet: what a change will do, shown before it is approved."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Sequence
from dataclasses import asdict, dataclass, fields
from typing import TYPE_CHECKING, Any

from pairshelf.core.domain.units import EXTENT
from pairshelf.core.figures.durations import Duration

if TYPE_CHECKING:
    from pairshelf.core.domain.estate import EstateDrive, EstatePool


@dataclass(frozen=True, slots=True)
class Figure:
    """A value on a sheet with what it is, so that screens can show sizes in the chosen unit."""

    text: str | None = None
    bytes: int | None = None


@dataclass(frozen=True, slots=True)
class BeforeAfter:
    """One line of before and after."""

    label: str
    before: Figure
    after: Figure


def left_in_pool(pool: EstatePool, after: int) -> BeforeAfter:
    """What a pool has left, extents ``after`` the change. Of a spread pool it is of its drives: redundancy comes off it."""
    label = "Left in the pool" + (" (drives' capacity)" if pool.spread else "")
    return BeforeAfter(label, Figure(bytes=pool.free * EXTENT), Figure(bytes=after * EXTENT))


@dataclass(frozen=True, slots=True)
class Effect:
    """What a change adds to the figures of all pools and drives, once all of it is done."""

    #: Usable bytes of pools with one layout: what they hold, and what is allocated to volumes.
    capacity: int = 0
    given: int = 0
    #: Drives: in pools, and free and well.
    in_use: int = 0
    free: int = 0
    #: The same two of spread pools, in bytes of their drives: never added to usable ones.
    drives_capacity: int = 0
    drives_given: int = 0


def pool_effect(spread: bool, *, capacity: int = 0, given: int = 0) -> Effect:
    """Bytes that a pool, or its volumes, get: usable ones, or of a spread pool those of its drives."""
    if spread:
        return Effect(drives_capacity=capacity, drives_given=given)
    return Effect(capacity=capacity, given=given)


def drives_come(drives: Iterable[EstateDrive]) -> Effect:
    """Drives come into a pool: from those that are free, or that stood by for it already."""
    new = [d for d in drives if d.service == "free"]
    return Effect(in_use=len(new), free=-sum(d.condition == "good" for d in new))


def drives_leave(drives: Iterable[EstateDrive]) -> Effect:
    """Drives leave a pool, and are free as far as they are well."""
    gone = list(drives)
    return Effect(in_use=-len(gone), free=sum(d.condition == "good" for d in gone))


def together(*effects: Effect) -> Effect:
    """All of them."""
    return Effect(*(sum(getattr(e, f.name) for e in effects) for f in fields(Effect)))


@dataclass(frozen=True, slots=True)
class Erased:
    """A drive that is erased, by bay and serial, with what is known of data on it."""

    drive_id: int
    place: str
    serial: str
    size: int
    holds: str | None


@dataclass(frozen=True, slots=True)
class Text:
    """Something to copy: a line for a host's mount table, an address."""

    label: str
    text: str


@dataclass(frozen=True, slots=True)
class Finding:
    """What was found when everything was looked at beforehand; one that blocks stops the change."""

    sentence: str
    blocks: bool = False


@dataclass(frozen=True, slots=True)
class Takes:
    """How long a job of the change takes, in hours of the drives' time: at best, and with users at work."""

    job: str
    hours: float
    fast_hours: float
    gentle_hours: float

    @classmethod
    def of(cls, job: str, duration: Duration) -> Takes:
        """From the durations of the core."""
        return cls(job, duration.idle / 3600, duration.fast / 3600, duration.gentle / 3600)


def simple_sheet(
    kind: str, title: str, why: str, *, steps: Sequence[str], role: str = "administrator",
    figures: Sequence[BeforeAfter] = (), takes: Sequence[Takes] = (), meanwhile: Sequence[str] = (),
    fixed: Sequence[str] = (), cautions: Sequence[str] = (), confirm: str | None = None, gives_up: Sequence[str] = (),
    texts: Sequence[Text] = (), findings: Sequence[Finding] = (), effect: Effect = Effect(),
) -> ChangeSheet:  # fmt: skip
    """A sheet for a change that erases no drive."""
    return ChangeSheet(
        kind, title, why, tuple(figures), (), tuple(takes), tuple(meanwhile), tuple(fixed), tuple(steps),
        tuple(cautions), confirm, role, tuple(gives_up), tuple(texts), tuple(findings), effect,
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class ChangeSheet:
    """What, why, before and after, what is erased, how long, what can fail meanwhile, what is fixed."""

    kind: str
    title: str
    why: str
    figures: tuple[BeforeAfter, ...]
    erases: tuple[Erased, ...]
    takes: tuple[Takes, ...]
    meanwhile: tuple[str, ...]
    fixed: tuple[str, ...]
    steps: tuple[str, ...]
    cautions: tuple[str, ...]
    #: What must be typed to approve; None where nothing is erased.
    confirm: str | None
    #: Who may approve it.
    role: str
    #: Data that are given up without a drive being erased: a volume's, what lies in a folder.
    gives_up: tuple[str, ...] = ()
    texts: tuple[Text, ...] = ()
    findings: tuple[Finding, ...] = ()
    effect: Effect = Effect()

    def as_json(self) -> dict[str, Any]:
        """The sheet as plain data."""
        plain: dict[str, Any] = json.loads(json.dumps(asdict(self)))
        return plain

    def fingerprint(self) -> str:
        """Differs whenever anything on the sheet differs: an approval holds for what was shown."""
        return hashlib.sha256(json.dumps(self.as_json(), sort_keys=True).encode()).hexdigest()
