"""What a comparison is asked with: drives, needs, assumptions; the same for every route about deciding."""

from __future__ import annotations

from dataclasses import dataclass

from pydantic import BaseModel, Field
from sqlalchemy import func
from sqlmodel import Session, col, select

from pairshelf.core.domain.drives import MOST_DRIVES, Drive, Kind, parse_shorthand
from pairshelf.core.domain.file_systems import DEFAULT_FILE_SYSTEM
from pairshelf.core.domain.units import parse_rate, parse_size
from pairshelf.core.errors import BadInput
from pairshelf.core.figures.assumptions import USUAL_REPLACE_HOURS, Assumptions, backup_asked
from pairshelf.core.figures.workloads import USUAL_WORKLOAD
from pairshelf.core.search.candidates import Question
from pairshelf.store.database import transaction
from pairshelf.store.repositories.drives_and_pools import load_drives
from pairshelf.store.tables import DriveRow, Shelf


class DrivesAsked(BaseModel):
    #: Drives on shelves, by id; or
    drive_ids: list[int] | None = Field(default=None, max_length=MOST_DRIVES)
    #: a what-if, such as 5x4TB,3x8TB.
    shorthand: str | None = Field(default=None, max_length=2000)
    #: The order given is the order of sets; otherwise drives are put in order by kind and size.
    as_listed: bool = False
    file_system: str = DEFAULT_FILE_SYSTEM
    reserved_share: float | None = None
    #: Assumptions; what is left out comes from the drives or the defaults of their kinds.
    afr: float | None = None
    uber: float | None = None
    #: A typed rate, such as 200MB.
    rate: str = ""
    ops: int | None = None
    replace_hours: float = USUAL_REPLACE_HOURS
    user_share: float | None = None
    #: Instead of a share: small writes a second. Neither: what the workload usually brings.
    user_writes: float | None = None
    #: Share of those writes that moves whole stripes, 0 to 1.
    whole_stripes: float = 0.0
    price: float | None = None
    tariff: float | None = None
    network: str = ""
    backup_where: str = Field(default="", max_length=200)
    backup_age_hours: float = Field(default=24.0, ge=0, le=876_600)
    #: A typed rate; a backup counts only with the link to restore over.
    backup_link: str = ""

    def assumptions(self) -> Assumptions:
        """As the core takes them."""
        backup = backup_asked(self.backup_where, self.backup_age_hours, self.backup_link)
        return Assumptions(
            afr=self.afr, uber=self.uber, rate=parse_rate(self.rate, field="rate") if self.rate.strip() else None,
            ops=self.ops, replace_hours=self.replace_hours, user_share=self.user_share, user_writes=self.user_writes,
            whole_stripes=self.whole_stripes, price=self.price,
            tariff=self.tariff, network=parse_rate(self.network, field="network") if self.network.strip() else None,
            backup=backup,
        ).checked()  # fmt: skip


class CompareBody(DrivesAsked):
    #: A typed size, such as 20TB; empty for no need.
    need: str = ""
    survive: int = 1
    survive_shelves: int = 0
    survive_hosts: int = 0
    spares: int | None = None
    spares_for: str = "pool"
    workload: str = USUAL_WORKLOAD
    rebuild_limit: float | None = None
    widest: int | None = None
    budget: float | None = None
    bays_free: int = 0
    mix_kinds: bool = False
    larger_later: bool = False

    def question(self, bays: int | None) -> Question:
        """As the core takes it; ``bays`` on the shelves concerned, empty ones included."""
        return Question(
            need=parse_size(self.need, field="need") if self.need.strip() else 0, survive=self.survive,
            survive_shelves=self.survive_shelves, survive_hosts=self.survive_hosts, spares=self.spares,
            spares_for=self.spares_for, workload=self.workload, rebuild_limit=self.rebuild_limit, widest=self.widest,
            budget=self.budget, bays=bays, bays_free=self.bays_free, mix_kinds=self.mix_kinds, larger_later=self.larger_later,
            file_system=self.file_system, reserved_share=self.reserved_share, given=self.assumptions(),
        )  # fmt: skip


@dataclass(frozen=True, slots=True)
class AskedDrives:
    """The drives of a question, and for real ones where they stand."""

    drives: tuple[Drive, ...]
    #: Shelf and bay by the drive's id; of what-ifs the id itself.
    labels: dict[str, str]
    #: Bays that would be there for them: their own and the empty ones beside them.
    bays: int | None


def drives_asked(asked: DrivesAsked) -> AskedDrives:
    """The drives asked about; those on shelves by kind and size, so that alike ones share a set."""
    if asked.shorthand is not None:
        drives = parse_shorthand(asked.shorthand)
        return AskedDrives(drives, {d.id: d.id for d in drives}, None)
    if not asked.drive_ids:
        raise BadInput("Choose drives on the shelves, or type a what-if such as 5x4TB,3x8TB.", field="drives")
    with transaction() as session:
        found = load_drives(session, asked.drive_ids)
        bays = _empty_bays(session, {d.shelf for d in found if d.shelf}) + len(found)
    if len(found) != len(asked.drive_ids):
        raise BadInput("One of the chosen drives is not there any more.", code="drive-gone", field="drives")
    if not asked.as_listed:
        order = list(Kind)
        found.sort(key=lambda d: (order.index(d.kind), d.size, d.shelf or "", d.bay or 0))
    one_shelf = len({d.shelf for d in found}) == 1
    labels = {str(d.id): (str(d.bay) if one_shelf else f"{d.shelf} {d.bay}") if d.shelf else d.serial for d in found}
    return AskedDrives(tuple(d.as_drive for d in found), labels, bays)


def _empty_bays(session: Session, shelves: set[str]) -> int:
    rows = session.exec(
        select(Shelf.bays, func.count(col(DriveRow.id))).outerjoin(DriveRow, col(DriveRow.shelf_id) == Shelf.id)
        .where(col(Shelf.name).in_(shelves)).group_by(col(Shelf.id))
    ).all()  # fmt: skip
    return sum(bays - used for bays, used in rows)
