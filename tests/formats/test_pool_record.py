"""A pool's record: what is written is what is read, and nothing else is ever taken for it."""

from __future__ import annotations

import datetime as dt
import hashlib
import zlib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pairshelf.core.domain.records import Head, RecordedMember
from pairshelf.formats.pool_record import (
    DamagedError,
    NewerError,
    pack,
    pack_mark,
    packed_body,
    read_head,
    read_mark,
    read_record,
)

WORDS = st.text(max_size=12)
MEMBERS = st.builds(
    RecordedMember, WORDS, st.none() | st.integers(0, 99), st.integers(1, 2**44), st.sampled_from(["hdd", "ssd"]),
    st.integers(0, 2**45), st.integers(0, 2**45),
)  # fmt: skip
HEADS = st.builds(
    Head, st.text("0123456789abcdef", min_size=32, max_size=32), WORDS, st.integers(0, 2**45),
    st.datetimes(timezones=st.just(dt.UTC)), WORDS, WORDS, st.lists(MEMBERS, max_size=4).map(tuple),
)  # fmt: skip
BODIES = st.dictionaries(WORDS, st.lists(st.integers() | WORDS | st.none(), max_size=5), max_size=5)
ONE = Head(
    "a" * 32,
    "cold",
    7,
    dt.datetime(2026, 1, 2, tzinfo=dt.UTC),
    "house",
    "A1",
    (RecordedMember("A1", 0, 9, "hdd", 7, 6),),
)


@given(HEADS, BODIES, st.binary(max_size=40))
def test_what_was_written_is_read_whatever_stands_behind_it(head: Head, body: dict[str, object], behind: bytes) -> None:
    raw = pack(head, packed_body(body)) + behind
    assert read_head(raw) == head
    assert (read_record(raw).head, read_record(raw).body) == (head, body)


@given(BODIES, st.data())
def test_a_bit_that_turned_or_an_end_that_is_missing_is_noticed(body: dict[str, object], data: st.DataObject) -> None:
    raw = bytearray(pack(ONE, packed_body(body)))
    if data.draw(st.booleans()):
        raw = raw[: data.draw(st.integers(0, len(raw) - 1))]
    else:
        raw[data.draw(st.integers(0, len(raw) - 1))] ^= 1 << data.draw(st.integers(0, 7))
    for read in (read_head, read_record):
        with pytest.raises(DamagedError):
            read(bytes(raw))


def test_one_of_a_later_version_is_named_as_that() -> None:
    raw = bytearray(pack(ONE, packed_body({})))
    raw[len(b"PairShelfRecord")] += 1
    with pytest.raises(NewerError, match="later version"):
        read_record(bytes(raw))


@pytest.mark.parametrize(
    "head", [b"[]", b"{}", b"no json", b'{"members": 3}', b'{"members": [], "written_at": "yesterday"}']
)
def test_a_head_that_says_something_else_is_damaged_though_its_checksum_is_right(head: bytes) -> None:
    lengths = len(head).to_bytes(8, "big") + (0).to_bytes(8, "big")
    begins = b"PairShelfRecord" + bytes([1]) + lengths
    raw = begins + hashlib.sha256(begins + head).digest() + head
    with pytest.raises(DamagedError, match="something else"):
        read_head(raw)


@pytest.mark.parametrize(
    "body", [b"", b"no zlib", zlib.compress(b"[]"), zlib.compress(b"{"), zlib.compress(b"{}")[:-3]]
)
def test_a_body_that_is_no_sections_is_damaged(body: bytes) -> None:
    with pytest.raises(DamagedError):
        read_record(pack(ONE, body))


def test_a_body_is_not_unpacked_without_end(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("pairshelf.formats.pool_record._MOST", 1000)
    with pytest.raises(DamagedError):
        read_record(pack(ONE, packed_body({"files": ["x" * 5000]})))


@given(st.integers(0, 2**63), st.integers(0, 90))
def test_a_mark_is_read_or_noticed(generation: int, at: int) -> None:
    raw = pack_mark("ab" * 16, generation)
    assert read_mark(raw + b"behind") == ("ab" * 16, generation)
    spoilt = bytearray(raw)
    spoilt[at % len(raw)] ^= 1
    for wrong in (bytes(spoilt), raw[:-1], b""):
        with pytest.raises(DamagedError):
            read_mark(wrong)
