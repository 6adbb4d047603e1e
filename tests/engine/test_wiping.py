"""Drives wiped on real bytes, hidden areas included: what a laboratory finds afterwards, and what is certified."""

from __future__ import annotations

import json
import random
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import pytest
from sqlmodel import select

from pairshelf.core.changes.kinds import request_of
from pairshelf.core.disposal.facts import Command
from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.units import GIB
from pairshelf.core.errors import PairShelfError
from pairshelf.engine import approver
from pairshelf.engine.carry import carry
from pairshelf.engine.certificates import replace_key
from pairshelf.engine.jobs import wipe as wiping
from pairshelf.engine.jobs.kinds import JOBS
from pairshelf.engine.jobs.wipe import stop_lot
from pairshelf.engine.jobs.work import LotWork
from pairshelf.engine.pools import devices
from pairshelf.formats.certificate import as_json, verify
from pairshelf.standin.world import SimDrive
from pairshelf.store.database import transaction
from pairshelf.store.tables import Certificate, DriveRow, JobRow, Shelf, SigningKey, WipeRow
from tests.engine.helpers import at_once, build, carry_all, do, fill, happens, shelf
from tests.engine.test_crashes import dies_at

pytestmark = pytest.mark.usefixtures("db")
SIZE = 24 * GIB


@pytest.fixture(autouse=True)
def quick(db: str) -> None:
    at_once()


def used(count: int, kind: Kind = Kind.HDD, name: str = "A", **nature: Any) -> list[int]:
    """Free drives full of somebody's data, beyond what they show too."""
    ids = shelf(count, size=SIZE, name=name)
    with transaction() as session:
        for number in ids:
            row = session.get_one(DriveRow, number)
            row.kind, row.holds = kind.value, "old data of pool barn, readable"
            devices().be(row.serial, row.size, kind, **nature)
            device = devices().open(row.serial, row.size)
            device.write(0, (row.serial.encode() * 4096)[:4096] * 23)
            device.write_label({"pool": "barn"})
    return ids


def lab(serial: str) -> dict[str, bytes]:
    return {a.name: a.read(0, a.cells) for a in devices().laboratory(serial, SIZE)}


def blocks(content: bytes) -> set[bytes]:
    return {b for i in range(0, len(content), 4096) if any(b := content[i : i + 4096])}


def wipes() -> dict[str, WipeRow]:
    with transaction() as session:
        query = select(DriveRow.serial, WipeRow).join(WipeRow, WipeRow.drive_id == DriveRow.id).order_by(WipeRow.id)  # type: ignore[arg-type]
        return dict(session.exec(query).all())


def certificates() -> list[Certificate]:
    with transaction() as session:
        return list(session.exec(select(Certificate).order_by(Certificate.number)))  # type: ignore[arg-type]


def keys() -> list[dict[str, Any]]:
    with transaction() as session:
        return [k.public for k in session.exec(select(SigningKey))]


def the_job() -> int:
    with transaction() as session:
        return session.exec(select(JobRow.id).where(JobRow.kind == "wipe").order_by(JobRow.id.desc())).first() or 0  # type: ignore[union-attr]


def refused(**request: Any) -> PairShelfError:
    with pytest.raises(PairShelfError) as error, transaction() as session:
        approver.draw_up(session, "wipe", request_of("wipe", request), "ida")
    return error.value


PURGES = [
    (Kind.HDD, {"commands": ["sanitize-overwrite"], "protected": 3, "reassigned": [1, 7]}, "sanitize-overwrite"),
    (Kind.SSD, {"commands": ["block-erase", "write-zeroes"], "spare": 16}, "block-erase"),
    (Kind.NVME, {"commands": ["crypto-erase", "format"], "encrypts": True, "spare": 8}, "crypto-erase"),
]


