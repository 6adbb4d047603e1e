"""All layouts worth seeing for given drives and needs, ranked, with reasons; and why the others are ruled out."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from pairshelf.core.domain.drives import Drive, require_usable
from pairshelf.core.domain.file_systems import DEFAULT_FILE_SYSTEM, file_system_of
from pairshelf.core.domain.units import format_duration, format_size
from pairshelf.core.errors import BadInput
from pairshelf.core.figures.assess import Assessment, assess, assess_all
from pairshelf.core.figures.assumptions import Assumptions, assume
from pairshelf.core.figures.space import SpaceAccount, space_account
from pairshelf.core.figures.survival import Survival, guaranteed_of, survival, withstands
from pairshelf.core.figures.workloads import USUAL_WORKLOAD, load_said, workload_of
from pairshelf.core.layouts import DIVIDED, Layout, Scheme, build_layout
from pairshelf.core.layouts.arrange import arrange, stand_in
from pairshelf.core.layouts.model import Family
from pairshelf.core.layouts.registry import set_counts
from pairshelf.core.search.ranking import aim_of, meets_aim, pareto_marks, restores_quickly, safe_enough, scores_of
from pairshelf.core.search.reasons import NO_REASONS, Reasons, reasons, recommendation, with_backup

#: Spares tried by themselves when their number is left open.
OPEN_SPARES = 2
#: Whom spares serve.
SPARES_FOR = ("pool", "shelf", "all")
#: Shelves and hosts that sets are arranged over.
ARRANGED_OVER = ("shelf", "host")
_MOST_EXTRA = 12


@dataclass(frozen=True, slots=True)
class Question:
    """What is asked of the drives. ``need`` in bytes, ``survive`` in failed drives."""

    need: int = 0
    survive: int = 0
    #: Whole shelves, and hosts, that must be survived.
    survive_shelves: int = 0
    survive_hosts: int = 0
    #: Exactly so many spares; None tries none to two.
    spares: int | None = None
    #: Spares serve the whole pool, or (``shelf``) so many stand on each shelf, or (``all``) every pool there is.
    spares_for: str = "pool"
    workload: str = USUAL_WORKLOAD
    #: Longest rebuild allowed, hours.
    rebuild_limit: float | None = None
    widest: int | None = None
    budget: float | None = None
    #: Bays there are, and how many of them must stay free.
    bays: int | None = None
    bays_free: int = 0
    #: Rotating and flash drives in one pool.
    mix_kinds: bool = False
    #: Larger drives will take the place of these one by one: what grows with few of them comes first.
    larger_later: bool = False
    file_system: str = DEFAULT_FILE_SYSTEM
    reserved_share: float | None = None
    given: Assumptions = field(default_factory=Assumptions)

    def given_for(self, drives: Sequence[Drive]) -> Assumptions:
        """The assumptions with the load that the workload usually brings on these drives, where none is said."""
        return workload_of(self.workload).with_load(self.given, drives)


@dataclass(frozen=True, eq=False)
class Candidate:
    """A layout with its figures, and how it stands among the others."""

    assessment: Assessment
    #: Which of the drives: ``rotating`` or ``flash`` where both are there and kept apart, or all ("").
    part: str = ""
    #: Sets arranged so that a ``shelf`` or ``host`` may fail, or filled in the given order ("").
    arranged: str = ""
    #: What the arrangement costs against sets filled in the given order, bytes.
    arranging_costs: int = 0
    score: float = 0.0
    pareto: bool = False
    reasons: Reasons = NO_REASONS

    @property
    def layout(self) -> Layout:
        """The layout itself."""
        return self.assessment.layout

    @property
    def space(self) -> SpaceAccount:
        """Its space account."""
        return self.assessment.space

    @property
    def survives(self) -> Survival:
        """What it survives."""
        return self.assessment.survives

    @property
    def key(self) -> str:
        """A name for it that is the same every time: scheme, sets, spares, and what sets it apart."""
        base = f"{self.layout.scheme.id}:{len(self.layout.sets)}:{len(self.layout.spares)}"
        return base + (f":{self.arranged}" if self.arranged else "") + (f":{self.part}" if self.part else "")


@dataclass(frozen=True, slots=True)
class RuledOut:
    """A scheme, or one division under it, that does not answer, and why."""

    scheme: str
    why: str
    key: str | None = None


@dataclass(frozen=True, slots=True)
class Considered:
    """A layout that was weighed, and whether it meets the needs."""

    candidate: Candidate
    meets: bool


@dataclass(frozen=True, slots=True)
class Nearest:
    """A layout that comes close to needs nobody can meet, and what is missing."""

    key: str
    scheme: str
    description: str
    usable: int
    missing: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Answer:
    """The comparison: layouts in their order, what is ruled out, and one way for the undecided."""

    layouts: tuple[Candidate, ...]
    ruled_out: tuple[RuledOut, ...]
    recommended: str | None
    reason: str | None
    #: Where no layout meets the needs.
    nearest: tuple[Nearest, ...] = ()
    #: Drives not used, so that bays stay free.
    left_out: tuple[Drive, ...] = ()
    #: Everything that was weighed, ruled out or not, for the picture of wide against narrow sets.
    considered: tuple[Considered, ...] = ()


#: Told how much of the work is done, of how much.
Progress = Callable[[int, int], None]


def all_layouts(
    drives: Sequence[Drive], question: Question = Question(), *, progress: Progress | None = None
) -> Answer:
    """Every set-built scheme in every division into equal sets, and the stepped ones."""
    require_usable(drives)
    _check(question, len(drives))
    workload = workload_of(question.workload)
    used, left_out = _leave_bays(drives, question)
    assumed = assume(used, question.given)
    considered: list[Considered] = []
    ruled_out: list[RuledOut] = []
    for part, some in parts_of(assumed, question.mix_kinds):
        found, out = _of_part(some, part, question, progress)
        considered += found
        ruled_out += out
    candidates = [c.candidate for c in considered if c.meets]
    if not candidates:
        near = _nearest(considered, assumed, question)
        return Answer((), tuple(ruled_out), None, None, near, left_out, tuple(considered))
    figures = [c.assessment for c in candidates]
    quick = restores_quickly(assumed, question.given)
    scores, marks = scores_of(figures, workload, safe_enough(assumed, question.given)), pareto_marks(figures)
    ranked = _in_order(candidates, scores, question, aim_of(assumed, quick))
    further = _one_more(candidates, ranked) if question.given.backup else None
    if further is not None:
        ranked = [ranked[0], further, *(i for i in ranked[1:] if i != further)]
    weighed = reasons([
        (candidates[i].assessment, candidates[i].arranged, candidates[i].arranging_costs) for i in ranked
    ], larger_later=question.larger_later)  # fmt: skip
    scored = [
        replace(candidates[i], score=scores[i], pareto=marks[i], reasons=r)
        for i, r in zip(ranked, weighed, strict=True)
    ]
    best = scored[0]
    reason = recommendation(best.assessment, [c.assessment for c in scored], workload)
    if question.given.backup is not None:
        reason = f"{reason} {with_backup(best.assessment, scored[1].assessment if further is not None else None)}"
    return Answer(tuple(scored), tuple(ruled_out), best.key, reason, (), left_out, tuple(considered))


def _in_order(candidates: Sequence[Candidate], scores: Sequence[float], question: Question, aim: int) -> list[int]:
    """Numbers of the candidates as they are ranked. Of the same division in two orders of drives, at the same capacity,
    the one that survives more whole shelves, hosts and sites goes before, in the place of the better of the two."""
    order = {scheme: i for i, scheme in enumerate(DIVIDED)}
    merit: dict[tuple[object, ...], float] = {}

    def division(c: Candidate) -> tuple[object, ...]:
        return c.layout.scheme.id, len(c.layout.sets), len(c.layout.spares), c.part, c.space.usable

    for c, score in zip(candidates, scores, strict=True):
        merit[division(c)] = max(score, merit.get(division(c), score))

    def place(i: int) -> tuple[object, ...]:
        c = candidates[i]
        later = question.larger_later and c.layout.scheme.family is not Family.STEPPED
        return (
            not meets_aim(c.assessment, aim), later, -round(merit[division(c)], 9), order[c.layout.scheme.id],
            division(c), -len(withstands(c.layout)), c.key,
        )  # fmt: skip

    return sorted(range(len(candidates)), key=place)


def _one_more(candidates: Sequence[Candidate], ranked: Sequence[int]) -> int | None:
    """The first in the order that survives one failure more than the suggested one, on the same drives."""
    best = candidates[ranked[0]]
    wanted = best.survives.guaranteed + 1
    return next(
        (i for i in ranked if candidates[i].survives.guaranteed == wanted and candidates[i].part == best.part), None
    )


def assumed_load(question: Question) -> bool:
    """Whether nobody has said what users do, so that the usual load of the workload is assumed."""
    return question.given.user_share is None and question.given.user_writes is None


def load_of(answer: Answer, question: Question) -> str:
    """What users are taken to do, in words; of the suggested layout where the drives' kinds are kept apart."""
    found = answer.layouts[0] if answer.layouts else answer.considered[0].candidate if answer.considered else None
    given = question.given if found is None else found.assessment.given
    return load_said(given, workload_of(question.workload) if assumed_load(question) else None)


