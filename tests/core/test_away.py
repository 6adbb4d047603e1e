"""What is away is called by what it is: a host, a shelf, or drives."""

from __future__ import annotations

import pytest

from pairshelf.core.domain.away import Stood, away_named
from pairshelf.core.domain.drives import Drive
from pairshelf.core.figures.survival import now_in_words
from pairshelf.core.layouts import build_layout


def _members(text: str) -> list[Stood]:
    """``elm/A:xx.`` is host elm, shelf A: two away, one there."""
    found = []
    for part in text.split():
        place, _, states = part.partition(":")
        host, _, shelf = place.partition("/")
        found += [Stood(host or None, shelf or None, s == "x") for s in states]
    return found


@pytest.mark.parametrize(
    ("members", "said"),
    [
        ("elm/A:.... fir/B:..", ""),
        ("elm/A:x...", "one drive"),
        ("elm/A:xx..", "2 drives"),
        ("elm/A:xx elm/B:xx fir/C:..", "host elm with 4 drives"),
        ("elm/A:xx elm/B:.. fir/C:..", "shelf A with 2 drives"),
        ("elm/A:xx elm/B:xx fir/C:x.", "host elm with 4 drives and one drive"),
        ("elm/A:xx elm/B:x. fir/C:xxx", "host fir with 3 drives, shelf A with 2 drives and one drive"),
        ("elm/A:x fir/B:x ash/C:.", "2 drives"),
        ("/:xxx", "3 drives"),
        ("/A:xx /B:..", "shelf A with 2 drives"),
    ],
)
def test_what_is_away_is_named(members: str, said: str) -> None:
    assert away_named(_members(members)) == said


def test_a_pool_whose_host_is_away_names_it_and_never_says_lost() -> None:
    drives = [Drive(str(i), 10**12, shelf="AB"[i // 2], host=["elm", "fir"][i // 2]) for i in range(4)]
    pairs = build_layout([drives[0], drives[2], drives[1], drives[3]], "copies-2")
    one = now_in_words(pairs, [], ["0", "1"])
    assert one.startswith("Away, and waited for: host elm with 2 drives. No data are lost")
    wide = build_layout(drives, "parity-1")
    both = now_in_words(wide, [], ["0", "1"])
    assert "host elm with 2 drives" in both and "Nothing is lost" in both
    assert now_in_words(wide, ["0"], []) == "No data are lost. Survives no further failure."
