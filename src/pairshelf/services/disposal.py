"""Letting drives go: what API and console share. What can be done with which drive, what a laboratory would read, and
certificates looked up and verified."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlmodel import Session, col, or_, select

from pairshelf.core.changes.drives.wipe import MOST, facts_of, why_kept
from pairshelf.core.changes.kind import Context
from pairshelf.core.disposal.facts import Category, DriveFacts
from pairshelf.core.disposal.methods import Offer, offers
from pairshelf.core.disposal.times import lot_seconds, side_by_side, uses_the_link, verify_seconds, wipe_seconds
from pairshelf.core.disposal.verifying import USUAL_REMNANT, chance_missed, check_sample, remnant_extents
from pairshelf.core.domain.device import Devices
from pairshelf.core.domain.estate import EstateDrive
from pairshelf.core.domain.units import parse_size
from pairshelf.core.errors import BadInput, NotFound, NotPossible
from pairshelf.engine.approver import in_pairs
from pairshelf.engine.certificates import house
from pairshelf.engine.io.files import content_of
from pairshelf.engine.jobs.wipe import stop_lot
from pairshelf.engine.log import log
from pairshelf.engine.planner import estate_of
from pairshelf.formats.certificate import Verdict, verify
from pairshelf.store.database import pick
from pairshelf.store.tables import (
    Certificate,
    DriveRow,
    FormerPoolRow,
    JobRow,
    JobState,
    PoolPlace,
    PoolRow,
    SampleFile,
    Setting,
    SigningKey,
    VolumeRow,
    WipeRow,
    ids,
    now,
)


@dataclass(frozen=True, slots=True)
class JudgedDrive:
    """A drive and every method on it; why it is kept, where it is."""

    drive: EstateDrive
    facts: DriveFacts
    why_kept: str | None
    offers: tuple[Offer, ...]
    #: Seconds by itself, by the method suggested, reading back included.
    seconds: float
    #: The chance that its sample misses the remnant; None where all is read back.
    chance: float | None


@dataclass(frozen=True, slots=True)
class Lot:
    """Drives looked at together."""

    drives: tuple[JudgedDrive, ...]
    #: Seconds until all are done.
    seconds: float
    #: Of each shelf whose link is shared: how many are written to at once.
    at_once: Mapping[str, int]


def judge(
    session: Session, ids: Sequence[int], category: str, world: Devices, *, sample: int | None = None,
    remnant: str | None = None, cleared: Collection[int] = (),
) -> Lot:  # fmt: skip
    """What can be done with these drives for a category; for those ``cleared`` Clear is enough. BadInput for what cannot be, NotFound for no such drive."""
    try:
        wanted = Category(category)
    except ValueError:
        raise BadInput("The category is clear, purge or destroy.", field="category") from None
    if len(ids) > MOST:
        raise BadInput(f"At most {MOST} drives in a lot.", field="drives")
    estate = estate_of(session, Context(drives=tuple(ids), identities=True), world)
    touched = remnant_extents(parse_size(remnant) if remnant else USUAL_REMNANT)
    found, jobs = [], []
    for number in dict.fromkeys(ids):
        drive = estate.drive(number)
        if drive is None:
            raise NotFound("drive", str(number), field="drives")
        facts = facts_of(estate, drive)
        whole = facts.shown
        if sample is not None:
            check_sample(whole, sample)
        every = offers(facts, Category.CLEAR if number in cleared else wanted)
        best = next(o.method for o in every if o.suggested)
        seconds = wipe_seconds(facts, best) + (0 if best.by_hand else verify_seconds(facts, sample or whole))
        chance = None if sample is None else chance_missed(whole, sample, min(touched, whole))
        kept = why_kept(estate, drive)
        found.append(JudgedDrive(drive, facts, kept, every, seconds, chance))
        if kept is None:
            jobs.append((facts, best, seconds))
    shared = {f.shelf for f, m, _ in jobs if f.shelf and f.link and uses_the_link(m)}
    at_once = {s: side_by_side([f for f, m, _ in jobs if f.shelf == s and uses_the_link(m)]) for s in sorted(shared)}
    return Lot(tuple(found), lot_seconds(jobs), at_once)


def stop(session: Session, job_id: int, who: str) -> int:
    """End what has not ended of a lot; how many drives that were. They are partly wiped, or not, from now on."""
    job = session.get(JobRow, job_id, with_for_update=True)
    if job is None or job.kind != "wipe":
        raise NotFound("lot")
    if job.state in (JobState.DONE, JobState.FAILED):
        raise NotPossible("This lot has ended.", code="not-running")
    count = stop_lot(session, job, f"stopped by {who}")
    states = Counter(session.exec(select(WipeRow.state).where(WipeRow.job_id == job.id)))
    job.state, job.finished_at, job.why_held = JobState.FAILED, now(), None
    job.error, job.report = f"stopped by {who}", {**job.report, **states}
    log(
        session,
        who,
        "wipe-stopped",
        "disposal",
        f"{count} drives are left partly wiped or not wiped: the lot was stopped.",
        job=job.id,
    )
    return count


# -- the house's rules ---------------------------------------------------------------------------------


def rules(session: Session) -> dict[str, Any]:
    """Whether two administrators approve what is wiped or taken apart, and the name certificates are given under."""
    return {"two_pairs": in_pairs(session), "house": house(session)}


def set_rules(session: Session, who: str, *, two_pairs: bool, name: str) -> None:
    """Keep them."""
    name = " ".join(name.split())
    if not 1 <= len(name) <= 80 or not name.isprintable():
        raise BadInput("The house's name has 1 to 80 characters.", field="house")
    session.merge(Setting(key="disposal", value={"two_pairs": two_pairs}))
    session.merge(Setting(key="house", value={"name": name}))
    asked = "two administrators approve" if two_pairs else "one administrator approves"
    log(
        session,
        who,
        "disposal-rules",
        "disposal",
        f"From now on {asked} what is wiped or taken apart; certificates are of {name}.",
    )


# -- certificates --------------------------------------------------------------------------------------


def public_keys(session: Session) -> list[dict[str, Any]]:
    """All public keys that certificates were ever signed with (JWK Set, RFC 7517), the one that signs now first."""
    rows = session.exec(
        select(SigningKey).order_by(col(SigningKey.retired_at).is_not(None), col(SigningKey.made_at).desc())
    )
    return [k.public for k in rows]


def certificate_of(session: Session, number: int) -> Certificate:
    """The certificate of that number."""
    found = session.get(Certificate, number)
    if found is None:
        raise NotFound("certificate", str(number))
    return found


def certificates(
    session: Session, search: str = "", *, before: int | None = None, limit: int = 50
) -> list[Certificate]:
    """Certificates, the newest first: by serial, date, who asked or approved, where to, or number."""
    query = select(Certificate).order_by(col(Certificate.number).desc()).limit(limit)
    if before is not None:
        query = query.where(Certificate.number < before)
    for word in search.split():
        like = "%" + word.replace("\\", "\\\\").replace("%", r"\%").replace("_", r"\_") + "%"
        places = [
            Certificate.payload[name].as_string()
            for name in ("asked_by", "approved_by", "destination", "issued", "method_name", "category")
        ]  # type: ignore[index]
        conditions = [col(Certificate.serial).ilike(like), *(p.ilike(like) for p in places)]
        if word.isdecimal():
            conditions.append(col(Certificate.number) == min(int(word), 2**31 - 1))
        query = query.where(or_(*conditions))
    return list(session.exec(query))


def verify_file(session: Session, content: bytes) -> Verdict:
    """Whether a file is a certificate of this house."""
    return verify(content, public_keys(session))


# -- the laboratory ------------------------------------------------------------------------------------

#: Segments of the strip that an area is drawn as.
SEGMENTS = 160
#: Bytes of a block by which a file's extents are told apart.
_KEY = 16


@dataclass(slots=True)
class AreaRead:
    """What stands in one area of a drive."""

    name: str
    cells: int
    blank: int = 0
    noise: int = 0
    #: Extents that are legible, by whose they are: pool/volume.
    legible: Counter[str] = field(default_factory=Counter)
    files: dict[str, set[str]] = field(default_factory=dict)
    #: Along the area: 0 blank, 1 noise, 2 legible; the gravest of each segment.
    strip: list[int] = field(default_factory=list)


def laboratory(session: Session, drive_id: int, world: Devices) -> list[AreaRead]:
    """Everything that is in a drive, hidden areas included, and what of it is legible: extents of files that this house
    knows, noise, or blank."""
    drive = session.get(DriveRow, drive_id)
    if drive is None:
        raise NotFound("drive")
    known = _known(session, drive, world.block)
    found = []
    for area in world.laboratory(drive.serial, drive.size):
        one = AreaRead(area.name, area.cells)
        per = max(1, -(-area.cells // SEGMENTS))
        for first in range(0, area.cells, per):
            content = area.read(first, min(per, area.cells - first))
            gravest = 0
            for at in range(0, max(1, len(content)), world.block):
                block = content[at : at + world.block]
                blank = block.count(0) == len(block)
                whose = None if blank else known.get(block[:_KEY])
                if blank:
                    one.blank += 1
                elif whose is not None and whose[2] == hash(block):
                    one.legible[whose[0]] += 1
                    one.files.setdefault(whose[0], set()).add(whose[1])
                    gravest = 2
                else:
                    one.noise += 1
                    gravest = max(gravest, 1)
            one.strip.append(gravest)
        found.append(one)
    return found


def _known(session: Session, drive: DriveRow, block: int) -> dict[bytes, tuple[str, str, int]]:
    """The blocks of files that may stand on a drive: how each begins, to whose it is, which file, and the whole's hash."""
    place = session.exec(select(PoolPlace.pool_id).where(PoolPlace.drive_id == drive.id)).first()
    files: list[tuple[str, int, str, int]] = []
    if place is not None:
        query = (
            pick(PoolRow.name, VolumeRow.name, ids(VolumeRow), SampleFile.name, SampleFile.extents)
            .join(VolumeRow, col(VolumeRow.pool_id) == PoolRow.id).join(SampleFile, col(SampleFile.volume_id) == VolumeRow.id)
            .where(PoolRow.id == place)
        )  # fmt: skip
        files += [
            (f"{pool}/{volume}", number, name, extents) for pool, volume, number, name, extents in session.exec(query)
        ]
    for name, slots, kept in session.exec(
        select(FormerPoolRow.name, FormerPoolRow.drives, col(FormerPoolRow.rows)["files"])
    ):
        if drive.serial in slots:
            files += [(f"{name}/{volume}", number, file, extents) for volume, number, file, extents in kept or ()]
    found: dict[bytes, tuple[str, str, int]] = {}
    for whose, volume, name, extents in files:
        number = re.findall(r"\d+", name)
        if not number:
            continue
        content = content_of(volume, int(number[-1]), extents * block)
        for at in range(0, len(content), block):
            piece = content[at : at + block]
            found[piece[:_KEY]] = (whose, name, hash(piece))
    return found
