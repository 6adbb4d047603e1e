"""Disposal: drives on their way out, lots that are wiped, certificates, and what a laboratory would read."""

from __future__ import annotations

import datetime as dt
import io
import json
from typing import Any

from flask import Response, send_file
from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field
from sqlmodel import Session, col, func, select

from pairshelf.api.growing import picked_ids
from pairshelf.api.guard import needs, signed_in
from pairshelf.api.jobs import JobOut, jobs_out
from pairshelf.api.paths import DrivePath
from pairshelf.api.queries import Query
from pairshelf.core.disposal.methods import METHODS
from pairshelf.core.domain.acts import Act
from pairshelf.core.errors import NotFound
from pairshelf.engine.certificates import of_lot, replace_key
from pairshelf.engine.planner import former_pools
from pairshelf.engine.pools import devices
from pairshelf.formats.certificate import as_json
from pairshelf.services import disposal as letting_go
from pairshelf.store.database import pick, transaction
from pairshelf.store.repositories.drives_and_pools import load_drives
from pairshelf.store.tables import Certificate, DriveRow, FormerPoolRow, JobRow, Service, WipeRow, ids, now

api = APIBlueprint("disposal", __name__, url_prefix="/api")


class OutgoingOut(BaseModel):
    """A drive that belongs to nothing."""

    id: int
    place: str
    shelf: str | None
    serial: str
    size: int
    kind: str
    condition: str
    service: str
    holds: str | None
    #: When it was last wiped; nothing was written to it since. Null: it holds whatever it holds.
    wiped_at: dt.datetime | None


class WipeOut(BaseModel):
    """How the wiping of one drive stands."""

    id: int
    drive_id: int
    place: str
    serial: str
    size: int
    kind: str
    category: str
    method: str
    state: str
    #: How far erasing and reading back are, 0 to 1 each.
    erased: float
    read_back: float
    #: Bytes a second that it does, and seconds left; null while it stands still.
    rate: float | None
    seconds_left: float | None
    held: str | None
    found: str | None
    certificate: int | None


class LotOut(BaseModel):
    sheet_id: int | None
    job: JobOut | None
    asked_by: str
    approved_by: str
    destination: str | None
    drives: list[WipeOut]


class FormerOut(BaseModel):
    """A pool that was taken apart and may be put together again."""

    id: int
    name: str
    scheme: str
    drives: int
    volumes: int
    taken_apart_by: str
    taken_apart_at: dt.datetime
    until: dt.datetime
    #: Drives that were used, wiped or written on since; then it cannot come back.
    spoilt: list[str]
    away: list[str]


class DisposalOut(BaseModel):
    drives: list[OutgoingOut]
    former: list[FormerOut]
    lots: list[LotOut]
    two_pairs: bool
    house: str
    certificates: int


class OfferOut(BaseModel):
    id: str
    name: str
    about: str
    category: str | None
    why_not: str | None
    suggested: str | None
    by_hand: bool


class JudgedOut(BaseModel):
    id: int
    place: str
    serial: str
    size: int
    kind: str
    holds: str | None
    #: What it reports of itself; null where it does not answer.
    commands: list[str] | None
    protected: int
    reassigned: int
    spare: bool
    encrypts: bool
    sector: int | None
    why_kept: str | None
    offers: list[OfferOut]
    hours: float
    chance_missed: float | None


class MethodsOut(BaseModel):
    drives: list[JudgedOut]
    hours: float
    at_once: dict[str, int]


class MethodsQuery(Query):
    drives: str = Field(default="", max_length=4000)
    category: str = "purge"
    #: Drives for which Clear is enough.
    cleared: str = Field(default="", max_length=4000)
    sample: int | None = None
    remnant: str | None = Field(default=None, max_length=40)


class CardLine(BaseModel):
    """A line of a card."""

    label: str
    text: str


class CertificateOut(BaseModel):
    number: int
    serial: str
    issued_at: dt.datetime
    category: str
    method: str
    house: str
    asked_by: str
    approved_by: str
    destination: str | None
    fingerprint: str
    lot: int | None
    #: As on the card.
    rows: list[CardLine]


class CertificatesOut(BaseModel):
    certificates: list[CertificateOut]
    more: bool


class CertificatesQuery(Query):
    search: str = Field(default="", max_length=100)
    before: int | None = None
    limit: int = Field(default=30, ge=1, le=200)


class NumberPath(BaseModel):
    number: int


class LotPath(BaseModel):
    sheet_id: int


