"""Every act from the console: plan it, approve it, watch its jobs; so that a whole build can be a script.

The same functions as the screens use, on the same database: PAIRSHELF_DATABASE_URL and PAIRSHELF_DEVICES,
or else what was last started from this folder. Who does it is said by --as; the password is asked for, or
taken from PAIRSHELF_PASSWORD.
"""

from __future__ import annotations

import getpass
import os
import sys
import time
from collections.abc import Callable
from inspect import Parameter, Signature
from pathlib import Path
from typing import Annotated, Any

import typer

from pairshelf.cli.show import app, print_json, show, table
from pairshelf.core.changes.kind import ChangeKind
from pairshelf.core.changes.kinds import KINDS, request_of
from pairshelf.core.domain.acts import Act, why_not
from pairshelf.core.domain.names import is_number
from pairshelf.core.domain.units import format_duration, format_size
from pairshelf.core.errors import BadInput, NotFound, NotPossible

plan_app = typer.Typer(
    help="Draw a change sheet up and print it. Nothing is done before it is approved: pairshelf approve SHEET.",
    no_args_is_help=True,
    rich_markup_mode=None,
)
app.add_typer(plan_app, name="plan")

#: No row has a higher number.
MOST_NUMBER = 2**31 - 1

As = Annotated[str, typer.Option("--as", help="Who does it: the name of a user.", envvar="PAIRSHELF_USER")]
Json = Annotated[bool, typer.Option("--json", help="Print JSON; sizes in bytes, times in hours.")]


def _surroundings() -> None:
    """Take the database and devices of the last start from this folder where nothing else is said."""
    if "PAIRSHELF_DATABASE_URL" in os.environ:
        return
    from pairshelf.launch.start import running_at

    found = running_at()
    if found is None:
        raise NotPossible(
            "Pair Shelf does not run here; start it, or say PAIRSHELF_DATABASE_URL and PAIRSHELF_DEVICES."
        )
    os.environ["PAIRSHELF_DATABASE_URL"], os.environ["PAIRSHELF_DEVICES"] = found


def _user(name: str, password: str | None = None) -> Any:
    from pairshelf.services.accounts import sign_in

    if not name:
        raise BadInput("Say who does it: --as NAME, or PAIRSHELF_USER.")
    given = password or os.environ.get("PAIRSHELF_PASSWORD") or getpass.getpass(f"Password of {name}: ")
    return sign_in(name, given, "console")


def _may(user: Any, kind: str, *, approving: bool = False) -> None:
    if reason := why_not(user.role, KINDS[kind].approving if approving else KINDS[kind].act):
        raise NotPossible(reason, code="denied")


def acting(name: str, act: Act) -> Any:
    """The user who does something at once; NotPossible where the role does not allow it."""
    _surroundings()
    user = _user(name)
    if reason := why_not(user.role, act):
        raise NotPossible(reason, code="denied")
    return user


def drives_named(session: Any, texts: tuple[str, ...]) -> list[int]:
    """Ids of drives said by serial, or as SHELF:BAY, SHELF:FIRST-LAST, or by number."""
    from sqlmodel import col, select

    from pairshelf.store.tables import DriveRow, Shelf

    found: list[int] = []
    for text in texts:
        shelf, _, bays = text.rpartition(":")
        first, _, last = bays.partition("-")
        if shelf and all(is_number(n) and len(n) < 6 for n in (first, last or first)):
            query = (
                select(DriveRow.id).join(Shelf, col(Shelf.id) == DriveRow.shelf_id)
                .where(Shelf.name == shelf, col(DriveRow.bay).between(int(first), int(last or first)))
                .order_by(col(DriveRow.bay))
            )  # fmt: skip
        else:
            query = select(DriveRow.id).where(DriveRow.serial == text)
        ids = [i for i in session.exec(query) if i is not None]
        if not ids and is_number(text) and len(text) < 10:
            ids = [int(text)]
        if not ids:
            raise BadInput(
                f"There is no drive {text}; write a serial, or SHELF:BAY, or SHELF:FIRST-LAST.", field="drives"
            )
        found += ids
    return found


