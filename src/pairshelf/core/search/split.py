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
    #: What the division gives against one pool, in sentences.
    compared: tuple[str, ...]


def split(
    drives: Sequence[Drive], uses: Sequence[Use], question: Question = Question(),
    *, progress: Callable[[int, int], None] | None = None,
) -> Split:  # fmt: skip
    """The division that meets most needs, puts uses on the kind of drive that suits them, and leaves
    the scarcest use the most headroom."""
    require_usable(drives)
    if not 2 <= len(uses) <= MOST_USES:
        raise BadInput(f"Name two to {MOST_USES} uses.", field="uses")
    if len(drives) < len(uses):
        raise BadInput("There are fewer drives than uses.", field="drives")
    for use in uses:
        workload_of(use.workload)
    asker = _Asker(question)
    ways = []
    for way in _divisions(drives, uses):
        still_wanted()
        ways.append(way)
    best: tuple[tuple[float, ...], tuple[tuple[Drive, ...], ...]] | None = None
    for number, way in enumerate(ways):
        if progress and number % 5 == 0:
            progress(number, len(ways))
        merit = _merit([asker.ask(use, part) for use, part in zip(uses, way, strict=True)], uses, way)
        if best is None or merit > best[0]:
            best = (merit, way)
    assert best is not None
    # The answers were those of drives alike; what is shown, and built, names these drives and where they stand.
    shares = tuple(_share(use, part, asker.ask_anew(use, part)) for use, part in zip(uses, best[1], strict=True))
    together = all_layouts(drives, replace(
        question, need=sum(u.need for u in uses), survive=max(u.survive for u in uses), spares=0, mix_kinds=False,
        workload=max(uses, key=lambda u: u.need).workload,
    ))  # fmt: skip
    one = together.layouts[0] if together.layouts else None
    short = None
    if one is None:
        near = together.nearest[0] if together.nearest else None
        short = (
            f"One pool cannot meet all needs: {', '.join(near.missing)}." if near else "One pool cannot meet all needs."
        )
    return Split(shares, all(s.best for s in shares), one, short, _compared(shares, one))


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
            self._question, need=use.need, survive=use.survive, workload=use.workload, spares=0, mix_kinds=True,
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


def _merit(answers: Sequence[Answer], uses: Sequence[Use], way: Sequence[Sequence[Drive]]) -> tuple[float, ...]:
    met = sum(bool(a.layouts) for a in answers)
    suits = sum(workload_of(u.workload).flash != part[0].rotates for u, part in zip(uses, way, strict=True))
    safe = sum(a.layouts[0].survives.guaranteed > 0 for a in answers if a.layouts)
    wanted = sum(u.need for u in uses) or 1
    room = [
        (a.layouts[0].space.usable if a.layouts else 0) / max(u.need, wanted / (4 * len(uses)), 1)
        for a, u in zip(answers, uses, strict=True)
    ]  # fmt: skip
    return (met, safe, suits, min(room), sum(room))


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