class LotJobPath(BaseModel):
    job_id: int


class VerifyBody(BaseModel):
    #: What stands in the file.
    content: str = Field(max_length=200_000)


class VerdictOut(BaseModel):
    good: bool
    sentence: str
    fingerprint: str | None
    rows: list[CardLine]


class KeysOut(BaseModel):
    """A JWK Set (RFC 7517)."""

    keys: list[dict[str, Any]]


class RulesBody(BaseModel):
    two_pairs: bool
    house: str = Field(max_length=200)


class CountOfOut(BaseModel):
    count: int


class LegibleOut(BaseModel):
    whose: str
    extents: int
    files: int


class AreaOut(BaseModel):
    name: str
    cells: int
    blank: int
    noise: int
    legible: list[LegibleOut]
    strip: list[int]


class LaboratoryOut(BaseModel):
    areas: list[AreaOut]


@api.get("/disposal", responses={200: DisposalOut})
@needs(Act.LOOK, shared="with-all")
def disposal() -> Any:
    """Drives that belong to nothing, lots under way and the last that ended, and the house's rules."""
    with transaction() as session:
        query = select(ids(DriveRow)).where(
            col(DriveRow.service).in_((Service.FREE, Service.WIPING)), col(DriveRow.starts_host).is_(False)
        )
        free = list(session.exec(query.order_by(col(DriveRow.shelf_id), col(DriveRow.bay)).limit(500)))
        drives = [
            OutgoingOut(id=d.id, place=d.place, shelf=d.shelf, serial=d.serial, size=d.size, kind=d.kind.value, condition=d.condition,
                        service=d.service, holds=d.holds, wiped_at=d.wiped_at)
            for d in load_drives(session, free)
        ]  # fmt: skip
        jobs = session.exec(select(ids(JobRow)).where(JobRow.kind == "wipe").order_by(col(JobRow.id).desc()).limit(6))
        lots = [_lot(session, number) for number in jobs]
        many = session.exec(select(func.count()).select_from(Certificate)).one()
        return DisposalOut(
            drives=drives, former=_former(session), lots=lots, certificates=many, **letting_go.rules(session)
        )


def _former(session: Session) -> list[FormerOut]:
    names = ("scheme", "taken_apart_by", "taken_apart_at", "until")
    query = pick(FormerPoolRow.id, *(getattr(FormerPoolRow, n) for n in names))
    waiting = query.where(FormerPoolRow.until > now(), col(FormerPoolRow.put_together_at).is_(None))
    facts = {number: dict(zip(names, told, strict=True)) for number, *told in session.exec(waiting)}
    return [
        FormerOut(id=f.id, name=f.name, drives=f.drives, volumes=f.volumes, spoilt=list(f.spoilt), away=list(f.away), **facts[f.id])
        for f in former_pools(session, facts) if not f.over
    ]  # fmt: skip


def _lot(session: Session, job_id: int) -> LotOut:
    (job,) = jobs_out(session, select(JobRow).where(JobRow.id == job_id))
    query = (
        select(WipeRow, Certificate.number).outerjoin(Certificate, col(Certificate.wipe_id) == WipeRow.id)
        .where(WipeRow.job_id == job_id).order_by(col(WipeRow.id))
    )  # fmt: skip
    rows = list(session.exec(query))
    drives = {d.id: d for d in load_drives(session, [w.drive_id for w, _ in rows])}
    first = rows[0][0]
    found = []
    for wipe, number in rows:
        drive = drives[wipe.drive_id]
        moves = wipe.state == "open" and wipe.held is None and job.state in ("waiting", "running")
        left = float(wipe.before.get("seconds") or 0) * (1 - wipe.cursor / max(1, wipe.total))
        reading = max(1, wipe.total - wipe.erasing)
        found.append(WipeOut(
            id=wipe.number, drive_id=drive.id, place=drive.place, serial=drive.serial, size=drive.size, kind=drive.kind.value,
            category=wipe.category, method=METHODS[wipe.method].name, state=wipe.state, erased=wipe.share,
            read_back=min(1.0, max(0, wipe.cursor - wipe.erasing) / reading),
            rate=drive.as_drive.mean_rate if moves else None, seconds_left=left if moves else None, held=wipe.held,
            found=wipe.found, certificate=number,
        ))  # fmt: skip
    return LotOut(sheet_id=first.sheet_id, job=job, asked_by=first.asked_by, approved_by=first.approved_by,
                  destination=first.destination, drives=found)  # fmt: skip


