"""Certificates on paper: an index card each, as from a library drawer; and labels for the drives' bags."""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence
from typing import Any

from reportlab.graphics import renderPDF
from reportlab.graphics.barcode.qr import QrCodeWidget
from reportlab.graphics.shapes import Drawing as Picture
from reportlab.lib.pagesizes import A5, landscape
from reportlab.lib.units import mm
from reportlab.pdfgen.canvas import Canvas

from pairshelf.core.domain.units import format_size
from pairshelf.formats.typeset import FAINT, INK, LINE, PINE, RUST, fonts

_CARD = landscape(A5)
_LABEL = (89 * mm, 41 * mm)


def certificates_pdf(cards: Sequence[tuple[Mapping[str, Any], str]]) -> bytes:
    """A card for each certificate: its payload and its fingerprint."""
    out = io.BytesIO()
    canvas = Canvas(out, pagesize=_CARD, invariant=1)
    canvas.setTitle("Certificates of wiped drives" if len(cards) > 1 else "Certificate of a wiped drive")
    canvas.setAuthor("Pair Shelf")
    for payload, fingerprint in cards:
        _card(canvas, payload, fingerprint)
        canvas.showPage()
    canvas.save()
    return out.getvalue()


def label_pdf(payload: Mapping[str, Any], fingerprint: str) -> bytes:
    """A label for the drive's bag: number, serial, fingerprint, and the first and last as a QR code."""
    out = io.BytesIO()
    canvas = Canvas(out, pagesize=_LABEL, invariant=1)
    plain, strong = fonts()
    drive = payload["drive"]
    _code(canvas, payload, fingerprint, 3 * mm, 5 * mm, 31 * mm)
    canvas.setFillColor(INK)
    canvas.setFont(strong, 13)
    canvas.drawString(37 * mm, 31 * mm, f"Certificate {payload['number']}")
    canvas.setFont(strong, 10)
    canvas.drawString(37 * mm, 25 * mm, str(drive["serial"])[:24])
    canvas.setFont(plain, 8)
    canvas.drawString(37 * mm, 20 * mm, f"{payload['category']}, {payload['method_name']}"[:36])
    canvas.drawString(37 * mm, 16 * mm, str(payload["ended"] or "")[:10])
    canvas.setFont(plain, 6.6)
    canvas.drawString(37 * mm, 10 * mm, fingerprint[:19])
    canvas.drawString(37 * mm, 7 * mm, fingerprint[20:])
    canvas.save()
    return out.getvalue()


def _code(canvas: Canvas, payload: Mapping[str, Any], fingerprint: str, x: float, y: float, side: float) -> None:
    code = QrCodeWidget(f"pair-shelf certificate {payload['number']} {fingerprint}", barLevel="M")
    left, low, right, high = code.getBounds()
    picture = Picture(side, side, transform=[side / (right - left), 0, 0, side / (high - low), 0, 0])
    picture.add(code)
    renderPDF.draw(picture, canvas, x, y)


def rows_of(payload: Mapping[str, Any]) -> list[tuple[str, str]]:
    """What stands on a card, line by line."""
    drive, checked = payload["drive"], payload["verification"]
    named = " ".join(str(p) for p in (drive.get("maker"), drive.get("model")) if p) or "maker and model not known"
    how = {"all": "everything read back and compared", "record": "recorded by a person"}.get(checked["how"], "")
    if checked["how"] == "sample":
        how = (
            f"{checked['extents']:,} of {checked['of']:,} extents read back; a remnant of "
            f"{format_size(checked['remnant_bytes'])} missed with a probability of {checked['chance_missed']:.3g}"
        )
    hidden = payload.get("hidden") or {}
    found = [
        ("Serial", str(drive["serial"])), ("Drive", f"{named}, {drive['medium']}, {format_size(drive['bytes'])}"),
        *([("Property number", str(drive["property_number"]))] if drive.get("property_number") else []),
        ("Came from", str(drive.get("came_from") or "not known")), ("Held", str(drive.get("held") or "nothing known")),
        ("Category", f"{payload['category'].title()} ({payload['standard']})"), ("Method", payload["method_name"]),
        *([("Passes", str(payload["passes"]))] if payload["passes"] else []),
        ("Hidden areas", f"{hidden.get('protected', 0)} protected, {hidden.get('reassigned', 0)} reassigned"
         + (", a spare area" if hidden.get("spare") else "")),
        ("Verified", f"{how}, by {checked['by']}"),
        ("Begun, ended", f"{_moment(payload['begun'])}, {_moment(payload['ended'])}"),
        ("Asked, approved", f"{payload['asked_by']}, {payload['approved_by']}"),
        ("Goes to", str(payload.get("destination") or "not said")),
        *([("Done by", str(payload["done_by"]))] if payload.get("done_by") else []),
    ]  # fmt: skip
    return found


