"""A whole build as a script: every act planned, approved, waited for; the same sheets as on the screens."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import pytest
from sqlmodel import select
from typer.testing import CliRunner

from pairshelf.cli import app
from pairshelf.core.changes.kinds import KINDS
from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.units import GIB
from pairshelf.core.errors import BadInput, NotFound, NotPossible, PairShelfError
from pairshelf.engine.jobs.rebuild import start_rebuild
from pairshelf.engine.pools import devices, open_pool
from pairshelf.services.accounts import add_user
from pairshelf.services.disposal import public_keys
from pairshelf.store.database import transaction
from pairshelf.store.tables import Host, PoolRow, Site, VolumeRow
from tests.engine.helpers import at_once, carry_all, shelf

PASSWORD = "a good password"


@pytest.fixture
def run(db: str, monkeypatch: pytest.MonkeyPatch) -> Callable[..., str]:
    """Run a command as the administrator; what it printed. Its errors are raised."""
    at_once()
    with transaction() as session:
        for name, role in (("ida", "administrator"), ("osric", "operator")):
            add_user(session, name, PASSWORD, role)
    monkeypatch.setenv("PAIRSHELF_PASSWORD", PASSWORD)
    monkeypatch.setenv("PAIRSHELF_USER", "ida")

    def command(*words: str) -> str:
        done = CliRunner().invoke(app, list(words))
        if done.exception and not isinstance(done.exception, SystemExit):
            raise done.exception
        assert done.exit_code == 0, done.output
        return done.output

    return command


def test_a_whole_build_is_a_script(run: Callable[..., str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    shelf(6, name="Oak")
    (loose,) = shelf(1, name="Tray", size=500 * 10**9)
    with transaction() as session:
        session.add(Host(name="elm", site_id=session.exec(select(Site.id)).first() or 0))

    def do(kind: str, *options: str) -> dict[str, object]:
        sheet = json.loads(run("plan", kind, *options, "--json"))
        confirm = ["--confirm", str(sheet["confirm"])] if sheet["confirm"] else []
        done: dict[str, object] = json.loads(run("approve", str(sheet["id"]), *confirm, "--json"))
        carry_all()
        return done

    built = do("build-pool", "--name", "cold", "--scheme", "parity-2", "--drives", "Oak:1-4", "--drives", "Oak5", "--encrypted")  # fmt: skip
    do("make-volumes", "--pool", "cold", "--name", "scans-{1..3}", "--size", "20 GiB", "--host", "elm",
       "--mount-point", "/srv/{name}")  # fmt: skip
    do("add-party", "--name", "ash")
    do("make-share", "--volume", "cold/scans-1", "--name", "scans", "--rights", "ash:write", "--no-encrypted")
    do("resize-volume", "--volume", "cold/scans-2", "--size", "30 GiB")
    with transaction() as session:
        assert [(v.name, v.extents) for v in session.exec(select(VolumeRow).order_by(VolumeRow.name))] == [
            ("scans-1", 20), ("scans-2", 30), ("scans-3", 20),
        ]  # fmt: skip
    assert "Check of cold started" in run("check", "cold")
    assert json.loads(run("jobs", "--json"))[0]["kind"] == "check"
    carry_all()
    assert run("jobs", "--wait").strip() == "No jobs under way."
    assert "0 mismatches" in run("jobs", "--ended")
    assert "is locked" in run("lock", "cold")
    monkeypatch.setenv("PAIRSHELF_PASSPHRASE", str(built["passphrase"]))
    assert "is unlocked" in run("unlock", "cold")
    run("lock", "cold")
    run("partitions", "Tray:1", "--part", "1GiB:start:EFI", "--part", ":data:work")
    run("image", "Tray1", str(tmp_path / "x.img"))
    assert (tmp_path / "x.img").stat().st_size == 500 * 10**9
    do("write-partitions", "--drive-id", "Tray:1")
    assert loose


def test_the_console_refuses_as_the_screens_do(run: Callable[..., str], monkeypatch: pytest.MonkeyPatch) -> None:
    shelf(4, name="Oak")
    build = ("plan", "build-pool", "--name", "p", "--scheme", "parity-1", "--drives", "Oak:1-4")
    sheet = str(json.loads(run(*build, "--json"))["id"])
    with pytest.raises(BadInput, match="Type p to confirm"):
        run("approve", sheet)
    with pytest.raises(BadInput, match="no change sheet"):
        run("approve", "99")
    with pytest.raises(BadInput, match="no drive"):
        run("plan", "build-pool", "--name", "q", "--scheme", "single", "--drives", "Elm:1")
    monkeypatch.setenv("PAIRSHELF_USER", "osric")
    for words in (build, ("approve", sheet, "--confirm", "p"), ("unlock", "p")):
        with pytest.raises(NotPossible, match="Only an administrator"):
            run(*words)
    monkeypatch.setenv("PAIRSHELF_PASSWORD", "wrong")
    with pytest.raises(PairShelfError, match="password is wrong"):
        run("approve", sheet, "--confirm", "p")
    with transaction() as session:
        assert session.exec(select(PoolRow)).first() is None


@pytest.mark.parametrize("kind", list(KINDS))
def test_every_kind_of_change_has_a_command_that_explains_itself(kind: str) -> None:
    done = CliRunner().invoke(app, ["plan", kind, "--help"])
    assert done.exit_code == 0
    assert KINDS[kind].about.split(",")[0][:30] in done.output.replace("\n", " ")


def test_a_plan_from_a_file_is_approved_as_one(run: Callable[..., str], tmp_path: Path) -> None:
    ids = shelf(4, name="Oak")
    file = tmp_path / "pools.json"
    asked = [
        {"kind": "build-pool", "request": {"name": n, "scheme": "copies-2", "drives": d}}
        for n, d in (("one", ids[:2]), ("two", ids[2:]))
    ]
    file.write_text(json.dumps(asked))
    plan = json.loads(run("together", str(file), "--title", "Two pools", "--json"))
    assert [s["title"] for s in plan["sheets"]] == ["Build pool one", "Build pool two"]
    with pytest.raises(BadInput, match="Type two"):
        run("approve", str(plan["id"]), "--plan", "--confirm", "one")
    assert "Build pool two: approved." in run("approve", str(plan["id"]), "--plan", "--confirm", "one, two")
    with transaction() as session:
        assert sorted(session.exec(select(PoolRow.name))) == ["one", "two"]
    for wrong in (
        "{",
        '[{"kind": 1}]',
        '[{"kind": "build-pool", "request": {"name": "x", "scheme": 7, "drives": [1]}}]',
    ):
        file.write_text(wrong)
        with pytest.raises(BadInput):
            run("together", str(file), "--title", "x")
    with pytest.raises(BadInput, match="cannot be read"):
        run("together", str(tmp_path / "none.json"), "--title", "x")


def test_a_pool_grows_from_the_console(run: Callable[..., str]) -> None:
    shelf(3, name="Oak")
    shelf(2, name="Elm")
    build = json.loads(
        run("plan", "build-pool", "--name", "cold", "--scheme", "parity-1", "--drives", "Oak:1-3", "--json")
    )
    run("approve", str(build["id"]), "--confirm", "cold")
    carry_all()
    told = json.loads(run("grow", "cold", "--json"))
    way = next(w for w in told["ways"] if w["id"] == "add-drives")
    assert way["gain"] > 0 and way["suggested"] and way["capacity"] == told["capacity"] + way["gain"]
    table = run("grow", "cold", "--drives", "Elm:1-2")
    assert "2 more drives" in table and "not possible" in table and "to parity-2" in table
    for kind, options, confirm in (
        ("add-drives", ["--pool", "cold", "--drives", "Elm1"], "cold"),
        ("convert-pool", ["--pool", "cold", "--scheme", "parity-2", "--drives", "Elm:2"], "cold"),
        ("convert-pool", ["--pool", "cold", "--scheme", "parity-1", "--free", "Oak2"], ""),
    ):
        sheet = json.loads(run("plan", kind, *options, "--json"))
        run("approve", str(sheet["id"]), *(["--confirm", confirm] if confirm else []))
        carry_all()
    with transaction() as session:
        pool = session.exec(select(PoolRow)).one()
        assert (pool.scheme, pool.capacity) == ("parity-1", 3 * 59)
    with pytest.raises(BadInput, match="no pool"):
        run("grow", "hot")


def test_drives_are_let_go_from_the_console(run: Callable[..., str], tmp_path: Path) -> None:
    shelf(3, name="Tray", size=24 * GIB)
    for number in (1, 2, 3):
        commands = ["sanitize-overwrite"] if number < 3 else []
        devices().be(f"Tray{number}", 24 * GIB, Kind.HDD, commands=commands, reassigned=[], protected=0)
    table = run("wipe", "methods", "Tray:1-3")
    assert (
        "suggested: The drive reaches what it has reassigned too" in " ".join(table.split()) and "All of them:" in table
    )
    told = json.loads(run("wipe", "methods", "Tray:1", "--sample", "6", "--json"))
    assert told["drives"][0]["chance_missed"] == pytest.approx(17 / 23)
    with pytest.raises(NotPossible, match="nothing reaches Purge on it"):
        run("plan", "wipe", "--drives", "Tray:3")
    sheet = json.loads(run("plan", "wipe", "--drives", "Tray:1-2", "--destination", "sold to ash", "--json"))
    run("approve", str(sheet["id"]), "--confirm", sheet["confirm"])
    carry_all()
    assert (
        "sold to ash" in run("certificate", "list")
        and len(json.loads(run("certificate", "list", "Tray2", "--json"))) == 1
    )
    assert "sanitise by overwriting" in run("certificate", "show", "1")
    signed, card, keys = tmp_path / "c.json", tmp_path / "c.pdf", tmp_path / "keys.json"
    run("certificate", "show", "1", "--to", str(signed))
    run("certificate", "show", "1", "--to", str(card))
    assert card.read_bytes().startswith(b"%PDF")
    with transaction() as session:
        keys.write_text(json.dumps({"keys": public_keys(session)}))
    assert "Certificate 1 of Pair Shelf is true" in run("certificate", "verify", str(signed), "--key", str(keys))
    assert "is true" in run("certificate", "verify", str(signed))
    signed.write_text(signed.read_text().replace("e", "f", 1))
    done = CliRunner().invoke(app, ["certificate", "verify", str(signed), "--key", str(keys)])
    assert done.exit_code == 1 and "true" not in done.output.split(":")[0]
    with pytest.raises(NotFound):
        run("certificate", "show", "9")
    with pytest.raises(BadInput):
        run("certificate", "verify", str(tmp_path / "nothing.json"))
    with pytest.raises(BadInput):
        run("wipe", "methods", "Tray:1", "--category", "magic")


def test_a_shelf_is_drained_and_power_asked_about_from_the_console(run: Callable[..., str]) -> None:
    old = shelf(3, name="Oak", size=30 * GIB)
    shelf(3, name="Elm", size=30 * GIB)
    sheet = json.loads(
        run("plan", "build-pool", "--name", "cold", "--scheme", "parity-1", "--drives", "Oak:1-3", "--json")
    )
    run("approve", str(sheet["id"]), "--confirm", "cold")
    carry_all()
    for asked in (["power", "shelf", "Oak"], ["power", "everything"]):
        no = CliRunner().invoke(app, asked)
        assert (no.exit_code, no.output.splitlines()[0]) == (1, "No: pool cold is offline.")
    one = json.loads(run("power", "drive", "Oak1", "--json"))
    assert one["safe"] == "reduced" and "pool cold survives no further failure until it is back" in one["sentence"]
    sheet = json.loads(run("plan", "drain", "--shelves", "Oak", "--json"))
    assert [e["place"] for e in sheet["erases"]] == ["Elm bay 1", "Elm bay 2", "Elm bay 3"]
    run("approve", str(sheet["id"]), "--confirm", "Oak")
    told = json.loads(run("drains", "--json"))["drains"][0]
    assert told["left"] == 3 * 29 * GIB and {d["onto"] for d in told["drives"]} == {"Elm1", "Elm2", "Elm3"}
    assert told["pools"] == [{"name": "cold", "promised": 1, "now": 1}]
    assert "Oak bay 1 Oak1" in run("drains")
    carry_all()
    assert "shelf Oak, ended" in run("drains")
    assert run("power", "shelf", "Oak").strip() == "Yes. Nothing that is in use depends on it."
    with transaction() as session:
        pool = session.exec(select(PoolRow)).one()
        start_rebuild(session, open_pool(session, pool.number), 0, "ida")
    done = CliRunner().invoke(app, ["power", "drive", "Elm2"])
    assert done.exit_code == 1 and "Rebuild of cold" in done.output
    for words, said in ((("power", "volume", "v"), "Power goes off for"), (("power", "shelf", "Nowhere"), "Nowhere")):
        with pytest.raises(BadInput, match=said):
            run(*words)
    assert old
