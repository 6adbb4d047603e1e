"""Drives that leave the house: sold, returned, recycled, destroyed; with the date and to whom."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass

from pairshelf.core.changes.drives.wipe import MOST, drives_to_let_go
from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import BeforeAfter, ChangeSheet, Effect, Figure, simple_sheet
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstateDrive
from pairshelf.core.domain.words import listed
from pairshelf.core.errors import BadInput

#: Ways to leave, and what stands before the name of whoever has it then.
WAYS = {
    "sold": "sold to",
    "returned": "returned under warranty to",
    "recycled": "recycled by",
    "destroyed": "destroyed by",
    "given": "given to",
}
#: Longest name of whoever has it then.
LONGEST = 120


@dataclass(frozen=True, slots=True)
class HandOut:
    """Let drives leave the house; they stay in the books."""

    drives: tuple[int, ...]
    #: sold, returned, recycled, destroyed or given.
    how: str
    #: To whom, or by whom they are destroyed, and how.
    to: str
    #: The day, as 2026-11-26; today if left out.
    on: str | None = None


@dataclass(frozen=True, slots=True)
class HandOutPlan:
    """The drives, and where they go."""

    sheet: ChangeSheet
    drives: tuple[EstateDrive, ...]
    destroyed: bool
    #: In words: sold to the reading room.
    said: str
    on: dt.date | None


def plan(estate: Estate, request: HandOut) -> HandOutPlan:
    """The sheet. Raises for a drive that is needed, a way or a date that is none, naming the field."""
    if request.how not in WAYS:
        raise BadInput(f"Say how it leaves: {listed(list(WAYS), 'or')}.", field="how")
    to = " ".join(request.to.split())
    if not 1 <= len(to) <= LONGEST or not to.isprintable():
        raise BadInput(f"Say to whom, or by whom and how, in at most {LONGEST} characters.", field="to")
    drives = drives_to_let_go(estate, request.drives)
    destroyed = request.how == "destroyed"
    readable = [] if destroyed else [d for d in drives if d.wiped_at is None]
    said = f"{WAYS[request.how]} {to}"
    one = len(drives) == 1
    sheet = simple_sheet(
        "hand-out", f"{drives[0].place} leaves the house" if one else f"{len(drives)} drives leave the house",
        f"{'It is' if one else 'They are'} {said}. {'It leaves its bay' if one else 'They leave their bays'} and stay{'s' if one else ''} in the books.",
        figures=tuple(
            BeforeAfter(d.serial, Figure(text=d.place), Figure(text=said)) for d in drives[:24]
        ),
        cautions=tuple(
            f"{d.named} was not wiped{f': it holds {d.holds}' if d.holds else ''}. Whoever has it can read that." for d in readable
        ),
        fixed=("A drive that has left does not come back into the books as the same.",),
        steps=(
            "Take it out of its bay." if one else "Take them out of their bays.",
            "Write into the books where it went." if one else "Write into the books where they went.",
            *(("Write a certificate of destruction for each.",) if destroyed else ()),
        ),
        confirm=(drives[0].serial if one else f"{len(drives)} drives") if readable or destroyed else None,
        role="administrator" if readable or destroyed else "operator",
        effect=Effect(free=-sum(d.service == "free" and d.condition == "good" for d in drives)),
    )  # fmt: skip
    return HandOutPlan(sheet, tuple(drives), destroyed, said, _day(request.on))


def _day(text: str | None) -> dt.date | None:
    if text is None or not text.strip():
        return None
    try:
        return dt.date.fromisoformat(text.strip())
    except ValueError:
        raise BadInput("Write the day as 2026-11-26.", field="on") from None


def context(request: HandOut) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(drives=request.drives[: MOST + 1], identities=True)


KIND = ChangeKind("hand-out", Act.WIPE_DRIVES, HandOut, context, plan, approved_by=Act.LET_GO)
