"""Certificates as they are handed out: JWS over JSON (docs/formats/certificate.md), and how one is verified from the
file and the public key alone."""

from __future__ import annotations

import base64
import binascii
import hashlib
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey

#: A certificate is far smaller than this, bytes.
LARGEST = 200_000


def b64(raw: bytes) -> str:
    """Base64url without padding (RFC 7515, 2)."""
    return base64.urlsafe_b64encode(raw).rstrip(b"=").decode()


def _unb64(text: str) -> bytes:
    if not text.isascii() or set(text) - set("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_"):
        raise ValueError("not base64url")
    raw = base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))
    # One way to write it only: otherwise a changed letter might say the same.
    if b64(raw) != text:
        raise ValueError("not base64url in its one form")
    return raw


def jwk_of(key: Ed25519PublicKey) -> dict[str, Any]:
    """A public key as a JWK (RFC 7517, RFC 8037); its id is its thumbprint (RFC 7638)."""
    x = b64(key.public_bytes_raw())
    thumbprint = hashlib.sha256(f'{{"crv":"Ed25519","kty":"OKP","x":"{x}"}}'.encode()).digest()
    return {"kty": "OKP", "crv": "Ed25519", "x": x, "use": "sig", "alg": "EdDSA", "kid": b64(thumbprint)}


def compact(payload: Mapping[str, Any], kid: str, key: Ed25519PrivateKey) -> str:
    """The payload, signed: a JWS in compact serialization."""
    header = {"alg": "EdDSA", "kid": kid, "typ": "JWS"}
    parts = [b64(json.dumps(part, sort_keys=True, separators=(",", ":")).encode()) for part in (header, payload)]
    signed = ".".join(parts)
    return f"{signed}.{b64(key.sign(signed.encode()))}"


def fingerprint_of(jws: str) -> str:
    """What stands on a label: the first 128 bits of the SHA-256 of the certificate, in groups."""
    digest = hashlib.sha256(jws.encode()).hexdigest()[:32]
    return "-".join(digest[i : i + 4] for i in range(0, 32, 4))


@dataclass(frozen=True, slots=True)
class Verdict:
    """What is to be said of a file that is held to be a certificate."""

    good: bool
    sentence: str
    payload: Mapping[str, Any] | None = None
    fingerprint: str | None = None


def verify(content: bytes, keys: Sequence[Mapping[str, Any]]) -> Verdict:
    """Whether a file is a certificate signed with one of these public keys, to the last byte."""
    if len(content) > LARGEST:
        return Verdict(False, "This is no certificate: it is far too long.")
    try:
        text = content.decode("ascii").strip()
    except UnicodeDecodeError:
        return Verdict(False, "This is no certificate: it holds what no certificate does.")
    if text.startswith("{"):
        text, wrong = _from_json(text)
        if wrong:
            return Verdict(False, wrong)
    parts = text.split(".")
    if len(parts) != 3:
        return Verdict(False, "This is no whole certificate: it has three parts with dots between; is it cut short?")
    try:
        header, payload = json.loads(_unb64(parts[0])), json.loads(_unb64(parts[1]))
        signature = _unb64(parts[2])
    except (ValueError, binascii.Error, RecursionError):
        return Verdict(False, "It was changed, or cut short: a part of it cannot be read.")
    if not isinstance(header, dict) or not isinstance(payload, dict) or header.get("alg") != "EdDSA":
        return Verdict(False, "It is not signed the way certificates of ours are.")
    key = next((k for k in keys if k.get("kid") == header.get("kid")), None)
    if key is None:
        return Verdict(False, "It was signed with another key: it is a certificate of another house, or no true one.")
    try:
        Ed25519PublicKey.from_public_bytes(_unb64(str(key["x"]))).verify(signature, f"{parts[0]}.{parts[1]}".encode())
    except (InvalidSignature, ValueError, KeyError):
        return Verdict(False, "Its signature is not true: something in it was changed.")
    if payload.get("type") == "pair-shelf-lot-certificate":
        wiped, left = payload.get("certificates") or [], payload.get("not_wiped") or []
        besides = f", {len(left)} not wiped" if left else ""
        return Verdict(
            True, f"The certificate of lot {payload.get('lot')} of {payload.get('house')} is true: {len(wiped)} drives wiped{besides}.",
            payload, fingerprint_of(text),
        )  # fmt: skip
    if payload.get("type") != "pair-shelf-wipe-certificate":
        return Verdict(False, "It is signed, but it is no certificate of a wipe.")
    what = payload.get("drive") or {}
    return Verdict(
        True, f"Certificate {payload.get('number')} of {payload.get('house')} is true: drive {what.get('serial')}, "
        f"{payload.get('category')}, {payload.get('method_name')}.", payload, fingerprint_of(text),
    )  # fmt: skip


def _from_json(text: str) -> tuple[str, str]:
    """The one signature of a JWS in JSON serialization (RFC 7515, 7.2), as a compact one; or what is wrong."""
    try:
        whole = json.loads(text)
    except (ValueError, RecursionError):
        return "", "It was changed, or cut short: it cannot be read."
    signatures = whole.get("signatures")
    if isinstance(signatures, list):
        if len(signatures) != 1:
            return "", f"It has {len(signatures)} signatures; a certificate of ours has one."
        whole = {"payload": whole.get("payload"), **(signatures[0] if isinstance(signatures[0], dict) else {})}
    parts = [whole.get(name) for name in ("protected", "payload", "signature")]
    if not all(isinstance(part, str) for part in parts):
        return "", "This is no whole certificate: a part of it is missing."
    return ".".join(str(part) for part in parts), ""


def as_json(jws: str) -> dict[str, str]:
    """The same in flattened JSON serialization (RFC 7515, 7.2.2)."""
    protected, payload, signature = jws.split(".")
    return {"payload": payload, "protected": protected, "signature": signature}
