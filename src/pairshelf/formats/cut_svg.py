"""The cut as a Scalable Vector Graphic (W3C SVG 1.1), by itself: no styles or fonts from elsewhere."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any
from xml.sax.saxutils import escape, quoteattr

from pairshelf.formats.cut_drawing import Box, Outline, draw_cut

_FILLS = {"data": "#efe7d6", "redundancy": "url(#hatch)", "blank": "#fdfaf3", "band": "#fdfaf3"}
_INK = "#26221b"
_RUST = "#9c3f1b"


def cut_svg(
    cut: Mapping[str, Any], labels: Mapping[str, str] | None = None, *, failed: frozenset[str] = frozenset(),
    title: str = "The cut",
) -> str:  # fmt: skip
    """The drawing as a whole SVG document."""
    drawing = draw_cut(cut, labels, failed)
    lines = [
        '<?xml version="1.0" encoding="UTF-8"?>',
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{drawing.width:.1f}" height="{drawing.height:.1f}" '
        f'viewBox="0 0 {drawing.width:.1f} {drawing.height:.1f}" font-family="sans-serif" role="img">',
        f"<title>{escape(title)}</title>",
        '<defs><pattern id="hatch" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">'
        f'<rect width="5" height="5" fill="#fdfaf3"/><path d="M0 0v5" stroke="{_INK}" stroke-width="1.4" opacity="0.6"/>'
        "</pattern></defs>",
    ]
    for shape in drawing.shapes:
        if isinstance(shape, Box):
            band = f' stroke="{_INK}" stroke-width="0.8"' if shape.fill == "band" else ""
            lines.append(
                f'<rect x="{shape.x:.2f}" y="{shape.y:.2f}" width="{shape.width:.2f}" height="{shape.height:.2f}" '
                f"fill={quoteattr(_FILLS[shape.fill])}{band}><title>{escape(shape.meaning)}</title></rect>"
            )
        elif isinstance(shape, Outline):
            colour = _RUST if shape.failed else _INK
            lines.append(f'<path d="{outline(shape)}" fill="none" stroke="{colour}" stroke-width="1"/>')
        else:
            lines.append(
                f'<text x="{shape.x:.2f}" y="{shape.y:.2f}" font-size="{shape.size:g}" text-anchor="middle" '
                f'fill="{_INK}">{escape(shape.text)}</text>'
            )
    lines.append("</svg>")
    return "\n".join(lines) + "\n"


def outline(shape: Outline) -> str:
    """Rotating drives have a round foot, flash a square one, flash on PCIe a notched one."""
    x, y, right, foot = shape.x, shape.y, shape.x + shape.width, shape.y + shape.height
    if shape.kind == "hdd":
        round_ = min(7.0, shape.width / 2, shape.height / 2)
        return (
            f"M{x:.2f} {y:.2f}H{right:.2f}V{foot - round_:.2f}Q{right:.2f} {foot:.2f} {right - round_:.2f} {foot:.2f}"
            f"H{x + round_:.2f}Q{x:.2f} {foot:.2f} {x:.2f} {foot - round_:.2f}Z"
        )
    if shape.kind == "nvme":
        middle, notch = (x + right) / 2, min(5.0, shape.width / 4)
        return (
            f"M{x:.2f} {y:.2f}H{right:.2f}V{foot:.2f}H{middle + notch:.2f}L{middle:.2f} {foot - notch:.2f}"
            f"L{middle - notch:.2f} {foot:.2f}H{x:.2f}Z"
        )
    return f"M{x:.2f} {y:.2f}H{right:.2f}V{foot:.2f}H{x:.2f}Z"
