"""Whether a pool can be checked now: asked by whoever starts a check, and by the screens beforehand."""

from __future__ import annotations

from collections.abc import Collection

#: Places that take part in a check as they are: one that has been emptied holds nothing to compare.
_TAKES_PART = ("active", "emptied")


def why_no_check(states: Collection[str], *, synced: bool, stripes: int) -> tuple[str, str] | None:
    """Code and sentence of why not, or None if it can. ``states`` are those of the pool's places, ``synced`` whether
    all its redundancy is in step."""
    if any(state not in _TAKES_PART for state in states):
        return "degraded", "A check compares every drive with the others; replace what is missing first."
    if not synced:
        return "not-synced", "The first sync is still under way; check when it has finished."
    if not stripes:
        return "nothing-there", "There is nothing to check yet: no volume has any extents."
    return None
