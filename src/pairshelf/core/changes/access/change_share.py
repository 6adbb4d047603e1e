"""Other rights and limits of a share."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.access.sharing import (
    SharePlan,
    quota_said,
    read_bin,
    read_quota,
    read_rights,
    share_figures,
    share_findings,
    share_of,
    who_may,
)
from pairshelf.core.changes.kind import PEOPLE, ChangeKind, Context
from pairshelf.core.changes.sheet import simple_sheet
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstateShare
from pairshelf.core.domain.words import listed


@dataclass(frozen=True, slots=True)
class ChangeShare:
    """Other rights, quota, bin or encryption of a share; what is given stands in the place of what was."""

    share: str
    rights: tuple[str, ...] = ()
    quota: str = ""
    bin_days: int = 0
    encrypted: bool = True


def plan(estate: Estate, request: ChangeShare) -> SharePlan:
    """The sheet for another right, quota, bin or encryption."""
    before = share_of(estate, request.share)
    volume = estate.volume(before.volume)
    share = EstateShare(
        before.name, before.volume, before.folder, read_quota(volume, request.quota), read_bin(request.bin_days),
        request.encrypted, read_rights(estate, request.rights), before.visitors,
    )  # fmt: skip
    lost = sorted(set(who_may(estate, before)) - set(who_may(estate, share)))
    here = [v for v in before.visitors if v in lost]
    cautions = (
        [
            f"{listed(lost)} can no longer reach it"
            + (f"; {listed(here)} {'is' if len(here) == 1 else 'are'} connected now." if here else ".")
        ]
        if lost
        else []
    )
    cautions.extend(quota_said(share, before.taken))
    if before.bin_days and not share.bin_days:
        cautions.append("What is in its bin is deleted for good.")
    sheet = simple_sheet(
        "change-share", f"Change share {before.name}", "What is given here stands in the place of what was.",
        figures=share_figures(share, before), findings=share_findings(estate, share), cautions=cautions,
        steps=("Write the new rights and limits; they hold at once.",),
    )  # fmt: skip
    return SharePlan(sheet, share, before)


def context(request: ChangeShare) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(shares=(request.share,), alone=(PEOPLE,))


KIND = ChangeKind("change-share", Act.GIVE_ACCESS, ChangeShare, context, plan)
