"""Drives that belong to nothing, wiped as one lot: each by a method that reaches the category wanted on it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import ChangeSheet, Erased, Takes
from pairshelf.core.disposal.facts import Category, DriveFacts
from pairshelf.core.disposal.methods import METHODS, Method, chosen, method_of
from pairshelf.core.disposal.times import lot_seconds, uses_the_link, verify_seconds, wipe_seconds
from pairshelf.core.disposal.verifying import USUAL_REMNANT, chance_missed, check_sample, remnant_extents
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstateDrive
from pairshelf.core.domain.units import format_size, parse_size
from pairshelf.core.errors import BadInput, Gone, NotPossible
from pairshelf.core.figures.durations import Duration

#: Most drives in one lot.
MOST = 200


@dataclass(frozen=True, slots=True)
class Wipe:
    """Wipe drives that belong to nothing, as one lot."""

    drives: tuple[int, ...]
    #: clear or purge, for all of them.
    category: str = Category.PURGE.value
    #: Drives for which another category is enough, or too little: ``12=clear``.
    categories: tuple[str, ...] = ()
    #: One method for all, or single drives' as ``12=block-erase``; what is left out is suggested.
    methods: tuple[str, ...] = ()
    #: What is read back afterwards: all, or a sample.
    verify: str = "all"
    #: Extents in the sample.
    sample: int | None = None
    #: The remnant that the chance of missing one is said of: 1 MiB if left out.
    remnant: str | None = None
    #: Where the drives go afterwards, as far as that is known.
    destination: str | None = None


@dataclass(frozen=True, slots=True)
class Wiped:
    """One drive of the lot, and how it is wiped."""

    drive: EstateDrive
    facts: DriveFacts
    category: Category
    method: Method
    #: Extents read back.
    read_back: int
    erase_seconds: float
    verify_seconds: float


@dataclass(frozen=True, slots=True)
class WipePlan:
    """The lot."""

    sheet: ChangeSheet
    request: Wipe
    drives: tuple[Wiped, ...]
    remnant: int
    #: Seconds until all are done.
    seconds: float


def facts_of(estate: Estate, drive: EstateDrive) -> DriveFacts:
    """What matters of a drive for wiping it."""
    known = drive.as_drive
    # While the pool that encrypted it is there, or may come back, its key is.
    sealed = drive.sealed_by if drive.sealed_by and drive.sealed_by.lower() not in estate.pool_names else None
    return DriveFacts(
        drive.kind, drive.size, max(1, round(known.mean_rate)), dict(estate.identities).get(drive.id), known.link,
        drive.shelf, drive.condition, sealed, drive.holds,
    )  # fmt: skip


def plan(estate: Estate, request: Wipe) -> WipePlan:
    """The sheet for the lot. Raises for a drive that is needed, a method that does not reach the category on its
    drive, a sample that cannot be, naming the field."""
    drives = drives_to_let_go(estate, request.drives)
    usual, others = _category(request.category), _categories(request.categories, drives)
    named = _methods(request.methods, drives)
    remnant = parse_size(request.remnant) if request.remnant else USUAL_REMNANT
    if request.verify not in ("all", "sample"):
        raise BadInput("Read back all, or a sample.", field="verify")
    if request.verify == "sample" and request.sample is None:
        raise BadInput("Say how many extents the sample has.", field="sample")
    touched = remnant_extents(remnant)
    lot, refused = [], []
    for drive in drives:
        facts, category = facts_of(estate, drive), others.get(drive.id, usual)
        try:
            method = chosen(facts, category, named.get(drive.id, named.get(0, "")))
        except NotPossible as error:
            refused.append(f"{drive.named}: {error.message}")
            continue
        if method.by_hand:
            why_not = _why_not(facts, category)
            whys = {why for _, why in why_not}
            # One reason for all of them is said once.
            named_so = [(f"{m}: ", why) for m, why in why_not] if len(whys) > 1 else [("", why) for why in whys]
            reasons = "; ".join(f"{m}{why[0].lower()}{why[1:]}".rstrip(".") for m, why in named_so)
            refused.append(
                f"{drive.named}: nothing reaches {category.value.title()} on it ({reasons}). "
                "Choose Clear, or record its destruction."
            )
            continue
        whole = facts.shown
        if request.verify == "sample":
            assert request.sample is not None
            check_sample(whole, request.sample)
        read_back = whole if request.verify == "all" else request.sample or 0
        lot.append(
            Wiped(
                drive, facts, category, method, read_back, wipe_seconds(facts, method), verify_seconds(facts, read_back)
            )
        )
    if refused:
        raise NotPossible(" ".join(refused), code="does-not-reach", field="drives")
    seconds = lot_seconds([(w.facts, w.method, w.erase_seconds + w.verify_seconds) for w in lot])
    one = len(lot) == 1
    sheet = ChangeSheet(
        kind="wipe",
        title=f"Wipe {lot[0].drive.place}" if one else f"Wipe {len(lot)} drives",
        why=_reached(lot),
        figures=(),
        erases=tuple(Erased(w.drive.id, w.drive.place, w.drive.serial, w.drive.size, w.drive.holds) for w in lot),
        takes=(Takes.of("Wiping and reading back", Duration(seconds, seconds, seconds)),),
        meanwhile=(
            "A drive that is being wiped is neither free nor intact. The lot can be paused and stopped; what was wiped "
            "until then is gone.",
            *(("Power may go off: overwriting goes on where it was.",) if any(w.method.goes_on for w in lot) else ()),
            *(("Power may go off: a drive that erases by itself begins anew.",) if any(not w.method.goes_on for w in lot) else ()),
        ),
        fixed=("What is wiped cannot be brought back by anybody.",),
        steps=(
            *(f"{m.name[0].upper()}{m.name[1:]} ({_names(own)}): {m.about[0].lower()}{m.about[1:]}" for m, own in _by_method(lot)),
            _reading_back(lot, request, remnant, touched),
            "Write a certificate for each drive that is wiped and verified; for no other.",
        ),
        cautions=tuple(_cautions(lot)),
        confirm=lot[0].drive.serial if one else f"{len(lot)} drives",
        role="administrator",
    )  # fmt: skip
    return WipePlan(sheet, request, tuple(lot), remnant, seconds)


def _categories(named: Sequence[str], drives: Sequence[EstateDrive]) -> Mapping[int, Category]:
    """Drive to its own category."""
    found: dict[int, Category] = {}
    ids = {d.id for d in drives}
    for one in named:
        drive, _, name = one.partition("=")
        if not drive.isdecimal() or int(drive) not in ids:
            raise BadInput(f"{drive or one} is none of these drives.", field="categories")
        if int(drive) in found:
            raise BadInput("Two categories are named for one drive.", field="categories")
        found[int(drive)] = _category(name, "categories")
    return found


def _reached(lot: Sequence[Wiped]) -> str:
    """What nobody can do afterwards, by category."""
    said = []
    for category, beyond in (
        (Category.PURGE, "recovered in a laboratory"), (Category.CLEAR, "read through the drive's own interface")
    ):  # fmt: skip
        own = [w for w in lot if w.category is category]
        if own:
            whose = "" if len(own) == len(lot) else f", {_names(own)}"
            them = "it" if len(own) == 1 else "them"
            said.append(
                f"{category.value.title()} (NIST SP 800-88){whose}: nothing that was on {them} can be {beyond} afterwards."
            )
    return " ".join(said)


def _category(name: str, field: str = "category") -> Category:
    try:
        category = Category(name)
    except ValueError:
        raise BadInput("The category is clear or purge.", field=field) from None
    if category is Category.DESTROY:
        raise BadInput("Destruction is done by somebody and recorded: hand the drives out as destroyed.", field=field)
    return category


def drives_to_let_go(estate: Estate, ids: Sequence[int]) -> list[EstateDrive]:
    """Drives that belong to nothing. Raises at ``drives`` for none, too many, one named twice, one that is not there, and,
    with every reason, for those that are needed."""
    if not ids:
        raise BadInput("Choose the drives.", field="drives")
    if len(ids) > MOST:
        raise BadInput(f"At most {MOST} drives at once; these are {len(ids)}. Make several lots.", field="drives")
    if len(set(ids)) < len(ids):
        raise BadInput("A drive is chosen twice.", field="drives")
    found, kept = [], []
    for number in ids:
        drive = estate.drive(number)
        if drive is None:
            raise Gone("drive", number, field="drives")
        if why := why_kept(estate, drive):
            kept.append(f"{drive.named}: {why}")
        found.append(drive)
    if kept:
        raise NotPossible(" ".join(kept), code="drive-needed", field="drives")
    return found


def why_kept(estate: Estate, drive: EstateDrive) -> str | None:
    """Why a drive may not be wiped, with the way there; None where it belongs to nothing."""
    if why := drive.why_not_wiped():
        return why
    if wanted := dict(estate.wanted_back).get(drive.id):
        pool, until = wanted
        return (
            f"Pool {pool} may be put together again until {until:%Y-%m-%d %H:%M}, and it is needed for that; let that go "
            "first."
        )
    return None


def _methods(named: Sequence[str], drives: Sequence[EstateDrive]) -> Mapping[int, str]:
    """Drive to method; that of 0 is for all others."""
    found: dict[int, str] = {}
    ids = {d.id for d in drives}
    for one in named:
        drive, _, name = one.rpartition("=")
        method_of(name)
        if drive and (not drive.isdecimal() or int(drive) not in ids):
            raise BadInput(f"{drive} is none of these drives.", field="methods")
        key = int(drive) if drive else 0
        if key in found:
            raise BadInput("Two methods are named for one drive.", field="methods")
        found[key] = name
    return found


def _why_not(facts: DriveFacts, category: Category) -> list[tuple[str, str]]:
    return [(m.name, why) for m in METHODS.values() if not m.by_hand and (why := m.why_not(facts, category))]


def _by_method(lot: Sequence[Wiped]) -> list[tuple[Method, list[Wiped]]]:
    found: dict[str, list[Wiped]] = {}
    for one in lot:
        found.setdefault(one.method.id, []).append(one)
    return [(own[0].method, own) for own in found.values()]


def _names(lot: Sequence[Wiped]) -> str:
    names = ", ".join(w.drive.serial for w in lot[:4])
    return names + (f" and {len(lot) - 4} more" if len(lot) > 4 else "")


def _reading_back(lot: Sequence[Wiped], request: Wipe, remnant: int, touched: int) -> str:
    if request.verify == "all":
        return "Read back everything that the drives show, and compare."
    worst = max(chance_missed(w.facts.shown, w.read_back, min(touched, w.facts.shown)) for w in lot)
    return (
        f"Read back {request.sample} extents of each, drawn by chance: a remnant of {format_size(remnant)} would be missed "
        f"with a probability of {worst:.4g}."
    )


def _cautions(lot: Sequence[Wiped]) -> list[str]:
    found = []
    slow = [w for w in lot if uses_the_link(w.method)]
    if any(w.facts.link for w in slow):
        found.append("As many are written to at once as the link of their shelf bears; the others wait their turn.")
    for w in lot:
        if w.drive.condition == "failing":
            found.append(
                f"{w.drive.named} is failing by its own readings: it may die on the way, and is then only partly wiped."
            )
    if any(w.method.id == "key-gone" for w in lot):
        found.append(
            "It counts only if no copy of the passphrase with the wrapped key is left anywhere, in backups of the books either."
        )
    if any(w.method.id == "crypto-erase" for w in lot):
        found.append("That a key was changed is believed of the drive; it is seen only that nothing reads as before.")
    return found


def context(request: Wipe) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(drives=request.drives[: MOST + 1], identities=True)


KIND = ChangeKind("wipe", Act.WIPE_DRIVES, Wipe, context, plan, approved_by=Act.LET_GO, in_pairs=True)
