"""Drives carried between rooms in boxes, and pools found on them, by the API and the console."""

from __future__ import annotations

import io
import json
import os
import time
import zipfile
from pathlib import Path
from typing import Any

import pytest

from pairshelf.core.domain.device import RECORD_MOST, DeviceError, Presence
from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.inventory import DriveRecord
from pairshelf.core.domain.units import GIB
from pairshelf.core.errors import BadInput
from pairshelf.engine.observe import observe
from pairshelf.engine.pools import devices
from pairshelf.standin import boxes
from pairshelf.standin.media import BLOCK
from pairshelf.standin.world import World
from pairshelf.store.database import transaction
from pairshelf.store.tables import Setting, Shelf, Site
from tests import console
from tests.api.conftest import Person, do
from tests.api.test_shelving import filled, shelf_id
from tests.engine.elsewhere import books_lost
from tests.engine.helpers import carry_all, files_intact, pool_state

SIZE = 60 * GIB


def record(serial: str, bay: int = 1, **more: Any) -> DriveRecord:
    return DriveRecord("Loft", bay, serial, SIZE, Kind.HDD, maker="Osmund", **more)


def packed(world: World, *drives: DriveRecord) -> bytes:
    into = io.BytesIO()
    boxes.pack(world, drives, into)
    return into.getvalue()


def test_a_box_has_all_bytes_of_its_drives_and_nothing_of_others(tmp_path: Path) -> None:
    here, there = World(tmp_path / "a"), World(tmp_path / "b")
    for serial in ("X", "Y", "Z"):
        drive = here.open(serial, SIZE)
        drive.write(3, serial.encode() * BLOCK)
        drive.write_label({"pool": serial})
        drive.keep_record(1, b"what it is")
    here.be("Y", SIZE, Kind.HDD, slowness=3.0)
    here.fail("Y")
    raw = packed(here, record("X"), record("Y", 2))
    assert here.presence("X") is here.presence("Y") is Presence.ABSENT
    assert [r.serial for r in boxes.unpack(there, io.BytesIO(raw))] == ["X", "Y"]
    assert [r.serial for r in there.beside()] == ["X", "Y"]
    with pytest.raises(DeviceError):
        there.open("X", SIZE).read(3, 1)
    there.put_in(record("X", 4))
    drive = there.open("X", SIZE)
    assert drive.read(3, 1) == b"X" * BLOCK
    assert (drive.read_label(), drive.record(1)) == ({"pool": "X"}, b"what it is")
    assert here.media_path("X").read_bytes() == there.media_path("X").read_bytes()
    there.put_in(record("Y", 5))
    assert there.presence("Y") is Presence.FAILED, "one that has failed has failed there, too"
    assert not there.media_path("Z").exists()
    assert there.beside() == []