def _check(question: Question, count: int) -> None:
    file_system_of(question.file_system)
    question.given.checked()
    for name in ("survive", "survive_shelves", "survive_hosts", "bays_free"):
        if getattr(question, name) < 0:
            raise BadInput(f"{name.replace('_', ' ').capitalize()} cannot be negative.", field=name)
    if question.spares is not None and not 0 <= question.spares < count:
        raise BadInput(
            f"{question.spares} spares of {count} drives leave none to hold data."
            if question.spares >= count
            else "The number of spares cannot be negative.",
            field="spares",
        )
    if question.spares_for not in SPARES_FOR:
        raise BadInput("Spares are for the pool, for each shelf, or for all pools.", field="spares_for")
    if question.widest is not None and question.widest < 1:
        raise BadInput("The widest set allowed has at least one drive.", field="widest")
    if question.rebuild_limit is not None and not question.rebuild_limit > 0:
        raise BadInput("The longest rebuild allowed is more than zero hours.", field="rebuild_limit")
    if question.budget is not None and not question.budget >= 0:
        raise BadInput("A budget is zero or more.", field="budget")


def _leave_bays(drives: Sequence[Drive], question: Question) -> tuple[Sequence[Drive], tuple[Drive, ...]]:
    """Only as many drives as leave the bays free that shall be; the smallest are left out."""
    if not question.bays_free:
        return drives, ()
    bays = question.bays if question.bays is not None else len(drives)
    most = bays - question.bays_free
    if most < 1:
        raise BadInput(f"{question.bays_free} of {bays} bays free leave none for drives.", field="bays_free")
    smallest = sorted(range(len(drives)), key=lambda i: (drives[i].size, -i))
    out = set(smallest[: max(0, len(drives) - most)])
    return [d for i, d in enumerate(drives) if i not in out], tuple(d for i, d in enumerate(drives) if i in out)


