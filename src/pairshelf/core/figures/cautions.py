"""What a layout should be told to beware of: each with a code and a sentence (rules: cautions)."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Sequence
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

#: Every caution there is, by code, with the short name it is listed under.
CODES: dict[str, str] = {
    "no-redundancy": "no redundancy",
    "single-parity-large": "an unreadable sector is likely in a rebuild",
    "wide-set": "a wide parity set",
    "uneven": "uneven sizes waste space",
    "grows-by-more-than-one": "cannot grow by one drive",
    "no-backup": "no backup recorded",
    "no-error-recovery-limit": "no error-recovery limit",
    "one-shelf": "all on one shelf",
    "one-batch": "one batch",
    "mixed-kinds": "rotating and flash mixed",
    "spare-too-small": "a spare is too small",
    "overloaded": "more writes than the drives bear",
}


@dataclass(frozen=True, slots=True)
class Caution:
    """One thing to beware of."""

    code: str
    sentence: str


def cautions(layout: Layout, space: SpaceAccount, q: float, given: Assumptions) -> tuple[Caution, ...]:
    """All that hold of a layout; ``q`` is the chance of an unreadable sector in its last-ditch rebuild."""
    scheme, width, sets = layout.scheme, layout.width, len(layout.sets)
    found: list[Caution] = []

    def say(code: str, sentence: str) -> None:
        found.append(Caution(code, sentence))

    if scheme.survives == 0:
        say("no-redundancy", "No redundancy: a single failed drive loses everything in the pool.")
    if scheme.survives == 1 and q >= HIGH_Q:
        say("single-parity-large",
            f"While one drive is rebuilt nothing protects the rest, and by the makers' figure there is a chance of "
            f"{q:.0%} that a sector of it cannot be read.")  # fmt: skip
    if scheme.code is Code.PARITY and width > WIDE:
        say("wide-set", f"Each set spans {width} drives; above {WIDE}, rebuilds read much and small writes slow down.")
    if space.uneven > MUCH_UNEVEN * space.raw:
        say("uneven", f"{format_size(space.uneven)} cannot be used because the drives differ in size.")
    if sentence := grows_by_more_than_one(layout):
        say("grows-by-more-than-one", sentence)
    if given.backup is None:
        say("no-backup", "No backup is recorded. Redundancy is no backup: deleted or spoilt files stay lost.")
    if scheme.survives and (count := layout.same("without limit", lambda: _without_limit(layout.members))):
        say("no-error-recovery-limit",
            f"{count} rotating drive{'s have' if count > 1 else ' has'} no error-recovery limit known: a bad sector "
            "may hold one up so long that it counts as failed.")  # fmt: skip
    if (
        scheme.survives
        and sets > 1
        and len(shelves := layout.same("shelves", lambda: {d.shelf for d in layout.members})) == 1
        and None not in shelves
    ):
        say("one-shelf", f"All {sets} sets stand on one shelf; when it goes, all of them go.")
    if batch := _batch(layout):
        say("one-batch", batch)
    if layout.same("mixed kinds", lambda: len({d.rotates for d in layout.members}) > 1):
        say("mixed-kinds", "Rotating and flash drives are mixed; the pool is as slow as the slowest of them.")
    small = [s for s in layout.spares if layout.largest_member > s.extents]
    if small:
        say("spare-too-small",
            f"{len(small)} spare{'s are' if len(small) > 1 else ' is'} smaller than some members and cannot "
            "replace those.")  # fmt: skip
    if (asked := asked_share(layout, given)) > 1 - LEFT_FOR_REBUILD:
        say("overloaded", f"Users' writes take {asked:.0%} of what the drives bear; a rebuild beside them is a guess.")
    return tuple(found)


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
