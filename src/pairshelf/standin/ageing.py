"""How simulated drives age, and what they report of themselves: plausible by itself, and steered where somebody wants to
see what becomes of it. By itself nothing here kills a drive; what was really written and lost is counted with it."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
import math
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from functools import lru_cache

from pairshelf.core.domain.device import Questioned
from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.units import EXTENT

#: What can be steered, in the unit of the reading: what is added, and by how much that grows a day.
STEERED = ("reassigned", "pending", "link-errors", "media-errors", "temperature", "wear", "spare")
_BEGIN = dt.datetime(2026, 1, 1, tzinfo=dt.UTC)
_YEAR = 8766.0
#: Times that flash is rated to be written over, where its maker says nothing; and its least share of spare cells.
_OVER, LEAST_SPARE = 600, 10
#: Hours from which on a rotating drive reassigns a sector now and then, and how many hours lie between two.
_OLD, _BETWEEN = 40_000, 3_000


@dataclass(frozen=True, slots=True)
class Steer:
    """From a moment on, a reading has so much more, and that grows by so much a day."""

    more: float
    a_day: float
    since: str

    def added(self, at: dt.datetime) -> float:
        """What that comes to at a moment."""
        days = (at - dt.datetime.fromisoformat(self.since)).total_seconds() / 86400
        return self.more + self.a_day * max(0.0, days)


@dataclass(frozen=True, slots=True)
class Ageing:
    """How somebody has said that a drive ages."""

    steers: Mapping[str, Steer] = field(default_factory=dict)
    #: Sectors that have gone bad by it so far.
    lost: int = 0

    def added(self, reading: str, at: dt.datetime) -> float:
        """What a reading has more than by itself."""
        steer = self.steers.get(reading)
        return steer.added(at) if steer is not None else 0.0

    def steered(self, reading: str, more: float, a_day: float, at: dt.datetime) -> Ageing:
        """From a moment on otherwise: what has grown until then stays."""
        grown = self.added(reading, at) + more
        return Ageing({**self.steers, reading: Steer(grown, a_day, at.isoformat())}, self.lost)

    def kept(self) -> str:
        """As a file keeps it."""
        return json.dumps({"steers": {r: asdict(s) for r, s in self.steers.items()}, "lost": self.lost})

    @classmethod
    def read(cls, content: bytes) -> Ageing:
        """The same back; none where it cannot be read."""
        try:
            told = json.loads(content)
            return cls({r: Steer(**s) for r, s in told["steers"].items()}, int(told["lost"]))
        except (ValueError, TypeError, KeyError, AttributeError):
            return cls()


@dataclass(frozen=True, slots=True)
class _Born:
    """What is drawn from a drive's serial."""

    celsius: int
    #: Hours it had run when this house began, where the books do not say since when it is in service.
    hours: int
    #: Share of its size written to it in a day, before it came here.
    a_day: float
    link_errors: int
    #: When in the day it is warmest, and how much warmer then.
    swing: float


@lru_cache(maxsize=32768)
def _born(serial: str, kind: Kind) -> _Born:
    dice = hashlib.sha256(b"ageing " + serial.encode("utf-8", "surrogatepass")).digest()
    warm = {Kind.HDD: 27, Kind.SSD: 30, Kind.NVME: 36}[kind]
    return _Born(
        warm + dice[0] % 7, 500 + int.from_bytes(dice[1:3], "big") % 18_000,
        (0.004 if kind is Kind.HDD else 0.05) * (0.3 + dice[3] / 255),
        dice[5] % 3 if dice[5] > 170 else 0, 1.0 + dice[6] / 128,
    )  # fmt: skip


def where_it_goes(serial: str, number: int, extents: int) -> int:
    """Which extent of a drive is the next to go bad."""
    dice = hashlib.sha256(f"goes {number} {serial}".encode("utf-8", "surrogatepass")).digest()
    # Among the first tenth, where data is likeliest to be.
    return int.from_bytes(dice[:6], "big") % max(1, extents // 10)


def moment(at: dt.datetime) -> tuple[float, float]:
    """What is the same for all drives that are asked at a moment: hours since this house began, and where in the day it is
    warm, from -1 to 1."""
    hours = (at - _BEGIN).total_seconds() / 3600
    return max(0.0, hours), math.cos(2 * math.pi * (hours / 24 - 0.6))


def told(
    drive: Questioned, at: dt.datetime, hours: float, warmth: float, ageing: Ageing | None, *, reassigned: int, pending: int, uncorrectable: int, written: int,
    warns: bool,
) -> dict[str, int]:  # fmt: skip
    """What a drive reports; ``hours`` and ``warmth`` are those of the moment. ``reassigned``, ``pending`` and ``uncorrectable`` sectors are those that really are,
    ``written`` the extents that were; ``warns``: it was made to say that it is failing."""
    born = _born(drive.serial, drive.kind)
    if drive.in_service is not None:
        since = dt.datetime.combine(drive.in_service, dt.time(), dt.UTC)
        hours = max(0.0, (at - since).total_seconds() / 3600)
    else:
        hours += born.hours
    more = ageing.added if ageing is not None else _nothing
    found = {
        "verdict": int(warns), "temperature": round(born.celsius + born.swing * warmth + more("temperature", at)), "hours": int(hours),
        "written": written + int(min(hours, 5 * _YEAR) / 24 * born.a_day * drive.size) // EXTENT,
    }  # fmt: skip
    if drive.kind is not Kind.NVME:
        old = int(max(0.0, hours - _OLD) // _BETWEEN) if drive.kind is Kind.HDD else 0
        found["reassigned"] = max(0, reassigned + old + int(more("reassigned", at)))
        found["pending"], found["uncorrectable"] = pending, uncorrectable
        found["link-errors"] = max(0, born.link_errors + int(more("link-errors", at)))
    if drive.kind is not Kind.HDD:
        rated = drive.rated_writes or _OVER * drive.size
        wear = min(255, max(0, int(100 * found["written"] * EXTENT / rated + more("wear", at))))
        found["wear"] = wear
        found["spare"] = min(100, max(0, int(100 - max(0, wear - 80) / 2 + more("spare", at))))
        found["spare-threshold"] = LEAST_SPARE
    if drive.kind is Kind.NVME:
        found["media-errors"] = max(0, int(more("media-errors", at)))
    return found


def _nothing(_reading: str, _at: dt.datetime) -> float:
    return 0.0
