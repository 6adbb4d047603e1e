"""What is done at once, without a sheet: checks, keys, CHAP secrets. The same functions as the screens use."""

from __future__ import annotations

import getpass
import os
from dataclasses import asdict, replace
from typing import Annotated, Any

import typer

from pairshelf.cli.planning import As, Json, acting
from pairshelf.cli.show import app, print_json, show, table
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.units import EXTENT, format_duration, format_size
from pairshelf.core.errors import BadInput, NotPossible

Pool = Annotated[str, typer.Argument(help="Name of the pool.")]


def pool_row(session: Any, name: str) -> Any:
    from sqlmodel import select

    from pairshelf.store.tables import PoolRow

    row = session.exec(select(PoolRow).where(PoolRow.name == name)).first()
    if row is None:
        raise BadInput(f"There is no pool {name}.", field="pool")
    return row


@app.command("check")
def check(pool: Pool, who: As = "", as_json: Json = False) -> None:
    """Start a check of a pool: everything is read and compared, every file read back.

    Example: pairshelf check cold && pairshelf jobs --wait
    """
    user = acting(who, Act.RUN_JOBS)
    from pairshelf.engine.checking import begin_check
    from pairshelf.engine.pools import open_pool
    from pairshelf.store.database import transaction

    with transaction() as session:
        number = begin_check(session, open_pool(session, pool_row(session, pool).number), user.name).id
    if as_json:
        print_json({"job": number})
    else:
        print(f"Check of {pool} started: job {number}.")


@app.command("scan")
def scan(
    what: Annotated[str, typer.Argument(help="Name of a pool, or serial of a drive.")],
    who: As = "",
    as_json: Json = False,
) -> None:
    """Start a surface scan: every drive read through; in a pool, what cannot be read is written anew from the others.

    Example: pairshelf scan archive && pairshelf jobs --wait
    """
    user = acting(who, Act.RUN_JOBS)
    from sqlmodel import select

    from pairshelf.engine.checking import begin_drive_scan, begin_scan
    from pairshelf.engine.pools import open_pool
    from pairshelf.store.database import transaction
    from pairshelf.store.tables import DriveRow, PoolRow

    with transaction() as session:
        pool = session.exec(select(PoolRow.id).where(PoolRow.name == what)).first()
        drive = session.exec(select(DriveRow.id).where(DriveRow.serial == what)).first()
        if pool is not None:
            number = begin_scan(session, open_pool(session, pool), user.name).id
        elif drive is not None:
            number = begin_drive_scan(session, drive, user.name).id
        else:
            raise BadInput(f"There is no pool and no drive {what}.", field="what")
    if as_json:
        print_json({"job": number})
    else:
        print(f"Surface scan of {what} started: job {number}.")


@app.command("unlock")
def unlock(pool: Pool, who: As = "") -> None:
    """Unlock an encrypted pool; the passphrase is asked for, or taken from PAIRSHELF_PASSPHRASE.

    Example: pairshelf unlock cold --as ida
    """
    user = acting(who, Act.KEEP_KEYS)
    from pairshelf.services.accounts import unlock_pool
    from pairshelf.services.attempts import Counter
    from pairshelf.store.database import transaction

    with transaction() as session:
        row = pool_row(session, pool)
    given = os.environ.get("PAIRSHELF_PASSPHRASE") or getpass.getpass(f"Passphrase of {pool}: ")
    unlock_pool(row.number, given, user.name, [Counter(f"pool {row.id} from the console")])
    print(f"Pool {pool} is unlocked.")


@app.command("lock")
def lock(pool: Pool, who: As = "") -> None:
    """Lock an encrypted pool: nothing can be read or written until it is unlocked."""
    user = acting(who, Act.KEEP_KEYS)
    from pairshelf.engine import keys
    from pairshelf.engine.log import log
    from pairshelf.engine.pools import open_pool
    from pairshelf.store.database import tell, transaction

    with transaction() as session:
        row = pool_row(session, pool)
        if row.key is None:
            raise NotPossible("This pool is not encrypted.", code="not-encrypted")
        open_pool(session, row.number)
        keys.forget_key(row.number)
        log(session, user.name, "pool-locked", pool, f"Pool {pool} locked.")
        tell(session, "pool")
    print(f"Pool {pool} is locked.")


@app.command("chap")
def chap(
    target: Annotated[str, typer.Argument(help="Name of the target.")],
    initiator: Annotated[str, typer.Argument(help="The initiator that has to prove itself.")],
    name: Annotated[str, typer.Option(help="The CHAP name; empty takes the proof away.")] = "",
    who: As = "",
) -> None:
    """Set the CHAP name and secret of an initiator; the secret is asked for, or taken from PAIRSHELF_SECRET.

    Example: pairshelf chap iqn.2026-01.example.fernhollow:disk iqn.2026-01.example.fernhollow:sorrel --name sorrel
    """
    user = acting(who, Act.GIVE_ACCESS)
    from pairshelf.services.simulated_use import keep_chap
    from pairshelf.store.database import transaction

    secret = (os.environ.get("PAIRSHELF_SECRET") or getpass.getpass("Secret: ")) if name else ""
    with transaction() as session:
        print(keep_chap(session, target, initiator, name, secret, user.name))


@app.command("grow")
def grow(
    pool: Pool,
    drives: Annotated[
        list[str] | None, typer.Option(help="Drives by serial or bay; left out, each way takes its own.")
    ] = None,
    as_json: Json = False,
) -> None:
    """The ways to make a pool larger, side by side, and the schemes it could become.

    Example: pairshelf grow cold --drives Loft:11-12
    """
    from pairshelf.cli.planning import _surroundings, drives_named

    _surroundings()
    from pairshelf.core.search.ways import why_not_free
    from pairshelf.engine.pools import devices
    from pairshelf.services.growing import growth_of
    from pairshelf.store.database import transaction

    with transaction() as session:
        picked = drives_named(session, tuple(drives or ()))
        found = growth_of(session, pool_row(session, pool).id, picked, devices())
        serials = {d.id: d.serial for d in found.drives}
        not_to_be_had = [(d.named, why) for d in found.drives if (why := why_not_free(d))]
    if as_json:
        shown = [
            {k: v for k, v in asdict(replace(w, after=None)).items() if k != "after"} for w in (*found.ways, *found.conversions)
        ]  # fmt: skip
        return print_json({"pool": pool, "capacity": found.pool.capacity * EXTENT, "ways": shown})
    lines = table("", "brings", "there", "survives meanwhile", "drives", right=(1, 2, 3))
    for way in (*found.ways, *found.conversions):
        if way.why_not is not None:
            lines.add_row(way.name, "", "", "", f"not possible: {way.why_not} {way.way_round or ''}".strip())
            continue
        when = format_duration(way.hours * 3600) if way.hours else "at once"
        named = ", ".join(serials[d] for d in way.drives) + (f". Suggested: {way.suggested}" if way.suggested else "")
        lines.add_row(way.name, format_size(way.gain) if way.gain else "", when, str(way.meanwhile), named)
    show(lines)
    for named, why in not_to_be_had:
        print(f"Not to be had: {named}. {why}")
    return None
