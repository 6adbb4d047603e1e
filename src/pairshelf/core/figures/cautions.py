"""What a layout should be told to beware of: each with a code and a sentence (rules: cautions)."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise

from pairshelf.core.changes.pools.add_drive import grows_by_more_than_one
from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.units import format_size
from pairshelf.core.figures.assumptions import Assumptions
from pairshelf.core.figures.space import SpaceAccount
from pairshelf.core.figures.speed import LEFT_FOR_REBUILD, asked_share
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.model import Code

#: Widest parity set without a caution.
WIDE = 10
#: From this chance to meet an unreadable sector in a rebuild on, single parity is cautioned against.
HIGH_Q = 0.05
#: From this share of the raw capacity on, unevenness is worth a word.
MUCH_UNEVEN = 0.02
#: Alike drives with neighbouring serials or dates that make a batch.
BATCH = 3
_NEIGHBOURS = 5
_SAME_WEEKS = 31


@dataclass(frozen=True, slots=True)
class CautionCase:
    """What a caution is asked about."""

    layout: Layout
    space: SpaceAccount
    #: The chance of an unreadable sector in its last-ditch rebuild.
    q: float
    given: Assumptions


@dataclass(frozen=True, slots=True)
class CautionKind:
    """Something a layout may have to be told to beware of."""

    code: str
    #: The short name it is listed under.
    name: str
    #: What is said of a layout; None where it does not hold.
    says: Callable[[CautionCase], str | None]


@dataclass(frozen=True, slots=True)
class Caution:
    """One thing to beware of."""

    code: str
    sentence: str


def cautions(layout: Layout, space: SpaceAccount, q: float, given: Assumptions) -> tuple[Caution, ...]:
    """All that hold of a layout; ``q`` is the chance of an unreadable sector in its last-ditch rebuild."""
    asked = CautionCase(layout, space, q, given)
    return tuple(Caution(k.code, said) for k in CAUTIONS.values() if (said := k.says(asked)) is not None)


def _no_redundancy(asked: CautionCase) -> str | None:
    if asked.layout.scheme.survives:
        return None
    return "No redundancy: a single failed drive loses everything in the pool."


def _single_parity_large(asked: CautionCase) -> str | None:
    if asked.layout.scheme.survives != 1 or asked.q < HIGH_Q:
        return None
    return (
        "While one drive is rebuilt nothing protects the rest, and by the makers' figure there is a chance of "
        f"{asked.q:.0%} that a sector of it cannot be read."
    )


def _wide_set(asked: CautionCase) -> str | None:
    width = asked.layout.width
    if asked.layout.scheme.code is not Code.PARITY or width <= WIDE:
        return None
    return f"Each set spans {width} drives; above {WIDE}, rebuilds read much and small writes slow down."


def _uneven(asked: CautionCase) -> str | None:
    if asked.space.uneven <= MUCH_UNEVEN * asked.space.raw:
        return None
    return f"{format_size(asked.space.uneven)} cannot be used because the drives differ in size."


def _grows_by_more_than_one(asked: CautionCase) -> str | None:
    return grows_by_more_than_one(asked.layout) or None


def _no_backup(asked: CautionCase) -> str | None:
    if asked.given.backup is not None:
        return None
    return "No backup is recorded. Redundancy is no backup: deleted or spoilt files stay lost."


def _no_error_recovery_limit(asked: CautionCase) -> str | None:
    layout = asked.layout
    if not layout.scheme.survives or not (
        count := layout.same("without limit", lambda: _without_limit(layout.members))
    ):
        return None
    return (
        f"{count} rotating drive{'s have' if count > 1 else ' has'} no error-recovery limit known: a bad sector "
        "may hold one up so long that it counts as failed."
    )


def _one_shelf(asked: CautionCase) -> str | None:
    layout, sets = asked.layout, len(asked.layout.sets)
    if not layout.scheme.survives or sets < 2:
        return None
    shelves = layout.same("shelves", lambda: {d.shelf for d in layout.members})
    if len(shelves) > 1 or None in shelves:
        return None
    return f"All {sets} sets stand on one shelf; when it goes, all of them go."


def _one_batch(asked: CautionCase) -> str | None:
    return _batch(asked.layout)


def _mixed_kinds(asked: CautionCase) -> str | None:
    layout = asked.layout
    if not layout.same("mixed kinds", lambda: len({d.rotates for d in layout.members}) > 1):
        return None
    return "Rotating and flash drives are mixed; the pool is as slow as the slowest of them."


def _spare_too_small(asked: CautionCase) -> str | None:
    small = [s for s in asked.layout.spares if max(asked.layout.used_extents) > s.extents]
    if not small:
        return None
    return (
        f"{len(small)} spare{'s are' if len(small) > 1 else ' is'} smaller than some members and cannot replace those."
    )


def _overloaded(asked: CautionCase) -> str | None:
    share = asked_share(asked.layout, asked.given)
    if share <= 1 - LEFT_FOR_REBUILD:
        return None
    return f"Users' writes take {share:.0%} of what the drives bear; a rebuild beside them is a guess."


def _without_limit(drives: Sequence[Drive]) -> int:
    """Rotating drives of a known model that report no error-recovery limit; of what-ifs nothing is known."""
    return sum(d.model is not None and d.error_recovery is None and d.rotates for d in drives)


def _batch(layout: Layout) -> str | None:
    worst: tuple[int, str] | None = None
    for number, one in enumerate(layout.sets, start=1):
        by_model: dict[str, list[Drive]] = defaultdict(list)
        for drive in one:
            if drive.model:
                by_model[drive.model].append(drive)
        for model, alike in by_model.items():
            count = max(_run(sorted(n for d in alike if (n := _serial_number(d.serial)) is not None), _NEIGHBOURS),
                        _run(sorted(d.in_service.toordinal() for d in alike if d.in_service), _SAME_WEEKS))  # fmt: skip
            if count >= BATCH and (worst is None or count > worst[0]):
                where = f"Set {number} holds" if len(layout.sets) > 1 else "It holds"
                worst = (count, f"{where} {count} drives {model} with neighbouring serials or dates: drives of one "
                                "batch fail together more often than the odds assume.")  # fmt: skip
    return worst[1] if worst else None


def _run(numbers: Sequence[int], step: int) -> int:
    """The longest run of sorted numbers in which each is at most ``step`` from the one before."""
    longest = current = 1 if numbers else 0
    for before, after in pairwise(numbers):
        current = current + 1 if after - before <= step else 1
        longest = max(longest, current)
    return longest


def _serial_number(serial: str | None) -> int | None:
    digits = re.findall(r"\d+", serial or "")
    return int(digits[-1][-12:]) if digits else None


_ALL = (
    CautionKind("no-redundancy", "no redundancy", _no_redundancy),
    CautionKind("single-parity-large", "an unreadable sector is likely in a rebuild", _single_parity_large),
    CautionKind("wide-set", "a wide parity set", _wide_set),
    CautionKind("uneven", "uneven sizes waste space", _uneven),
    CautionKind("grows-by-more-than-one", "cannot grow by one drive", _grows_by_more_than_one),
    CautionKind("no-backup", "no backup recorded", _no_backup),
    CautionKind("no-error-recovery-limit", "no error-recovery limit", _no_error_recovery_limit),
    CautionKind("one-shelf", "all on one shelf", _one_shelf),
    CautionKind("one-batch", "one batch", _one_batch),
    CautionKind("mixed-kinds", "rotating and flash mixed", _mixed_kinds),
    CautionKind("spare-too-small", "a spare is too small", _spare_too_small),
    CautionKind("overloaded", "more writes than the drives bear", _overloaded),
)
#: Every caution there is, by code, in the order in which they are said.
CAUTIONS = {kind.code: kind for kind in _ALL}