@pytest.mark.parametrize(("kind", "nature", "method"), PURGES)
def test_after_a_purge_a_laboratory_finds_nothing_of_before(kind: Kind, nature: dict[str, Any], method: str) -> None:
    (drive,) = used(1, kind, **nature)
    before = {name: blocks(content) for name, content in lab("A1").items()}
    assert all(before.values()), "there was something everywhere to be found"
    do("wipe", drives=(drive,))
    with transaction() as session:
        row = session.get_one(DriveRow, drive)
        assert row.service == "wiping" and row.wiped_at is None
    carry(the_job())
    assert wipes()["A1"].state == "wiped" and wipes()["A1"].method == method
    found = set().union(*(blocks(content) for content in lab("A1").values()))
    assert not found & set().union(*before.values())
    with transaction() as session:
        row = session.get_one(DriveRow, drive)
        assert (row.service, row.holds) == ("free", None) and row.wiped_at is not None
        assert devices().open("A1", SIZE).read_label() is None
    (made,) = certificates()
    assert (
        made.payload["category"] == "purge"
        and made.payload["method"] == method
        and made.payload["drive"]["serial"] == "A1"
    )


def test_overwriting_leaves_the_remnant_that_it_is_said_not_to_reach() -> None:
    (drive,) = used(1, commands=[], reassigned=[], protected=2)
    devices().lose_extents("A1", [4])
    devices().open("A1", SIZE).write(4, b"n" * 4096)
    assert refused(drives=(drive,)).code == "does-not-reach"
    assert "1 extents were reassigned" in refused(drives=(drive,), methods=("overwrite",)).message
    do("wipe", drives=(drive,), category="clear")
    carry(the_job())
    found = lab("A1")
    assert not any(found["shown"]) and not any(found["protected"]) and not any(found["held back"])
    assert found["reassigned"] == (b"A1" * 4096)[:4096]
    assert certificates()[0].payload["category"] == "clear"


def test_a_mixed_lot_side_by_side_with_a_sample() -> None:
    lot = used(3, commands=["sanitize-overwrite"]) + used(2, Kind.SSD, "F", commands=["block-erase"])
    do("wipe", drives=tuple(lot), verify="sample", sample=9, destination="sold to the reading room")
    carry(the_job())
    assert {w.state for w in wipes().values()} == {"wiped"}
    made = certificates()
    assert [c.number for c in made] == [1, 2, 3, 4, 5] and {c.serial for c in made} == {"A1", "A2", "A3", "F1", "F2"}
    said = made[0].payload
    assert (
        said["verification"]["chance_missed"] == pytest.approx(14 / 23)
        and said["destination"] == "sold to the reading room"
    )
    assert said["asked_by"] == said["approved_by"] == "ida" and said["ended"] >= said["begun"]
    assert said["drive"]["held"] == "old data of pool barn, readable"


def test_only_what_belongs_to_nothing_is_wiped_and_what_does_is_untouched() -> None:
    drives = shelf(6)
    pool = build(drives[:4], "parity-1", spares=1)
    carry_all()
    carry(fill(pool))
    with transaction() as session:
        session.get_one(DriveRow, drives[4]).starts_host = True
    happens("pull", "A6")
    there = [p for p in (devices().media_path(s) for s in ("A1", "A4", "A5", "A6")) if p.exists()]
    before = [p.read_bytes() for p in there]
    for drive, said in (
        (drives[0], "belongs to pool p"),
        (drives[3], "belongs to pool p"),
        (drives[4], "starts from it"),
    ):
        error = refused(drives=(drive,))
        assert (error.code, error.field) == ("drive-needed", "drives") and said in error.message
    assert "not in a bay" in refused(drives=(drives[5],)).message
    assert len(there) > 1 and [p.read_bytes() for p in there] == before
    assert not wipes()


@pytest.mark.parametrize(
    ("request_", "field"),
    [
        ({"drives": ()}, "drives"), ({"drives": (99,)}, "drives"), ({"drives": (1, 1)}, "drives"),
        ({"drives": tuple(range(1, 501))}, "drives"), ({"drives": (1,), "category": "shred"}, "category"),
        ({"drives": (1,), "category": "destroy"}, "category"), ({"drives": (1,), "methods": ("magnet",)}, "methods"),
        ({"drives": (1,), "categories": ("9=clear",)}, "categories"), ({"drives": (1,), "categories": ("clear",)}, "categories"),
        ({"drives": (1,), "categories": ("1=shred",)}, "categories"), ({"drives": (1,), "categories": ("1=clear", "1=purge")}, "categories"),
        ({"drives": (1,), "methods": ("9=overwrite",)}, "methods"),
        ({"drives": (1,), "methods": ("1=overwrite", "1=block-erase")}, "methods"),
        ({"drives": (1,), "verify": "some"}, "verify"), ({"drives": (1,), "verify": "sample"}, "sample"),
        ({"drives": (1,), "verify": "sample", "sample": 0}, "sample"),
        ({"drives": (1,), "verify": "sample", "sample": 25}, "sample"),
        ({"drives": (1,), "remnant": "0 B"}, "remnant"),
    ],
)  # fmt: skip
def test_bad_input_is_refused_at_its_field(request_: dict[str, Any], field: str) -> None:
    used(1, commands=["sanitize-overwrite"], protected=0, reassigned=[])
    assert refused(**request_).field == field


