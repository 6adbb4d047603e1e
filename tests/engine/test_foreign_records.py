"""Records that nobody here wrote: whatever they say, with checksums that are right, harms nothing and hides nobody."""

from __future__ import annotations

import copy
import random
from dataclasses import asdict, replace
from typing import Any

import pytest
from sqlmodel import select

from pairshelf.core.domain.records import Head, Record
from pairshelf.core.domain.units import GIB
from pairshelf.engine.errands import do_errands
from pairshelf.engine.found_pools import found_pools, laid_out
from pairshelf.engine.pools import devices
from pairshelf.engine.records import record_on
from pairshelf.formats.pool_record import DamagedError, pack, packed_body, read_record
from pairshelf.formats.pool_record_rules import sound_record
from pairshelf.services.bringing_in import spoken_of
from pairshelf.store.database import transaction
from pairshelf.store.tables import VolumeRow
from tests.engine.elsewhere import books_lost, carried, recorded
from tests.engine.helpers import at_once, build, carry_all, do, fill, pool_state, shelf

pytestmark = pytest.mark.usefixtures("db")

NASTY: list[Any] = [
    None, True, -1, 0, 2**31 - 1, 2**63, 10**400, -(10**400), 1.5, float("inf"), float("nan"), "", "x", "../../etc", "a/b", "<b>x</b>",
    "line\u2028end", "\r\nX: y", "x" * 5000, "\ud800", "parity-9", "2026-13-45", "0001-01-01", [], {}, [[]], [{}], [1, 2], {"a": 1},
]  # fmt: skip


@pytest.fixture
def known() -> tuple[dict[str, int], dict[str, Record]]:
    """A set-built pool and a spread one with volumes and files, as they stand on their drives; the books are lost."""
    at_once()
    build(shelf(4), "parity-1", name="cold")
    ids = [*shelf(2, name="S"), *shelf(2, name="T")]
    do("build-pool", name="wide", scheme="spread", domain="shelf", drives=tuple(ids), volume="v", volume_size="10 GiB", protection="copies-2",
       file_system="xfs")  # fmt: skip
    carry_all()
    fill(1, 0.2)
    carry_all()
    recorded()
    drives = books_lost()
    found = {s: record_on(devices(), s, size) for s, size in drives.items()}
    assert all(found.values())
    return drives, {s: r for s, r in found.items() if r is not None}


