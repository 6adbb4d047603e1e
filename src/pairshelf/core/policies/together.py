"""Which changes can be drawn up as one plan: each is planned on what is there now, so none may need what another takes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from pairshelf.core.changes.kinds import kind_of
from pairshelf.core.errors import BadInput

#: Changes in one plan.
MOST = 20
#: The kinds that give something a new name in the house: its field.
_NAMES = {"build-pool": "name", "make-share": "name", "add-party": "name"}


def require_apart(asked: Sequence[tuple[str, Any]]) -> None:
    """BadInput at the field of the first of these changes (kind, request) that stands in the way of another."""
    if not 1 <= len(asked) <= MOST:
        raise BadInput(f"A plan has between 1 and {MOST} changes.", field="sheets")
    taken: dict[int, int] = {}
    named: dict[tuple[str, str], int] = {}
    mounts: dict[tuple[str, str], int] = {}
    for index, (kind, request) in enumerate(asked):
        for drive in kind_of(kind).context(request).drives:
            if (other := taken.setdefault(drive, index)) != index:
                raise BadInput(
                    f"Change {other + 1} of this plan takes one of these drives.", field=f"sheets.{index}.drives"
                )
        if field := _NAMES.get(kind):
            name = (kind, getattr(request, field).strip().lower())
            if (other := named.setdefault(name, index)) != index:
                raise BadInput(f"Change {other + 1} of this plan gives this name.", field=f"sheets.{index}.{field}")
        place = (getattr(request, "host", "").strip(), getattr(request, "mount_point", "").strip())
        if all(place) and (other := mounts.setdefault(place, index)) != index:
            raise BadInput(f"Change {other + 1} of this plan mounts there.", field=f"sheets.{index}.mount_point")
