"""The registry of schemes, and the one way to make a layout of drives."""

from __future__ import annotations

from collections.abc import Sequence

from pairshelf.core.domain.drives import Drive, require_usable
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.layouts import sets as set_built
from pairshelf.core.layouts import spread, stepped
from pairshelf.core.layouts.model import Code, Division, Layout, Scheme
from pairshelf.core.patience import still_wanted

#: Data drives a parity group can tell apart in GF(2^8) with generator 2.
MOST_DATA_DRIVES = 255

#: All schemes by id, in the order they are shown.
SCHEMES: dict[str, Scheme] = {s.id: s for s in (*set_built.SCHEMES, *stepped.SCHEMES, *spread.SCHEMES)}
#: Those under which drives are divided into sets: what a comparison lists.
DIVIDED: dict[str, Scheme] = {s.id: s for s in SCHEMES.values() if s.divided}


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
    return scheme.several if sets > 1 and scheme.several else scheme.trade_name


def why_not(scheme: Scheme, width: int, sets: int) -> str | None:
    """Why ``sets`` sets of ``width`` drives cannot carry the scheme, or None if they can."""
    if scheme.one_set and sets != 1:
        return f"{scheme.id} takes all its drives as one set"
    if scheme.most is not None and scheme.least == scheme.most and width != scheme.least:
        plural = "drive" if scheme.least == 1 else "drives"
        return f"{scheme.id} takes exactly {scheme.least} {plural} a set, not {width}"
    if width < scheme.least:
        return f"{scheme.id} needs at least {scheme.least} drives a set; there {'is' if width == 1 else 'are'} {width}"
    if scheme.code is Code.PARITY and scheme.data_columns(width) > MOST_DATA_DRIVES:
        return f"{scheme.id} can tell at most {MOST_DATA_DRIVES} data drives of a set apart"
    return None


def require_fits(scheme: Scheme, width: int, sets: int, *, field: str) -> None:
    """NotPossible, with the reason, where ``sets`` sets of ``width`` drives cannot carry the scheme."""
    if reason := why_not(scheme, width, sets):
        raise NotPossible(reason[0].upper() + reason[1:] + ".", code="scheme-does-not-fit", field=field)


def set_counts(scheme: Scheme, members: int) -> list[int]:
    """Into how many equal sets so many members can be divided under a scheme.

    Without redundancy several sets are one set by another name; stepped is one set.
    """
    most = min(members, 1) if scheme.survives == 0 or scheme.one_set else members
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
    if not scheme.divided:
        raise BadInput(f"Drives are not divided into sets under {scheme_id}; make it as a spread pool.", field="scheme")
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
    require_fits(scheme, width, count, field="scheme")
    return scheme.lay(scheme, drives, Division(count, spares))


def layout_of(drives: Sequence[Drive], scheme_id: str, division: Division) -> Layout:
    """A layout of whatever scheme. BadInput for a division that the scheme does not know."""
    scheme = scheme_of(scheme_id)
    if not scheme.divided:
        if division.spares or division.sets not in (None, 1):
            raise BadInput(
                "A spread pool needs no spares and has no sets: it repairs itself into free extents.", field="spares"
            )
        return scheme.lay(scheme, drives, division)
    if division.domain or division.volumes:
        raise BadInput("Only a spread pool has a failure domain and volumes with their own protection.", field="domain")
    return build_layout(drives, scheme_id, sets=division.sets, spares=division.spares, checked=division.built)


def _usual_sets(scheme: Scheme, members: int) -> int:
    exact = scheme.least if scheme.least == scheme.most else None
    return members // exact if exact and exact > 1 and members % exact == 0 else 1
