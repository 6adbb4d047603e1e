"""*Find and do*: an act is found by its word, with the things it applies to and no others."""

from __future__ import annotations

from pairshelf.core.policies.finding import DOINGS, Thing, acts_on, matches

COLD = Thing("pool", "cold", "/pools/1", empty=1, locked=False)
QUICK = Thing("pool", "quick", "/pools/2", locked=True)
PLAIN = Thing("pool", "plain", "/pools/3")
SCANS, DISK = Thing("volume", "cold/scans", "/pools/1"), Thing("volume", "cold/disk", "/pools/1", bare=True)
DRIVE = Thing("drive", "KL-1024", "/shelves?drive=9")
ALL = [COLD, QUICK, PLAIN, SCANS, DISK, DRIVE, Thing("host", "cold host", "/access/hosts")]


def said(typed: str) -> list[str]:
    return [sentence for sentence, _ in acts_on(typed, ALL)]


def test_an_act_is_offered_where_it_is_possible() -> None:
    assert said("replace") == ["Replace a drive of pool cold"]
    assert said("unlock") == ["Unlock pool quick"]
    assert said("lock") == ["Lock pool cold"]
    assert said("mount") == ["Mount cold/scans"]
    assert said("grow cold/d") == ["Extend or shrink cold/disk"]
    assert said("che") == ["Check pool cold", "Check pool quick", "Check pool plain"]
    assert said("check pla") == ["Check pool plain"]
    assert said("ch") == [] == said("sing cold") == said("")


def test_an_act_leads_there_with_what_it_is_about() -> None:
    assert acts_on("extend scans", ALL) == [
        ("Extend or shrink cold/scans", "/changes/draw/resize-volume?volume=cold/scans")
    ]
    assert acts_on("notice", ALL) == [
        ("Impact of host cold host, and is it safe to power off?", "/notice?kind=host&name=cold%20host")
    ]
    assert acts_on("retire 1024", ALL) == [("Drive KL-1024 leaves the house", "/shelves?drive=9")]


def test_things_are_found_by_every_word_those_that_begin_with_it_first() -> None:
    assert [t.name for t in matches("cold", ALL)] == ["cold", "cold host", "cold/disk", "cold/scans"]
    assert [t.name for t in matches("SCANS cold", ALL)] == ["cold/scans"]
    assert matches("", ALL) == [] == matches("x cold", ALL)


def test_every_act_has_a_word_that_finds_it() -> None:
    for doing in DOINGS:
        thing = Thing(doing.kind, "a b", "/x", empty=1, locked="unlock" in doing.words)
        assert any(doing.says.format(name="a b") == s for s, _ in acts_on(f"{doing.words[0]} a", [thing])), doing