def _paths(value: Any, at: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    inside = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    return [at, *(path for key, one in inside for path in _paths(one, (*at, key)))]


def _altered(body: dict[str, Any], dice: random.Random) -> dict[str, Any]:
    """Somewhere in it something else stands, is missing, or stands twice."""
    body = copy.deepcopy(body)
    path = dice.choice(_paths(body)[1:])
    inside: Any = body
    for key in path[:-1]:
        inside = inside[key]
    what = dice.random()
    if what < 0.15:
        del inside[path[-1]]
    elif what < 0.3 and isinstance(inside, list):
        inside.append(copy.deepcopy(inside[path[-1]]))
    elif what < 0.45 and isinstance(inside[path[-1]], int) and not isinstance(inside[path[-1]], bool):
        inside[path[-1]] += dice.choice([-1, 1, 1000, -1000, 2**31])
    else:
        inside[path[-1]] = dice.choice(NASTY)
    return body


def _as_body(head: Head) -> dict[str, Any]:
    return asdict(head)


def test_a_body_that_is_altered_anywhere_is_refused_or_sound(known: tuple[dict[str, int], dict[str, Record]]) -> None:
    """Never anything else: what is taken can be laid out, and lies on drives and addresses that there are."""
    dice, refused, taken = random.Random(31), 0, 0
    said: set[str] = set()
    for serial in ("A1", "S1"):
        record = known[1][serial]
        laid_out(sound_record(record))
        for _ in range(700):
            body = _altered(dict(record.body), dice)
            try:
                laid_out(sound_record(Record(record.head, body)))
                taken += 1
            except DamagedError as error:
                refused += 1
                said.add(str(error))
    assert refused > 500 and taken > 20
    assert all(one.isprintable() and len(one) < 400 for one in said)


HOSTILE: list[tuple[str, Any]] = [
    ("pool.scheme", "parity-9"), ("pool.sets", 10**400), ("pool.capacity", 1), ("pool.created_at", "2026-13-45"),
    ("pool.promised", {"capacity": float("nan")}), ("pool.domain", "planet"), ("pool.walk", {"scheme": "parity-1"}), ("pool.front", 5),
    ("pool.bands", [[0, 10, [[[0, 1, 99], "parity", 1]]]]), ("pool.bands", [[0, 10**12, [[[0, 1, 2, 3], "parity", 1]]]]),
    ("places.0.size", -5), ("places.0.slot", 1), ("places.0.state", "gone"), ("places.0.drive", None), ("places.0.serial", "other"),
    ("places.0.missed", [-2]), ("places.0.absence", 2**40), ("places.0.shelf", "a\nb"),
    ("volumes.0.number", 2**31), ("volumes.0.number", 0), ("volumes.0.name", "a/b"), ("volumes.0.name", "x" * 5000), ("volumes.0.name", "a\u2028b"),
    ("volumes.0.name", "<script>"), ("volumes.0.size", -1), ("volumes.0.extents", 10**9), ("volumes.0.protection", "copies-2"),
    ("volumes.0.file_system", "fat"), ("volumes.0.overhead", 10**30), ("volumes.0.uuid", "'; drop"), ("volumes.0.pieces", [[0, 10**9, 5]]),
    ("volumes.0.pieces", [[0, 0, 5], [3, 10, 5]]), ("volumes.0.pieces", [[0, 0, 5], [5, 3, 5]]), ("volumes.0.files", None),
    ("volumes.0.files.0.extents", 10**8), ("volumes.0.files.0.written_at", "soon"), ("volumes.0.files.0.via", "magic"),
    ("volumes.0.mounts", [{"host": "elm", "at": "../x", "read_only": False, "access_times": False, "required": False}]),
    ("volumes.0.disk", {"target": "iqn", "lun": -1, "host": "elm", "shared": False, "initiators": []}),
    ("backups", [{"volume": 99, "place": "p", "age_hours": 1, "link": 1, "recorded_by": "x", "recorded_at": "2026-01-01T00:00:00+00:00"}]),
    ("volumes", {}), ("places", []), ("pool", None), ("volumes", None),
]  # fmt: skip


def test_hostile_records_are_named_and_hide_no_other_pool(known: tuple[dict[str, int], dict[str, Record]]) -> None:
    drives, records = known
    carried(drives)
    for path, value in HOSTILE:
        for serial in ("A1", "A2", "A3", "A4"):
            body = copy.deepcopy(dict(records[serial].body))
            inside: Any = body
            *way, last = [int(p) if p.isdecimal() else p for p in path.split(".")]
            for key in way:
                inside = inside[key]
            inside[last] = value
            head = replace(records[serial].head, generation=records[serial].head.generation + 1)
            raw = pack(head, packed_body(body))
            read_record(raw)  # Its checksum is right.
            for place in (0, 1):
                devices().open(serial, drives[serial]).keep_record(place, raw)
        with transaction() as session:
            found = {f.name: f for f in found_pools(session, devices())}
            said = {s.found.name: s for s in spoken_of(session, devices())}
        assert found["wide"].layout is not None and said["wide"].may, path
        assert found["cold"].layout is None and not said["cold"].may, path
        assert found["cold"].unreadable and "\n" not in found["cold"].unreadable, path


def test_a_volumes_number_that_would_use_all_up_is_not_taken_over(
    known: tuple[dict[str, int], dict[str, Record]],
) -> None:
    drives, records = known
    carried(drives)
    for serial in ("A1", "A2", "A3", "A4"):
        body = copy.deepcopy(dict(records[serial].body))
        body["volumes"][0]["number"] = 2**31 - 1
        head = replace(records[serial].head, generation=records[serial].head.generation + 1)
        for place in (0, 1):
            devices().open(serial, drives[serial]).keep_record(place, pack(head, packed_body(body)))
    with transaction() as session:
        uid = next(f.uid for f in found_pools(session, devices()) if f.name == "cold")
    pool = do("bring-in", pool=uid, name="").pool_id or 0
    do_errands()
    carry_all()
    assert pool_state(pool)[0] == "healthy"
    with transaction() as session:
        (number,) = session.exec(select(VolumeRow.id)).all()
    assert number is not None and number < 2**24
    # Numbers go on as they would.
    (free,) = shelf(1, name="N", size=20 * GIB)
    do("build-pool", name="new", scheme="single", drives=(free,), volume="w", file_system="xfs")
    with transaction() as session:
        assert max(session.exec(select(VolumeRow.id)).all()) < 2**24  # type: ignore[type-var]
