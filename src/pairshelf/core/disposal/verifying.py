"""What a sample can miss (rules: wiping): exact, as drawing without replacement is."""

from __future__ import annotations

from fractions import Fraction
from math import comb

from pairshelf.core.domain.units import EXTENT
from pairshelf.core.errors import BadInput

#: The remnant that is spoken of unless another is named, bytes.
USUAL_REMNANT = 2**20


def remnant_extents(remnant: int) -> int:
    """Extents that a remnant of so many bytes touches at least."""
    if remnant < 1:
        raise BadInput("A remnant has at least one byte.", field="remnant")
    return -(-remnant // EXTENT)


def chance_missed(extents: int, sample: int, remnant: int) -> float:
    """The chance that a sample of ``sample`` of ``extents`` extents, drawn without replacement, has none of a remnant
    of ``remnant`` extents: C(N - r, s) / C(N, s). Sizes that cannot be are BadInput."""
    check_sample(extents, sample)
    left = extents - remnant
    if left < sample:
        return 0.0
    return float(Fraction(comb(left, sample), comb(extents, sample)))


def check_sample(extents: int, sample: int) -> None:
    """BadInput for a sample of nothing, or of more than there is."""
    if not 1 <= sample <= extents:
        raise BadInput(f"The sample is of 1 to {extents} extents.", field="sample")