@api.get("/disposal/methods", responses={200: MethodsOut})
@needs(Act.LOOK)
def methods(query: MethodsQuery) -> Any:
    """Every method on each of these drives, for a category: which reach it, which do not and why."""
    with transaction() as session:
        lot = letting_go.judge(
            session,
            picked_ids(query.drives),
            query.category,
            devices(),
            sample=query.sample,
            remnant=query.remnant,
            cleared=picked_ids(query.cleared),
        )
    return MethodsOut(
        drives=[_judged(j) for j in lot.drives], hours=lot.seconds / 3600, at_once=dict(lot.at_once),
    )  # fmt: skip


def _judged(one: letting_go.JudgedDrive) -> JudgedOut:
    drive, identity = one.drive, one.facts.identity
    return JudgedOut(
        id=drive.id, place=drive.place, serial=drive.serial, size=drive.size, kind=drive.kind.value, holds=drive.holds,
        commands=sorted(c.value for c in identity.commands) if identity else None,
        protected=identity.protected if identity else 0, reassigned=identity.reassigned if identity else 0,
        spare=bool(identity and identity.spare), encrypts=bool(identity and identity.encrypts),
        sector=identity.sector if identity else None, why_kept=one.why_kept,
        offers=[
            OfferOut(id=o.method.id, name=o.method.name, about=o.method.about, category=o.category.value if o.category else None,
                     why_not=o.why_not, suggested=o.suggested, by_hand=o.method.by_hand)
            for o in one.offers
        ],
        hours=one.seconds / 3600, chance_missed=one.chance,
    )  # fmt: skip


@api.post("/disposal/lots/<int:job_id>/stop", responses={200: CountOfOut})
@needs(Act.WIPE_DRIVES)
def stop(path: LotJobPath) -> Any:
    """End what has not ended of a lot: those drives are partly wiped, or not."""
    with transaction() as session:
        return CountOfOut(count=letting_go.stop(session, path.job_id, signed_in().name))


@api.put("/disposal/rules", responses={200: RulesBody})
@needs(Act.MANAGE_USERS)
def set_rules(body: RulesBody) -> Any:
    """Whether two administrators approve what is wiped or taken apart; the name that certificates are given under."""
    with transaction() as session:
        letting_go.set_rules(session, signed_in().name, two_pairs=body.two_pairs, name=body.house)
        return RulesBody(**letting_go.rules(session))


@api.get("/disposal/certificates", responses={200: CertificatesOut})
@needs(Act.LOOK)
def certificates(query: CertificatesQuery) -> Any:
    """Certificates, the newest first, a page at a time: by serial, date, who, where to."""
    with transaction() as session:
        rows = letting_go.certificates(session, query.search, before=query.before, limit=query.limit + 1)
        return CertificatesOut(
            certificates=[_certificate(c) for c in rows[: query.limit]], more=len(rows) > query.limit
        )


def _certificate(row: Certificate) -> CertificateOut:
    from pairshelf.formats.certificate_pdf import rows_of

    said = row.payload
    return CertificateOut(
        number=row.number, serial=row.serial, issued_at=row.issued_at, category=said["category"], method=said["method_name"],
        house=said["house"], asked_by=said["asked_by"], approved_by=said["approved_by"], destination=said["destination"],
        fingerprint=row.fingerprint, lot=said["lot"], rows=[CardLine(label=a, text=b) for a, b in rows_of(said)],
    )  # fmt: skip


@api.get("/disposal/certificates/<int:number>", responses={200: CertificateOut})
@needs(Act.LOOK)
def certificate(path: NumberPath) -> Any:
    """One certificate, as its card says it."""
    with transaction() as session:
        return _certificate(letting_go.certificate_of(session, path.number))


@api.get("/disposal/certificates/<int:number>/file")
@needs(Act.LOOK)
def certificate_file(path: NumberPath) -> Any:
    """The signed file (JWS in flattened JSON serialization, RFC 7515)."""
    with transaction() as session:
        row = letting_go.certificate_of(session, path.number)
        return _download(
            _json(as_json(row.jws)), f"certificate-{row.number}-{_plain(row.serial)}.json", "application/json"
        )


@api.get("/disposal/certificates/<int:number>/card")
@needs(Act.LOOK)
def certificate_card(path: NumberPath) -> Any:
    """The card as a PDF."""
    from pairshelf.formats.certificate_pdf import certificates_pdf

    with transaction() as session:
        row = letting_go.certificate_of(session, path.number)
        return _download(
            certificates_pdf([(row.payload, row.fingerprint)]), f"certificate-{row.number}.pdf", "application/pdf"
        )


