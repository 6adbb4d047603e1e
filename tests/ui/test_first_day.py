"""A lab's first day: two pools for two uses, three volumes, a share with rights, a block target with a mistyped
initiator found and corrected, an application moved."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Page, expect

from tests.ui.conftest import accessible, sign_in

pytestmark = pytest.mark.ui

IQN = "iqn.2026-01.example.fernhollow:"


def draw_up(page: Page) -> None:
    page.get_by_role("button", name="Draw up the change sheet").click()
    page.wait_for_url(re.compile(r"/changes/\d+"))


def approve(page: Page, confirm: str = "") -> None:
    """Approve the sheet that is shown."""
    if confirm:
        page.get_by_label(f"Type {confirm} to confirm").fill(confirm)
        page.get_by_role("textbox", name="Your password").fill("fernhollow")
    page.get_by_role("button", name=re.compile("^Approve")).click()
    expect(page.get_by_role("heading", name="What came of it")).to_be_visible()


def pick(page: Page, label: str, value: str) -> None:
    """Choose from a list that opens."""
    page.get_by_role("combobox", name=label).click()
    page.get_by_role("option", name=value, exact=True).click()


def test_a_labs_first_day(page: Page, site: str) -> None:
    sign_in(page)

    # Two pools for two uses: six drives for scans, encrypted; two flash drives for the log.
    for words, scheme, sets, name in (
        ("6TB shelf:cold", "parity-2", 1, "cold"),
        ("ssd shelf:tray", "copies-2", 1, "quick"),
    ):
        ids = page.request.get(f"/api/drives/matching?filter=free {words}").json()["ids"]
        page.goto(f"/build?drives={','.join(map(str, ids))}&scheme={scheme}&sets={sets}&spares=0")
        page.get_by_label("Name of the pool").fill(name)
        if name == "cold":
            page.get_by_label("Name of its first volume").fill("specimen-scans")
            page.get_by_label("Size of the volume").fill("12 TB")
            page.get_by_role("combobox", name="Host that uses it").fill("sorrel")
            page.get_by_label("Mount point", exact=True).fill("/srv/scans/../etc")
            page.get_by_role("button", name="Draw up the change sheet").click()
            expect(page.get_by_text("may not contain “..”")).to_be_visible()
            page.get_by_label("Mount point", exact=True).fill("/srv/scans")
            page.get_by_label("Encrypt everything on it").check()
        draw_up(page)
        expect(page.get_by_role("heading", name="Looked at beforehand")).to_be_visible()
        approve(page, name)
        if name == "cold":
            expect(page.get_by_text("shown this once")).to_be_visible()
            expect(page.get_by_role("button", name="Close")).to_be_disabled()
            page.get_by_label("I have written it down").check()
            page.get_by_role("button", name="Close").click()
    assert accessible(page) == []

    # Two more volumes: one on the quick pool for the log, one bare and thin for another host.
    page.get_by_role("link", name="Go to the pool").click()
    for name, fs, thin in (("germination-log", "xfs", False), ("lab-disk", "none", True)):
        page.get_by_role("button", name="Make volumes…").click()
        page.get_by_label("Name", exact=False).first.fill(name)
        page.get_by_label("Size of each").fill("500 GB")
        page.get_by_role("radio", name=fs).check()
        if thin:
            pick(page, "Thick or thin", "thin")
        assert accessible(page) == []
        draw_up(page)
        approve(page)
        page.get_by_role("link", name="Go to the pool").click()
        expect(page.get_by_role("heading", name=f"Volume {name}")).to_be_visible()
    quick = page.url

    # A share with rights: people and a group are there; juniper may write, through her group.
    page.goto("/access/shares")
    page.get_by_role("button", name="Share a folder…").click()
    page.get_by_role("combobox", name="Volume").fill("cold/specimen-scans")
    page.get_by_label("Name of the share").fill("scans")
    page.get_by_label("Quota").fill("90 PB")
    rights = page.get_by_role("combobox", name="Who may")
    for right in ("front-desk:write", "reed:read"):
        rights.fill(right)
        rights.press("Enter")
    page.get_by_role("button", name="Draw up the change sheet").click()
    expect(page.get_by_text(re.compile(r"has .* for files; a quota of"))).to_be_visible()
    page.get_by_label("Quota").fill("2 TB")
    draw_up(page)
    expect(page.get_by_text("May write: juniper, tansy. May read: reed.")).to_be_visible()
    approve(page)
    page.get_by_role("link", name="Go to shares").click()
    paper = page.get_by_role("region", name="Share scans")
    pick_in = paper.get_by_role("combobox", name="Who")
    pick_in.click()
    page.get_by_role("option", name="reed", exact=True).click()
    paper.get_by_role("button", name="Write 5 GiB").click()
    expect(paper.get_by_text("reed may read share scans, not write to it.")).to_be_visible()
    pick_in.click()
    page.get_by_role("option", name="juniper", exact=True).click()
    paper.get_by_role("button", name="Write 5 GiB").click()
    expect(paper.get_by_text(re.compile(r"taken 5\.37 GB of 2\.00 TB"))).to_be_visible()
    assert accessible(page) == []

    # A block target with a mistyped initiator: refused with the reason, corrected, and written to.
    page.goto("/access/targets")
    page.get_by_role("button", name="Declare an initiator…").click()
    page.get_by_label("Initiator name").fill(IQN + "sorrell")
    draw_up(page)
    expect(page.get_by_text(f"almost {IQN}sorrel", exact=False)).to_be_visible()
    approve(page)
    page.get_by_role("link", name="Go to targets").click()
    page.get_by_role("button", name="Serve a volume…").click()
    page.get_by_role("combobox", name="Volume").fill("quick/lab-disk")
    pick(page, "Host that serves it", "bramble")
    page.get_by_label("Target name").fill(IQN + "quick.lab-disk")
    initiators = page.get_by_role("combobox", name="Further initiators")
    initiators.fill(IQN + "sorrell")
    initiators.press("Enter")
    draw_up(page)
    approve(page)
    page.get_by_role("link", name="Go to targets").click()
    page.get_by_role("combobox", name="Host that logs in").click()
    page.get_by_role("option", name="sorrel", exact=True).click()
    page.get_by_role("button", name="Try to log in").click()
    expect(page.get_by_text(re.compile("Refused. sorrel logs in as"))).to_be_visible()
    assert accessible(page) == []
    page.get_by_role("button", name="Declare the name it has").click()
    page.wait_for_url(re.compile(r"/changes/\d+"))
    approve(page)
    page.get_by_role("link", name="Go to targets").click()
    page.get_by_role("combobox", name="Host that logs in").click()
    page.get_by_role("option", name="sorrel", exact=True).click()
    page.get_by_role("button", name="Try to log in").click()
    page.get_by_role("button", name="Let it in, in the place of the mistyped name").click()
    page.wait_for_url(re.compile(r"/changes/\d+"))
    approve(page)
    page.get_by_role("link", name="Go to targets").click()
    page.get_by_role("combobox", name="Host that logs in").click()
    page.get_by_role("option", name="sorrel", exact=True).click()
    page.get_by_role("button", name="Try to log in").click()
    expect(page.get_by_text("Let in. sorrel is logged in as")).to_be_visible()
    page.get_by_role("button", name="Write 5 GiB").click()
    expect(page.get_by_role("cell", name="5.37 GB")).to_be_visible()

    # An application moved: stopped, copied, compared, in place, and the room taken grows where it should.
    page.goto("/access/hosts")
    bramble = page.get_by_role("region", name="Host bramble")
    bramble.get_by_role("button", name="Move onto a volume…").click()
    page.get_by_role("combobox", name="Volume").fill("quick/germination-log")
    draw_up(page)
    expect(page.get_by_text("A database makes small writes")).to_be_visible()
    approve(page)
    expect(
        page.get_by_text(re.compile("7 files copied and compared, 0 differing; the volume grew by 1 GiB"))
    ).to_be_visible()
    page.goto(quick)
    volume = page.get_by_role("region", name="Volume germination-log")
    expect(volume.get_by_text("written to by bramble/seedlog")).to_be_visible()
    expect(volume.get_by_text(re.compile("taken by 8 files"))).to_be_visible()

    # The impact of an outage.
    page.goto("/notice?kind=shelf&name=Cold Store")
    expect(page.get_by_text("Without it, 3 people lose cold/specimen-scans.")).to_be_visible()
    assert accessible(page) == []


def test_a_drive_is_partitioned_without_a_mouse_slip(page: Page, site: str) -> None:
    sign_in(page)
    (drive, *_) = page.request.get("/api/drives/matching?filter=free ssd shelf:tray").json()["ids"]
    page.goto(f"/drives/{drive}/partitions")
    expect(page.get_by_text("No partition table stands on the drive, and nothing is planned.")).to_be_visible()
    page.get_by_role("button", name="One more partition").click()
    page.get_by_label("Size of partition 1").fill("3 TB")
    expect(page.get_by_text(re.compile("are left; this is"))).to_be_visible()
    page.get_by_label("Size of partition 1").fill("200 GB")
    page.get_by_label("Label of partition 1").fill("work")
    expect(page.get_by_role("cell", name="work")).to_be_visible()
    assert accessible(page) == []
    page.get_by_role("button", name="Keep as pending").click()
    expect(page.get_by_text("Pending: nothing of it has been written to the drive.")).to_be_visible()
    page.reload()
    expect(page.get_by_text("Pending: nothing of it has been written to the drive.")).to_be_visible()
    page.get_by_role("button", name="Write them…").click()
    page.wait_for_url(re.compile(r"/changes/\d+"))
    serial = page.locator("label strong").first.inner_text()
    approve(page, serial)
    page.goto(f"/drives/{drive}/partitions")
    expect(page.get_by_text("The drive is in use by these partitions.")).to_be_visible()

    # It is used: mounted by its UUID, filled, extended into what is unallocated behind it.
    page.get_by_role("link", name="volume work").click()
    work = page.get_by_role("region", name="Volume work")
    expect(work.get_by_text("partition 1, ext4")).to_be_visible()
    assert accessible(page) == []
    work.get_by_text("Change it, mount it, end it").click()
    work.get_by_role("button", name="Mount…").click()
    pick(page, "Host", "sorrel")
    page.get_by_role("textbox", name="Mount point").fill("/srv/work")
    draw_up(page)
    expect(page.get_by_text(re.compile("^UUID=.* /srv/work ext4"))).to_be_visible()
    approve(page)
    page.goto("/pools")
    page.get_by_role("link", name=serial).click()
    work.get_by_role("button", name="Write sample files").click()
    expect(work.get_by_text(re.compile("taken by [1-9][0-9]* files"))).to_be_visible()
    work.get_by_text("Change it, mount it, end it").click()
    work.get_by_role("button", name="Extend or shrink…").click()
    page.get_by_role("textbox", name="New size").fill("all")
    draw_up(page)
    expect(page.get_by_role("row", name=re.compile("Unallocated on the drive 1.80 TB 0 B"))).to_be_visible()
    approve(page)
    page.goto(f"/drives/{drive}/partitions")
    expect(page.get_by_role("cell", name="2.00 TB")).to_be_visible()
    expect(page.get_by_text("unallocated", exact=True)).to_have_count(0)
    # It fails, and is given up: the volume, then the drive.
    csrf = {"X-CSRFToken": page.request.get("/api/me").json()["csrf"]}
    assert page.request.post(f"/api/stand-in/drives/{drive}", data={"what": "fail", "count": 1}, headers=csrf).ok
    page.get_by_role("link", name="volume work").click()
    expect(page.get_by_text("The drive has failed, and nothing protected what was on it")).to_be_visible()
    work.get_by_text("Change it, mount it, end it").click()
    work.get_by_role("button", name="Unmount from /srv/work").click()
    page.wait_for_url(re.compile(r"/changes/\d+"))
    approve(page)
    page.goto("/pools")
    page.get_by_role("link", name=serial).click()
    work.get_by_text("Change it, mount it, end it").click()
    work.get_by_role("button", name="Delete", exact=True).click()
    expect(page.get_by_text(re.compile(f"No backup of {serial}/work is recorded"))).to_be_visible()
    approve(page, "work")
    page.goto(f"/drives/{drive}/partitions")
    page.get_by_role("button", name="Give the drive back…").click()
    page.wait_for_url(re.compile(r"/changes/\d+"))
    approve(page, serial)
    page.goto(f"/shelves?drive={drive}")
    page.get_by_role("button", name="It leaves the house…").click()
    expect(page.get_by_role("dialog", name=f"Drive {serial} leaves the house")).to_be_visible()
    # Its own system, on a drive that a host starts from.
    every = page.request.get(f"/api/drives/by-id?ids={','.join(map(str, range(1, 60)))}").json()["drives"]
    start = next(d["id"] for d in every if d["shelf"] == "sorrel" and "starts-host" in d["situations"])
    page.goto(f"/drives/{start}/partitions")
    expect(page.get_by_role("cell", name="system", exact=True)).to_be_visible()
    expect(page.get_by_text("It cannot be partitioned: sorrel starts from it.")).to_be_visible()
    assert accessible(page) == []
