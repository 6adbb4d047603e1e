"""Our own type and colours on paper."""

from __future__ import annotations

import io
from functools import lru_cache
from importlib.resources import files

from fontTools.subset import Options, Subsetter
from fontTools.ttLib import TTFont as FontFile
from fontTools.varLib.instancer import instantiateVariableFont
from reportlab.lib.colors import HexColor
from reportlab.lib.enums import TA_RIGHT
from reportlab.lib.styles import ParagraphStyle
from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.ttfonts import TTFont

INK, FAINT, LINE, PINE, RUST = (HexColor(c) for c in ("#26221b", "#625a4b", "#d9cfba", "#1f4a3d", "#9c3f1b"))

#: Latin, Greek, Cyrillic, and the signs of arithmetic: what the font has and names are written in.
_LETTERS = (*range(0x20, 0x530), *range(0x1E00, 0x1F00), *range(0x2000, 0x2300))


@lru_cache
def fonts() -> tuple[str, str]:
    """Regular and semi-bold, cut once a process from the variable font.

    Only the letters that are needed are kept first: cutting all of it takes ten times as long.
    """
    source = files("fontpkg_source_sans_3") / "files" / "SourceSans3[wght].ttf"
    options = Options(layout_features=[], drop_tables=["GPOS", "GSUB", "GDEF"], name_IDs=["*"])
    few = FontFile(io.BytesIO(source.read_bytes()))
    cutter = Subsetter(options)
    cutter.populate(unicodes=_LETTERS)
    cutter.subset(few)
    kept = io.BytesIO()
    few.save(kept)
    for name, weight in (("PairShelf", 400), ("PairShelf-Strong", 620)):
        heavy = instantiateVariableFont(FontFile(io.BytesIO(kept.getvalue())), {"wght": weight}, inplace=True)
        for number in (4, 6):  # readers tell fonts apart by these
            heavy["name"].setName(name, number, 3, 1, 0x409)
            heavy["name"].setName(name, number, 1, 0, 0)
        cut = io.BytesIO()
        heavy.save(cut)
        cut.seek(0)
        pdfmetrics.registerFont(TTFont(name, cut))
    pdfmetrics.registerFontFamily("PairShelf", normal="PairShelf", bold="PairShelf-Strong")
    return "PairShelf", "PairShelf-Strong"


@lru_cache
def styles() -> dict[str, ParagraphStyle]:
    """Our paragraphs, by what they are."""
    plain, strong = fonts()
    body = ParagraphStyle("body", fontName=plain, fontSize=9.5, leading=13, textColor=INK)
    return {
        "title": ParagraphStyle("title", body, fontName=strong, fontSize=18, leading=22, spaceAfter=2),
        "head": ParagraphStyle("head", body, fontName=strong, fontSize=11.5, leading=15, spaceBefore=12, spaceAfter=4),
        "body": body,
        "cell": ParagraphStyle("cell", body, fontSize=8.8, leading=11.5),
        "right": ParagraphStyle("right", body, fontSize=8.8, leading=11.5, alignment=TA_RIGHT),
        "faint": ParagraphStyle("faint", body, fontSize=8.6, leading=11.5, textColor=FAINT),
    }