def parts_of(drives: Sequence[Drive], mix: bool) -> list[tuple[str, Sequence[Drive]]]:
    """Rotating and flash apart, unless they are mixed or only one of them is there."""
    rotating = [d for d in drives if d.rotates]
    flash = [d for d in drives if not d.rotates]
    return [("", drives)] if mix or not rotating or not flash else [("rotating", rotating), ("flash", flash)]


def hold_back(drives: Sequence[Drive], spares: int, spares_for: str = "pool") -> tuple[list[Drive], list[Drive]]:
    """Members and spares: the last of all drives, or the last of each shelf.

    Spares for all pools are held back like those of one; they only serve the others besides.
    """
    if spares_for != "shelf" or not spares:
        return list(drives[: len(drives) - spares]), list(drives[len(drives) - spares :])
    held: list[int] = []
    for shelf in dict.fromkeys(d.shelf for d in drives):
        held += [i for i, d in enumerate(drives) if d.shelf == shelf][-spares:]
    kept = set(held)
    return [d for i, d in enumerate(drives) if i not in kept], [d for i, d in enumerate(drives) if i in kept]


class Known:
    """What is known of where the drives of one search stand, so that it is worked out once for all layouts."""

    def __init__(self) -> None:
        self._standing: dict[tuple[int, str], list[list[Drive]]] = {}
        self._numbers: dict[tuple[int, str], tuple[int, list[int]]] = {}
        self._arranged: dict[tuple[int, int, int, str], tuple[Drive, ...] | None] = {}
        #: By the number of spares, what is the same however the drives are divided (``Layout.known``).
        self.same: defaultdict[int, dict[str, Any]] = defaultdict(dict)

    def arranged(
        self, members: Sequence[Drive], spares: int, sets: int, tolerance: int, domain: str
    ) -> tuple[Drive, ...] | None:
        """Members in an order in which no set has more than ``tolerance`` in one domain, or None."""
        key = spares, sets, tolerance, domain
        if key not in self._arranged:
            if (spares, domain) not in self._standing:
                self._standing[spares, domain] = stand_in(members, domain)
            self._arranged[key] = arrange(members, sets, tolerance, domain, standing=self._standing[spares, domain])
        return self._arranged[key]

    def may_fail(self, layout: Layout, spares: int, domain: str) -> bool:
        """Whether one of several domains, whichever it is, may fail under a layout in the given order; true of a
        single one, too."""
        if (spares, domain) not in self._numbers:
            number: dict[str, int] = {}
            of_each = [number.setdefault(d.place(domain), len(number)) for d in layout.members]
            self._numbers[spares, domain] = len(number), of_each
        units, of_each = self._numbers[spares, domain]
        width, tolerance = layout.width, layout.scheme.survives
        return units < 2 or all(
            max(Counter(of_each[first : first + width]).values()) <= tolerance
            for first in range(0, len(of_each), width)
        )  # fmt: skip


