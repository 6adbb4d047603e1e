"""Splitting by use: several uses with different needs on one stock of drives, against one pool for all."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import permutations, product

from pairshelf.core.domain.drives import Drive, require_usable
from pairshelf.core.domain.units import format_chance, format_size
from pairshelf.core.errors import BadInput
from pairshelf.core.figures.workloads import workload_of
from pairshelf.core.patience import still_wanted
from pairshelf.core.search.candidates import Answer, Candidate, Question, all_layouts
from pairshelf.core.search.ranking import aim_of, meets_aim, restores_quickly, safe_enough, scores_of

MOST_USES = 4
#: Places where a row of drives is cut between two uses, at most.
_MOST_CUTS = 24


@dataclass(frozen=True, slots=True)
class Use:
    """One use with its needs."""

    name: str
    workload: str
    need: int = 0
    survive: int = 0
    #: Ids of the drives picked for it; empty: it gets some of those that nobody picked.
    drives: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Portion:
    """What one use gets: its drives and the layout that serves it best; None when none meets its needs."""

    use: Use
    drives: tuple[Drive, ...]
    best: Candidate | None
    why: str


@dataclass(frozen=True, slots=True)
class Split:
    """The proposed division into pools, and one pool for all beside it."""

    shares: tuple[Portion, ...]
    #: All needs are met.
    meets: bool
    one_pool: Candidate | None
    one_pool_short: str | None
    #: Whether one pool for all gives every use at least as much, and something more.
    one_pool_better: bool
    #: What the division gives against one pool, in sentences.
    compared: tuple[str, ...]


def split(
    drives: Sequence[Drive], uses: Sequence[Use], question: Question = Question(),
    *, progress: Callable[[int, int], None] | None = None,
) -> Split:  # fmt: skip
    """The division that meets most needs with layouts that may be suggested, puts uses on the kind of drive that suits
    them, and serves the use that gets least as well as can be, by the ranking of the comparison. Drives picked for a use
    are given to it; BadInput where they cannot be."""
    require_usable(drives)
    if not 2 <= len(uses) <= MOST_USES:
        raise BadInput(f"Name two to {MOST_USES} uses.", field="uses")
    if len(drives) < len(uses):
        raise BadInput("There are fewer drives than uses.", field="drives")
    for use in uses:
        workload_of(use.workload)
    asker = _Asker(question)
    ways = []
    for way in _with_picked(drives, uses):
        still_wanted()
        ways.append(way)
    answers: list[list[Answer]] = []
    for number, way in enumerate(ways):
        if progress and number % 5 == 0:
            progress(number, len(ways))
        answers.append([asker.ask(use, part) for use, part in zip(uses, way, strict=True)])
    merits = _merits(answers, uses, ways, question)
    best = ways[max(range(len(ways)), key=merits.__getitem__)]
    # The answers were those of drives alike; what is shown, and built, names these drives and where they stand.
    shares = tuple(_share(use, part, asker.ask_anew(use, part)) for use, part in zip(uses, best, strict=True))
    together = all_layouts(drives, replace(
        question, need=sum(u.need for u in uses), survive=max(u.survive for u in uses), mix_kinds=False,
        workload=max(uses, key=lambda u: u.need).workload,
    ))  # fmt: skip
    one = together.layouts[0] if together.layouts else None
    short = None
    if one is None:
        near = together.nearest[0] if together.nearest else None
        short = (
            f"One pool cannot meet all needs: {', '.join(near.missing)}." if near else "One pool cannot meet all needs."
        )
    better = _one_is_better(shares, one)
    said = _compared(shares, one)
    if better:
        said = ("One pool for all is better here: no use has less of anything, and all of it is shared.", *said)
    return Split(shares, all(s.best for s in shares), one, short, better, said)


def _one_is_better(shares: Sequence[Portion], one: Candidate | None) -> bool:
    """Whether one pool meets needs that pools apart do not, or gives each use as much as a pool of its own: capacity and
    protection as a whole, small writes as an equal share."""
    if one is None:
        return False
    parts = [s.best for s in shares if s.best]
    if len(parts) < len(shares):
        return True
    own = one.assessment
    return (
        own.space.usable >= sum(b.space.usable for b in parts)
        and own.survives.guaranteed >= max(b.survives.guaranteed for b in parts)
        and all(own.small_writes / len(parts) >= b.assessment.small_writes for b in parts)
    )


def _with_picked(drives: Sequence[Drive], uses: Sequence[Use]) -> Iterator[tuple[tuple[Drive, ...], ...]]:
    """Every division in which each use has the drives that were picked for it; the others divide the rest."""
    by_id = {d.id: d for d in drives}
    owner: dict[str, int] = {}
    for number, use in enumerate(uses):
        for one in use.drives:
            if one not in by_id:
                raise BadInput("A drive that was picked is not among these drives.", field=f"uses.{number}.drives")
            if owner.setdefault(one, number) != number:
                raise BadInput(f"A drive is picked for {uses[owner[one]].name} already.", field=f"uses.{number}.drives")
    rest = [d for d in drives if d.id not in owner]
    open_uses = [(i, u) for i, u in enumerate(uses) if not u.drives]
    if len(rest) < len(open_uses):
        number, use = open_uses[-1]
        raise BadInput(f"No drive is left for {use.name}.", field=f"uses.{number}.drives")
    picked = {i: tuple(by_id[d] for d in dict.fromkeys(u.drives)) for i, u in enumerate(uses) if u.drives}
    if len(open_uses) < 2:
        picked |= {i: tuple(rest) for i, _ in open_uses}
        yield tuple(picked[i] for i in range(len(uses)))
        return
    for way in _divisions(rest, [u for _, u in open_uses]):
        parts = picked | {i: part for (i, _), part in zip(open_uses, way, strict=True)}
        yield tuple(parts[i] for i in range(len(uses)))


class _Asker:
    """Asks for the best layout of some drives for a use, once for drives alike."""

    def __init__(self, question: Question) -> None:
        self._question = question
        self._known: dict[tuple[object, ...], Answer] = {}

    def ask(self, use: Use, drives: Sequence[Drive]) -> Answer:
        alike = tuple(sorted(Counter((d.kind, d.size, d.rate, d.ops, d.afr) for d in drives).items(), key=str))
        key = (use, alike)
        if key not in self._known:
            self._known[key] = self.ask_anew(use, drives)
        return self._known[key]

    def ask_anew(self, use: Use, drives: Sequence[Drive]) -> Answer:
        return all_layouts(drives, replace(
            self._question, need=use.need, survive=use.survive, workload=use.workload, mix_kinds=True,
        ))  # fmt: skip


def _divisions(drives: Sequence[Drive], uses: Sequence[Use]) -> Iterator[tuple[tuple[Drive, ...], ...]]:
    """Every use gets a run of drives of one kind, in the order of size; no drive is left over."""
    kinds = [k for k in ([d for d in drives if d.rotates], [d for d in drives if not d.rotates]) if k]
    rows = [sorted(k, key=lambda d: (d.size, d.rate or 0)) for k in kinds]
    for assigned in product(range(len(rows)), repeat=len(uses)):
        on_row = [[u for u, r in enumerate(assigned) if r == row] for row in range(len(rows))]
        if any(not some for some in on_row) and len(uses) >= len(rows):
            continue
        if any(len(some) > len(row) for some, row in zip(on_row, rows, strict=True)):
            continue
        cut_rows = [list(_cuts(row, some)) for row, some in zip(rows, on_row, strict=True) if some]
        for chosen in product(*cut_rows):
            parts: dict[int, tuple[Drive, ...]] = {}
            for some in chosen:
                parts |= some
            yield tuple(parts[u] for u in range(len(uses)))


def _cuts(row: Sequence[Drive], uses: Sequence[int]) -> Iterator[dict[int, tuple[Drive, ...]]]:
    if len(uses) == 1:
        yield {uses[0]: tuple(row)}
        return
    step = max(1, len(row) // _MOST_CUTS)
    alike = len({(d.size, d.rate) for d in row}) == 1
    for order in [tuple(uses)] if alike else permutations(uses):
        yield from _cut(row, order, step)


def _cut(row: Sequence[Drive], order: Sequence[int], step: int) -> Iterator[dict[int, tuple[Drive, ...]]]:
    if len(order) == 1:
        yield {order[0]: tuple(row)}
        return
    for size in range(1, len(row) - len(order) + 2, step):
        for rest in _cut(row[size:], order[1:], step):
            yield {order[0]: tuple(row[:size])} | rest


def _merits(
    answers: Sequence[Sequence[Answer]], uses: Sequence[Use], ways: Sequence[Sequence[Sequence[Drive]]],
    question: Question,
) -> list[tuple[float, ...]]:  # fmt: skip
    """What each division is worth. How well a use is served is told by the comparison's own ranking, over the best
    layouts of that use in all divisions."""
    served: list[dict[int, float]] = []
    for number, use in enumerate(uses):
        firsts = {id(row[number]): row[number] for row in answers if row[number].layouts}
        found = [a.layouts[0].assessment for a in firsts.values()]
        enough = safe_enough([d for part in ways[0] for d in part], question.given)
        scores = scores_of(found, workload_of(use.workload), enough) if found else []
        served.append(dict(zip(firsts, scores, strict=True)))
    merits: list[tuple[float, ...]] = []
    for row, way in zip(answers, ways, strict=True):
        met = sum(bool(a.layouts) for a in row)
        sensible = sum(
            meets_aim(a.layouts[0].assessment, aim_of(part, restores_quickly(part, question.given)))
            for a, part in zip(row, way, strict=True) if a.layouts
        )  # fmt: skip
        suits = sum(workload_of(u.workload).flash != part[0].rotates for u, part in zip(uses, way, strict=True))
        well = [served[i].get(id(a), 0.0) for i, a in enumerate(row)]
        merits.append((met, sensible, suits, round(min(well), 9), round(sum(well), 9)))
    return merits


def _share(use: Use, drives: Sequence[Drive], answer: Answer) -> Portion:
    if answer.layouts:
        best = answer.layouts[0]
        return Portion(use, tuple(drives), best, answer.reason or "")
    near = answer.nearest[0] if answer.nearest else None
    return Portion(use, tuple(drives), None, ", ".join(near.missing) if near else "No layout meets its needs.")


def _compared(shares: Sequence[Portion], one: Candidate | None) -> tuple[str, ...]:
    if one is None or not all(s.best for s in shares):
        return ()
    found = []
    unused = sum(len(s.drives) for s in shares) - len(one.layout.members) - len(one.layout.spares)
    if unused:
        found.append(f"One pool leaves {unused} of the drives unused: rotating and flash are kept apart.")
    parts = [(s, s.best) for s in shares if s.best]
    apart, whole = sum(b.space.usable for _, b in parts), one.space.usable
    word = "more" if apart >= whole else "less"
    found.append(
        f"Apart they have {format_size(apart)} usable in all, {format_size(abs(apart - whole))} {word} than one pool."
    )
    for share, best in parts:
        own, shared = best.assessment.small_writes, one.assessment.small_writes
        found.append(
            f"{share.use.name}: about {own:,.0f} small writes a second of its own, against {shared:,.0f} that all share."
        )
    worst = max(b.assessment.odds.yearly_damage for _, b in parts)
    found.append(
        f"Chance of damage or loss within a year: {format_chance(worst)} for the riskiest of the pools, "
        f"{format_chance(one.assessment.odds.yearly_damage)} for one pool, where it would touch everything."
    )
    return tuple(found)
