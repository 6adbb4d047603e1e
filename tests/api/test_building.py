"""Writes land and read back through mount, share and block target, whatever fails within the layout; and nothing
half done, whoever asks."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest
from sqlmodel import select

from pairshelf.core.changes.kinds import KINDS
from pairshelf.core.domain.acts import Act, Role, allowed
from pairshelf.engine.io.files import empty_bins
from pairshelf.engine.pools import devices
from pairshelf.store.database import transaction
from pairshelf.store.tables import Application, Host, Mount, SampleFile, VolumeRow
from tests.api.conftest import IQN, PASSWORD, Person, do
from tests.engine.helpers import at_once, carry_all, happens, open_jobs, shelf


def test_what_is_written_by_every_way_reads_back_with_two_drives_gone(lab: Person) -> None:
    share = lab.get("/api/access/shares").get_json()["shares"][0]
    assert lab.post(f"/api/shares/{share['id']}/write", {"person": "ash", "size": "12 GiB"}).status_code == 200
    carry_all()
    assert lab.post("/api/targets/write", {"host": "fir", "target": IQN + "t", "size": "9 GiB"}).status_code == 200
    with transaction() as session:
        host = session.exec(select(Host).where(Host.name == "elm")).one().name
    body = {"host": host, "name": "log", "kind": "database", "owner": "log", "folder": "/var/log-data", "size": "6 GiB"}
    assert lab.post("/api/applications", body).status_code == 200
    do(lab, "move-application", application="elm/log", volume="cold/office", way="point")
    carry_all()
    for serial in ("A1", "A4"):
        happens("fail", serial)
    with transaction() as session:
        ways = {f.via for f in session.exec(select(SampleFile))}
        ids = [v.id for v in session.exec(select(VolumeRow))]
    assert ways == {"share", "target", "mount"}
    for volume in ids:
        assert lab.post(f"/api/volumes/{volume}/read-files").status_code == 200
    carry_all()
    with transaction() as session:
        assert all(f.intact for f in session.exec(select(SampleFile)))
    notice = lab.get("/api/depends/pull?kind=drive&name=A2").get_json()
    assert notice["people"] == ["ash", "bay", "reed"]
    shown = lab.get("/api/access/shares").get_json()["shares"][0]
    assert shown["taken"] == 12 * 2**30
    assert {a["text"] for a in shown["addresses"]} >= {"\\\\elm\\desk", "elm:/srv/office/desk"}


def test_rights_quota_and_bin_hold(lab: Person) -> None:
    share = lab.get("/api/access/shares").get_json()["shares"][0]["id"]

    def refused(path: str, body: dict[str, Any]) -> str:
        answer = lab.post(f"/api/shares/{share}/{path}", body)
        assert answer.status_code == 409, answer.get_json()
        return str(answer.get_json()["code"])

    assert refused("write", {"person": "reed", "size": "1 GiB"}) == "no-right"
    assert refused("write", {"person": "ash", "size": "21 GiB"}) == "quota"
    assert open_jobs() == []
    assert lab.post(f"/api/shares/{share}/visit", {"person": "reed", "client": "desk-3"}).status_code == 200
    lab.post(f"/api/shares/{share}/write", {"person": "ash", "size": "4 GiB"})
    carry_all()
    files = lab.get(f"/api/shares/{share}/files").get_json()["files"]
    one = {"file_id": files[0]["id"], "person": "ash"}
    assert refused("delete-file", {**one, "person": "reed"}) == "no-right"
    assert "in the bin" in lab.post(f"/api/shares/{share}/delete-file", one).get_json()["sentence"]
    assert empty_bins() == 0
    assert lab.post(f"/api/shares/{share}/restore-file", one).status_code == 200
    lab.post(f"/api/shares/{share}/delete-file", one)
    with transaction() as session:
        session.connection().exec_driver_sql("update sample_file set deleted_at = deleted_at - interval '8 days'")
    assert empty_bins() == 1
    assert one["file_id"] not in [f["id"] for f in lab.get(f"/api/shares/{share}/files").get_json()["files"]]
    assert lab.post(f"/api/shares/{share}/restore-file", one).status_code == 404
    assert empty_bins() == 0
    # A folder of another name is not in this share's bin, however alike they are.
    lab.post(f"/api/shares/{share}/write", {"person": "ash", "size": "1 GiB"})
    carry_all()
    with transaction() as session:
        session.connection().exec_driver_sql("update sample_file set deleted_at = now(), folder = 'desk/old'")
        session.connection().exec_driver_sql("update share set folder = 'd_sk', bin_days = 99")
    assert empty_bins() == 1
    with transaction() as session:
        session.connection().exec_driver_sql("update share set folder = 'desk', bin_days = null")
    do(lab, "change-share", share="desk", rights=["desk:write"])
    shown = lab.get("/api/access/shares").get_json()["shares"][0]
    assert (shown["visits"], shown["quota"], shown["bin_days"]) == ([], None, None)


def test_chap_is_asked_for_and_its_secret_is_kept_as_a_hash(lab: Person) -> None:
    target = lab.get("/api/access/targets").get_json()["targets"][0]
    trial = {"host": "fir", "target": IQN + "t"}
    assert lab.post("/api/targets/log-in", trial).get_json()["let_in"]
    chap = {"initiator": IQN + "fir", "name": "fir", "secret": "short"}
    path = f"/api/targets/{target['id']}/chap"
    answer = lab.post(path, chap, "PUT")
    assert (answer.status_code, answer.get_json()["field"]) == (400, "secret")
    secret = "a long enough secret"
    assert lab.post(path, {**chap, "secret": secret}, "PUT").status_code == 200
    assert lab.post("/api/targets/log-in", trial).get_json()["code"] == "chap-missing"
    wrong = {**trial, "chap_name": "fir", "chap_secret": "another secret"}
    assert lab.post("/api/targets/log-in", wrong).get_json()["code"] == "chap-wrong"
    assert lab.post("/api/targets/log-in", {**wrong, "chap_secret": secret}).get_json()["let_in"]
    assert lab.post("/api/targets/write", {**wrong, "size": "1 GiB"}).status_code == 409
    with transaction() as session:
        dump = session.connection().exec_driver_sql("select string_agg(t::text, '') from target_right t").scalar_one()
    assert secret not in dump
    do(lab, "let-in", target=IQN + "t", initiator=_declared(lab, IQN + "elm"))
    assert lab.post("/api/targets/log-in", {**wrong, "chap_secret": secret}).get_json()["let_in"]


def _declared(who: Person, iqn: str) -> str:
    do(who, "declare-initiator", iqn=iqn)
    return iqn


def test_a_move_that_goes_wrong_leaves_the_application_where_it_was_and_one_that_ends_can_be_undone(
    lab: Person,
) -> None:
    do(lab, "make-volumes", pool="cold", name="log", size="40 GiB", file_system="xfs")
    body = {
        "host": "elm",
        "name": "log",
        "kind": "recorder",
        "owner": "log",
        "folder": "/var/log-data",
        "size": "9 GiB",
    }
    lab.post("/api/applications", body)
    hosts = devices().hosts
    before = {n: hosts.read("elm", f"/var/log-data/{n}") for n in hosts.files("elm", "/var/log-data")}
    do(lab, "move-application", application="elm/log", volume="cold/log", way="mount")
    # Another file is there when it is compared: what was copied is not what there is.
    with transaction() as session:
        app = session.exec(select(Application)).one()
        assert app.volume_id is None
    carry_all()
    with transaction() as session:
        app = session.exec(select(Application)).one()
        assert app.running and app.volume_id is not None
        assert app.moved["from"] == "/var/log-data"
    assert {n: hosts.read("elm", f"/var/log-data.aside/{n}") for n in before} == before
    assert hosts.is_closed("elm", "/var/log-data")
    assert lab.post(f"/api/applications/{app.id}/write", {"size": "3 GiB"}).get_json()["jobs"][0]["volume"] == "log"
    carry_all()
    # Its volume is taken away: nothing is written underneath the empty folder.
    with transaction() as session:
        mount = session.exec(select(Mount).where(Mount.at == "/var/log-data")).one()
        session.delete(mount)
    answer = lab.post(f"/api/applications/{app.id}/write", {"size": "1 GiB"})
    assert (answer.status_code, answer.get_json()["code"]) == (409, "closed")
    do(lab, "undo-move", application="elm/log")
    carry_all()
    after = {n: hosts.read("elm", f"/var/log-data/{n}") for n in hosts.files("elm", "/var/log-data")}
    assert {n: after[n] for n in before} == before and len(after) > len(before)
    with transaction() as session:
        assert session.exec(select(Application)).one().running


def test_a_copy_that_differs_is_found_before_anything_is_set_aside(
    lab: Person, monkeypatch: pytest.MonkeyPatch
) -> None:
    body = {
        "host": "elm",
        "name": "log",
        "kind": "database",
        "owner": "log",
        "folder": "/var/log-data",
        "size": "9 GiB",
    }
    lab.post("/api/applications", body)
    do(lab, "move-application", application="elm/log", volume="cold/office", way="point")
    from pairshelf.engine.jobs import move_application

    honest = move_application._copy

    def copies_and_then_rots(work: Any) -> None:
        honest(work)
        work.world.hosts.write("elm", "/var/log-data/log-0001.dat", b"x" * 4096)

    monkeypatch.setattr(move_application, "_copy", copies_and_then_rots)
    carry_all()
    job = lab.get("/api/jobs?which=ended&limit=1").get_json()["jobs"][0]
    assert (job["state"], "differs" in job["error"]) == ("failed", True)
    with transaction() as session:
        app = session.exec(select(Application)).one()
        assert (app.running, app.volume_id, app.folder) == (True, None, "/var/log-data")
        assert session.exec(select(SampleFile).where(SampleFile.writer == "log")).first() is None


def test_two_at_once_and_what_changed_meanwhile(lab: Person, person: Callable[[str], Person]) -> None:
    other = person("maud")
    drafts = [
        w.post("/api/sheets/make-volumes", {"pool": "cold", "name": "new", "size": "all"}).get_json()["id"]
        for w in (lab, other)
    ]
    assert lab.post(f"/api/sheets/{drafts[0]}/approve", {}).status_code == 200
    late = other.post(f"/api/sheets/{drafts[1]}/approve", {})
    assert late.status_code in (400, 409)
    twice = lab.post(f"/api/sheets/{drafts[0]}/approve", {})
    assert (twice.status_code, twice.get_json()["code"]) == (409, "already-approved")
    with transaction() as session:
        assert len(session.exec(select(VolumeRow).where(VolumeRow.name == "new")).all()) == 1


def test_giving_up_data_asks_for_name_and_password_and_nothing_else_does(lab: Person) -> None:
    sheet = lab.post("/api/sheets/delete-volume", {"volume": "cold/disk"})
    assert sheet.status_code == 409 and "serves it" in sheet.get_json()["title"]
    do(lab, "end-target", target=IQN + "t")
    sheet = lab.post("/api/sheets/delete-volume", {"volume": "cold/disk"}).get_json()
    path = f"/api/sheets/{sheet['id']}/approve"
    assert lab.post(path, {"confirm": "disk", "password": "wrong"}).status_code == 403
    assert lab.post(path, {"confirm": "dsik", "password": PASSWORD}).get_json()["field"] == "confirm"
    assert lab.post(path, {"confirm": "disk", "password": PASSWORD}).status_code == 200
    renamed = lab.post("/api/sheets/rename-volume", {"volume": "cold/office", "name": "papers"}).get_json()
    assert lab.post(f"/api/sheets/{renamed['id']}/approve", {}).status_code == 200


def test_sheets_say_who_may_approve_them_as_the_rights_do(lab: Person) -> None:
    assert {k.act for k in KINDS.values()} <= {a for a in Act if allowed(Role.ADMINISTRATOR, a)}
    for kind, body in (
        ("rename-volume", {"volume": "cold/office", "name": "x"}), ("set-host", {"host": "fir"}),
        ("make-volumes", {"pool": "cold", "name": "y", "size": "1 GiB"}), ("check-files", {"volume": "cold/office"}),
    ):  # fmt: skip
        role = lab.post(f"/api/sheets/{kind}", body).get_json()["body"]["role"]
        assert allowed(Role.OPERATOR, KINDS[kind].act) == (role == "operator"), kind


def test_an_encrypted_pool_is_locked_and_unlocked_by_an_administrator(person: Callable[[str], Person]) -> None:
    at_once()
    ids = shelf(3, name="E")
    who = person("ida")
    made = do(who, "build-pool", name="safe", scheme="copies-3", drives=ids, volume="v", encrypted=True)
    carry_all()
    pool = made["pool_id"]
    assert len(made["passphrase"]) > 30
    assert "passphrase" not in who.get(f"/api/sheets/{made['id']}").get_json() or (
        who.get(f"/api/sheets/{made['id']}").get_json()["passphrase"] is None
    )
    assert who.post(f"/api/pools/{pool}/lock").status_code == 200
    assert who.get(f"/api/pools/{pool}").get_json()["locked"]
    assert who.post(f"/api/volumes/{_volume(pool)}/fill", {"share": 0.1}).get_json()["code"] == "locked"
    assert person("osric").post(f"/api/pools/{pool}/unlock", {"passphrase": made["passphrase"]}).status_code == 403
    answer = who.post(f"/api/pools/{pool}/unlock", {"passphrase": "not this one"})
    assert (answer.status_code, answer.get_json()["field"]) == (400, "passphrase")
    assert who.post(f"/api/pools/{pool}/unlock", {"passphrase": made["passphrase"]}).status_code == 200
    fresh = who.post(f"/api/pools/{pool}/passphrase").get_json()["passphrase"]
    who.post(f"/api/pools/{pool}/lock")
    assert who.post(f"/api/pools/{pool}/unlock", {"passphrase": made["passphrase"]}).status_code == 400
    assert who.post(f"/api/pools/{pool}/unlock", {"passphrase": fresh}).status_code == 200
    who.post(f"/api/pools/{pool}/lock")


def _volume(pool: int) -> int:
    with transaction() as session:
        return session.exec(select(VolumeRow.id).where(VolumeRow.pool_id == pool)).one() or 0


def test_a_spare_for_all_takes_over_in_another_pool(person: Callable[[str], Person]) -> None:
    at_once()
    who = person("ida")
    do(who, "build-pool", name="one", scheme="parity-1", drives=shelf(4), spares=1, spares_for="all")
    do(who, "build-pool", name="two", scheme="copies-2", drives=shelf(2, name="B"), volume="v")
    carry_all()
    happens("fail", "B1")
    carry_all()
    pools = {p["name"]: p for p in who.get("/api/pools").get_json()["pools"]}
    assert (pools["two"]["state"], pools["one"]["spares"]) == ("healthy", 0)


def test_the_api_explains_itself(app: Any) -> None:
    page = app.test_client().get("/api/docs")
    assert page.status_code == 200
    assert all(f"/api/sheets/{kind}" in page.text for kind in KINDS)


def test_a_share_changed_meanwhile_is_not_ended_by_an_older_sheet(lab: Person) -> None:
    """Of two at once, one goes, and the other is told what changed."""
    ending = lab.post("/api/sheets/end-share", {"share": "desk"}).get_json()
    do(lab, "change-share", share="desk", rights=["reed:read"])
    answer = lab.post(f"/api/sheets/{ending['id']}/approve", {"confirm": "desk", "password": PASSWORD})
    assert (answer.status_code, answer.get_json()["code"]) == (409, "changed-since")
    do(lab, "end-share", share="desk")


def test_a_pool_is_built_with_its_backup_and_what_goes_names_it(person: Callable[[str], Person]) -> None:
    at_once()
    who = person("ida")
    asked = {"name": "one", "scheme": "copies-2", "drives": shelf(2), "volume": "v", "volume_size": "20 GiB"}
    wrong = who.post("/api/sheets/build-pool", {**asked, "backup_link": "1 Gbit/s", "backup_age_hours": -1})
    assert wrong.get_json()["field"] == "backup_age_hours"
    do(who, "build-pool", **asked, backup_where="the barn", backup_link="1 Gbit/s", backup_age_hours=48)
    pool = who.get("/api/pools").get_json()["pools"][0]["id"]
    (kept,) = who.get(f"/api/pools/{pool}/backups").get_json()["backups"]
    assert (kept["place"], kept["volume_id"], kept["link"]) == ("the barn", None, 125_000_000)
    carry_all()
    assert who.post(f"/api/volumes/{_volume(pool)}/fill", {"share": 0.3}).status_code == 200
    carry_all()
    sheet = who.post("/api/sheets/delete-volume", {"volume": "one/v"}).get_json()
    assert "Its backup, the barn, is of " in sheet["body"]["cautions"][0]


def test_a_new_share_of_a_used_folder_says_that_its_quota_is_too_small(lab: Person) -> None:
    share = lab.get("/api/access/shares").get_json()["shares"][0]
    assert lab.post(f"/api/shares/{share['id']}/write", {"person": "ash", "size": "12 GiB"}).status_code == 200
    carry_all()

    def said(folder: str, quota: str) -> str:
        asked = {"volume": "office", "name": "more", "folder": folder, "rights": ["ash:read"], "quota": quota}
        return " ".join(lab.post("/api/sheets/make-share", asked).get_json()["body"]["cautions"])

    assert "holds more than" in said("/desk/", "11 GiB") and "holds more than" in said("", "11 GiB")
    assert not said("desk", "12 GiB") and not said("des", "1 GiB")


def test_a_disk_for_two_hosts_is_one_act(lab: Person) -> None:
    """The volume, the target, and both hosts by the names they log in with: one sheet, nothing typed twice."""
    do(
        lab,
        "make-target",
        iqn=IQN + "two",
        host="elm",
        volume="cold/pair",
        size="4 GiB",
        for_hosts=["elm", "fir"],
        shared=True,
    )
    found = next(t for t in lab.get("/api/access/targets").get_json()["targets"] if t["iqn"] == IQN + "two")
    assert {i["iqn"] for i in found["initiators"]} == {IQN + "elm", IQN + "fir"} and len(found["luns"]) == 1
    refs = [v["ref"] for v in lab.get("/api/volumes?bare=true").get_json()["volumes"]]
    assert "cold/pair" not in refs and all(not r.endswith("/office") for r in refs)
    assert "cold/pair" in [v["ref"] for v in lab.get("/api/volumes").get_json()["volumes"]]
    # What cannot be is refused whole: no volume without its target.
    refused = lab.post(
        "/api/sheets/make-target", {"iqn": IQN + "two", "host": "elm", "volume": "cold/more", "size": "1 GiB"}
    )
    assert refused.get_json()["field"] == "iqn"
    assert "cold/more" not in [v["ref"] for v in lab.get("/api/volumes").get_json()["volumes"]]
