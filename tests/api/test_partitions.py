"""A drive without a pool, from its first partition to the day it is free again: mounted, filled, extended, added to."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from sqlmodel import select

from pairshelf.engine.pools import devices
from pairshelf.formats.partition_image import read_table
from pairshelf.store.database import transaction
from pairshelf.store.repositories.holdings import house_now
from pairshelf.store.tables import DriveRow, Host, SampleFile, Site
from tests.api.conftest import Person, do
from tests.engine.helpers import at_once, carry_all, happens, shelf

SIZE = 500 * 10**9
TWO = {
    "scheme": "gpt",
    "parts": [
        {"size": "1 GiB", "type": "start", "label": "EFI"},
        {"size": "100 GiB", "label": "work", "file_system": "ext4"},
        {"size": "100 GiB", "label": "more", "file_system": "xfs"},
    ],
}


def _on_medium(serial: str, size: int = SIZE) -> Any:
    """The table as the drive has it, from its own bytes."""
    table = read_table(devices().open(serial, size).read_sectors, size, 512)
    return None if table is None else [(p.number, p.first, p.sectors, p.label) for p in table.parts]


def _shown(found: Any) -> list[tuple[int, int, int, str]]:
    return [(p["number"], p["first"], p["sectors"], p["label"]) for p in found["parts"]]


def _divided(who: Person, name: str = "P") -> tuple[int, str, Any]:
    (drive,) = shelf(1, name=name, size=SIZE)
    path = f"/api/drives/{drive}/partitions"
    assert who.post(path, TWO, "PUT").status_code == 200
    do(who, "write-partitions", drive_id=drive)
    return drive, path, who.get(path).get_json()


def test_partitions_stay_pending_until_written(person: Callable[[str], Person]) -> None:
    (drive,) = shelf(1, name="P", size=SIZE)
    who = person("osric")
    path = f"/api/drives/{drive}/partitions"
    found = who.post(path, TWO, "PUT").get_json()
    assert (found["pending"], found["in_use"], len(found["parts"])) == (True, False, 3)
    wrong = who.post(path, {"scheme": "gpt", "parts": [{"size": "9 TB"}]}, "PUT")
    assert (wrong.status_code, wrong.get_json()["field"]) == (400, "parts.0.size")
    assert who.get(path).get_json()["parts"] == found["parts"] and _on_medium("P1") is None
    do(who, "write-partitions", drive_id=drive)
    after = who.get(path).get_json()
    assert (after["pending"], after["in_use"], after["on_drive"]) == (False, True, True)
    assert _on_medium("P1") == _shown(after) == _shown(found)
    assert who.get(f"{path}/image").data[257:262] == b"ustar"
    shown = who.get(f"/api/drives/{drive}").get_json()["drive"]
    assert (shown["service"], shown["not_offered"]) == ("in-use", "It is in use by its partitions.")


def test_a_partition_is_mounted_filled_extended_and_read_back(person: Callable[[str], Person]) -> None:
    at_once()
    who = person("ida")
    _drive, path, found = _divided(who)
    with transaction() as session:
        session.add(Host(name="elm", site_id=session.exec(select(Site)).first().number))  # type: ignore[union-attr]
    do(who, "mount-volume", volume="P1/more", host="elm", mount_point="/srv/more")
    volume = next(p["volume"] for p in found["parts"] if p["label"] == "more")
    lines = who.get(f"/api/pools/{volume['pool_id']}").get_json()["volumes"]
    line = next(v for v in lines if v["name"] == "more")["mounts"][0]["line"]
    assert line.startswith("UUID=") and "/srv/more xfs" in line
    assert who.post(f"/api/volumes/{volume['id']}/fill", {"share": 1}).status_code == 200
    carry_all()
    # What is right behind it is the only way it can grow.
    first = next(p["volume"]["id"] for p in found["parts"] if p["label"] == "work")
    stuck = who.post("/api/sheets/resize-volume", {"volume": "P1/work", "size": "120 GiB"})
    assert (stuck.status_code, stuck.get_json()["field"]) == (400, "size")
    do(who, "resize-volume", volume="P1/more", size="all")
    after = who.get(path).get_json()
    assert after["unallocated"] == [] and _on_medium("P1") == _shown(after)
    # Every byte that a table leaves is given now, but for what is no whole MiB; and nowhere is it more than all.
    told = next(p for p in who.get("/api/pools").get_json()["pools"] if p["name"] == "P1")
    one = who.get(f"/api/pools/{told['id']}").get_json()
    sizes = sum(p["sectors"] for p in after["parts"]) * 512
    assert 0 <= told["capacity"] - sizes == told["free"] < 2**20 and one["capacity"] == told["capacity"] < SIZE
    with transaction() as session:
        house = house_now(session)
    assert (house.capacity, house.given) == (told["capacity"], sizes)
    assert who.post(f"/api/volumes/{volume['id']}/fill", {"share": 1}).status_code == 200
    carry_all()
    assert who.post(f"/api/volumes/{volume['id']}/read-files").status_code == 200
    carry_all()
    with transaction() as session:
        files = session.exec(select(SampleFile).where(SampleFile.volume_id == volume["id"])).all()
        assert sum(f.extents for f in files) > 300 and all(f.intact for f in files)
        # Nothing of it lies in its neighbour.
        assert not session.exec(select(SampleFile).where(SampleFile.volume_id == first)).all()
    do(who, "check-files", volume="P1/more")
    carry_all()


def test_what_is_unallocated_is_partitioned_beside_what_is_in_use(person: Callable[[str], Person]) -> None:
    at_once()
    who = person("ida")
    drive, path, before = _divided(who)
    do(who, "delete-volume", volume="P1/work")
    gap = who.get(path).get_json()["unallocated"]
    assert len(gap) == 2 and _on_medium("P1") == [p for p in _shown(before) if p[3] != "work"]
    other = who.post(path, {"scheme": "mbr", "parts": []}, "PUT")
    assert other.get_json()["field"] == "scheme"
    more = {"scheme": "gpt", "parts": [{"size": "40 GiB", "label": "new", "file_system": "ext4"}]}
    assert who.post(path, more, "PUT").status_code == 200
    do(who, "write-partitions", drive_id=drive)
    after = who.get(path).get_json()
    new = next(p for p in after["parts"] if p["label"] == "new")
    assert (new["number"], new["first"]) == (2, gap[0]["first"])
    assert [p for p in _shown(after) if p[3] in ("EFI", "more")] == [
        p for p in _shown(before) if p[3] in ("EFI", "more")
    ]
    refused = who.post("/api/sheets/make-volumes", {"pool": "P1", "name": "x", "size": "1 GiB"})
    assert refused.get_json()["code"] == "partitioned"


def test_the_drive_is_free_again_when_its_last_partition_has_gone(person: Callable[[str], Person]) -> None:
    at_once()
    who = person("ida")
    drive, _path, _ = _divided(who)
    kept = who.post("/api/sheets/write-partitions", {"drive_id": drive})
    assert kept.get_json()["code"] == "nothing-pending"
    for name in ("EFI", "work", "more"):
        do(who, "delete-volume", volume=f"P1/{name}")
    do(who, "write-partitions", drive_id=drive)
    shown = who.get(f"/api/drives/{drive}").get_json()["drive"]
    assert (shown["service"], shown["pool_id"], shown["holds"]) == (
        "free",
        None,
        "old data of its partitions, readable",
    )
    assert _on_medium("P1") == []
    (other,) = shelf(1, name="Q", size=SIZE)
    do(who, "build-pool", name="both", scheme="copies-2", drives=[drive, other])
    assert _on_medium("P1") is None  # a pool's label stands where the table did


def test_a_divided_drive_that_fails_can_be_given_up(person: Callable[[str], Person]) -> None:
    at_once()
    who = person("ida")
    drive, path, _ = _divided(who)
    happens("fail", "P1")
    found = who.get(path).get_json()
    assert found["on_drive"] is False and found["why_not"] == "It has failed."
    for name in ("EFI", "work", "more"):
        do(who, "delete-volume", volume=f"P1/{name}")
    do(who, "write-partitions", drive_id=drive)
    gone = who.post("/api/drives/retire", {"ids": [drive], "to": "recycling"})
    assert gone.status_code == 200, gone.get_json()
    with transaction() as session:
        row = session.get(DriveRow, drive)
        assert row is not None and (row.service, row.condition) == ("retired", "failed")


def test_a_start_drive_shows_its_own_partitions(person: Callable[[str], Person]) -> None:
    who = person("ida")
    (drive,) = shelf(1, name="S", size=SIZE)
    with transaction() as session:
        row = session.get(DriveRow, drive)
        assert row is not None
        row.starts_host = True
    found = who.get(f"/api/drives/{drive}/partitions").get_json()
    assert [p["label"] for p in found["parts"]] == ["start", "memory", "system"] and found["on_drive"]
    assert _on_medium("S1") == _shown(found) and found["why_not"]
    refused = who.post(f"/api/drives/{drive}/partitions", TWO, "PUT")
    assert refused.get_json()["code"] == "drive-not-free"
    # It is free of any pool, and yet no free drive: on Today as on every sheet.
    shelf(2, name="T", size=SIZE)
    with transaction() as session:
        assert who.get("/api/today").get_json()["free_drives"] == house_now(session).free == 2


def test_a_host_with_letters_mounts_in_a_folder_too_and_one_volume_both_ways(person: Callable[[str], Person]) -> None:
    who = person("ida")
    (drive,) = shelf(1, name="P", size=SIZE)
    with transaction() as session:
        site = session.exec(select(Site)).first()
        assert site is not None
        session.add(Host(name="win", site_id=site.number, letters=True))
    body = {"scheme": "gpt", "parts": [{"type": "lettered", "label": "plans", "file_system": "ntfs"}]}
    assert who.post(f"/api/drives/{drive}/partitions", body, "PUT").status_code == 200
    do(who, "write-partitions", drive_id=drive)
    devices().hosts.write("win", "C:/data/plans/old.txt", b"x" * 4096)
    asked = {"volume": "P1/plans", "host": "win"}
    do(who, "mount-volume", **asked, mount_point="s:\\")
    full = who.post("/api/sheets/mount-volume", {**asked, "mount_point": "c:\\data\\plans"})
    assert (full.status_code, full.get_json()["code"]) == (409, "not-empty")
    do(who, "mount-volume", **asked, mount_point="c:\\data\\plans", move_aside=True)
    again = who.post("/api/sheets/mount-volume", {**asked, "mount_point": "C:/Data/Plans"})
    assert (again.status_code, again.get_json()["code"]) == (400, "taken")
    found = who.get(f"/api/drives/{drive}/partitions").get_json()["parts"][0]["volume"]
    assert found["mounted"] == ["win at C:/data/plans", "win at S:"]
    assert devices().hosts.entries("win", "C:/data/plans") == ()
    assert [e.name for e in devices().hosts.entries("win", "C:/data/plans.aside") or ()] == ["old.txt"]
    do(who, "unmount-volume", host="win", mount_point="C:/data/plans")
