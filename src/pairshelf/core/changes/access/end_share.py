"""A folder no longer offered."""

from __future__ import annotations

from dataclasses import dataclass, replace

from pairshelf.core.changes.access.sharing import SharePlan, share_figures, share_of
from pairshelf.core.changes.kind import PEOPLE, ChangeKind, Context
from pairshelf.core.changes.sheet import simple_sheet
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate


@dataclass(frozen=True, slots=True)
class EndShare:
    """No longer offer a folder; its files stay."""

    share: str


def plan(estate: Estate, request: EndShare) -> SharePlan:
    """The sheet for ending a share."""
    share = share_of(estate, request.share)
    cautions = [f"{', '.join(share.visitors)} is connected now and is cut off."] if share.visitors else []
    sheet = simple_sheet(
        "end-share", f"End share {share.name}", f"Its files stay on {share.volume}.", cautions=cautions,
        # What goes: a share that is changed meanwhile is not the one this sheet was about.
        figures=share_figures(replace(share, rights=(), quota=None, bin_days=None), share),
        steps=("Cut off who is connected.", "No longer offer it."), confirm=share.name,
    )  # fmt: skip
    return SharePlan(sheet, share, share)


def context(request: EndShare) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(shares=(request.share,), alone=(PEOPLE,))


KIND = ChangeKind("end-share", Act.GIVE_ACCESS, EndShare, context, plan)
