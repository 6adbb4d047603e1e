"""What a figure of a layout is: a value with its unit, which way is better, and how it is worked out."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

from pairshelf.core.figures.assess import Assessment

#: Of "money" the layout knows the currency.
Unit = Literal["bytes", "bytes a second", "operations a second", "drives", "hours", "chance", "share", "money", "watts"]

OWN = "Arithmetic of the layout; exact."


@dataclass(frozen=True, slots=True)
class Worked:
    """How a figure of one layout is worked out: the formula, the numbers in it, where the formula comes from."""

    formula: str
    numbers: str
    source: str


@dataclass(frozen=True, slots=True)
class Explanation:
    """One figure explained."""

    figure: str
    title: str
    formula: str
    numbers: str
    source: str


@dataclass(frozen=True, slots=True)
class LayoutFigure:
    """One figure of a layout."""

    id: str
    #: Over its explanation.
    title: str
    #: In a list of figures; where there is little room, ``head``.
    label: str
    head: str
    #: A sentence or two for who does not know the word.
    meaning: str
    unit: Unit
    more_is_better: bool
    #: None: this layout has no such figure, which counts as the worst there is.
    value: Callable[[Assessment], float | None]
    #: None: there is nothing to explain. The second argument is the file system's id.
    explain: Callable[[Assessment, str], Worked | None] | None = None
    #: Layouts are held against one another by it (``core.search.ranking``).
    weighed: bool = False
    #: It is a column of the list of layouts; otherwise only where layouts stand side by side.
    listed: bool = False

    def explained(self, found: Assessment, file_system: str) -> Explanation | None:
        """How this layout's value comes about."""
        worked = self.explain(found, file_system) if self.explain else None
        if worked is None:
            return None
        return Explanation(self.id, self.title, worked.formula, worked.numbers, worked.source)
