"""``pairshelf drains``, ``power`` and ``found``: how draining stands, whether power may go off now, and which pools are
found on drives."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from pairshelf.cli.planning import Json, _surroundings
from pairshelf.cli.show import app, print_json, show, table
from pairshelf.core.domain.units import format_size

if TYPE_CHECKING:
    from pairshelf.services.bringing_in import Spoken
    from pairshelf.services.draining import DrainState


@app.command("drains")
def list_drains(as_json: Json = False) -> None:
    """What is being drained, what still stands there, and what may fail meanwhile.

    Begin with: pairshelf plan drain --shelves Loft
    """
    _surroundings()
    from pairshelf.services.draining import drains
    from pairshelf.store.database import transaction

    with transaction() as session:
        found = drains(session)
        if as_json:
            return print_json({"drains": [_told(s) for s in found]})
        lines = table("", "what", "drive", "pool", "still there", "onto", right=(4,))
        for one in found:
            what = f"{one.row.subject}{', ended' if one.row.ended_at is not None else ''}"
            for d in one.drives:
                lines.add_row(
                    str(one.row.number), what, f"{d.drive.place} {d.drive.serial}", d.pool or "",
                    format_size(d.left) if d.left else "nothing", d.onto.serial if d.onto else "",
                )  # fmt: skip
    show(lines)
    return None


def _told(one: DrainState) -> dict[str, Any]:
    return {
        "id": one.row.number, "subject": one.row.subject, "ended": one.row.ended_at is not None, "left_off": one.row.left_off,
        "left": one.left,
        "drives": [
            {"serial": d.drive.serial, "place": d.drive.place, "pool": d.pool, "held": d.held, "left": d.left,
             "onto": d.onto.serial if d.onto else None} for d in one.drives
        ],
        "pools": [{"name": k.pool.name, "promised": k.promised, "now": k.now} for k in one.pools],
    }  # fmt: skip


@app.command("power")
def may_power_go(
    kind: Annotated[str, typer.Argument(help="drive, shelf, host, site, or everything.")],
    name: Annotated[str, typer.Argument(help="A drive's serial, or the name.")] = "all",
    as_json: Json = False,
) -> None:
    """Is it safe to power off? The exit status is 0 for yes, also with reduced protection, and 1 for no or not yet.

    Example: pairshelf power shelf Loft
    """
    _surroundings()
    from pairshelf.services.switching_off import ask
    from pairshelf.store.database import transaction

    with transaction() as session:
        found = ask(session, kind, name)
    if as_json:
        print_json({"safe": found.safe.value, "sentence": found.sentence, "first": found.first, "lines": found.lines})
    else:
        print("\n".join((found.sentence, *found.first, *found.lines)))
    if found.safe in ("wait", "no"):
        raise typer.Exit(1)


@app.command("found")
def list_found(
    look: Annotated[bool, typer.Option(help="Read every drive that belongs to nothing first.")] = False,
    as_json: Json = False,
) -> None:
    """Pools that drives here say they belong to and that are not in the books: what is here, and what is needed.

    Bring one in with: pairshelf plan bring-in --pool 6b2f...
    """
    _surroundings()
    from pairshelf.engine.pools import devices
    from pairshelf.services import bringing_in
    from pairshelf.store.database import transaction

    with transaction() as session:
        if look:
            bringing_in.look(session, devices(), "console")
        found = bringing_in.spoken_of(session, devices())
    if as_json:
        return print_json({"pools": [_spoken(s) for s in found]})
    lines = table("pool", "known by", "drive", "how it is", "what is here")
    for one in found:
        for number, member in enumerate(one.found.members):
            said = (one.found.name, one.found.uid, one.said) if not number else ("", "", "")
            how = "up to date" if member.whole else member.standing.value
            lines.add_row(said[0], said[1], f"{member.serial} {member.place}".strip(), how, said[2])
    show(lines)
    return None


def _spoken(one: Spoken) -> dict[str, Any]:
    return {
        "uid": one.found.uid, "name": one.found.name, "may": one.may, "said": one.said, "encrypted": one.found.encrypted,
        "members": [
            {"serial": m.serial, "slot": m.slot, "standing": m.standing.value, "whole": m.whole, "place": m.place}
            for m in one.found.members
        ],
        "volumes": [{"name": v.name, "size": v.size, "files": v.files} for v in one.found.volumes],
    }  # fmt: skip
