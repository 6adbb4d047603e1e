"""Shelves and drives by hand: written down, put right, gone for good. The same functions as the screens use."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from pairshelf.cli.planning import As, Json, acting
from pairshelf.cli.show import app, print_json
from pairshelf.core.domain.acts import Act
from pairshelf.core.errors import BadInput, NotFound


def _drives(session: Any, serials: list[str]) -> list[int]:
    from sqlmodel import col, select

    from pairshelf.store.tables import DriveRow

    found = {r.serial: r.number for r in session.exec(select(DriveRow).where(col(DriveRow.serial).in_(serials)))}
    for serial in serials:
        if serial not in found:
            raise NotFound("drive", serial, field="serials")
    return [found[s] for s in dict.fromkeys(serials)]


@app.command("add-shelf")
def add_shelf(
    name: Annotated[str, typer.Argument(help="What people call the box.")],
    bays: Annotated[int, typer.Option(help="Places for drives.")] = 8,
    drives: Annotated[str, typer.Option(help="Drives in it: 8x4TB hdd, or serial and size of each, separated by commas.")] = "",
    host: Annotated[str, typer.Option(help="The host it hangs on.")] = "",
    site: Annotated[str, typer.Option(help="Where it stands; the only site, if left out.")] = "",
    who: As = "",
    as_json: Json = False,
) -> None:  # fmt: skip
    """Write a shelf into the books, with the drives in it.

    Example: pairshelf add-shelf Tower --bays 8 --drives "6x4TB hdd, KL-7 4TB hdd" --as ida
    """
    user = acting(who, Act.MANAGE_DRIVES)
    from pairshelf.services import shelving
    from pairshelf.store.database import transaction

    with transaction() as session:
        shelf = shelving.make_shelf(session, user.name, name=name, bays=bays, site=site, host=host)
        rows = shelving.add_drives(session, user.name, shelf.number, drives) if drives.strip() else []
        serials = [r.serial for r in rows]
    if as_json:
        return print_json({"shelf": shelf.number, "serials": serials})
    print(
        f"Shelf {name} with {bays} bays written down"
        + (f", and {len(serials)} drives: {', '.join(serials)}." if serials else ".")
    )


@app.command("add-host")
def add_host(
    name: Annotated[str, typer.Argument(help="The computer's name.")],
    site: Annotated[str, typer.Option(help="Where it is; the only site, if left out.")] = "",
    who: As = "",
) -> None:
    """Add a host, which can then mount volumes and have shelves.

    Example: pairshelf add-host oak --as ida
    """
    user = acting(who, Act.MANAGE_DRIVES)
    from pairshelf.services import shelving
    from pairshelf.store.database import transaction

    with transaction() as session:
        shelving.add_host(session, user.name, name=name, site=site)
    print(f"Host {name} added.")


@app.command("change-shelf")
def change_shelf(
    shelf: Annotated[str, typer.Argument(help="The shelf, as NAME or SITE/NAME.")],
    name: Annotated[str | None, typer.Option(help="Its new name.")] = None,
    bays: Annotated[int | None, typer.Option(help="How many bays it has.")] = None,
    site: Annotated[str | None, typer.Option(help="Where it stands.")] = None,
    host: Annotated[str | None, typer.Option(help="The host it is connected to; empty for none.")] = None,
    who: As = "",
) -> None:
    """Change a shelf's name, bays, site or host. Its drives stay in their bays.

    Example: pairshelf change-shelf Tower --host oak --as ida
    """
    user = acting(who, Act.MANAGE_DRIVES)
    from sqlmodel import col, select

    from pairshelf.services import shelving
    from pairshelf.store.database import transaction
    from pairshelf.store.tables import Host, Shelf, Site

    place, _, called = shelf.rpartition("/")
    with transaction() as session:
        query = select(Shelf, Site).join(Site, col(Site.id) == Shelf.site_id).where(Shelf.name == called)
        found = session.exec(query.where(Site.name == place) if place else query).all()
        if len(found) != 1:
            raise (
                BadInput(f"Several sites have a shelf {called}; write SITE/{called}.", field="shelf")
                if found
                else (NotFound("shelf", shelf, field="shelf"))
            )
        row, where = found[0]
        old = session.get(Host, row.host_id) if row.host_id else None
        shelving.change_shelf(
            session, user.name, row.number, name=row.name if name is None else name, bays=row.bays if bays is None else bays,
            site=where.name if site is None else site, host=(old.name if old else "") if host is None else host,
        )  # fmt: skip
    print(f"Shelf {name or called} changed.")


@app.command("correct")
def correct(
    serial: Annotated[str, typer.Argument(help="The drive's serial.")],
    facts: Annotated[list[str], typer.Argument(help="Facts as NAME=VALUE, such as use=archive; an empty one takes it away.")],
    who: As = "",
) -> None:  # fmt: skip
    """Put facts of a drive right; what stood there before is kept in the logbook.

    Example: pairshelf correct KL-7 use=archive "price=99 EUR" --as ida
    """
    user = acting(who, Act.MANAGE_DRIVES)
    said = {}
    for fact in facts:
        name, given, value = fact.partition("=")
        if not given:
            raise BadInput(f"“{fact}” says no value; write NAME=VALUE.", field="facts")
        said[name.strip().replace("-", "_")] = value
    from pairshelf.services import shelving
    from pairshelf.store.database import transaction

    with transaction() as session:
        (number,) = _drives(session, [serial])
        shelving.correct_drive(session, user.name, number, said)
    print(f"Facts of drive {serial} put right.")


@app.command("retire")
def retire(
    serials: Annotated[list[str], typer.Argument(help="Serials of the drives that leave.")],
    to: Annotated[str, typer.Option(help="Where they go: sold, returned, destroyed, and to whom.")],
    who: As = "",
) -> None:
    """Drives leave the house for good; the books keep them. All of them, or none.

    Example: pairshelf retire KL-7 KL-8 --to "returned under warranty" --as ida
    """
    user = acting(who, Act.MANAGE_DRIVES)
    from pairshelf.services import shelving
    from pairshelf.store.database import transaction

    with transaction() as session:
        count = shelving.retire(session, user.name, _drives(session, serials), to)
    print(f"{count} drive{'s have' if count > 1 else ' has'} left the house: {to}.")
