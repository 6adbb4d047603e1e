"""Several names from one pattern: ``scans-{1..4}``, ``{red,blue}-log``, ``day-{01..12}``."""

from __future__ import annotations

import re

from pairshelf.core.errors import BadInput

#: More names than this from one pattern are taken for a slip.
MOST = 100
_BRACES = re.compile(r"\{([^{}]*)\}")
_RANGE = re.compile(r"(\d{1,6})\.\.(\d{1,6})")


def expand(pattern: str, *, field: str) -> list[str]:
    """All names of a pattern, in order; a pattern without braces is its own only name."""
    names = [""]
    rest = pattern
    while match := _BRACES.search(rest):
        names = [n + rest[: match.start()] + c for n in names for c in _choices(match[1], field)]
        rest = rest[match.end() :]
        _limit(len(names), field)
    if "{" in rest or "}" in rest:
        raise BadInput(f"The braces of “{pattern}” do not match; write for example scans-{{1..4}}.", field=field)
    return [n + rest for n in names]


def _limit(count: int, field: str) -> None:
    if count > MOST:
        raise BadInput(f"This pattern gives {count} names; at most {MOST} are made at once.", field=field)


def _choices(inside: str, field: str) -> list[str]:
    if match := _RANGE.fullmatch(inside):
        first, last = int(match[1]), int(match[2])
        if last < first:
            raise BadInput(f"“{inside}” runs backwards; write the smaller number first.", field=field)
        _limit(last - first + 1, field)
        width = len(match[1]) if match[1].startswith("0") else 0
        return [str(n).zfill(width) for n in range(first, last + 1)]
    choices = inside.split(",")
    if len(choices) < 2 or not all(choices):
        raise BadInput(f"“{{{inside}}}” is neither a range such as {{1..4}} nor a list such as {{a,b}}.", field=field)
    return choices


def in_step(pattern: str, names: list[str], *, field: str) -> list[str]:
    """A second pattern that goes with the names: as many, or one with ``{name}`` in it, or one without braces
    where there is one name."""
    if "{name}" in pattern:
        return [pattern.replace("{name}", n) for n in names]
    found = expand(pattern, field=field)
    if len(found) != len(names):
        raise BadInput(
            f"This gives {len(found)}, but there are {len(names)} volumes; write {{name}} where the name belongs.",
            field=field,
        )
    return found
