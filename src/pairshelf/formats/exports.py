"""What a comparison can be exported as: a writer each, and a line here."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.units import UnitSystem
from pairshelf.core.errors import NotPossible
from pairshelf.core.search.candidates import Candidate, Question
from pairshelf.formats.comparison_csv import comparison_csv, comparison_json


@dataclass(frozen=True, slots=True)
class Exported:
    """A comparison as its writers get it."""

    title: str
    question: Question
    drives: Sequence[Drive]
    #: What each drive is called.
    labels: Mapping[str, str]
    report: Mapping[str, Any]
    layouts: Sequence[Candidate]
    #: Layouts to show side by side, where a format shows some of them; none: the recommended one.
    keys: Sequence[str]
    system: UnitSystem


@dataclass(frozen=True, slots=True)
class Format:
    """A way to write a comparison: its route and its file end on ``id``."""

    id: str
    about: str
    media_type: str
    write: Callable[[Exported], bytes]


def _csv(found: Exported) -> bytes:
    return comparison_csv(found.report)


def _json(found: Exported) -> bytes:
    return comparison_json(found.title, found.drives, found.labels, found.report)


def _pdf(found: Exported) -> bytes:
    # A page-layout library takes longer to load than most answers take; who asks for a document waits for it.
    from pairshelf.formats.comparison_pdf import comparison_pdf

    keys = found.keys or [k for k in [found.report["recommended"]] if k]
    side = [c for key in keys for c in found.layouts if c.key == key]
    if not side:
        raise NotPossible(
            "None of these layouts meets the needs now; there is nothing to print.", code="nothing-to-print"
        )
    return comparison_pdf(found.title, found.question, found.report, side, found.labels, found.system)


FORMATS: dict[str, Format] = {
    one.id: one
    for one in (
        Format("csv", "The figures of every layout as CSV.", "text/csv", _csv),
        Format("json", "The figures of every layout as JSON, with the drives they are of.", "application/json", _json),
        Format("pdf", "What could go to whoever pays: the needs, the suggestion, layouts side by side, the cut, the assumptions.",
               "application/pdf", _pdf),
    )
}  # fmt: skip
