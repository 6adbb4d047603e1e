"""A comparison as a document for whoever pays: PDF (ISO 32000), on A4, in our own type."""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence
from typing import Any
from xml.sax.saxutils import escape

from reportlab.graphics.shapes import Drawing as Picture
from reportlab.graphics.shapes import Line, Path, Rect, String
from reportlab.lib.colors import HexColor
from reportlab.lib.pagesizes import A4
from reportlab.lib.units import mm
from reportlab.pdfgen.canvas import Canvas
from reportlab.platypus import KeepTogether, Paragraph, SimpleDocTemplate, Spacer, Table, TableStyle

from pairshelf.core.domain.units import UnitSystem, format_size
from pairshelf.core.figures.registry import FIGURES, format_figure
from pairshelf.core.figures.report import cut_json
from pairshelf.core.figures.workloads import workload_of
from pairshelf.core.search.candidates import Candidate, Question
from pairshelf.formats.cut_drawing import Box, Outline, draw_cut
from pairshelf.formats.typeset import FAINT, INK, LINE, RUST, fonts, styles

_FILLS = {
    "data": HexColor("#efe7d6"),
    "redundancy": HexColor("#ffffff"),
    "blank": HexColor("#ffffff"),
    "band": HexColor("#ffffff"),
}
_WIDTH = A4[0] - 36 * mm

Flowables = list[Any]


def comparison_pdf(
    title: str, question: Question, report: Mapping[str, Any], side: Sequence[Candidate], labels: Mapping[str, str],
    system: UnitSystem = "decimal",
) -> bytes:  # fmt: skip
    """The document: what was asked, what is suggested and why, layouts side by side, the first one drawn."""
    style = styles()
    first = side[0]
    story: Flowables = [
        Paragraph(escape(title), style["title"]),
        Paragraph(_asked(question, report, system), style["faint"]),
    ]
    if report["reason"]:
        best = next(layout for layout in report["layouts"] if layout["key"] == report["recommended"])
        story.append(Paragraph("Suggested", style["head"]))
        story.append(Paragraph(f"<b>{escape(_name(best))}.</b> {escape(report['reason'])}", style["body"]))
    story.append(Paragraph("Side by side" if len(side) > 1 else "In figures", style["head"]))
    story.append(_table(side, system))
    story.append(KeepTogether([
        Paragraph(f"The cut: {escape(first.layout.scheme.id)}", style["head"]), _picture(first, labels),
        Paragraph("Plain: data. Hatched: redundancy. Blank: left over. With a band: spare.", style["faint"]),
    ]))  # fmt: skip
    story += _for_and_against(first)
    story += _basis(report, question)
    out = io.BytesIO()
    document = SimpleDocTemplate(
        out, pagesize=A4, leftMargin=18 * mm, rightMargin=18 * mm, topMargin=18 * mm, bottomMargin=18 * mm, title=title,
        author="Pair Shelf", invariant=1,
    )  # fmt: skip
    document.build(story, onFirstPage=_foot, onLaterPages=_foot)
    return out.getvalue()


def _foot(canvas: Canvas, document: SimpleDocTemplate) -> None:
    canvas.saveState()
    canvas.setFont(fonts()[0], 8)
    canvas.setFillColor(FAINT)
    canvas.drawString(18 * mm, 10 * mm, "Pair Shelf: a plan, nothing has been built")
    canvas.drawRightString(A4[0] - 18 * mm, 10 * mm, f"page {document.page}")
    canvas.restoreState()


def _name(layout: Mapping[str, Any]) -> str:
    trade = f" ({layout['trade_name']})" if layout["trade_name"] else ""
    return f"{layout['scheme']}{trade}, {layout['description']}"


def _asked(question: Question, report: Mapping[str, Any], system: UnitSystem) -> str:
    needs = [f"{report['drives']} drives", f"for {workload_of(question.workload).name}"]
    if question.need:
        needs.append(f"at least {format_size(question.need, system)} usable")
    for count, what in (
        (question.survive, "drive"),
        (question.survive_shelves, "shelf"),
        (question.survive_hosts, "host"),
    ):
        if count:
            needs.append(
                f"any {count} failed {what if count == 1 else {'drive': 'drives', 'shelf': 'shelves', 'host': 'hosts'}[what]} survived"
            )
    if question.rebuild_limit:
        needs.append(f"rebuilds within {question.rebuild_limit:g} h")
    if question.budget:
        needs.append(f"a budget of {question.budget:,.2f}")
    return escape("Asked: " + ", ".join(needs) + ".")


def _table(side: Sequence[Candidate], system: UnitSystem) -> Table:
    style = styles()

    def row(label: str, values: Sequence[str]) -> list[Paragraph]:
        return [Paragraph(label, style["cell"]), *(Paragraph(escape(v), style["right"]) for v in values)]

    found = [c.assessment for c in side]
    head = [Paragraph("", style["cell"])]
    for c in side:
        text = f"<b>{escape(c.layout.scheme.id)}</b><br/>{len(c.layout.sets)} × {c.layout.width}"
        head.append(Paragraph(text + (f" + {len(c.layout.spares)} spare" if c.layout.spares else ""), style["right"]))
    rows = [
        head,
        *(
            row(one.label, [format_figure(one, one.value(a), system, a.cost.currency) for a in found])
            for one in FIGURES.values()
            if any(one.value(a) is not None for a in found)
        ),
    ]
    table = Table(rows, colWidths=[52 * mm, *([(_WIDTH - 52 * mm) / len(side)] * len(side))])
    table.setStyle(TableStyle([
        ("LINEBELOW", (0, 0), (-1, -1), 0.4, LINE), ("LINEBELOW", (0, 0), (-1, 0), 0.8, INK),
        ("TOPPADDING", (0, 0), (-1, -1), 2), ("BOTTOMPADDING", (0, 0), (-1, -1), 3), ("VALIGN", (0, 0), (-1, -1), "BOTTOM"),
    ]))  # fmt: skip
    return table


