"""The change sheet: what a change will do, shown before it is approved."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

from pairshelf.core.figures.durations import Duration


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
    texts: Sequence[Text] = (), findings: Sequence[Finding] = (),
) -> ChangeSheet:  # fmt: skip
    """A sheet for a change that erases no drive."""
    return ChangeSheet(
        kind, title, why, tuple(figures), (), tuple(takes), tuple(meanwhile), tuple(fixed), tuple(steps),
        tuple(cautions), confirm, role, tuple(gives_up), tuple(texts), tuple(findings),
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

    def as_json(self) -> dict[str, Any]:
        """The sheet as plain data."""
        plain: dict[str, Any] = json.loads(json.dumps(asdict(self)))
        return plain

    def fingerprint(self) -> str:
        """Differs whenever anything on the sheet differs: an approval holds for what was shown."""
        return hashlib.sha256(json.dumps(self.as_json(), sort_keys=True).encode()).hexdigest()
