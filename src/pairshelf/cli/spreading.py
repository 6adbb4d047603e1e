"""``pairshelf spread``."""

from __future__ import annotations

from typing import Annotated

import typer

from pairshelf.cli.options import (
    REPLACE,
    Afr,
    AsJson,
    Binary,
    Drives,
    Network,
    Ops,
    Rate,
    ReplaceHours,
    Uber,
    UserShare,
    assumptions,
    drives_of,
)
from pairshelf.cli.show import app, print_json, progress, show, table
from pairshelf.core.domain.units import UnitSystem, format_duration, format_size
from pairshelf.core.errors import BadInput
from pairshelf.core.figures.assumptions import assume
from pairshelf.core.figures.report import spread_json
from pairshelf.core.figures.spread_pools import spread_account, spread_figures
from pairshelf.core.layouts.placing import parse_volume, spread_pool


@app.command()
def spread(
    drives: Drives,
    volume: Annotated[list[str], typer.Option(
        help="A volume with its protection, such as 40GiB:copies-3 or 10TiB:parity-2:8; may be given again."
    )],
    domain: Annotated[str, typer.Option(help="Failure domain: drive, shelf, host or site; without it the widest that the drives stand in.")] = "",
    afr: Afr = None, uber: Uber = None, rate: Rate = None, ops: Ops = None, replace_hours: ReplaceHours = REPLACE,
    user_share: UserShare = None, network: Network = None,
    file_system: Annotated[str, typer.Option(help="For the account of each protection; none leaves it out.")] = "none",
    as_json: AsJson = False,
    binary: Binary = False,
) -> None:  # fmt: skip
    """A spread pool: every volume with a protection of its own, its stripes over different failure domains.

    Examples:

    pairshelf spread 12x8TB --volume 40GiB:copies-3 --volume 10TiB:parity-2:8

    pairshelf spread 3x8TB@oak,3x8TB@elm,3x8TB@ash,3x8TB@yew --domain host --volume 2TiB:copies-2
    """
    given = assumptions(
        afr=afr, uber=uber, rate=rate, ops=ops, replace_hours=replace_hours, user_share=user_share, network=network
    )
    if not volume:
        raise BadInput("Name at least one volume, such as --volume 2TiB:copies-2.", field="volume")
    wanted = [parse_volume(v) for v in volume]
    pool = spread_pool(assume(drives_of(drives), given), domain, max(v.protection.width for v in wanted))
    with progress("placing stripes") as tell:
        found = spread_figures(pool, wanted, given, progress=tell)
    accounts = {
        v.protection.name: spread_account(pool, v.protection, file_system=file_system).as_dict() for v in wanted
    }
    if as_json:
        return print_json(spread_json(found) | {"space": accounts})
    system: UnitSystem = "binary" if binary else "decimal"
    lines = table(
        "volume", "protection", "stripes", "pool use", "sure", "best", "loss a year", "damage", right=range(2, 8)
    )
    for v in found.volumes:
        lines.add_row(format_size(v.wanted.size, system), v.wanted.protection.name, f"{v.wanted.stripes:,}",
                      format_size(v.wanted.pool_use, system), str(v.survives.guaranteed), str(v.survives.best_case),
                      f"{v.odds.yearly_loss:.2g}", f"{v.odds.yearly_damage:.2g}")  # fmt: skip
    show(lines)
    print(f"used {format_size(found.used, system)}, free {format_size(found.free, system)}; "
          f"repair of one drive {format_duration(found.rebuild_hours * 3600)}")  # fmt: skip
    for name, account in accounts.items():
        print(f"if all of it were {name}: {format_size(account['usable'], system)} usable, "
              f"{format_size(account['repair'], system)} kept for self-repair, at most {found.stripes_max[name]:,} stripes")  # fmt: skip
    beyond = sorted({v.protection.name for v in wanted if not pool.repairs_a_domain(v.protection)})
    if beyond:
        print(f"the loss of a whole {pool.domain} cannot be repaired until it is back: {', '.join(beyond)} "
              f"takes all {len(pool.domains)} of them")  # fmt: skip
    elif found.repair_fails_without:
        print(f"cannot repair itself after the loss of {', '.join(found.repair_fails_without[:5])}: not enough is free")
    else:
        print(f"repairs itself after the loss of any {pool.domain}")
