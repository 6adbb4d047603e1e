"""All layouts worth seeing for given drives, and why the others are ruled out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from pairshelf.core.drives import Drive, require_usable
from pairshelf.core.errors import BadInput
from pairshelf.core.figures.space import SpaceAccount, space_account
from pairshelf.core.figures.survival import Survival, survival
from pairshelf.core.file_systems import DEFAULT_FILE_SYSTEM, file_system_of
from pairshelf.core.layouts import SCHEMES, Layout, Scheme, build_layout
from pairshelf.core.layouts.model import Family
from pairshelf.core.layouts.registry import why_not
from pairshelf.core.units import format_size

#: Spares tried by themselves when their number is left open.
OPEN_SPARES = 2
#: Widest parity set that is recommended; wider ones are listed all the same.
WIDE = 10


@dataclass(frozen=True, slots=True)
class Question:
    """What is asked of the drives. ``need`` in bytes, ``survive`` in failed drives."""

    need: int = 0
    survive: int = 0
    #: Exactly so many spares; None tries none to two.
    spares: int | None = None
    file_system: str = DEFAULT_FILE_SYSTEM
    reserved_share: float | None = None


@dataclass(frozen=True, slots=True)
class Candidate:
    """A layout with the figures it is compared by."""

    layout: Layout
    space: SpaceAccount
    survives: Survival

    @property
    def key(self) -> str:
        """A name for it that is the same every time: scheme, sets, spares."""
        return f"{self.layout.scheme.id}:{len(self.layout.sets)}:{len(self.layout.spares)}"


@dataclass(frozen=True, slots=True)
class RuledOut:
    """A scheme, or one division under it, that does not answer, and why."""

    scheme: str
    why: str
    key: str | None = None


@dataclass(frozen=True, slots=True)
class Answer:
    """The comparison: layouts in their order, what is ruled out, and one way for the undecided."""

    layouts: tuple[Candidate, ...]
    ruled_out: tuple[RuledOut, ...]
    recommended: str | None
    reason: str | None


def all_layouts(drives: Sequence[Drive], question: Question = Question()) -> Answer:
    """Every set-built scheme in every division into equal sets, and the stepped ones."""
    require_usable(drives)
    file_system_of(question.file_system)
    if question.survive < 0:
        raise BadInput("The number of failures to survive cannot be negative.", field="survive")
    if question.spares is not None and not 0 <= question.spares < len(drives):
        raise BadInput(
            f"{question.spares} spares of {len(drives)} drives leave none to hold data."
            if question.spares >= len(drives)
            else "The number of spares cannot be negative.",
            field="spares",
        )
    candidates: list[Candidate] = []
    ruled_out: list[RuledOut] = []
    for scheme in SCHEMES.values():
        fitting = _divisions(scheme, len(drives), question.spares)
        if not fitting:
            ruled_out.append(RuledOut(scheme.id, _why_none(scheme, len(drives), question.spares)))
        for sets, spares in fitting:
            layout = build_layout(drives, scheme.id, sets=sets, spares=spares)
            space = space_account(layout, file_system=question.file_system, reserved_share=question.reserved_share)
            candidate = Candidate(layout, space, survival(layout))
            if why := _falls_short(candidate, question):
                ruled_out.append(RuledOut(scheme.id, why, candidate.key))
            else:
                candidates.append(candidate)
    candidates.sort(key=lambda c: (-c.survives.guaranteed, -c.space.usable, -c.survives.best_case, c.key))
    best, reason = _recommend(candidates)
    return Answer(tuple(candidates), tuple(ruled_out), best, reason)


def _divisions(scheme: Scheme, drives: int, spares: int | None) -> list[tuple[int, int]]:
    """(sets, spares) for every division into equal sets that the scheme allows."""
    wanted = [spares] if spares is not None else range(min(OPEN_SPARES, drives - 1) + 1)
    found = []
    for held in wanted:
        members = drives - held
        if held and scheme.survives == 0 and spares is None:
            continue  # a spare has nothing to rebuild from
        for sets in range(1, members + 1):
            if members % sets == 0 and sets <= _most_sets(scheme) and not why_not(scheme, members // sets, sets):
                found.append((sets, held))
    return found


def _most_sets(scheme: Scheme) -> int:
    """Without redundancy several sets are one set by another name."""
    return 1 if scheme.survives == 0 or scheme.family is Family.STEPPED else 10**6


def _why_none(scheme: Scheme, drives: int, spares: int | None) -> str:
    members = drives - (spares or 0)
    if scheme.least == scheme.most and scheme.least > 1 and members >= scheme.least:
        over = members % scheme.least
        return (
            f"Takes drives in groups of {scheme.least}; {members} leave {over} over. "
            f"Make {'it a spare' if over == 1 else 'them spares'}, or add {scheme.least - over}."
        )
    if scheme.id == "single":
        return f"Holds one drive only; {members} are chosen."
    short = scheme.least - members
    return f"Needs at least {scheme.least} drives a set; {short} more {'is' if short == 1 else 'are'} missing."


def _falls_short(candidate: Candidate, question: Question) -> str | None:
    layout = candidate.layout
    name = describe(layout)
    if candidate.survives.guaranteed < question.survive:
        return f"{name}: only {candidate.survives.guaranteed} failed drives are sure to be survived, {question.survive} asked for."
    if candidate.space.usable < question.need:
        short = question.need - candidate.space.usable
        return f"{name}: {format_size(candidate.space.usable)} usable, {format_size(short)} short of the need."
    if candidate.space.usable <= 0:
        return f"{name}: nothing is left for files."
    return None


def describe(layout: Layout) -> str:
    """A layout in words: ``2 sets of 6, 1 spare``."""
    sets = len(layout.sets)
    text = f"{sets} sets of {layout.width}" if sets > 1 else f"1 set of {layout.width}"
    held = len(layout.spares)
    return f"{text}, {held} spare{'s' if held > 1 else ''}" if held else text


def _recommend(candidates: Sequence[Candidate]) -> tuple[str | None, str | None]:
    """One way for the undecided: two failures survived where large rotating drives rebuild for long,
    one otherwise; of those not wider than ten, the one with the most capacity."""
    if not candidates:
        return None, None
    members = candidates[0].layout.members
    large = any(d.kind.value == "hdd" and d.size >= 2 * 10**12 for d in members) and len(members) >= 4
    for aim in (2, 1, 0) if large else (1, 2, 0):
        fitting = [
            c for c in candidates
            if c.survives.guaranteed == aim and (c.layout.width <= WIDE or c.layout.scheme.data_columns(9) == 1)
        ] or [c for c in candidates if c.survives.guaranteed == aim]  # fmt: skip
        if fitting:
            best = max(fitting, key=lambda c: (c.space.usable, -len(c.layout.sets)))
            why = {
                2: "Any two drives may fail. A rebuild of drives this large takes many hours, in which one more may go",
                1: "Any one drive may fail, and the most capacity is left",
                0: "These drives allow no redundancy; any failure loses the data",
            }[aim]
            most = " Of the layouts that give this, it has the most usable capacity." if aim else ""
            return best.key, f"{why}.{most}"
    best = candidates[0]
    return best.key, "It survives the most failures."