def _plan(kind: ChangeKind, who: str, as_json: bool, values: dict[str, Any]) -> None:
    _surroundings()
    from pairshelf.engine.approver import draw_up
    from pairshelf.store.database import transaction

    user = _user(who)
    _may(user, kind.id)
    with transaction() as session:
        for several in ("drives", "free"):
            if several in values:
                values[several] = drives_named(session, tuple(values[several]))
        if isinstance(values.get("drive_id"), str):
            values["drive_id"] = drives_named(session, (values["drive_id"],))[0]
        row = draw_up(session, kind.id, request_of(kind.id, values), user.name)
    if as_json:
        print_json({"id": row.id, "kind": row.kind, "state": row.state, **row.body})
        return
    print_sheet(row.number, row.body)


def print_sheet(number: int, body: dict[str, Any]) -> None:
    """A sheet as a person reads it."""
    print(f"Sheet {number}: {body['title']}\n{body['why']}\n")
    lines = table("", "before", "after", right=(1, 2))
    for f in body["figures"]:
        lines.add_row(f["label"], *(_figure(f[side]) for side in ("before", "after")))
    if body["figures"]:
        show(lines)
    for t in body["takes"]:
        print(f"{t['job']}: {format_duration(t['hours'] * 3600)} undisturbed")
    parts = (
        ("Take care", body["cautions"]), ("Looked at beforehand", [f["sentence"] for f in body["findings"]]),
        ("Erased", [f"{e['place']} {e['serial']}{' (' + e['holds'] + ')' if e['holds'] else ''}" for e in body["erases"]]),
        ("Given up", body["gives_up"]), ("To copy", [t["text"] for t in body["texts"]]),
        ("Fixed from now on", body["fixed"]), ("Steps", body["steps"]),
    )  # fmt: skip
    for title, own in parts:
        if own:
            print(f"\n{title}:")
            for line in own:
                print(f"  {line}")
    confirm = f" --confirm {body['confirm']}" if body["confirm"] else ""
    print(f"\nTo do it: pairshelf approve {number}{confirm}")


def _figure(value: dict[str, Any]) -> str:
    return format_size(value["bytes"]) if value.get("bytes") is not None else str(value.get("text") or "")


def _command(kind: ChangeKind) -> Callable[..., None]:
    """A command whose options are the fields of the request."""
    asked = kind.fields

    def run(**given: Any) -> None:
        who, as_json = given.pop("who"), given.pop("as_json")
        _plan(kind, who, as_json, {f.name: given[f.name] for f in asked})

    parameters = []
    for one in asked:
        # Drives are said by serial or bay.
        plain = str if one.name in ("drives", "free", "drive_id") else one.hint
        hint: Any = list[plain] if one.several else plain  # type: ignore[valid-type]
        flag = f"--{one.name.replace('_', '-')}"
        if hint is bool:
            flag += f"/--no-{flag[2:]}"
        option = typer.Option(flag, help=_help(one.name))
        parameters.append(
            Parameter(one.name, Parameter.KEYWORD_ONLY, annotation=Annotated[hint, option],
                      default=Parameter.empty if one.required else one.default)
        )  # fmt: skip
    parameters.append(Parameter("who", Parameter.KEYWORD_ONLY, annotation=As, default=""))
    parameters.append(Parameter("as_json", Parameter.KEYWORD_ONLY, annotation=Json, default=False))
    run.__signature__ = Signature(parameters)  # type: ignore[attr-defined]
    run.__annotations__ = {p.name: p.annotation for p in parameters}
    run.__doc__ = kind.about
    return run


_HELP = {
    "drives": "Serial, SHELF:BAY or SHELF:FIRST-LAST; repeat the option for more.",
    "drive_id": "Serial, or SHELF:BAY.",
    "volume": "The volume, as pool/volume.",
    "application": "The application, as HOST/NAME.",
    "rights": "NAME:read or NAME:write; repeat for more.",
    "size": "A size such as 2TB, or all.",
    "name": "A name, or a pattern such as scans-{1..4} where several can be made.",
}


def _help(name: str) -> str:
    return _HELP.get(name, "")


def add_command(kind: ChangeKind) -> None:
    """``pairshelf plan KIND``."""
    plan_app.command(kind.id)(_command(kind))


for _kind in KINDS.values():
    add_command(_kind)