def lay_out(
    drives: Sequence[Drive], scheme: str, sets: int, spares: int, *, arranged: str = "", spares_for: str = "pool",
    known: Known | None = None,
) -> Layout | None:  # fmt: skip
    """A layout of the search again, from what its key says; None where it cannot be arranged so. ``known`` keeps
    arrangements of the same drives, so that schemes that need the same share it."""
    members, held = hold_back(drives, spares, spares_for)
    if arranged:
        ordered = (known or Known()).arranged(members, spares, sets, DIVIDED[scheme].survives, arranged)
        if ordered is None:
            return None
        members = list(ordered)
    laid = build_layout([*members, *held], scheme, sets=sets, spares=len(held), checked=True)
    return laid if known is None else replace(laid, known=known.same[spares])


def _of_part(
    drives: Sequence[Drive], part: str, question: Question, progress: Progress | None
) -> tuple[list[Considered], list[RuledOut]]:
    laid: list[_Laid] = []
    ruled_out: list[RuledOut] = []
    twins: dict[str, str] = {}
    over = [domain for domain in ARRANGED_OVER if _worth_arranging(drives, domain)]
    known = Known()
    for number, scheme in enumerate(DIVIDED.values()):
        if progress:
            progress(number, len(DIVIDED) + 2)  # the figures of all come last
        fitting = list(_divisions(scheme, drives, question))
        if not fitting:
            members = _members(drives, question.spares or 0, question)
            ruled_out.append(RuledOut(scheme.id, _why_none(scheme, members)))
        for sets, spares in fitting:
            found_so = list(_laid(drives, scheme, sets, spares, question, over, known))
            if twin := _twin(found_so[0].layout, larger_later=question.larger_later):
                twins[scheme.id] = twin
                continue
            laid += found_so
    listed = {one.layout.scheme.id for one in laid}
    ruled_out += [
        RuledOut(scheme, f"Drives of one size make it the same as {twin}, which is listed.")
        for scheme, twin in twins.items() if scheme not in listed
    ]  # fmt: skip
    figures = assess_all(
        [one.layout for one in laid], question.given_for(drives), file_system=question.file_system,
        reserved_share=question.reserved_share,
    )  # fmt: skip
    considered: list[Considered] = []
    usual = 0
    for one, found in zip(laid, figures, strict=True):
        usual = usual if one.arranged else found.space.usable
        candidate = Candidate(found, part, one.arranged, usual - found.space.usable)
        short = falls_short(found, question)
        if short:
            ruled_out.append(RuledOut(one.layout.scheme.id, short, candidate.key))
        considered.append(Considered(candidate, short is None))
    return considered, ruled_out


def _twin(layout: Layout, *, larger_later: bool) -> str | None:
    """The scheme under which the same layout is listed already, or None: stepped over drives of one size is one set of
    copies or parity. Where larger drives will come, the stepped one stands for both, as it grows by them."""
    scheme, members = layout.scheme, len(layout.members)
    if len(layout.sets) > 1 or len({d.extents for d in layout.members}) > 1 or not scheme.survives:
        return None
    if scheme.family is Family.STEPPED and not larger_later:
        return f"copies-{members}" if members == scheme.survives + 1 else f"parity-{scheme.survives}"
    stepped = f"stepped-{scheme.survives}"
    if scheme.family is Family.STEPPED or not larger_later or stepped not in DIVIDED:
        return None
    return stepped if members >= DIVIDED[stepped].least else None


