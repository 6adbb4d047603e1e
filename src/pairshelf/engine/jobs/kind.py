"""What a kind of job is."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from sqlmodel import Session

from pairshelf.core.domain.device import Devices
from pairshelf.engine.jobs.trying import AnyIO, moves_about
from pairshelf.engine.jobs.work import LotWork, Work
from pairshelf.store.tables import JobRow


def _always(_job: JobRow) -> bool:
    return True


def _nothing(_job: JobRow) -> Mapping[str, float]:
    return {}


@dataclass(frozen=True, slots=True)
class Proof:
    """What a finished job proves of its pool's promise."""

    #: The figure: hours that the busiest drive took, or bytes a second of the whole.
    figure: str
    #: Whether what the drives are made to do just now belongs to it.
    counts: Callable[[JobRow], bool] = _always
    #: What else was measured, by name.
    besides: Callable[[JobRow], Mapping[str, float]] = _nothing


@dataclass(frozen=True, slots=True)
class JobKind:
    """A kind of job."""

    id: str
    name: str
    #: What the pool's users notice of it, in a sentence.
    notices: str
    #: Works on as much as ``Work.most`` says and moves the cursor; the seconds of the drives' time that took.
    step: Callable[[Work], float]
    #: What it found, in a sentence; of the pool of that name.
    outcome: Callable[[Mapping[str, Any], str], str]
    #: It is the users' own work; other jobs take the drives' time from that.
    users_work: bool = False
    proves: Proof | None = None
    #: A person may end it unfinished: what has been done is whole as it is.
    may_end: bool = False
    #: Puts back what it has begun, when it ends unfinished.
    give_up: Callable[[Session, JobRow, Devices], None] | None = None
    #: What a step of it makes drives do, from a stripe on, tried where nothing is changed.
    tries: Callable[[AnyIO, JobRow | None, int], None] = moves_about
    #: A step of one that is of no pool; None: there is none of no pool.
    alone: Callable[[LotWork], float] | None = None
    #: What is added to the report of one of no pool when it is done.
    sums_up: Callable[[Session, JobRow], Mapping[str, int]] | None = None
