"""A folder of a mounted volume, offered over the network."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.access.sharing import (
    SharePlan,
    addresses,
    quota_said,
    read_bin,
    read_quota,
    read_rights,
    share_figures,
    share_findings,
)
from pairshelf.core.changes.kind import PEOPLE, ChangeKind, Context
from pairshelf.core.changes.sheet import simple_sheet
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstateShare
from pairshelf.core.domain.names import as_folder, check_folder, check_name
from pairshelf.core.domain.volume_spec import check_purpose
from pairshelf.core.errors import BadInput, NameTaken, NotPossible


@dataclass(frozen=True, slots=True)
class MakeShare:
    """A folder of a mounted volume, offered over the network."""

    volume: str
    name: str
    #: The folder on the volume; empty for all of it.
    folder: str = ""
    #: Who may do what: NAME:read or NAME:write.
    rights: tuple[str, ...] = ()
    #: The most it may take; empty for no limit.
    quota: str = ""
    #: Days that deleted files are kept in its bin; 0: not kept.
    bin_days: int = 0
    #: Whether the traffic is encrypted.
    encrypted: bool = True
    purpose: str = ""


def plan(estate: Estate, request: MakeShare) -> SharePlan:
    """The sheet for a new share."""
    volume = estate.volume(request.volume)
    name = check_name(request.name, "share", field="name")
    if any(s.name.lower() == name.lower() for s in estate.shares):
        raise NameTaken("share", name)
    if not estate.mounts_of(volume):
        raise NotPossible(
            f"No host mounts {volume.ref}; mount it first, then its folders can be shared.",
            code="not-mounted",
            field="volume",
        )
    if all(m.read_only for m in estate.mounts_of(volume)) and any(r.endswith(":write") for r in request.rights):
        raise BadInput("The volume is mounted for reading only; nobody can be given writing.", field="rights")
    share = EstateShare(
        name, volume.ref, check_folder(request.folder), read_quota(volume, request.quota), read_bin(request.bin_days),
        request.encrypted, read_rights(estate, request.rights),
    )  # fmt: skip
    sheet = simple_sheet(
        "make-share", f"Share {name}: {volume.ref}{'/' + share.folder if share.folder else ''}",
        check_purpose(request.purpose) or "A folder over the network.",
        figures=share_figures(share, None), findings=share_findings(estate, share), texts=addresses(estate, share),
        steps=(
            *((f"Make the folder {share.folder} on the volume.",) if share.folder else ()),
            f"Offer it as {name}, with the rights above.",
        ),
        meanwhile=("Nothing that exists is changed.",),
        cautions=quota_said(share, sum(n for at, n in estate.taken if at == (volume.ref, share.folder))),
    )  # fmt: skip
    return SharePlan(sheet, share)


def context(request: MakeShare) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(
        volumes=(request.volume,), taken_in=((request.volume, as_folder(request.folder)),), alone=(PEOPLE,),
    )  # fmt: skip


KIND = ChangeKind("make-share", Act.GIVE_ACCESS, MakeShare, context, plan)