@dataclass(frozen=True, slots=True)
class _Laid:
    layout: Layout
    arranged: str = ""


def _laid(
    drives: Sequence[Drive], scheme: Scheme, sets: int, spares: int, question: Question, over: Sequence[str],
    known: Known,
) -> Iterator[_Laid]:  # fmt: skip
    """The division in the given order, then arranged over shelves and hosts where that helps."""
    plain = lay_out(drives, scheme.id, sets, spares, spares_for=question.spares_for, known=known)
    assert plain is not None
    yield _Laid(plain)
    if not scheme.survives:
        return
    for domain in over:
        if not known.may_fail(plain, spares, domain):
            laid = lay_out(drives, scheme.id, sets, spares, arranged=domain, spares_for=question.spares_for,
                           known=known)  # fmt: skip
            if laid is not None:
                yield _Laid(laid, domain)


def _worth_arranging(drives: Sequence[Drive], domain: str) -> bool:
    """Whether the drives stand in several of them, and not every host is a shelf of its own."""
    if any(getattr(d, domain) is None for d in drives):
        return False
    if domain == "host" and all(d.shelf is not None for d in drives):
        pairs = {(d.shelf, d.host) for d in drives}
        if len(pairs) == len({s for s, _ in pairs}) == len({h for _, h in pairs}):
            return False
    return len({getattr(d, domain) for d in drives}) > 1


def assess_for(layout: Layout, question: Question) -> Assessment:
    """All figures of a layout under a question's assumptions and file system."""
    given = question.given_for((*layout.members, *layout.spares))
    return assess(layout, given, file_system=question.file_system, reserved_share=question.reserved_share)


def _members(drives: Sequence[Drive], spares: int, question: Question) -> int:
    return len(hold_back(drives, spares, question.spares_for)[0]) if spares else len(drives)


def _divisions(scheme: Scheme, drives: Sequence[Drive], question: Question) -> Iterator[tuple[int, int]]:
    """(sets, spares) for every division into equal sets that the scheme allows."""
    wanted = [question.spares] if question.spares is not None else range(min(OPEN_SPARES, len(drives) - 1) + 1)
    for spares in wanted:
        if spares and scheme.survives == 0 and question.spares is None:
            continue  # a spare has nothing to rebuild from
        for sets in set_counts(scheme, _members(drives, spares, question)):
            yield sets, spares


def _why_none(scheme: Scheme, members: int) -> str:
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


def falls_short(found: Assessment, question: Question) -> str | None:
    """Which need a layout does not meet, in a sentence; None if it meets all."""
    layout = found.layout
    name = layout.describe()
    if found.survives.guaranteed < question.survive:
        return f"{name}: only {found.survives.guaranteed} failed drives are sure to be survived, {question.survive} asked for."
    if found.space.usable < question.need:
        short = question.need - found.space.usable
        return f"{name}: {format_size(found.space.usable)} usable, {format_size(short)} short of the need."
    if found.space.usable <= 0:
        return f"{name}: nothing is left for files."
    for domain, asked in (("shelf", question.survive_shelves), ("host", question.survive_hosts)):
        if asked and (sure := guaranteed_of(layout, domain)) < asked:
            return f"{name}: {sure} failed {domain if sure == 1 else _PLURAL[domain]} are sure to be survived, {asked} asked for."
    if question.widest and layout.width > question.widest and layout.scheme.survives:
        return f"{name}: {layout.width} drives in a set, at most {question.widest} allowed."
    limit = question.rebuild_limit
    if limit is not None and found.rebuild_hours is None:
        return f"{name}: without redundancy there is no rebuild at all."
    if limit is not None and found.rebuild_hours is not None and found.rebuild_hours > limit:
        return (
            f"{name}: a rebuild takes {format_duration(found.rebuild_hours * 3600)}, "
            f"at most {format_duration(limit * 3600)} allowed."
        )
    if question.budget is not None and found.cost.total is not None and found.cost.total > question.budget:
        return f"{name}: costs {found.cost.total:,.2f}, {found.cost.total - question.budget:,.2f} over the budget."
    return None


