"""Arguments and options that several commands take, and reading them."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from pairshelf.core.domain.drives import Drive, parse_shorthand
from pairshelf.core.domain.units import parse_rate, parse_size
from pairshelf.core.errors import BadInput
from pairshelf.core.figures.assumptions import USUAL_REPLACE_HOURS, Assumptions, backup_asked
from pairshelf.core.figures.workloads import WORKLOADS
from pairshelf.formats.inventory_csv import read_drives

Drives = Annotated[str, typer.Argument(
    metavar="DRIVES",
    help="A CSV file (an inventory, or at least id,size_bytes,kind) or a shorthand such as 8x4TB,2x8TB ssd; "
    "@box after a term says the shelf it stands in: 4x8TB@oak,4x8TB@elm.",
)]  # fmt: skip
FileSystem = Annotated[str, typer.Option(help="ext4, xfs, btrfs, ntfs, or none to leave it out.")]
Reserved = Annotated[float | None, typer.Option(
    help="Share of the volume that the file system keeps back, 0 to 0.5; its own default if left out."
)]  # fmt: skip
AsJson = Annotated[bool, typer.Option("--json", help="Print JSON; sizes in bytes, times in hours.")]
Binary = Annotated[bool, typer.Option("--binary", help="Show sizes in TiB and GiB instead of TB and GB.")]
Afr = Annotated[float | None, typer.Option(help="Yearly failure rate of every drive, such as 0.02.")]
Uber = Annotated[float | None, typer.Option(help="Unreadable sectors per bit read, such as 1e-15.")]
Rate = Annotated[str | None, typer.Option(help="Mean sequential rate of every drive, such as 200MB (a second).")]
Ops = Annotated[int | None, typer.Option(help="Small operations a second of every drive, such as 150.")]
ReplaceHours = Annotated[float, typer.Option(help="Hours until a new drive is in, where there is no spare.")]
UserShare = Annotated[float | None, typer.Option(help="Share of every drive that users take, 0 to below 1.")]
UserWrites = Annotated[float | None, typer.Option(help="Instead of a share: small writes a second that users make.")]
WholeStripes = Annotated[float, typer.Option(help="Share of those writes that moves whole stripes, 0 to 1.")]
Price = Annotated[float | None, typer.Option(help="Price of every drive.")]
Tariff = Annotated[float | None, typer.Option(help="Price of a kilowatt-hour, for the yearly cost of power.")]
Network = Annotated[str | None, typer.Option(help="The network's link, such as 1Gbit/s.")]
BackupLink = Annotated[str | None, typer.Option(help="A backup exists; the link to restore over, such as 1Gbit/s.")]
BackupAge = Annotated[float, typer.Option(help="How old the backup gets, hours.")]
Spares = Annotated[int | None, typer.Option(help="Exactly so many spares; none to two are tried if left out.")]
Need = Annotated[str | None, typer.Option(help="Usable capacity needed, such as 20TB.")]
Survive = Annotated[int, typer.Option(help="Failed drives that must be survived, whichever they are.")]
WorkloadName = Annotated[str, typer.Option(help=f"What it is for: {', '.join(WORKLOADS)}.")]

REPLACE = USUAL_REPLACE_HOURS


def assumptions(
    *, afr: float | None = None, uber: float | None = None, rate: str | None = None, ops: int | None = None,
    replace_hours: float = REPLACE, user_share: float | None = None, user_writes: float | None = None, whole_stripes: float = 0.0,
    price: float | None = None, tariff: float | None = None,
    network: str | None = None, backup_link: str | None = None, backup_age: float = 24.0,
) -> Assumptions:  # fmt: skip
    """The options as the core takes them; BadInput for what makes no sense."""
    backup = backup_asked("", backup_age, backup_link or "")
    return Assumptions(
        afr=afr, uber=uber, rate=parse_rate(rate, field="rate") if rate else None, ops=ops,
        replace_hours=replace_hours, user_share=user_share, user_writes=user_writes, whole_stripes=whole_stripes,
        price=price, tariff=tariff,
        network=parse_rate(network, field="network") if network else None, backup=backup,
    ).checked()  # fmt: skip


def size_or_none(text: str | None, field: str) -> int | None:
    """A typed size, or None where nothing was typed."""
    return parse_size(text, field=field) if text else None


def read_file(text: str, what: str, field: str) -> bytes:
    """A file's bytes; BadInput where there is none."""
    try:
        return Path(text).read_bytes()
    except IsADirectoryError:
        raise BadInput(f"{text} is a folder, not a file of {what}.", field=field) from None
    except FileNotFoundError:
        raise BadInput(f"There is no file {text}.", field=field) from None
    except (OSError, ValueError) as error:
        raise BadInput(f"{text} cannot be read: {error}.", field=field) from None


def _is_file(text: str) -> bool:
    try:
        return Path(text).is_file()
    except (OSError, ValueError):  # longer than a name can be, or with characters that none has
        return False


def drives_of(text: str) -> tuple[Drive, ...]:
    """Drives of a CSV file or of a shorthand."""
    if text.lower().endswith((".csv", ".tsv", ".txt")) or ("/" in text and "@" not in text) or _is_file(text):
        return read_drives(read_file(text, "drives", "drives"))
    return parse_shorthand(text)