def test_a_method_that_the_drive_does_not_know_is_not_forced() -> None:
    (drive,) = used(1, commands=[])
    error = refused(drives=(drive,), methods=("block-erase",))
    assert error.code == "does-not-reach" and "does not report block erase" in error.message


def test_a_drive_in_one_lot_is_in_no_other() -> None:
    lot = used(2, commands=["sanitize-overwrite"])
    with transaction() as session:
        second = approver.draw_up(session, "wipe", request_of("wipe", {"drives": (lot[0],)}), "ida").number
    do("wipe", drives=tuple(lot))
    assert "being wiped" in refused(drives=(lot[1],)).message
    with pytest.raises(PairShelfError), transaction() as session:
        approver.approve(session, second, "ida", "A1", devices())
    carry(the_job())
    assert len(certificates()) == 2


def test_one_dies_half_way_and_the_others_are_wiped() -> None:
    lot = used(3, commands=[])
    do("wipe", drives=tuple(lot), category="clear")
    devices().be("A2", SIZE, Kind.HDD, dies_after=5)
    carry(the_job())
    found = wipes()
    assert {s: w.state for s, w in found.items()} == {"A1": "wiped", "A2": "partly", "A3": "wiped"}
    assert found["A2"].found == "the drive failed on the way" and 0 < found["A2"].share < 1
    assert [c.serial for c in certificates()] == ["A1", "A3"]
    with transaction() as session:
        row = session.get_one(DriveRow, lot[1])
        assert row.service == "free" and "% of it wiped" in (row.holds or "")
        job = session.get_one(JobRow, the_job())
        assert (job.state, job.report["wiped"], job.report["partly"]) == ("done", 2, 1)


def some_steps(count: int) -> Callable[[], bool]:
    left = [count]

    def stop() -> bool:
        left[0] -= 1
        return left[0] < 0

    return stop


def test_one_that_is_pulled_or_stalls_is_waited_for_and_goes_on() -> None:
    lot = used(2, commands=[])
    do("wipe", drives=tuple(lot), category="clear")
    carry(the_job(), stop=some_steps(4))
    devices().pull("A1")
    devices().be("A2", SIZE, Kind.HDD, stalls=True)
    carry(the_job(), stop=some_steps(1))
    with transaction() as session:
        job = session.get_one(JobRow, the_job())
        assert (
            job.state == "held"
            and "not in its bay" in (job.why_held or "")
            and "does not answer" in (job.why_held or "")
        )
    held = wipes()["A1"].cursor
    assert held > 0
    devices().put_back("A1")
    devices().be("A2", SIZE, Kind.HDD, stalls=False)
    carry(the_job())
    assert {w.state for w in wipes().values()} == {"wiped"}


def test_what_was_stopped_is_partly_wiped_and_says_how_far() -> None:
    lot = used(2, commands=[])
    do("wipe", drives=tuple(lot), category="clear")
    carry(the_job(), stop=some_steps(3))
    with transaction() as session:
        job = session.get_one(JobRow, the_job())
        assert stop_lot(session, job, "stopped by ida") == 2
    assert {(w.state, w.found) for w in wipes().values()} == {("partly", "stopped by ida")}
    assert certificates() == []


def test_a_drive_that_lies_is_never_called_wiped(monkeypatch: pytest.MonkeyPatch) -> None:
    """It says it has overwritten everything, and has not."""
    (drive,) = used(1, commands=["sanitize-overwrite"])
    monkeypatch.setattr(SimDrive, "overwrite_cells", lambda *_: None)
    do("wipe", drives=(drive,))
    carry(the_job())
    assert wipes()["A1"].state == "not" and "is not blank" in (wipes()["A1"].found or "")
    assert certificates() == []
    with transaction() as session:
        assert "not wiped" in (session.get_one(DriveRow, drive).holds or "")