@app.command("together")
def plan_together(
    file: Annotated[
        Path, typer.Argument(help="JSON: a list of changes, each with kind and request; - for standard input.")
    ],
    title: Annotated[str, typer.Option(help="What the plan is called.")],
    who: As = "",
    as_json: Json = False,
) -> None:
    """Draw up several changes as one plan: all of their sheets, or none. Approve it with approve --plan.

    Example: pairshelf together pools.json --title "Pools for images and database" --as ida
    """
    _surroundings()
    from pydantic import TypeAdapter, ValidationError

    from pairshelf.api.plans import ChangeAsked, asked_of
    from pairshelf.engine.approver import draw_up_all, sheets_of
    from pairshelf.store.database import transaction

    user = _user(who)
    try:
        text = sys.stdin.read() if str(file) == "-" else file.read_text()
        listed = TypeAdapter(list[ChangeAsked]).validate_json(text)
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(f"{file} cannot be read: {error}.", field="file") from None
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(p) for p in first["loc"])
        raise BadInput(f"{file}: {where + ': ' if where else ''}{first['msg']}.", field="file") from None
    asked = [asked_of(i, one) for i, one in enumerate(listed)]
    for kind, _ in asked:
        _may(user, kind)
    with transaction() as session:
        plan = draw_up_all(session, title, asked, user.name)
        rows = [(s.number, dict(s.body)) for s in sheets_of(session, plan.number)]
        number = plan.number
    if as_json:
        print_json({"id": number, "title": title, "sheets": [{"id": n, **body} for n, body in rows]})
        return
    print(f"Plan {number}: {title}\n")
    for n, body in rows:
        print_sheet(n, body)
        print()


@app.command("approve")
def approve_sheet(
    sheet: Annotated[int, typer.Argument(help="Number of the change sheet, or of the plan.", min=1, max=MOST_NUMBER)],
    plan: Annotated[bool, typer.Option("--plan", help="All open sheets of a plan: all is done, or nothing.")] = False,
    confirm: Annotated[
        str,
        typer.Option(
            help="The name the sheet asks for, where something is erased or given up; of a plan all of them, by commas."
        ),
    ] = "",
    who: As = "",
    as_json: Json = False,
) -> None:
    """Approve a change sheet, or a plan: what was shown is done, or nothing is.

    Example: pairshelf approve 12 --confirm cold --as ida
    """
    _surroundings()
    if plan:
        return _approve_plan(sheet, confirm, who, as_json)
    from pairshelf.engine.approver import approve
    from pairshelf.engine.pools import devices
    from pairshelf.store.database import transaction
    from pairshelf.store.tables import SheetRow

    user = _user(who)
    with transaction() as session:
        row = session.get(SheetRow, sheet)
        if row is None:
            raise NotFound("change sheet", sheet)
        _may(user, row.kind, approving=True)
    with transaction() as session:
        row, outcome = approve(session, sheet, user.name, confirm, devices())
    if as_json:
        print_json({"id": row.id, "state": row.state, "pool_id": row.pool_id, "passphrase": outcome.passphrase})
        return
    print(
        f"{row.title}: approved."
        if row.state == "approved"
        else f"{row.title}: approved by you; another administrator has to."
    )
    if outcome.passphrase:
        print(f"Passphrase, shown this once; without it the data are lost: {outcome.passphrase}")


def _approve_plan(number: int, confirm: str, who: str, as_json: bool) -> None:
    from pairshelf.engine.approver import approve_all, sheets_of
    from pairshelf.engine.pools import devices
    from pairshelf.store.database import transaction
    from pairshelf.store.tables import SheetState

    user = _user(who)
    typed = {name.strip() for name in confirm.split(",")}
    with transaction() as session:
        drafts = [s for s in sheets_of(session, number) if s.state == SheetState.DRAFT]
        for row in drafts:
            _may(user, row.kind, approving=True)
        confirms = {s.number: s.body["confirm"] for s in drafts if s.body["confirm"] in typed}
    with transaction() as session:
        done = [
            (row.number, row.title, outcome)
            for row, outcome in approve_all(session, number, user.name, confirms, devices())
        ]
    if as_json:
        print_json([{"id": n, "title": t, "pool_id": o.pool_id, "passphrase": o.passphrase} for n, t, o in done])
        return
    for _, title, outcome in done:
        print(f"{title}: approved.")
        if outcome.passphrase:
            print(f"Passphrase, shown this once; without it the data are lost: {outcome.passphrase}")


