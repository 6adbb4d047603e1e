"""What all changes of applications have in common."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.sheet import ChangeSheet, Figure
from pairshelf.core.domain.estate import Estate, EstateApplication, EstateVolume
from pairshelf.core.domain.mounting import MountLine
from pairshelf.core.domain.volume_spec import rule_limit
from pairshelf.core.errors import BadInput


@dataclass(frozen=True, slots=True)
class MovePlan:
    """A move: the steps an engine takes, in order."""

    sheet: ChangeSheet
    application: EstateApplication
    volume: EstateVolume
    way: str
    #: The folder the data are in afterwards.
    folder: str
    line: MountLine | None


@dataclass(frozen=True, slots=True)
class ApplicationPlan:
    """An application as it will be."""

    sheet: ChangeSheet
    application: EstateApplication
    owner: str = ""


@dataclass(frozen=True, slots=True)
class KeepPlan:
    """A keep rule, or None for no longer one."""

    sheet: ChangeSheet
    volume: EstateVolume
    above: float | None
    application: EstateApplication | None = None


def deletes_above(volume: EstateVolume, share: float | None) -> Figure:
    """What files may take before the oldest go, by a rule of this share of the room for files."""
    return Figure(text="never") if share is None else Figure(bytes=rule_limit(volume.size - volume.overhead, share))


def application_of(estate: Estate, ref: str) -> EstateApplication:
    """The application named HOST/NAME, or by its name where that is the only one; BadInput otherwise."""
    found = [a for a in estate.applications if ref.strip() in (f"{a.host}/{a.name}", a.name)]
    if len(found) != 1:
        what = "Several hosts have" if found else "There is no"
        raise BadInput(
            f"{what} an application {ref}; write it as HOST/NAME.".replace("no an", "no"), field="application"
        )
    return found[0]