def _other(files: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as box:
        for name, content in files.items():
            box.writestr(name, content)
    return out.getvalue()


GOOD = {"shelf": "L", "bay": 1, "serial": "X", "size": SIZE, "kind": "hdd"}
LISTED = json.dumps([GOOD]).encode()


@pytest.mark.parametrize(
    "raw",
    [
        b"",
        b"no box at all",
        _other({"readme.txt": b"x"}),
        _other({"drives.json": b"{}"}),
        _other({"drives.json": b"[]"}),
        _other({"drives.json": b"nonsense"}),
        _other({"drives.json": json.dumps([{"serial": "X"}]).encode()}),
        _other({"drives.json": json.dumps([GOOD | {"size": 0}]).encode()}),
        _other(
            {"drives.json": json.dumps([GOOD | {"presence": "elsewhere"}]).encode(), "0/.img": bytes(SIZE // 262144)}
        ),
        _other({"drives.json": LISTED, "0/.img": b"too short"}),
        _other({"drives.json": LISTED, "0/../../x": b"x"}),
        _other({"drives.json": LISTED, "7/.img": b"x"}),
        _other({"drives.json": LISTED, "../0/.img": b"x"}),
    ],
)
def test_what_is_no_box_is_refused_and_nothing_lies_there(raw: bytes, tmp_path: Path) -> None:
    world = World(tmp_path)
    with pytest.raises(BadInput) as refused:
        boxes.unpack(world, io.BytesIO(raw))
    assert refused.value.field == "box"
    assert world.beside() == []


def _damaged(raw: bytes, name: str, content: bytes | None) -> bytes:
    """A box with another content in one of its files; None: one byte of it turned, so that its checksum does not agree."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(raw)) as old, zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as box:
        for one in old.infolist():
            box.writestr(one.filename, content if content is not None and one.filename == name else old.read(one))
        if name not in old.namelist():
            box.writestr(name, content or b"")
    if content is not None:
        return out.getvalue()
    turned = bytearray(out.getvalue())
    with zipfile.ZipFile(io.BytesIO(turned)) as box:
        one = box.getinfo(name)
    at = one.header_offset + 30 + len(one.filename.encode()) + one.file_size // 2
    turned[at] ^= 1
    return bytes(turned)


@pytest.mark.parametrize(
    ("name", "content"),
    [
        ("1/.img", None), ("1/.record-1", None), ("1/.nature", b"{"), ("1/.nature", b'{"commands": 5}'),
        ("1/.nature", b'{"commands": [], "spare": 100000000}'), ("1/.nature", b'{"commands": [], "sector": 0}'),
        ("1/.nature", b'{"commands": ["explode"]}'), ("1/.nature", b'{"commands": [], "slowness": NaN}'),
        ("1/.ageing", b'{"steers": {"wear": {"more": 1, "a_day": 1, "since": "soon"}}, "lost": 0}'), ("1/.ageing", b"[" * 5000),
        ("1/.kind", b"tape"), ("1/.kind", b"ssd"), ("1/.tried", b"[1e99]"), ("1/.sectors", b'[[0, "zz"]]'),
        *(("1/.nature", f'{{"commands": [], {more}}}'.encode()) for more in (
            '"slowness": 0', '"slowness": 1e9', '"protected": -1', '"protected": 61', '"erase_seconds": -1', '"dies_after": -1',
            '"recovery": -2', '"reassigned": [61]', '"reassigned": [-1]', f'"reassigned": {[0] * 65}', '"reassigned": null',
            '"colour": "red"', '"stalls": 1',
        )),
        *(("1/.ageing", said.encode()) for said in (
            '{"steers": {}, "lost": 61}', '{"steers": {}, "lost": -1}',
            '{"steers": {"wear": {"more": 1e12, "a_day": 1, "since": "2026-01-01T00:00:00+00:00"}}, "lost": 0}',
            '{"steers": {"wear": {"more": 1, "a_day": -1e12, "since": "2026-01-01T00:00:00+00:00"}}, "lost": 0}',
            '{"steers": {"mood": {"more": 1, "a_day": 1, "since": "2026-01-01T00:00:00+00:00"}}, "lost": 0}',
            '{"steers": {"wear": {"more": 1, "a_day": 1, "since": "2026-01-01T00:00:00"}}, "lost": 0}',
            '{"steers": {"wear": {"more": 1, "a_day": 1, "since": "1026-01-01T00:00:00+00:00"}}, "lost": 0}',
        )),
        ("1/.tried", b"[61]"), ("1/.tried", b"[-1]"), ("1/.sectors", b'[[-1, "00"]]'),
        ("1/.sectors", b'[[99999999999999, "00"]]'), ("1/.passwords", b"x"), ("1/.record-1", bytes(RECORD_MOST + 1)),
    ],
)  # fmt: skip
def test_a_damaged_box_touches_nothing_that_is_here(name: str, content: bytes | None, tmp_path: Path) -> None:
    """Its first drive is sound, and lies here already: it is what it was."""
    here, there = World(tmp_path / "a"), World(tmp_path / "b")
    for serial in ("X", "Y"):
        here.open(serial, SIZE).write(0, b"n" * BLOCK)
        here.open(serial, SIZE).keep_record(1, b"what it is, as it says itself")
        here.be(serial, SIZE, Kind.HDD, slowness=3.0)
    there.open("X", SIZE).write(0, b"old" + bytes(BLOCK - 3))
    there.pull("X")
    raw = _damaged(packed(here, record("X"), record("Y", 2)), name, content)
    before = {p.name: p.read_bytes() for p in (tmp_path / "b").rglob("*") if p.is_file()}
    with pytest.raises(BadInput) as refused:
        boxes.unpack(there, io.BytesIO(raw))
    assert (refused.value.field, refused.value.code) == ("box", "no-box")
    assert {p.name: p.read_bytes() for p in (tmp_path / "b").rglob("*") if p.is_file()} == before


def test_what_a_killed_unpacking_has_left_is_removed_by_the_next_and_one_under_way_is_not(tmp_path: Path) -> None:
    here, there = World(tmp_path / "a"), World(tmp_path / "b")
    here.open("X", SIZE).write(0, b"a" * BLOCK)
    raw = packed(here, record("X"))
    left, under_way = tmp_path / "b" / "unpacking-left", tmp_path / "b" / "unpacking-now"
    for folder in (left, under_way):
        (folder / "0").mkdir(parents=True)
        (folder / "0" / "drive.img").write_bytes(b"half")
    long_ago = time.time() - 2 * 3600
    os.utime(left, (long_ago, long_ago))
    boxes.unpack(there, io.BytesIO(raw))
    assert not left.exists() and under_way.exists()


def test_a_drive_that_is_in_a_bay_here_is_not_unpacked_over(tmp_path: Path) -> None:
    here, there = World(tmp_path / "a"), World(tmp_path / "b")
    here.open("X", SIZE).write(0, b"a" * BLOCK)
    there.open("X", SIZE).write(0, b"b" * BLOCK)
    raw = packed(here, record("X"))
    with pytest.raises(BadInput, match="X is in this room already"):
        boxes.unpack(there, io.BytesIO(raw))
    assert there.open("X", SIZE).read(0, 1) == b"b" * BLOCK


def _moved(lab: Person) -> dict[str, Any]:
    """The lab's shelf goes into a box; the books are lost; the box is unpacked beside a new shelf. What was found."""
    filled(lab)
    # Nobody has written down what changed last: packing does.
    answer = lab.post("/api/stand-in/box", {"shelf_id": shelf_id("A")})
    assert answer.status_code == 200
    assert answer.mimetype == "application/zip"
    box = answer.data
    books_lost()
    for file in (devices().folder / "media").iterdir():
        file.unlink()
    with transaction() as session:
        session.merge(Setting(key="setup", value={}))
        session.add(site := Site(name="Mill"))
        session.flush()
        session.add(Shelf(site_id=site.number, name="Attic", bays=8))
    from tests.api.conftest import _people

    _people()
    assert lab.sign_in("ida").status_code == 200
    sent = lab.send("/api/stand-in/unpack", box)
    assert sent.status_code == 200, sent.get_json()
    beside = [d["serial"] for d in sent.get_json()["drives"]]
    assert beside == [d["serial"] for d in lab.get("/api/stand-in/beside").get_json()["drives"]]
    refused = lab.post("/api/stand-in/beside", {"shelf_id": shelf_id("Attic"), "serials": ["unheard-of"]})
    assert refused.get_json()["code"] == "not-beside"
    put = lab.post("/api/stand-in/beside", {"shelf_id": shelf_id("Attic"), "serials": beside[1:]})
    assert sorted(put.get_json()["serials"]) == beside[1:]
    one = lab.post("/api/stand-in/drives", {"shelf_id": shelf_id("Attic"), "bay": 8, "serial": beside[0]})
    assert one.status_code == 200
    assert lab.get("/api/stand-in/beside").get_json()["drives"] == []
    empty = lab.post("/api/stand-in/beside", {"shelf_id": shelf_id("Attic")})
    assert empty.get_json()["code"] == "none-beside"
    observe(devices())
    (found,) = lab.get("/api/found-pools").get_json()["pools"]
    return dict(found)


def test_a_pool_is_carried_to_empty_books_and_is_there(lab: Person) -> None:
    found = _moved(lab)
    assert (found["name"], found["may"], found["name_taken"], found["ours"]) == ("cold", True, False, False)
    assert all(m["whole"] for m in found["members"])
    assert {v["name"] for v in found["volumes"]} >= {"office"}
    assert any("share" in h for h in found["hanging"])
    told = json.loads(console.run(["found", "--json"])[1])["pools"][0]
    assert (told["uid"], told["may"]) == (found["uid"], True)
    assert "can be brought in" in " ".join(console.run(["found", "--look"])[1].split())
    sheet = do(lab, "bring-in", pool=found["uid"])
    assert lab.get("/api/found-pools").get_json()["pools"] == []
    carry_all()
    (pool,) = lab.get("/api/pools").get_json()["pools"]
    assert pool_state(pool["id"])[0] == "healthy"
    told = lab.get(f"/api/pools/{pool['id']}").get_json()
    assert told["record"]["on"] == told["record"]["of"]
    office = next(v["id"] for v in lab.get("/api/volumes").get_json()["volumes"] if v["ref"] == "cold/office")
    assert files_intact(pool["id"], office)
    assert sheet is not None


def test_only_who_may_looks_again_or_carries(lab: Person, person: Any) -> None:
    wren = person("wren")
    assert wren.get("/api/found-pools").status_code == 200
    for path, body in (
        ("/api/found-pools", {}),
        ("/api/stand-in/box", {"shelf_id": 1}),
        ("/api/stand-in/beside", {"shelf_id": 1}),
    ):
        assert wren.post(path, body).status_code == 403
    assert lab.post("/api/stand-in/box", {"shelf_id": 999}).get_json()["field"] == "shelf_id"
    assert lab.send("/api/stand-in/unpack", b"no box").get_json()["code"] == "no-box"
    assert lab.post("/api/found-pools").get_json() == {"pools": []}
