"""How many of something, in words."""

from __future__ import annotations

import unicodedata
from collections.abc import Sequence


def counted(number: int, what: str) -> str:
    """1 drive, 3 drives."""
    return f"{number} {what}{'' if number == 1 else 's'}"


def every(number: int, what: str) -> str:
    """Each one of so many: the drive, both drives, all 3 drives."""
    if number == 1:
        return f"the {what}"
    return f"both {what}s" if number == 2 else f"all {number} {what}s"


def listed(names: Sequence[str], last: str = "and") -> str:
    """a, b and c; empty for none."""
    return f" {last} ".join(part for part in (", ".join(names[:-1]), *names[-1:]) if part)


def survives_any(number: int, unit: str = "drive") -> str:
    """survives any 2 drive failures: of something whole, whichever units fail."""
    if number == 0:
        return f"survives no {unit} failure"
    return f"survives any {'one' if number == 1 else number} {unit} failure{'' if number == 1 else 's'}"


def survives_more(number: int) -> str:
    """survives 1 more failure: of something that has lost some already."""
    return f"survives {counted(number, 'more failure')}" if number else "survives no further failure"


def one_line(text: str) -> str:
    """Without anything that ends a line or cannot be written: control characters, line and paragraph separators, halves of
    characters; each run of these and of spaces is one space."""
    kept = (" " if unicodedata.category(c) in ("Cc", "Zl", "Zp", "Cs") else c for c in text)
    return " ".join("".join(kept).split())


def as_sentence(text: str) -> str:
    """With a capital at its start."""
    return text[:1].upper() + text[1:]