def _moment(text: str | None) -> str:
    return text[:16].replace("T", " ") + " UTC" if text else "not said"


def _card(canvas: Canvas, payload: Mapping[str, Any], fingerprint: str) -> None:
    plain, strong = fonts()
    wide, high = _CARD
    # The red line of an index card, and its ruling.
    canvas.setStrokeColor(RUST)
    canvas.setLineWidth(0.8)
    canvas.line(10 * mm, high - 27 * mm, wide - 10 * mm, high - 27 * mm)
    canvas.setFillColor(INK)
    canvas.setFont(strong, 17)
    canvas.drawString(12 * mm, high - 18 * mm, f"Certificate {payload['number']}")
    canvas.setFont(plain, 10)
    canvas.setFillColor(FAINT)
    canvas.drawString(12 * mm, high - 24 * mm, f"{payload['house']} · issued {_moment(payload.get('issued'))}")
    y = high - 34 * mm
    for label, text in rows_of(payload):
        canvas.setFillColor(FAINT)
        canvas.setFont(plain, 8.6)
        canvas.drawString(12 * mm, y, label)
        canvas.setFillColor(INK)
        canvas.setFont(plain, 9.4)
        for line in _broken(canvas, text, plain, 9.4, 112 * mm):
            canvas.drawString(40 * mm, y, line)
            canvas.setStrokeColor(LINE)
            canvas.setLineWidth(0.4)
            canvas.line(12 * mm, y - 1.6 * mm, 154 * mm, y - 1.6 * mm)
            y -= 6.1 * mm
    _code(canvas, payload, fingerprint, wide - 50 * mm, 24 * mm, 38 * mm)
    canvas.setFont(plain, 7)
    canvas.setFillColor(FAINT)
    canvas.drawString(wide - 48 * mm, 20 * mm, fingerprint[:19])
    canvas.drawString(wide - 48 * mm, 16.5 * mm, fingerprint[20:])
    _stamp(canvas, payload["category"].upper(), wide - 31 * mm, high - 50 * mm)
    canvas.setFont(plain, 7.4)
    canvas.setFillColor(FAINT)
    canvas.drawString(
        12 * mm,
        8 * mm,
        "The signed file is the certificate; this card shows what it says. Verify: pairshelf certificate verify FILE",
    )


def _stamp(canvas: Canvas, word: str, x: float, y: float) -> None:
    """A stamp, set a little askew."""
    canvas.saveState()
    canvas.translate(x, y)
    canvas.rotate(7)
    canvas.setStrokeColor(PINE)
    canvas.setFillColor(PINE)
    canvas.setLineWidth(1.6)
    canvas.roundRect(-17 * mm, -6.5 * mm, 34 * mm, 13 * mm, 2 * mm)
    canvas.setFont(fonts()[1], 17)
    canvas.drawCentredString(0, -2.2 * mm, word)
    canvas.restoreState()


def _broken(canvas: Canvas, text: str, font: str, size: float, wide: float) -> list[str]:
    """Lines that are no wider than this."""
    lines = [""]
    for word in text.split():
        longer = f"{lines[-1]} {word}".strip()
        if canvas.stringWidth(longer, font, size) <= wide or not lines[-1]:
            lines[-1] = longer
        else:
            lines.append(word)
    return lines
