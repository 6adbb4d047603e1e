"""Certificates of wiped drives: numbered without gaps, signed with the house's key.

A certificate is a JWS in compact serialization (RFC 7515) over JSON, signed by Ed25519 (RFC 8032, ``alg`` EdDSA of
RFC 8037); the public key is a JWK (RFC 7517) whose id is its thumbprint (RFC 7638). The private key is kept encrypted
(AES-256-GCM); the key that opens it lies in a file of its own, so that a copy of the database alone can sign nothing.
"""

from __future__ import annotations

import base64
import os
import secrets
from importlib.metadata import version
from pathlib import Path
from typing import Any

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from sqlmodel import Session, col, func, select

from pairshelf.core.disposal.methods import METHODS
from pairshelf.core.disposal.verifying import chance_missed, remnant_extents
from pairshelf.core.domain.drives import extents_of
from pairshelf.engine.log import SYSTEM, log
from pairshelf.formats.certificate import compact, fingerprint_of, jwk_of
from pairshelf.store.database import Lock, lock_until_commit
from pairshelf.store.settings import settings
from pairshelf.store.tables import Certificate, DriveRow, Setting, SigningKey, WipeRow, now


def house(session: Session) -> str:
    """The name that this house signs with."""
    row = session.get(Setting, "house")
    return str(row.value["name"]) if row else "Pair Shelf"


def _opening_key() -> bytes:
    """The key that opens the signing key; made when first asked for, readable by us alone."""
    path: Path = settings().devices / "signing" / "opening.key"
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    try:
        descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    except FileExistsError:
        return path.read_bytes()
    with os.fdopen(descriptor, "wb") as file:
        file.write(key := secrets.token_bytes(32))
    return key


def _sealed(raw: bytes) -> str:
    nonce = secrets.token_bytes(12)
    return base64.b64encode(nonce + AESGCM(_opening_key()).encrypt(nonce, raw, b"signing")).decode()


def _opened(kept: str) -> Ed25519PrivateKey | None:
    raw = base64.b64decode(kept)
    try:
        return Ed25519PrivateKey.from_private_bytes(AESGCM(_opening_key()).decrypt(raw[:12], raw[12:], b"signing"))
    except InvalidTag:
        return None


def replace_key(session: Session, who: str = SYSTEM) -> SigningKey:
    """A new key signs from now on; what the old ones signed can still be verified."""
    lock_until_commit(session, Lock.ALONE, "certificates")
    for old in session.exec(select(SigningKey).where(col(SigningKey.private).is_not(None))):
        old.private, old.retired_at = None, now()
    session.flush()
    private = Ed25519PrivateKey.generate()
    public = jwk_of(private.public_key())
    row = SigningKey(kid=public["kid"], public=public, private=_sealed(private.private_bytes_raw()))
    session.add(row)
    session.flush()
    log(
        session,
        who,
        "signing-key-made",
        public["kid"],
        f"Certificates are signed with the key {public['kid'][:12]} from now on.",
    )
    return row


def _signing(session: Session) -> tuple[SigningKey, Ed25519PrivateKey]:
    row = session.exec(select(SigningKey).where(col(SigningKey.private).is_not(None))).first()
    opened = _opened(row.private or "") if row is not None else None
    if row is None or opened is None:
        row = replace_key(session)
        opened = _opened(row.private or "")
        assert opened is not None
    return row, opened


def issue(session: Session, wipe: WipeRow, drive: DriveRow) -> Certificate:
    """The certificate of a drive that has been wiped and verified, or destroyed; in the transaction that says so."""
    # One at a time: so the numbers have no gaps.
    lock_until_commit(session, Lock.ALONE, "certificates")
    row, private = _signing(session)
    number = int(session.exec(select(func.coalesce(func.max(Certificate.number), 0))).one()) + 1
    moment = now()
    payload = _payload(session, number, wipe, drive) | {"issued": moment.isoformat(timespec="seconds")}
    jws = compact(payload, row.kid, private)
    made = Certificate(
        number=number, wipe_id=wipe.number, serial=drive.serial, issued_at=moment, kid=row.kid, payload=payload, jws=jws,
        fingerprint=fingerprint_of(jws),
    )  # fmt: skip
    session.add(made)
    session.flush()
    log(
        session,
        SYSTEM,
        "certificate-issued",
        drive.serial,
        f"Certificate {number} for drive {drive.serial}.",
        number=number,
    )
    return made


def of_lot(session: Session, sheet_id: int) -> tuple[dict[str, Any], str] | None:
    """The certificate of a whole lot, signed now: the numbers and fingerprints of those of its drives, and what was not
    wiped; None while any of it is under way, or where there is no such lot."""
    query = select(WipeRow, DriveRow.serial, Certificate).join(DriveRow, col(DriveRow.id) == WipeRow.drive_id)
    query = query.outerjoin(Certificate, col(Certificate.wipe_id) == WipeRow.id).where(WipeRow.sheet_id == sheet_id)
    rows = list(session.exec(query.order_by(col(WipeRow.id))))
    if not rows or any(wipe.state == "open" for wipe, _, _ in rows):
        return None
    row, private = _signing(session)
    first = rows[0][0]
    payload = {
        "type": "pair-shelf-lot-certificate", "version": 1, "house": house(session), "lot": sheet_id,
        "asked_by": first.asked_by, "approved_by": first.approved_by, "destination": first.destination,
        "certificates": [
            {"number": c.number, "serial": serial, "category": c.payload["category"], "fingerprint": c.fingerprint}
            for _, serial, c in rows if c is not None
        ],
        "not_wiped": [{"serial": serial, "state": w.state, "found": w.found} for w, serial, c in rows if c is None],
    }  # fmt: skip
    return payload, compact(payload, row.kid, private)


def _payload(session: Session, number: int, wipe: WipeRow, drive: DriveRow) -> dict[str, Any]:
    """Everything that a certificate lists (rules: wiping)."""
    method, before = METHODS[wipe.method], wipe.before
    # As many as were drawn from.
    extents = extents_of(drive.size) + int(before.get("identity", {}).get("protected", 0))
    verified: dict[str, Any] = {"how": wipe.verified_by, "by": f"Pair Shelf {version('pairshelf')}"}
    if wipe.verified_by == "sample" and wipe.sample:
        touched = min(remnant_extents(wipe.remnant), extents)
        verified |= {
            "extents": wipe.sample, "of": extents, "remnant_bytes": wipe.remnant,
            "chance_missed": chance_missed(extents, min(wipe.sample, extents), touched),
        }  # fmt: skip
    return {
        "type": "pair-shelf-wipe-certificate", "version": 1, "number": number, "house": house(session),
        "drive": {
            "serial": drive.serial, "maker": before.get("maker"), "model": before.get("model"), "medium": before.get("kind"),
            "bytes": drive.size, "bus": before.get("bus"), "came_from": before.get("place"), "held": before.get("holds"),
            "property_number": before.get("property_number"),
        },
        "standard": "NIST SP 800-88", "category": wipe.category, "method": method.id, "method_name": method.name,
        "passes": method.passes, "hidden": before.get("identity", {}),
        "tool": {"name": "Pair Shelf", "version": version("pairshelf")}, "verification": verified,
        "begun": wipe.started_at.isoformat(timespec="seconds") if wipe.started_at else None,
        "ended": wipe.ended_at.isoformat(timespec="seconds") if wipe.ended_at else None,
        "asked_by": wipe.asked_by, "approved_by": wipe.approved_by, "destination": wipe.destination,
        "done_by": before.get("done_by"), "lot": wipe.sheet_id,
    }  # fmt: skip
