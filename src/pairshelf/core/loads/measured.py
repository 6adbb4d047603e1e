"""What was measured when loads were played, beside what the figures say it should come to."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from pairshelf.core.domain.drives import Drive
from pairshelf.core.figures.speed import Speed, speed
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.protections import Protection
from pairshelf.core.loads.mixes import Estimate, Mix, estimate
from pairshelf.core.loads.queues import Ability, Measurement, OnDrive, PlayerResult

#: The share of requests that is meant by "slow ones": all but the slowest twentieth were answered by then.
SLOW = 0.95


@dataclass(frozen=True, slots=True)
class Rates:
    """Requests and bytes a second; seconds within which half of the requests, and 95 of 100, were answered."""

    operations: float
    throughput: float
    median: float | None
    slow: float | None


@dataclass(frozen=True, slots=True)
class DriveRates:
    """What a drive had to do. ``busy`` and ``for_job``: shares of its time."""

    slot: int
    operations: float
    throughput: float
    busy: float
    for_job: float


@dataclass(frozen=True, slots=True)
class LinkRates:
    """What went over a shelf's link, bytes a second, and what it carries."""

    shelf: str
    throughput: float
    carries: float


@dataclass(frozen=True, slots=True)
class Beside:
    """A job and its users: what each of them does alone, and together. Bytes a second of the job are those of the drives."""

    kind: str
    pace: str
    users_alone: Rates
    users: Rates
    job_alone: float
    job: float

    @property
    def costs_users(self) -> float:
        """The share of their requests a second that the job takes from them."""
        return 1 - self.users.operations / self.users_alone.operations if self.users_alone.operations else 0.0

    @property
    def costs_job(self) -> float:
        """The share of its speed that users take from the job."""
        return 1 - self.job / self.job_alone if self.job_alone else 0.0


def rates_of(played: Sequence[PlayerResult], seconds: float) -> Rates:
    """Of some players together."""
    if seconds <= 0:
        return Rates(0.0, 0.0, None, None)
    whole = PlayerResult(responses=[r for p in played for r in p.responses])
    return Rates(
        sum(p.requests for p in played) / seconds,
        sum(p.size for p in played) / seconds,
        whole.response(),
        whole.response(SLOW),
    )


def drive_rates(found: Measurement) -> list[DriveRates]:
    """Of every drive."""
    if found.seconds <= 0:
        return [DriveRates(i, 0.0, 0.0, 0.0, 0.0) for i in range(len(found.drives))]
    return [_rates(i, d, found.seconds) for i, d in enumerate(found.drives)]


def _rates(slot: int, drive: OnDrive, seconds: float) -> DriveRates:
    # What was begun and has not ended is counted whole.
    busy, for_job = min(1.0, drive.busy / seconds), min(1.0, drive.for_job / seconds)
    return DriveRates(slot, drive.operations / seconds, drive.size / seconds, busy, for_job)


def moved_by_job(found: Measurement, steps: Sequence[float]) -> float:
    """Bytes a second that a job moved: ``steps`` has the bytes of each of its steps, which come again and again."""
    if found.seconds <= 0 or not steps:
        return 0.0
    whole, rest = divmod(found.steps, len(steps))
    return (whole * sum(steps) + sum(steps[:rest])) / found.seconds


def abilities_of(members: Sequence[Drive]) -> tuple[list[Ability], list[str], list[float]]:
    """What each drive can do; and the links they hang on, as far as they are known: their shelves, bytes a second."""
    known: dict[tuple[str | None, str | None], int] = {}
    carries: list[float] = []
    abilities = []
    for drive in members:
        link = None
        if drive.link:
            key = (drive.site, drive.shelf)
            if key not in known:
                known[key] = len(carries)
                carries.append(float(drive.link))
            link = known[key]
        abilities.append(Ability(float(drive.mean_rate), float(drive.operations), link))
    return abilities, [shelf or "" for _, shelf in known], carries


def row_width(layout: Layout, protection: Protection | None = None) -> int:
    """Data extents that stand side by side in a row: of a spread pool, in a stripe of that protection. As many drives'
    worth of data a long request moves at a time."""
    return protection.data if protection is not None else max(band.data for band in layout.drawn)


def speed_for(layout: Layout, protection: Protection | None = None) -> Speed:
    """The speeds a mix is estimated by. In a spread pool they are those of a volume's protection: small writes cost what
    that makes them cost, on all drives."""
    found = speed(layout)
    if protection is None:
        return found
    operations = len(layout.members) * float(layout.operations)
    cost = protection.width if protection.copies else 2 * (protection.survives + 1)
    whole = len(layout.members) * min(float(d.mean_rate) for d in layout.members)
    return replace(
        found,
        random_write_rmw=operations / cost,
        sequential_write=min(found.sequential_write, whole * protection.data / protection.width),
        sequential_read=min(found.sequential_read, whole),
    )


def estimate_together(parts: Sequence[tuple[Mix, Speed, float, float]]) -> Estimate:
    """What several mixes come to side by side. Each with its speeds, drives' worth of a long request, and its share of
    all requests."""
    whole = sum(share for *_, share in parts)
    if not whole:
        return Estimate(0.0, 0.0)
    found = [(estimate(mix, speeds, across), share / whole) for mix, speeds, across, share in parts]
    seconds = sum(share / e.operations for e, share in found)
    moved = sum(share * e.throughput / e.operations for e, share in found)
    return Estimate(1 / seconds, moved / seconds)
