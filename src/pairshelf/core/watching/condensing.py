"""Condensing what was recorded: of many rounds, or of many finer stretches, the lowest, the highest, the mean and how many.

All values are whole numbers of their figure's unit, so that no order of condensing and no number of steps between
gives another result: sums are exact, and a mean is worked out only where it is shown.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

Whole = npt.NDArray[np.int64]

#: Of a subject that had no value.
NO_LOW, _NO_HIGH = np.iinfo(np.int64).max, np.iinfo(np.int64).min


@dataclass(frozen=True, slots=True, eq=False)
class Bucket:
    """What was recorded in a stretch of time, of many subjects at once: [subjects] each.

    Where ``count`` is 0, nothing is known of a subject, and its other values mean nothing.
    """

    count: Whole
    low: Whole
    high: Whole
    total: Whole

    @classmethod
    def of_round(cls, values: Sequence[int | None]) -> Bucket:
        """One round: each subject's value, or None where there is none."""
        known = np.array([v is not None for v in values], bool)
        plain = np.array([v or 0 for v in values], np.int64)
        return cls(
            known.astype(np.int64), np.where(known, plain, NO_LOW), np.where(known, plain, _NO_HIGH), plain * known
        )

    def __len__(self) -> int:
        return len(self.count)


def condense(parts: Sequence[Bucket]) -> Bucket:
    """All of them as one; shorter ones know nothing of the subjects they lack. At least one is needed."""
    width = max(len(part) for part in parts)

    def stacked(name: str, missing: int) -> Whole:
        rows = np.full((len(parts), width), missing, np.int64)
        for row, part in zip(rows, parts, strict=True):
            row[: len(part)] = getattr(part, name)
        return rows

    return Bucket(
        stacked("count", 0).sum(axis=0), stacked("low", NO_LOW).min(axis=0),
        stacked("high", _NO_HIGH).max(axis=0), stacked("total", 0).sum(axis=0),
    )  # fmt: skip
