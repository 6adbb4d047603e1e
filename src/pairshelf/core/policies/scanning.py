"""Whether a pool's drives can be read through now, and how long a drive should try a bad sector."""

from __future__ import annotations

from dataclasses import dataclass

#: A set waits for its slowest drive: one that tries a bad sector for longer than this, seconds, is taken to stand still.
LONGEST_RECOVERY = 30.0
#: What to set it to: long enough to try again a few times, short enough for nobody to notice.
USUAL_RECOVERY = 7.0


def why_no_scan(state: str, *, synced: bool) -> tuple[str, str] | None:
    """Code and sentence of why a pool's surface is not scanned now, or None if it can be."""
    if state in ("lost", "unreachable"):
        return "not-serving", f"The pool is {state}; its drives can be scanned when it can be read."
    if not synced:
        return "not-synced", "The first sync is still under way; scan when it has finished."
    return None


@dataclass(frozen=True, slots=True)
class RecoveryJudged:
    """What is to be said of a drive's error-recovery limit where it is."""

    well: bool
    sentence: str
    #: What to set, seconds; None: no limit. Means nothing where it is well.
    better: float | None = None


def judge_recovery(limit: float | None, *, rotates: bool, in_pool: bool, bears: int) -> RecoveryJudged | None:
    """Whether a drive's error-recovery limit (seconds; None: none) suits its pool, which bears so many failures. None
    where it makes no difference: flash, or a drive that is in no pool."""
    if not rotates or not in_pool:
        return None
    if bears:
        if limit is None or limit > LONGEST_RECOVERY:
            what = "without a limit" if limit is None else f"for up to {limit:g} s"
            return RecoveryJudged(
                False, f"It tries a bad sector {what}, and the whole set waits. What stands there can be had from the others: "
                f"{USUAL_RECOVERY:g} s are enough.", USUAL_RECOVERY,
            )  # fmt: skip
        return RecoveryJudged(
            True, f"It gives up on a bad sector after {limit:g} s; the others have what stands there."
        )
    if limit is not None:
        return RecoveryJudged(
            False, f"It gives up on a bad sector after {limit:g} s, and no other drive has what stands there: let it try as "
            "long as it takes.",
        )  # fmt: skip
    return RecoveryJudged(True, "It tries a bad sector as long as it takes: no other drive has what stands there.")