@api.get("/disposal/certificates/<int:number>/label")
@needs(Act.LOOK)
def certificate_label(path: NumberPath) -> Any:
    """The label for the drive's bag, as a PDF."""
    from pairshelf.formats.certificate_pdf import label_pdf

    with transaction() as session:
        row = letting_go.certificate_of(session, path.number)
        return _download(label_pdf(row.payload, row.fingerprint), f"label-{row.number}.pdf", "application/pdf")


@api.get("/disposal/lots/<int:sheet_id>/file")
@needs(Act.LOOK)
def lot_file(path: LotPath) -> Any:
    """The signed certificate of a lot that has ended, with those of its drives (JWS in flattened JSON serialization)."""
    with transaction() as session:
        made = of_lot(session, path.sheet_id)
        if made is None:
            raise NotFound("lot that has ended", str(path.sheet_id))
        numbers = [c["number"] for c in made[0]["certificates"]]
        rows = session.exec(
            select(Certificate).where(col(Certificate.number).in_(numbers)).order_by(col(Certificate.number))
        )
        whole = as_json(made[1]) | {"of_drives": [as_json(c.jws) for c in rows]}
        return _download(_json(whole), f"lot-{path.sheet_id}.json", "application/json")


@api.get("/disposal/lots/<int:sheet_id>/cards")
@needs(Act.LOOK)
def lot_cards(path: LotPath) -> Any:
    """All cards of a lot as one PDF."""
    from pairshelf.formats.certificate_pdf import certificates_pdf

    with transaction() as session:
        query = (
            select(Certificate)
            .join(WipeRow, col(WipeRow.id) == Certificate.wipe_id)
            .where(WipeRow.sheet_id == path.sheet_id)
        )
        rows = list(session.exec(query.order_by(col(Certificate.number))))
        if not rows:
            raise NotFound("certificate of this lot")
        cards = certificates_pdf([(c.payload, c.fingerprint) for c in rows])
        return _download(cards, f"certificates-of-lot-{path.sheet_id}.pdf", "application/pdf")


@api.get("/disposal/keys", responses={200: KeysOut})
@needs(None)
def keys() -> Any:
    """The public keys that certificates are verified by; for everybody."""
    with transaction() as session:
        return KeysOut(keys=letting_go.public_keys(session))


@api.post("/disposal/keys/new", responses={200: KeysOut})
@needs(Act.MANAGE_USERS)
def new_key() -> Any:
    """A new key signs from now on; the old ones still verify."""
    with transaction() as session:
        replace_key(session, signed_in().name)
        return KeysOut(keys=letting_go.public_keys(session))


@api.post("/disposal/verify", responses={200: VerdictOut})
@needs(None)
def verify(body: VerifyBody) -> Any:
    """Whether a file is a true certificate of this house; for everybody."""
    from pairshelf.formats.certificate_pdf import rows_of

    with transaction() as session:
        found = letting_go.verify_file(session, body.content.encode())
    single = found.good and found.payload is not None and "drive" in found.payload
    said = rows_of(found.payload) if single and found.payload else []
    rows = [CardLine(label=a, text=b) for a, b in said]
    return VerdictOut(good=found.good, sentence=found.sentence, fingerprint=found.fingerprint, rows=rows)


@api.get("/drives/<int:drive_id>/laboratory", responses={200: LaboratoryOut})
@needs(Act.LOOK, heavy=True)
def laboratory(path: DrivePath) -> Any:
    """What a laboratory would read of a drive, hidden areas included."""
    with transaction() as session:
        areas = letting_go.laboratory(session, path.drive_id, devices())
    return LaboratoryOut(areas=[
        AreaOut(
            name=a.name, cells=a.cells, blank=a.blank, noise=a.noise, strip=a.strip,
            legible=[LegibleOut(whose=w, extents=n, files=len(a.files[w])) for w, n in a.legible.most_common()],
        )
        for a in areas
    ])  # fmt: skip


def _json(value: Any) -> bytes:
    return json.dumps(value, indent=1).encode()


def _plain(name: str) -> str:
    return "".join(c if c.isascii() and c.isalnum() else "-" for c in name)[:40]


def _download(content: bytes, name: str, kind: str) -> Response:
    return send_file(io.BytesIO(content), mimetype=kind, as_attachment=True, download_name=name)
