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
SITUATIONS = (
    "new",
    "free",
    "starts-host",
    "in-use",
    "spare",
    "warns",
    "failing",
    "failed",
    "missing",
    "offline",
    "rebuilding",
    "wiping",
    "wiped",
    "draining",
)
#: What can be asked by its name.
FIELDS = ("shelf", "site", "host", "maker", "model", "serial", "bay", "pool", "bus", "use")


@dataclass(frozen=True, slots=True)
class Facts:
    """What a filter can ask of a drive."""

    size: int
    kind: Kind
    situations: frozenset[str]
    #: What is said in a field (``FIELDS``), as it stands in the books; asked only where a term needs it.
    said: Callable[[str], str | None]

    def field(self, name: str) -> str:
        """What is said in a field, in lower case."""
        return (self.said(name) or "").lower()


Test = Callable[[Facts], bool]


#: Fields that a drive has from where it stands.
PLACES = ("shelf", "site", "host")


@dataclass(frozen=True, slots=True)
class Filter:
    """A test for drives: all of its terms must hold."""

    tests: tuple[Test, ...]
    #: What a drive's shelf, site or host has to contain: (field, text), in lower case.
    places: tuple[tuple[str, str], ...]

    def __call__(self, facts: Facts) -> bool:
        return all(test(facts) for test in self.tests)

    def may_stand(self, shelf: str, site: str, host: str | None) -> bool:
        """Whether any drive that stands there could pass."""
        said = {"shelf": shelf, "site": site, "host": host}
        return all(value in (said[name] or "").lower() for name, value in self.places)


def parse_filter(text: str) -> Filter:
    """A test for drives. Raises BadInput for a term that means nothing."""
    tests: list[Test] = []
    places: list[tuple[str, str]] = []
    for match in _TOKEN.finditer(text):
        named, sign, amount, quoted, word = match.groups()
        if named:
            tests.append(_named(named))
            name, value = _parted(named)
            places += [(name, value)] if name in PLACES else []
        elif sign:
            tests.append(_sized(sign, amount))
        else:
            tests.append(_worded((quoted or word or "").lower()))
    return Filter(tuple(tests), tuple(places))


def _parted(term: str) -> tuple[str, str]:
    name, value = term.split(":", 1)
    return name.lower(), value.strip('"').lower()


def _named(term: str) -> Test:
    name, value = _parted(term)
    if name not in FIELDS:
        raise BadInput(f"“{name}:” is not something to filter by; use one of {', '.join(FIELDS)}.", field="filter")
    if name == "bay":
        return lambda facts: facts.field("bay") == value
    return lambda facts: value in facts.field(name)


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
    return lambda facts: any(word in facts.field(name) for name in FIELDS)