_PLURAL = {"shelf": "shelves", "host": "hosts", "drive": "drives", "site": "sites"}


# -- needs nobody can meet ----------------------------------------------------------------------------


def _nearest(considered: Sequence[Considered], drives: Sequence[Drive], question: Question) -> tuple[Nearest, ...]:
    """The three layouts that come closest, each with what is missing in words."""
    close: list[tuple[tuple[float, ...], Candidate]] = []
    for candidate in (c.candidate for c in considered):
        a = candidate.assessment
        if a.space.usable <= 0:
            continue
        gaps = (
            max(0, question.survive - a.survives.guaranteed) / max(1, question.survive),
            max(0, question.need - a.space.usable) / max(1, question.need),
            float(bool(_other_gaps(candidate, question))),
        )
        close.append(((sum(g > 0 for g in gaps), sum(gaps), -a.space.usable), candidate))
    close.sort(key=lambda pair: (pair[0], pair[1].key))
    best: list[Candidate] = []
    for _, candidate in close:
        if all(candidate.layout.scheme.id != b.layout.scheme.id for b in best):
            best.append(candidate)
    return tuple(
        Nearest(c.key, c.layout.scheme.id, c.layout.describe(), c.space.usable, _missing(c, drives, question))
        for c in best[:3]
    )


def _other_gaps(candidate: Candidate, question: Question) -> list[str]:
    a, gaps = candidate.assessment, []
    for domain, asked in (("shelf", question.survive_shelves), ("host", question.survive_hosts)):
        if asked and (sure := guaranteed_of(candidate.layout, domain)) < asked:
            gaps.append(f"survives {sure} failed {_PLURAL[domain]}, {asked} asked for")
    if question.widest and candidate.layout.scheme.survives and candidate.layout.width > question.widest:
        gaps.append(f"{candidate.layout.width} drives in a set, at most {question.widest} allowed")
    if question.rebuild_limit is not None and (a.rebuild_hours is None or a.rebuild_hours > question.rebuild_limit):
        took = "has no rebuild" if a.rebuild_hours is None else f"rebuilds in {format_duration(a.rebuild_hours * 3600)}"
        gaps.append(f"{took}, {format_duration(question.rebuild_limit * 3600)} allowed")
    if question.budget is not None and a.cost.total is not None and a.cost.total > question.budget:
        gaps.append(f"{a.cost.total - question.budget:,.2f} over the budget")
    return gaps


def _missing(candidate: Candidate, drives: Sequence[Drive], question: Question) -> tuple[str, ...]:
    a = candidate.assessment
    missing = []
    if a.survives.guaranteed < question.survive:
        missing.append(f"survives {a.survives.guaranteed}, {question.survive} asked for")
    if a.space.usable < question.need:
        missing.append(f"{format_size(question.need - a.space.usable)} short")
    missing += _other_gaps(candidate, question)
    if more := _more_drives(candidate, drives, question):
        missing.append(more)
    return tuple(missing)


def _more_drives(candidate: Candidate, drives: Sequence[Drive], question: Question) -> str | None:
    """How many more drives, of the size there are most of, would make this scheme meet capacity and failures."""
    scheme = candidate.layout.scheme
    if scheme.survives < question.survive:
        return None
    size, _ = Counter(d.size for d in candidate.layout.members).most_common(1)[0]
    alike = next(d for d in drives if d.size == size)
    spares = len(candidate.layout.spares)
    for extra in range(1, _MOST_EXTRA + 1):
        more = [*drives, *(replace(alike, id=f"more {i}") for i in range(extra))]
        for sets, held in _divisions(scheme, more, replace(question, spares=spares)):
            if question.widest and (len(more) - held) // sets > question.widest and scheme.survives:
                continue
            laid = lay_out(more, scheme.id, sets, held, spares_for=question.spares_for)
            assert laid is not None
            space = space_account(laid, file_system=question.file_system, reserved_share=question.reserved_share)
            if space.usable >= question.need and survival(laid).guaranteed >= question.survive:
                drive = f"{format_size(size)} drive{'s' if extra > 1 else ''}"
                word = "one" if extra == 1 else str(extra)
                return f"{word} more {drive} would do, as {laid.describe()}"
    return None
