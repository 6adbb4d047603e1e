"""What to buy: from a price list and free bays, what meets the needs at least cost, now and over later growth."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.price_list import Model
from pairshelf.core.errors import BadInput
from pairshelf.core.figures.assess import Assessment
from pairshelf.core.figures.assumptions import assume
from pairshelf.core.figures.space import space_account
from pairshelf.core.figures.survival import survival
from pairshelf.core.layouts import DIVIDED, Layout, build_layout
from pairshelf.core.layouts.model import Code, Family
from pairshelf.core.layouts.registry import set_counts, trade_name, why_not
from pairshelf.core.search.candidates import Question, assess_for, falls_short

#: Growth steps that are looked ahead.
MOST_STEPS = 2
MOST_BAYS = 240


@dataclass(frozen=True, slots=True)
class LaterPurchase:
    """A growth step: how many more drives of the model, how they come in, and what it costs by then."""

    need: int
    add: int
    how: str
    usable: int
    cost: float


@dataclass(frozen=True, slots=True)
class Purchase:
    """Drives of one model, laid out one way."""

    model: Model
    count: int
    assessment: Assessment
    #: Price of what is bought now.
    cost: float
    later: tuple[LaterPurchase, ...]
    #: Price of everything, all growth steps included; None when it cannot grow that far.
    cost_in_all: float | None
    bays_left: int

    @property
    def layout(self) -> Layout:
        """How they are laid out."""
        return self.assessment.layout

    @property
    def description(self) -> str:
        """Scheme and division in words."""
        named = trade_name(self.layout.scheme, len(self.layout.sets))
        return f"{self.layout.scheme.id}{f' ({named})' if named else ''}, {self.layout.describe()}"


@dataclass(frozen=True, slots=True)
class Shopping:
    """Purchases that meet the needs, cheapest over all steps first; and why the other models do not."""

    purchases: tuple[Purchase, ...]
    cheapest_now: Purchase | None
    cheapest_in_all: Purchase | None
    ruled_out: tuple[tuple[str, str], ...]


Progress = Callable[[int, int], None]


def shopping(
    models: Sequence[Model], bays: int, question: Question, *, have: Sequence[Drive] = (), then: Sequence[int] = (),
    progress: Progress | None = None,
) -> Shopping:  # fmt: skip
    """Purchases of one model each, with what is there already, in at most ``bays`` free bays.

    ``then`` are the capacities needed at the next growth steps (bytes, at most two).
    """
    if not 1 <= bays <= MOST_BAYS:
        raise BadInput(f"Give the number of free bays, 1 to {MOST_BAYS}.", field="bays")
    if not models:
        raise BadInput("The price list is empty.", field="prices")
    if len(then) > MOST_STEPS:
        raise BadInput(f"At most {MOST_STEPS} growth steps are looked ahead.", field="then")
    if question.need <= 0:
        raise BadInput("Say how much usable capacity is needed.", field="need")
    if any(later <= before for before, later in zip((question.need, *then), then, strict=False)):
        raise BadInput("Each growth step needs more than the one before.", field="then")
    room = bays - question.bays_free
    if room < 1:
        raise BadInput(f"{question.bays_free} of {bays} bays free leave none to buy for.", field="bays_free")
    found: list[Purchase] = []
    ruled_out: list[tuple[str, str]] = []
    for number, model in enumerate(models):
        if progress:
            progress(number, len(models))
        if model.price is None:
            ruled_out.append((model.name, "It has no price."))
            continue
        of_model, why = _of_model(model, room, question, have, then)
        found += of_model
        if not of_model:
            ruled_out.append((model.name, why))
    order = {scheme: i for i, scheme in enumerate(DIVIDED)}

    def place(p: Purchase) -> tuple[object, ...]:
        return p.layout.width > 10, order[p.layout.scheme.id], -p.assessment.space.usable, p.model.name

    found.sort(key=lambda p: (p.cost_in_all is None, p.cost_in_all or 0.0, p.cost, place(p)))
    now = min(found, key=lambda p: (p.cost, place(p)), default=None)
    in_all = next((p for p in found if p.cost_in_all is not None), None)
    return Shopping(tuple(found), now, in_all, tuple(ruled_out))


def _of_model(
    model: Model, room: int, question: Question, have: Sequence[Drive], then: Sequence[int]
) -> tuple[list[Purchase], str]:
    """For each scheme and number of drives in a set, the fewest drives that do."""
    assert model.price is not None
    if have and not question.mix_kinds and any(d.rotates != model.drive("x").rotates for d in have):
        return [], "It is of another kind than the drives that are there; kinds are kept apart."
    fewest: dict[tuple[str, int], Purchase] = {}
    nearest = "No number of them in the free bays meets the needs."
    most = 0
    spares = question.spares or 0
    for count in range(1, room + 1):
        drives = assume([*have, *(model.drive(f"new{i + 1}") for i in range(count))], question.given)
        alike = len({d.extents for d in drives}) == 1
        for scheme in DIVIDED.values():
            if alike and scheme.family is Family.STEPPED:
                continue  # of drives alike it is the parity layout by another name
            for sets in set_counts(scheme, len(drives) - spares):
                exact = scheme.least == scheme.most  # the width says nothing there
                shape = (scheme.id, 0 if exact else (len(drives) - spares) // sets)
                if shape in fewest:
                    continue
                layout = build_layout(drives, scheme.id, sets=sets, spares=spares, checked=True)
                usable = _usable(layout, question)
                most = max(most, usable if survival(layout).guaranteed >= question.survive else 0)
                if usable < question.need or survival(layout).guaranteed < question.survive:
                    continue
                found = assess_for(layout, question)
                if why := falls_short(found, question):
                    nearest = why
                    continue
                cost = round(count * model.price, 2)
                later, in_all = _grow(layout, model, count, room, question, then)
                fewest[shape] = Purchase(model, count, found, cost, later, in_all, room - count)
    if not fewest and most:
        nearest = f"At most {most / 1e12:.2f} TB usable in {room} bays, {question.need / 1e12:.2f} TB needed."
    return list(fewest.values()), nearest


def _usable(layout: Layout, question: Question) -> int:
    return space_account(layout, file_system=question.file_system, reserved_share=question.reserved_share).usable


def _grow(
    layout: Layout, model: Model, count: int, room: int, question: Question, then: Sequence[int]
) -> tuple[tuple[LaterPurchase, ...], float | None]:
    """The cheapest way on, step by step: wider sets or one more set, of the same model."""
    assert model.price is not None
    later: list[LaterPurchase] = []
    for need in then:
        options = [o for o in (_wider(layout, model, need, question), _more_sets(layout, model, need, question)) if o]
        options = [o for o in options if count + o[0] <= room]
        if not options:
            return tuple(later), None
        add, how, layout = min(options, key=lambda o: o[0])
        count += add
        later.append(LaterPurchase(need, add, how, _usable(layout, question), round(count * model.price, 2)))
    return tuple(later), round(count * model.price, 2)


_Option = tuple[int, str, Layout]


def _wider(layout: Layout, model: Model, need: int, question: Question) -> _Option | None:
    """One drive more for every set, again and again, until it is enough."""
    scheme, sets = layout.scheme, len(layout.sets)
    if scheme.code is Code.COPIES or scheme.id in ("stripe", "single"):
        return None
    for more in range(1, MOST_BAYS):
        if question.widest and layout.width + more > question.widest:
            return None
        members = [
            d for i, one in enumerate(layout.sets)
            for d in (*one, *(model.drive(f"later{i}-{j}") for j in range(more)))
        ]  # fmt: skip
        if why_not(scheme, layout.width + more, sets):
            return None
        grown = _again(members, layout, sets, question)
        if _usable(grown, question) >= need:
            return more * sets, f"{more} more for each of {sets} sets" if sets > 1 else f"{more} more", grown
        if more * sets > MOST_BAYS:
            return None
    return None


def _more_sets(layout: Layout, model: Model, need: int, question: Question) -> _Option | None:
    scheme, width = layout.scheme, layout.width
    if scheme.family is Family.STEPPED or not scheme.survives:
        return None
    for more in range(1, MOST_BAYS // width + 1):
        members = [*layout.members, *(model.drive(f"later{i}") for i in range(more * width))]
        grown = _again(members, layout, len(layout.sets) + more, question)
        if _usable(grown, question) >= need:
            return more * width, f"{more} more set{'s' if more > 1 else ''} of {width}", grown
    return None


def _again(members: Sequence[Drive], layout: Layout, sets: int, question: Question) -> Layout:
    drives = [*members, *layout.spares]
    named = [replace(d, id=f"{i}") for i, d in enumerate(assume(drives, question.given))]
    return build_layout(named, layout.scheme.id, sets=sets, spares=len(layout.spares), checked=True)
