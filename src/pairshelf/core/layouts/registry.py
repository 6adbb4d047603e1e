"""The registry of schemes, and the one way to make a layout of drives."""

from __future__ import annotations

from collections.abc import Sequence

from pairshelf.core.drives import Drive, require_usable
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.layouts import sets as set_built
from pairshelf.core.layouts import stepped
from pairshelf.core.layouts.model import Code, Cutter, Family, Layout, Scheme
from pairshelf.core.patience import still_wanted

#: Data drives a parity group can tell apart in GF(2^8) with generator 2.
MOST_DATA_DRIVES = 255

_REGISTRY: tuple[tuple[Scheme, Cutter], ...] = (
    (Scheme("single", "one drive", Family.SETS, Code.NONE, 0, 1, 1,
            "One drive by itself. When it fails, the data are gone."), set_built.cut),
    (Scheme("span", "JBOD, concatenation", Family.SETS, Code.NONE, 0, 2, None,
            "Drives one after the other as one capacity. Any failure loses the pool."), set_built.cut_span),
    (Scheme("stripe", "RAID 0", Family.SETS, Code.NONE, 0, 2, None,
            "Data spread over all drives for speed. Any failure loses the pool."), set_built.cut),
    (Scheme("copies-2", "RAID 1", Family.SETS, Code.COPIES, 1, 2, 2,
            "Every byte on two drives; either may fail."), set_built.cut),
    (Scheme("copies-3", "RAID 1, three copies", Family.SETS, Code.COPIES, 2, 3, 3,
            "Every byte on three drives; any two may fail."), set_built.cut),
    (Scheme("parity-1", "RAID 5", Family.SETS, Code.PARITY, 1, 3, None,
            "One drive's worth of parity in each set; any one drive of a set may fail."), set_built.cut),
    (Scheme("parity-2", "RAID 6", Family.SETS, Code.PARITY, 2, 4, None,
            "Two drives' worth of parity in each set; any two of a set may fail."), set_built.cut),
    (Scheme("parity-3", "triple parity", Family.SETS, Code.PARITY, 3, 5, None,
            "Three drives' worth of parity in each set; any three of a set may fail."), set_built.cut),
    (Scheme("stepped-1", "", Family.STEPPED, Code.PARITY, 1, 2, None,
            "Drives of different sizes, cut where the sizes step; any one drive may fail."), stepped.cut),
    (Scheme("stepped-2", "", Family.STEPPED, Code.PARITY, 2, 3, None,
            "Drives of different sizes, cut where the sizes step; any two drives may fail."), stepped.cut),
)  # fmt: skip

#: All schemes by id, in the order they are shown.
SCHEMES: dict[str, Scheme] = {scheme.id: scheme for scheme, _ in _REGISTRY}
_CUTTERS: dict[str, Cutter] = {scheme.id: cutter for scheme, cutter in _REGISTRY}


def scheme_of(scheme_id: str) -> Scheme:
    """The scheme of that id; BadInput with the known ones otherwise."""
    try:
        return SCHEMES[scheme_id]
    except KeyError:
        raise BadInput(
            f"“{scheme_id}” is not a known scheme; choose one of {', '.join(SCHEMES)}.", field="scheme"
        ) from None


def trade_name(scheme: Scheme, sets: int) -> str:
    """The trade's name of ``sets`` sets of a scheme: RAID 10, 50, 60 where there is one."""
    several = {"copies-2": "RAID 10", "parity-1": "RAID 50", "parity-2": "RAID 60"}
    return several.get(scheme.id, scheme.trade_name) if sets > 1 else scheme.trade_name


def why_not(scheme: Scheme, width: int, sets: int) -> str | None:
    """Why ``sets`` sets of ``width`` drives cannot carry the scheme, or None if they can."""
    if scheme.family is Family.STEPPED and sets != 1:
        return f"{scheme.id} takes all its drives as one set"
    if scheme.most is not None and scheme.least == scheme.most and width != scheme.least:
        plural = "drive" if scheme.least == 1 else "drives"
        return f"{scheme.id} takes exactly {scheme.least} {plural} a set, not {width}"
    if width < scheme.least:
        return f"{scheme.id} needs at least {scheme.least} drives a set; there {'is' if width == 1 else 'are'} {width}"
    if scheme.code is Code.PARITY and scheme.data_columns(width) > MOST_DATA_DRIVES:
        return f"{scheme.id} can tell at most {MOST_DATA_DRIVES} data drives of a set apart"
    return None


def set_counts(scheme: Scheme, members: int) -> list[int]:
    """Into how many equal sets so many members can be divided under a scheme.

    Without redundancy several sets are one set by another name; stepped is one set.
    """
    most = min(members, 1) if scheme.survives == 0 or scheme.family is Family.STEPPED else members
    return [s for s in range(1, most + 1) if members % s == 0 and not why_not(scheme, members // s, s)]


def build_layout(
    drives: Sequence[Drive], scheme_id: str, *, sets: int | None = None, spares: int = 0, checked: bool = False
) -> Layout:
    """Lay drives out in their listed order: as many to each set, the last ``spares`` held back.

    Without ``sets`` it is one set, or as many as come out whole for copies. Raises BadInput for
    numbers that make no sense, NotPossible where the scheme cannot be laid over these drives.
    ``checked`` says the drives have passed ``require_usable`` already.
    """
    still_wanted()
    scheme = scheme_of(scheme_id)
    if not checked:
        require_usable(drives)
    if spares < 0:
        raise BadInput("The number of spares cannot be negative.", field="spares")
    if spares >= len(drives):
        raise BadInput(f"{spares} spares leave no drive of {len(drives)} to hold data.", field="spares")
    chosen = tuple(drives[: len(drives) - spares])
    count = sets if sets is not None else _usual_sets(scheme, len(chosen))
    if count < 1:
        raise BadInput("The number of sets must be at least 1.", field="sets")
    if len(chosen) % count:
        raise BadInput(
            f"{len(chosen)} drives do not divide into {count} equal sets; "
            f"leave {len(chosen) % count} more as spares or take another number of sets.",
            field="sets",
        )
    width = len(chosen) // count
    if reason := why_not(scheme, width, count):
        raise NotPossible(reason[0].upper() + reason[1:] + ".", code="scheme-does-not-fit", field="scheme")
    divided = tuple(chosen[i * width : (i + 1) * width] for i in range(count))
    return Layout(scheme, divided, tuple(drives[len(drives) - spares :]), _CUTTERS[scheme.id](scheme, divided))


def _usual_sets(scheme: Scheme, members: int) -> int:
    exact = scheme.least if scheme.least == scheme.most else None
    return members // exact if exact and exact > 1 and members % exact == 0 else 1