def test_a_key_that_was_not_changed_is_noticed(monkeypatch: pytest.MonkeyPatch) -> None:
    (drive,) = used(1, Kind.NVME, commands=["crypto-erase"], encrypts=True)
    monkeypatch.setattr(SimDrive, "erase_all", lambda *_: None)
    do("wipe", drives=(drive,))
    carry(the_job())
    assert wipes()["A1"].state == "not" and "reads as before" in (wipes()["A1"].found or "")


@pytest.mark.parametrize("kind", [Kind.HDD, Kind.SSD])
def test_killed_between_any_two_steps_it_is_certified_once_and_only_whole(
    kind: Kind, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Each step is done on the drives and undone in the books once before it is done for good."""
    command = Command.SANITIZE_OVERWRITE if kind is Kind.HDD else Command.BLOCK_ERASE
    used(2, kind, commands=[command.value])
    before = {s: set().union(*(blocks(c) for c in lab(s).values())) for s in ("A1", "A2")}
    do("wipe", drives=(1, 2))
    undone = [0]
    step = wiping.step_lot

    def dying(work: LotWork) -> float:
        found = step(work)
        undone[0] += 1
        if undone[0] % 2:
            raise KeyboardInterrupt
        return found

    monkeypatch.setitem(JOBS, "wipe", replace(JOBS["wipe"], alone=dying))
    while any(w.state == "open" for w in wipes().values()):
        try:
            carry(the_job())
        except KeyboardInterrupt:
            # Another process goes on.
            monkeypatch.setattr(wiping, "RUN", f"run-{undone[0]}")
            for made in certificates():
                assert wipes()[made.serial].state == "wiped"
        if undone[0] > 8 and kind is Kind.SSD:
            monkeypatch.setitem(JOBS, "wipe", replace(JOBS["wipe"], alone=step))
    assert sorted(c.serial for c in certificates()) == ["A1", "A2"] and [c.number for c in certificates()] == [1, 2]
    for serial, was in before.items():
        assert not set().union(*(blocks(c) for c in lab(serial).values())) & was


def test_a_certificate_is_true_to_the_last_byte() -> None:
    used(1, commands=["sanitize-overwrite"])
    do("wipe", drives=(1,))
    carry(the_job())
    (made,) = certificates()
    whole, public = made.jws.encode(), keys()
    verdict = verify(whole, public)
    assert verdict.good and verdict.payload == made.payload and verdict.fingerprint == made.fingerprint
    assert verify(json.dumps(as_json(made.jws)).encode(), public).good
    for at in range(len(whole)):
        for other in (b"A", b"B"):
            changed = whole[:at] + other + whole[at + 1 :]
            assert changed == whole or not verify(changed, public).good, at
        assert not verify(whole[:at], public).good
    two = {**as_json(made.jws), "signatures": [as_json(made.jws), as_json(made.jws)]}
    assert "2 signatures" in verify(json.dumps(two).encode(), public).sentence
    assert "another house" in verify(whole, [{**public[0], "kid": "x"}]).sentence
    for wrong in (b"", b"a.b", b"\xff", b"{", b"{}", b"x" * 300_000, b"[" * 5000):
        assert not verify(wrong, public).good


def test_an_old_key_still_verifies_when_another_signs() -> None:
    used(2, commands=["sanitize-overwrite"])
    do("wipe", drives=(1,))
    carry(the_job())
    with transaction() as session:
        replace_key(session, "ida")
    do("wipe", drives=(2,))
    carry(the_job())
    first, second = certificates()
    assert first.kid != second.kid
    assert all(verify(c.jws.encode(), keys()).good for c in (first, second))
    with transaction() as session:
        old = session.get_one(SigningKey, first.kid)
        assert old.private is None and old.retired_at is not None
        assert b"PRIVATE" not in (session.get_one(SigningKey, second.kid).private or "").encode()


def test_a_link_bears_only_so_many_at_once() -> None:
    lot = used(4, commands=[])
    with transaction() as session:
        row = session.get_one(DriveRow, lot[0])
        session.get_one(Shelf, row.shelf_id).link = 400_000_000
    do("wipe", drives=tuple(lot), category="clear")
    carry(the_job(), stop=some_steps(3))
    begun = [s for s, w in wipes().items() if w.cursor]
    assert len(begun) == 2 and "waits its turn" in (wipes()["A4"].held or "")
    carry(the_job())
    assert {w.state for w in wipes().values()} == {"wiped"}


def test_drives_are_handed_out_and_stay_in_the_books() -> None:
    lot = used(3, commands=["sanitize-overwrite"])
    do("wipe", drives=(lot[0],))
    carry(the_job())
    with transaction() as session:
        clean = approver.draw_up(
            session, "hand-out", request_of("hand-out", {"drives": (lot[0],), "how": "sold", "to": "ash"}), "ida"
        ).body
        dirty = approver.draw_up(
            session, "hand-out", request_of("hand-out", {"drives": tuple(lot[:2]), "how": "sold", "to": "ash"}), "ida"
        ).body
    assert clean["confirm"] is None and clean["cautions"] == []
    assert dirty["confirm"] == "2 drives" and len(dirty["cautions"]) == 1 and "A2" in dirty["cautions"][0]
    do("hand-out", drives=(lot[0],), how="sold", to="the reading  room", on="2026-11-20")
    do("hand-out", drives=(lot[1],), how="destroyed", to="the foundry, melted")
    with transaction() as session:
        first, second = session.get_one(DriveRow, lot[0]), session.get_one(DriveRow, lot[1])
        assert (first.service, first.retired_to, first.shelf_id) == ("retired", "sold to the reading room", None)
        assert first.retired_at is not None and first.retired_at.date().isoformat() == "2026-11-20"
        assert second.retired_to == "destroyed by the foundry, melted"
    made = certificates()
    assert [(c.serial, c.payload["category"]) for c in made] == [("A1", "purge"), ("A2", "destroy")]
    assert (
        made[1].payload["done_by"] == "destroyed by the foundry, melted" and verify(made[1].jws.encode(), keys()).good
    )
    for request, field in (
        ({"drives": (), "how": "sold", "to": "x"}, "drives"), ({"drives": (lot[2], lot[2]), "how": "sold", "to": "x"}, "drives"),
        ({"drives": (lot[0],), "how": "sold", "to": "x"}, "drives"), ({"drives": (lot[2],), "how": "lost", "to": "x"}, "how"),
        ({"drives": (lot[2],), "how": "sold", "to": " "}, "to"), ({"drives": (lot[2],), "how": "sold", "to": "x", "on": "soon"}, "on"),
        ({"drives": tuple(range(300)), "how": "sold", "to": "x"}, "drives"),
    ):  # fmt: skip
        with pytest.raises(PairShelfError) as error, transaction() as session:
            approver.draw_up(session, "hand-out", request_of("hand-out", request), "ida")
        assert error.value.field == field, request


@pytest.mark.crash
@pytest.mark.parametrize("kind", [Kind.HDD, Kind.SSD])
def test_sigkill_at_any_write_flush_or_commit_never_certifies_too_much(kind: Kind) -> None:
    """The worker dies at its 3rd, 8th, 13th ... act, and another goes on; in the end each drive is wiped and proven once."""
    nature = {"commands": ["block-erase"]} if kind is Kind.SSD else {"commands": [], "protected": 2}
    used(2, kind, **nature)
    do("wipe", drives=(1, 2), category="clear")
    job, point, deaths = the_job(), 3, 0
    while any(w.state == "open" for w in wipes().values()):
        deaths += not dies_at(point, lambda: carry(job, stop=some_steps(6)))
        point += 5
        for made in certificates():
            assert wipes()[made.serial].state == "wiped"
    assert deaths > 1
    assert [(c.number, c.serial) for c in sorted(certificates(), key=lambda c: c.serial)] and sorted(
        c.serial for c in certificates()
    ) == ["A1", "A2"]
    assert sorted(c.number for c in certificates()) == [1, 2]
    assert not any(lab("A1")["shown"]) and not any(lab("A2")["shown"])


@pytest.mark.parametrize("seed", range(8))
def test_random_media_with_random_remnants(seed: int) -> None:
    """Drives of any nature, with remnants anywhere: a purge leaves nothing of them; what is only cleared leaves what its
    method is said not to reach, and nothing that the drive shows."""
    dice = random.Random(seed)
    commands = {
        Kind.HDD: ["sanitize-overwrite"],
        Kind.SSD: ["block-erase", "write-zeroes"],
        Kind.NVME: ["crypto-erase", "block-erase"],
    }
    before: dict[str, set[bytes]] = {}
    lots: dict[str, list[int]] = {"purge": [], "clear": []}
    for number in range(4):
        kind, name = dice.choice(list(Kind)), f"R{number}-"
        known = commands[kind] if dice.random() < 0.7 else []
        (drive,) = used(1, kind, name, commands=known, protected=dice.choice((0, 3)), reassigned=sorted(dice.sample(range(20), dice.randint(0, 3))),
                        spare=0 if kind is Kind.HDD else 8, encrypts="crypto-erase" in known)  # fmt: skip
        serial = f"{name}1"
        device = devices().open(serial, SIZE)
        for _ in range(dice.randint(0, 4)):
            at = dice.randrange(20)
            device.write(at, dice.randbytes(4096))
            devices().lose_extents(serial, [at])
            device.write(at, dice.randbytes(4096))
        before[serial] = set().union(*(blocks(c) for c in lab(serial).values()))
        lots["purge" if known else "clear"].append(drive)
    for category, ids in lots.items():
        if ids:
            do("wipe", drives=tuple(ids), category=category)
    carry_all()
    for serial, wipe in wipes().items():
        assert wipe.state == "wiped"
        found = {name: blocks(content) for name, content in lab(serial).items()}
        left = set().union(*found.values()) & before[serial]
        assert (
            not left
            if wipe.category == "purge"
            else not found["shown"] and not found["held back"] and not found.get("protected")
        )


def test_for_one_of_a_lot_another_category_is_enough() -> None:
    able, plain = used(1, commands=["sanitize-overwrite"]), used(1, name="P", commands=[])
    assert "P1" in refused(drives=(*able, *plain)).message
    with transaction() as session:
        request = {"drives": (*able, *plain), "categories": (f"{plain[0]}=clear",)}
        said = approver.draw_up(session, "wipe", request_of("wipe", request), "ida").body["why"]
    assert "Purge (NIST SP 800-88), A1" in said and "Clear (NIST SP 800-88), P1" in said
    do("wipe", **request)
    carry_all()
    assert {c.serial: c.payload["category"] for c in certificates()} == {"A1": "purge", "P1": "clear"}


@pytest.mark.parametrize("method", ["overwrite", "block-erase"])
def test_what_pools_are_not_offered_of_a_drive_is_wiped_and_read_back_too(method: str) -> None:
    (drive,) = used(1, Kind.SSD, commands=["block-erase"])
    with transaction() as session:
        session.get_one(DriveRow, drive).held_share = 0.5
    do("wipe", drives=(drive,), category="clear", methods=(method,))
    carry(the_job())
    wipe = wipes()["A1"]
    assert wipe.state == "wiped" and wipe.total - wipe.erasing == 23
    assert not any(lab("A1")["shown"])


def test_one_that_is_away_takes_no_turn_from_the_others() -> None:
    lot = used(3, commands=[])
    with transaction() as session:
        shelf_id = session.get_one(DriveRow, lot[0]).shelf_id
        session.get_one(Shelf, shelf_id).link = 200_000_000
    do("wipe", drives=tuple(lot), category="clear")
    devices().pull("A1")
    carry(the_job(), stop=some_steps(200))
    assert [w.state for w in wipes().values()] == ["open", "wiped", "wiped"]
    devices().put_back("A1")
    carry(the_job())
    assert wipes()["A1"].state == "wiped"


def test_what_cannot_be_read_is_no_probe_and_is_never_called_wiped(monkeypatch: pytest.MonkeyPatch) -> None:
    used(1, Kind.NVME, commands=["crypto-erase"], encrypts=True)
    devices().lose_extents("A1", list(range(12)))
    do("wipe", drives=(1,))
    carry(the_job())
    assert wipes()["A1"].state == "wiped"
    (second,) = used(1, name="B", commands=["sanitize-overwrite"])
    monkeypatch.setattr(SimDrive, "overwrite_cells", lambda *_: None)
    devices().lose_extents("B1", [0])
    do("wipe", drives=(second,))
    carry(the_job())
    assert (wipes()["B1"].state, wipes()["B1"].found) == ("not", "some of it cannot be read back")
