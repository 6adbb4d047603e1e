"""Letting drives go, from the console: which methods reach what, and certificates listed, shown and verified."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated

import typer

from pairshelf.cli.planning import Json, _surroundings, drives_named
from pairshelf.cli.show import app, print_json, show, table
from pairshelf.core.domain.units import format_duration
from pairshelf.core.errors import BadInput, NotFound

wipe_app = typer.Typer(help="What wipes which drive.", no_args_is_help=True, rich_markup_mode=None)
certificate_app = typer.Typer(help="Certificates of wiped drives.", no_args_is_help=True, rich_markup_mode=None)
app.add_typer(wipe_app, name="wipe")
app.add_typer(certificate_app, name="certificate")


@wipe_app.command("methods")
def methods(
    drives: Annotated[list[str], typer.Argument(help="Serial, SHELF:BAY or SHELF:FIRST-LAST.")],
    category: Annotated[str, typer.Option(help="clear, purge or destroy (NIST SP 800-88).")] = "purge",
    sample: Annotated[int | None, typer.Option(help="Read back so many extents of each; all if left out.")] = None,
    remnant: Annotated[str | None, typer.Option(help="The remnant that the chance of a miss is said of.")] = None,
    as_json: Json = False,
) -> None:
    """Every method on each of these drives: which reach the category, and why the others do not.

    Example: pairshelf wipe methods Tray:1-2 --category purge
    """
    _surroundings()
    from pairshelf.engine.pools import devices
    from pairshelf.services.disposal import judge
    from pairshelf.store.database import transaction

    with transaction() as session:
        ids = drives_named(session, tuple(drives))
        lot = judge(session, ids, category, devices(), sample=sample, remnant=remnant)
    if as_json:
        return print_json({
            "hours": lot.seconds / 3600,
            "drives": [
                {"serial": j.drive.serial, "why_kept": j.why_kept, "hours": j.seconds / 3600, "chance_missed": j.chance,
                 "methods": [{"id": o.method.id, "category": o.category.value if o.category else None, "why_not": o.why_not,
                              "suggested": o.suggested} for o in j.offers]}
                for j in lot.drives
            ],
        })  # fmt: skip
    lines = table("drive", "method", "reaches", "takes", "", right=(3,))
    for one in lot.drives:
        if one.why_kept:
            lines.add_row(f"{one.drive.place} ({one.drive.serial})", "", "", "", f"is kept: {one.why_kept}")
            continue
        for number, offer in enumerate(one.offers):
            lines.add_row(
                f"{one.drive.place} ({one.drive.serial})" if not number else "", offer.method.id,
                offer.category.value if offer.category else "", format_duration(one.seconds) if offer.suggested else "",
                f"suggested: {offer.suggested}" if offer.suggested else offer.why_not or "",
            )  # fmt: skip
    show(lines)
    if len(lot.drives) > 1:
        print(f"All of them: {format_duration(lot.seconds)}.")
    return None


@certificate_app.command("list")
def list_them(
    search: Annotated[str, typer.Argument(help="Serial, date, who, where to, or number.")] = "",
    as_json: Json = False,
) -> None:
    """Certificates, the newest first.

    Example: pairshelf certificate list OS-2028
    """
    _surroundings()
    from pairshelf.services.disposal import certificates
    from pairshelf.store.database import transaction

    with transaction() as session:
        found = certificates(session, search, limit=200)
    if as_json:
        return print_json([c.payload for c in found])
    lines = table("number", "serial", "category", "method", "ended", "goes to", right=(0,))
    for c in found:
        said = c.payload
        lines.add_row(
            str(c.number),
            c.serial,
            said["category"],
            said["method_name"],
            str(said["ended"] or "")[:16],
            said["destination"] or "",
        )
    show(lines)
    return None


@certificate_app.command("show")
def show_one(
    number: Annotated[int, typer.Argument(help="Its number.")],
    to: Annotated[
        Path | None, typer.Option(help="Write the signed file there (a PDF card if it ends on .pdf).")
    ] = None,
    as_json: Json = False,
) -> None:
    """What a certificate says; or the signed file.

    Example: pairshelf certificate show 12 --to certificate-12.json
    """
    _surroundings()
    from pairshelf.formats.certificate import as_json as in_json
    from pairshelf.formats.certificate_pdf import certificates_pdf, rows_of
    from pairshelf.services.disposal import certificate_of
    from pairshelf.store.database import transaction

    with transaction() as session:
        found = certificate_of(session, number)
    if to is not None:
        card = to.suffix.lower() == ".pdf"
        to.write_bytes(
            certificates_pdf([(found.payload, found.fingerprint)])
            if card
            else json.dumps(in_json(found.jws), indent=1).encode()
        )
        print(f"Written to {to}.")
        return None
    if as_json:
        return print_json(in_json(found.jws))
    print(f"Certificate {found.number}, {found.fingerprint}")
    lines = table("", "")
    for label, text in rows_of(found.payload):
        lines.add_row(label, text)
    show(lines)
    return None


@certificate_app.command("verify")
def verify_it(
    file: Annotated[Path, typer.Argument(help="The signed file.")],
    key: Annotated[
        Path | None, typer.Option(help="The public key or keys (JWK or JWK Set); those of this house if left out.")
    ] = None,
    as_json: Json = False,
) -> None:
    """Whether a file is a true certificate: from the file and the public key alone.

    Example: pairshelf certificate verify certificate-12.json --key house-keys.json
    """
    from pairshelf.formats.certificate import verify

    try:
        content = file.read_bytes()
        told = json.loads(key.read_bytes()) if key is not None else None
    except (OSError, ValueError) as error:
        raise BadInput(f"It cannot be read: {error}.", field="file") from None
    if told is None:
        _surroundings()
        from pairshelf.services.disposal import public_keys
        from pairshelf.store.database import transaction

        with transaction() as session:
            keys = public_keys(session)
        if not keys:
            raise NotFound("key")
    else:
        keys = told["keys"] if isinstance(told, dict) and "keys" in told else [told]
    verdict = verify(content, keys)
    if as_json:
        print_json({"good": verdict.good, "sentence": verdict.sentence, "fingerprint": verdict.fingerprint})
    else:
        print(verdict.sentence)
    if not verdict.good:
        raise typer.Exit(1)
