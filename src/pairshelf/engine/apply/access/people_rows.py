"""The rows of people, groups and shares."""

from __future__ import annotations

from sqlalchemy import delete
from sqlmodel import Session, col, select

from pairshelf.core.changes.access.sharing import SharePlan
from pairshelf.store.tables import Party, PartyMember, Share, ShareRight, ShareVisit


def write_members(session: Session, group: Party, members: tuple[str, ...]) -> None:
    for person in session.exec(select(Party).where(col(Party.name).in_(members))):
        session.add(PartyMember(group_id=group.number, person_id=person.number))
    session.flush()


def write_share(session: Session, row: Share, planned: SharePlan) -> None:
    share = planned.share
    row.quota, row.bin_days, row.encrypted = share.quota, share.bin_days, share.encrypted
    session.flush()
    rights = dict(share.rights)
    for party in session.exec(select(Party).where(col(Party.name).in_(rights))):
        session.add(ShareRight(share_id=row.number, party_id=party.number, may=rights[party.name]))
    session.flush()


def rights_of(session: Session, share_id: int | None) -> dict[int, str]:
    """Each person's right on a share, by their own or their groups', the widest."""
    found: dict[int, str] = {}
    own = select(ShareRight.party_id, ShareRight.may).where(ShareRight.share_id == share_id)
    groups = (
        select(PartyMember.person_id, ShareRight.may).join(ShareRight, col(ShareRight.party_id) == PartyMember.group_id)
        .where(ShareRight.share_id == share_id)
    )  # fmt: skip
    for person, may in [*session.exec(own), *session.exec(groups)]:
        if found.get(person) != "write":
            found[person] = may
    return found


def cut_off(session: Session, share: Share) -> None:
    """Whoever is connected without a right is connected no longer."""
    allowed = rights_of(session, share.id)
    gone = delete(ShareVisit).where(col(ShareVisit.share_id) == share.id, col(ShareVisit.person_id).not_in(allowed))
    session.connection().execute(gone)
