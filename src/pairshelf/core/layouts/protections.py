"""How a volume of a spread pool is protected (rules: layouts)."""

from __future__ import annotations

import re
from dataclasses import dataclass

from pairshelf.core.errors import BadInput

_KINDS = {"copies-2": 1, "copies-3": 2, "parity-1": 1, "parity-2": 2}


#: A stripe of parity spans at most so many domains.
MOST_WIDE = 257


@dataclass(frozen=True, slots=True)
class Protection:
    """How a volume of a spread pool is protected: copies, or parity of a width of its own."""

    scheme: str
    #: Extents of a stripe, each in a domain of its own.
    width: int

    @property
    def survives(self) -> int:
        """Extents a stripe can do without."""
        return _KINDS[self.scheme]

    @property
    def data(self) -> int:
        """Extents of data in a stripe."""
        return 1 if self.copies else self.width - self.survives

    @property
    def copies(self) -> bool:
        """Whether every extent of a stripe holds the same."""
        return self.scheme.startswith("copies")

    @property
    def name(self) -> str:
        """As it is typed: copies-3, parity-2:8."""
        return self.scheme if self.copies else f"{self.scheme}:{self.width}"


def parse_protection(text: str, *, field: str = "volume") -> Protection:
    """``copies-2``, ``copies-3``, ``parity-1:WIDTH`` or ``parity-2:WIDTH``."""
    match = re.fullmatch(r"\s*([a-z]+-\d)(?:\s*:\s*(\d{1,4}))?\s*", text)
    if not match or match[1] not in _KINDS:
        raise BadInput(
            f"“{text}” is not a protection; use copies-2, copies-3, or parity with its width such as parity-2:8.",
            field=field,
        )
    scheme, least = match[1], _KINDS[match[1]] + 2
    if scheme.startswith("copies"):
        width = int(scheme[-1])
        if match[2] and int(match[2]) != width:
            raise BadInput(f"{scheme} is {width} wide; leave the width out.", field=field)
        return Protection(scheme, width)
    if not match[2]:
        raise BadInput(f"Give {scheme} its width, such as {scheme}:{least + 4}.", field=field)
    if not least <= int(match[2]) <= MOST_WIDE:
        raise BadInput(f"A {scheme} volume is {least} to {MOST_WIDE} wide, not {match[2]}.", field=field)
    return Protection(scheme, int(match[2]))