def _picture(candidate: Candidate, labels: Mapping[str, str]) -> Picture:
    drawing = draw_cut(cut_json(candidate.layout), labels)
    scale = min(0.72, _WIDTH / drawing.width)
    picture = Picture(drawing.width * scale, drawing.height * scale)
    picture.scale(scale, scale)
    high = drawing.height
    for shape in drawing.shapes:
        if isinstance(shape, Box):
            stroke = INK if shape.fill == "band" else None
            foot = high - shape.y - shape.height
            picture.add(
                Rect(
                    shape.x,
                    foot,
                    shape.width,
                    shape.height,
                    fillColor=_FILLS[shape.fill],
                    strokeColor=stroke,
                    strokeWidth=0.6,
                )
            )
            if shape.fill == "redundancy":
                _hatch(picture, shape.x, foot, shape.width, shape.height)
        elif isinstance(shape, Outline):
            picture.add(_outline(shape, high))
        else:
            picture.add(
                String(
                    shape.x,
                    high - shape.y,
                    shape.text,
                    fontName=fonts()[0],
                    fontSize=shape.size,
                    textAnchor="middle",
                    fillColor=INK,
                )
            )
    return picture


def _hatch(picture: Picture, x: float, foot: float, width: float, height: float, step: float = 4.0) -> None:
    """Lines rising to the right, cut off at the edges of the rectangle."""
    offset = -height + step
    while offset < width:
        start, end = max(0.0, offset), min(width, offset + height)
        if end > start:
            picture.add(
                Line(x + start, foot + start - offset, x + end, foot + end - offset, strokeColor=FAINT, strokeWidth=0.7)
            )
        offset += step


def _outline(shape: Outline, high: float) -> Path:
    path = Path(fillColor=None, strokeColor=RUST if shape.failed else INK, strokeWidth=0.9)
    x, right, top, foot = shape.x, shape.x + shape.width, high - shape.y, high - shape.y - shape.height
    path.moveTo(x, top)
    path.lineTo(right, top)
    if shape.kind == "hdd":
        r = min(7.0, shape.width / 2, shape.height / 2)
        path.lineTo(right, foot + r)
        path.curveTo(right, foot + r / 3, right - r / 3, foot, right - r, foot)
        path.lineTo(x + r, foot)
        path.curveTo(x + r / 3, foot, x, foot + r / 3, x, foot + r)
    elif shape.kind == "nvme":
        middle, notch = (x + right) / 2, min(5.0, shape.width / 4)
        for px, py in (
            (right, foot),
            (middle + notch, foot),
            (middle, foot + notch),
            (middle - notch, foot),
            (x, foot),
        ):
            path.lineTo(px, py)
    else:
        path.lineTo(right, foot)
        path.lineTo(x, foot)
    path.closePath()
    return path


def _for_and_against(candidate: Candidate) -> Flowables:
    style = styles()
    story: Flowables = [Paragraph(f"For and against {escape(candidate.layout.scheme.id)}", style["head"])]
    for sign, sentences in (("+", candidate.reasons.pros), ("−", candidate.reasons.cons)):
        story += [Paragraph(f"{sign} {escape(s)}", style["body"]) for s in sentences]
    advice = [c.sentence for c in candidate.assessment.cautions if c.sentence not in candidate.reasons.cons]
    story += [Paragraph(escape(s), style["body"]) for s in advice]
    return story


_BASIS = {
    "afr": "Yearly failure rate (mean)",
    "uber": "Unreadable sectors per bit read (worst)",
    "rate": "Sequential rate (slowest)",
    "ops": "Small operations a second (slowest)",
}


def _basis(report: Mapping[str, Any], question: Question) -> Flowables:
    style = styles()
    story: Flowables = [Paragraph("What the figures stand on", style["head"])]
    for line in report["basis"]:
        value = {
            "afr": f"{line['value']:.2%}", "uber": f"{line['value']:g}", "rate": f"{format_size(round(line['value']))}/s",
        }.get(line["name"], f"{line['value']:,.0f}")  # fmt: skip
        story.append(Paragraph(f"{_BASIS[line['name']]}: <b>{value}</b>, {escape(line['source'])}.", style["faint"]))
    story.append(Paragraph(
        f"Without a spare a new drive is in after {question.given.replace_hours:g} h; {report['load']} during a rebuild. "
        "The odds are those of a Markov chain with one repair at a time, on the safe side for "
        "independent failures; drives of one batch fail together more often. UBER is the maker's ceiling. "
        "File-system overheads are estimates.", style["faint"],
    ))  # fmt: skip
    story.append(Spacer(1, 4))
    return story
