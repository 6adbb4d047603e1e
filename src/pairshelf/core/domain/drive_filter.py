"""The filter typed in words: ``free hdd >= 4TB shelf:cold``. All terms must hold."""

from __future__ import annotations

import operator
import re
from collections.abc import Callable
from dataclasses import dataclass

from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.units import parse_size
from pairshelf.core.errors import BadInput

_COMPARE: dict[str, Callable[[int, int], bool]] = {
    ">=": operator.ge, "<=": operator.le, ">": operator.gt, "<": operator.lt, "=": operator.eq,
}  # fmt: skip
_TOKEN = re.compile(r'([a-z]+:(?:"[^"]*"|\S+))|(>=|<=|>|<|=)\s*(\d[\d.,]*\s?[A-Za-z]*)|"([^"]*)"|(\S+)', re.IGNORECASE)
#: Words that stand for a drive's situation.
SITUATIONS = ("new", "free", "starts-host", "in-use", "spare", "failing", "failed", "missing", "rebuilding")
_FIELDS = ("shelf", "site", "host", "maker", "model", "serial", "bay", "pool", "bus", "use")


@dataclass(frozen=True, slots=True)
class Facts:
    """What a filter can ask of a drive, in lower case."""

    size: int
    kind: Kind
    situations: frozenset[str]
    fields: dict[str, str]


Test = Callable[[Facts], bool]


def parse_filter(text: str) -> Test:
    """A test for drives. Raises BadInput for a term that means nothing."""
    tests: list[Test] = []
    for match in _TOKEN.finditer(text):
        named, sign, amount, quoted, word = match.groups()
        if named:
            tests.append(_named(named))
        elif sign:
            tests.append(_sized(sign, amount))
        else:
            tests.append(_worded((quoted or word or "").lower()))
    return lambda facts: all(test(facts) for test in tests)


def _named(term: str) -> Test:
    name, value = term.split(":", 1)
    name, value = name.lower(), value.strip('"').lower()
    if name not in _FIELDS:
        raise BadInput(f"“{name}:” is not something to filter by; use one of {', '.join(_FIELDS)}.", field="filter")
    if name == "bay":
        return lambda facts: facts.fields["bay"] == value
    return lambda facts: value in facts.fields.get(name, "")


def _sized(sign: str, amount: str) -> Test:
    size = parse_size(amount, field="filter")
    compare = _COMPARE[sign]
    return lambda facts: compare(facts.size, size)


def _worded(word: str) -> Test:
    if word in SITUATIONS:
        return lambda facts: word in facts.situations
    if word in {"in", "use"}:  # "in use" typed as two words
        return lambda facts: "in-use" in facts.situations
    if word in {k.value for k in Kind}:
        return lambda facts: facts.kind.value == word
    if word in {"flash", "rotating"}:
        return lambda facts: (facts.kind is Kind.HDD) == (word == "rotating")
    if re.fullmatch(r"\d[\d.,]*[kmgtp]i?b", word):
        size = parse_size(word, field="filter")
        return lambda facts: abs(facts.size - size) <= size * 0.01
    return lambda facts: any(word in value for value in facts.fields.values())
