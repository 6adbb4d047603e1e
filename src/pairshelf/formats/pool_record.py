"""A pool's record as bytes, for the room beside a drive's label: docs/formats/pool-record.md."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
import zlib
from dataclasses import asdict
from typing import Any

from pairshelf.core.domain.records import Head, Record, RecordedMember

#: The version that is written; those before it can be read.
VERSION = 1
_MAGIC = b"PairShelfRecord"
_MARK = b"PairShelfMark\0"
_HEADER = len(_MAGIC) + 1 + 8 + 8 + 32
#: Most bytes that a body may unpack to: a damaged or foreign one does not fill the memory.
_MOST = 2**30


class DamagedError(ValueError):
    """What stands there is no whole record."""


class NewerError(DamagedError):
    """A record of a version that this one does not know."""


def packed_body(body: Any) -> bytes:
    """The part that is the same on every drive."""
    return zlib.compress(json.dumps(body, separators=(",", ":"), ensure_ascii=False).encode(), 3)


def pack(head: Head, body: bytes) -> bytes:
    """One drive's record. ``body``: from ``packed_body``."""
    facts = asdict(head) | {"written_at": head.written_at.isoformat()}
    raw = json.dumps(facts, separators=(",", ":"), ensure_ascii=False).encode()
    lengths = len(raw).to_bytes(8, "big") + len(body).to_bytes(8, "big")
    begins = _MAGIC + bytes([VERSION]) + lengths
    return begins + hashlib.sha256(begins + raw + body).digest() + raw + body


def pack_mark(pool: str, generation: int) -> bytes:
    """The mark that every drive that was there has a pool's record of this generation."""
    content = bytes.fromhex(pool) + generation.to_bytes(8, "big")
    return _MARK + content + hashlib.sha256(content).digest()


def read_mark(raw: bytes) -> tuple[str, int]:
    """The pool and the generation of a mark; DamagedError where none stands there."""
    content = raw[len(_MARK) : len(_MARK) + 24]
    if not raw.startswith(_MARK) or raw[len(_MARK) + 24 : len(_MARK) + 56] != hashlib.sha256(content).digest():
        raise DamagedError("no mark stands there")
    return content[:16].hex(), int.from_bytes(content[16:], "big")


def read_head(raw: bytes) -> Head:
    """The head of a record whose checksum is right; DamagedError otherwise."""
    return _read(raw)[0]


def read_record(raw: bytes) -> Record:
    """A whole record; DamagedError where it is torn, altered, or of a later version."""
    head, packed = _read(raw)
    try:
        inflate = zlib.decompressobj()
        text = inflate.decompress(packed, _MOST)
        if inflate.unconsumed_tail or not inflate.eof:
            raise DamagedError("its body is not what its checksum is of")
        body = json.loads(text)
    except (zlib.error, ValueError, RecursionError) as error:
        raise DamagedError(str(error)) from error
    if not isinstance(body, dict):
        raise DamagedError("its body is no list of sections")
    return Record(head, body)


def _read(raw: bytes) -> tuple[Head, bytes]:
    if not raw.startswith(_MAGIC) or len(raw) < _HEADER:
        raise DamagedError("no record stands there")
    version, at = raw[len(_MAGIC)], len(_MAGIC) + 1
    if version > VERSION:
        raise NewerError(f"it was written by a later version ({version})")
    lengths, digest, content = raw[at : at + 16], raw[at + 16 : at + 48], raw[_HEADER:]
    sizes = int.from_bytes(lengths[:8], "big"), int.from_bytes(lengths[8:], "big")
    if len(content) < sum(sizes):
        raise DamagedError("it is torn")
    content = content[: sum(sizes)]
    if hashlib.sha256(raw[:at] + lengths + content).digest() != digest:
        raise DamagedError("its checksum is wrong")
    try:
        facts = json.loads(content[: sizes[0]])
        members = tuple(RecordedMember(**m) for m in facts.pop("members"))
        moment = dt.datetime.fromisoformat(facts.pop("written_at"))
        return Head(written_at=moment, members=members, **facts), content[sizes[0] :]
    except (ValueError, TypeError, KeyError, AttributeError) as error:
        raise DamagedError(f"its head says something else: {error}") from error