@app.command("jobs")
def list_jobs(
    ended: Annotated[bool, typer.Option("--ended", help="Those that have ended instead of the open ones.")] = False,
    wait: Annotated[bool, typer.Option("--wait", help="Wait until none is open.")] = False,
    as_json: Json = False,
) -> None:
    """Jobs under way: what they do, how far they are, what they wait for.

    Example: pairshelf jobs --wait
    """
    _surroundings()
    from sqlmodel import col, select

    from pairshelf.api.jobs import jobs_out
    from pairshelf.store.database import transaction
    from pairshelf.store.tables import JobRow

    over = col(JobRow.state).in_(("done", "failed"))
    while True:
        with transaction() as session:
            query = select(JobRow).where(over if ended else ~over).order_by(col(JobRow.id).desc()).limit(200)
            found = jobs_out(session, query)
        if not (wait and any(j.state in ("waiting", "running", "held") for j in found)):
            break
        if sys.stderr.isatty():
            print(f"{len(found)} open, {found[-1].name} {found[-1].progress:.0%}   ", end="\r", file=sys.stderr)
        time.sleep(0.5)
    if as_json:
        print_json([j.model_dump(mode="json") for j in found])
        return
    lines = table("job", "what", "pool", "volume", "state", "done", "", right=(0, 5))
    for j in found:
        lines.add_row(str(j.id), j.name, j.pool, j.volume or "", j.state, f"{j.progress:.0%}",
                      j.error or j.why_held or j.outcome or "")  # fmt: skip
    if found:
        show(lines)
    else:
        print("No jobs." if ended else "No jobs under way.")


@app.command("partitions")
def plan_partitions(
    drive: Annotated[str, typer.Argument(help="Serial of a free drive, or SHELF:BAY.")],
    part: Annotated[
        list[str],
        typer.Option(help="SIZE[:TYPE[:LABEL[:primary|logical[:FILESYSTEM]]]]; an empty size takes what is left."),
    ],
    scheme: Annotated[str, typer.Option(help="gpt, or mbr for the older table.")] = "gpt",
    who: As = "",
    as_json: Json = False,
) -> None:
    """Plan partitions of a drive without a pool, or more on one that is divided already. They stay pending; pairshelf plan write-partitions writes them.

    Example: pairshelf partitions Tray:4 --part 512MiB:start:EFI --part :data:work::ext4 --as ida
    """
    _surroundings()
    from pairshelf.api.partitions import partitions_out
    from pairshelf.services.planned_partitions import keep_plan
    from pairshelf.store.database import transaction

    user = _user(who)
    _may(user, "write-partitions")
    names = ("size", "type", "label", "kind", "file_system")
    wanted = [dict(zip(names, (*text.split(":"), "", "", "", "")[:5], strict=False)) for text in part]
    rows = [
        {k: v or ("data" if k == "type" else "primary" if k == "kind" else "") for k, v in w.items()} for w in wanted
    ]
    with transaction() as session:
        found = keep_plan(session, drives_named(session, (drive,))[0], scheme, rows, user.name)
        out = partitions_out(session, found, found.scheme, found.wanted)
    if as_json:
        print_json(out.model_dump(mode="json"))
        return
    lines = table("no.", "entry", "type", "label", "first sector", "last sector", "size", right=(0, 4, 5, 6))
    for p in out.parts:
        lines.add_row(str(p.number), p.kind, p.type, p.label, str(p.first), str(p.last), format_size(p.bytes))
    show(lines)


@app.command("image")
def write_image(
    drive: Annotated[str, typer.Argument(help="Serial of a drive with partitions, planned or on it, or SHELF:BAY.")],
    out: Annotated[Path, typer.Argument(help="The sparse file that is written.")],
) -> None:
    """Write a drive's partition table as a sparse image: true sector addresses, nothing scaled.

    Example: pairshelf image TH-9947S22 drive.img
    """
    _surroundings()
    from pairshelf.formats.partition_image import write_sparse
    from pairshelf.services.planned_partitions import partitions_of
    from pairshelf.store.database import transaction

    with transaction() as session:
        found = partitions_of(session, drives_named(session, (drive,))[0])
        size, chunks = found.row.size, found.image()
    try:
        write_sparse(out, size, chunks)
    except (OSError, ValueError) as error:
        why = error.strerror if isinstance(error, OSError) else str(error)
        raise BadInput(f"{out} cannot be written: {why}.", field="out") from None
    print(f"{out}: {format_size(size)}, {sum(len(c) for _, c in chunks)} bytes of table; almost all of it is holes.")
